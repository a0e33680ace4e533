"""The vector cache: unchanged text is never embedded twice, whatever happens to documents and editions."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import numpy.typing as npt

_CHUNK = 500


class VectorCache:
    """(embedder, text) by its key -> float32 vector, in a SQLite file of its own."""

    def __init__(self, path: Path) -> None:
        self._lock = threading.Lock()
        self._db = sqlite3.connect(path, check_same_thread=False, timeout=30)
        self._db.execute("PRAGMA journal_mode=WAL")
        self._db.execute("PRAGMA synchronous=NORMAL")
        self._db.execute(
            "CREATE TABLE IF NOT EXISTS vectors (key BLOB PRIMARY KEY, vector BLOB NOT NULL) WITHOUT ROWID"
        )
        self._db.commit()

    def get(self, keys: Sequence[bytes]) -> dict[bytes, npt.NDArray[np.float32]]:
        """The vectors that are held, by key."""
        found: dict[bytes, npt.NDArray[np.float32]] = {}
        with self._lock:
            for start in range(0, len(keys), _CHUNK):
                chunk = keys[start : start + _CHUNK]
                marks = ",".join("?" * len(chunk))
                for key, vector in self._db.execute(f"SELECT key, vector FROM vectors WHERE key IN ({marks})", chunk):
                    found[key] = np.frombuffer(vector, dtype=np.float32)
        return found

    def put(self, keys: Sequence[bytes], vectors: npt.NDArray[np.float32]) -> None:
        rows = [(key, vector.astype(np.float32).tobytes()) for key, vector in zip(keys, vectors, strict=True)]
        with self._lock:
            self._db.executemany("INSERT OR REPLACE INTO vectors VALUES (?, ?)", rows)
            self._db.commit()

    def close(self) -> None:
        with self._lock:
            self._db.close()
