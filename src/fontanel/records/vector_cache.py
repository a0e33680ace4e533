"""The vector cache: a team's unchanged text is never embedded twice.

Teams do not share entries. Otherwise a team could learn from what is embedded, and how fast, that
another team has the same text; and vectors that one team imported would be used for the others'
documents.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np
import numpy.typing as npt

from fontanel.core.embedding.encoder import check_unit_vectors

_CHUNK = 500


class VectorCache:
    """Maps (team, text key) to a float32 unit vector, in its own SQLite file."""

    def __init__(self, path: Path) -> None:
        self._lock = threading.Lock()
        self._db = sqlite3.connect(path, check_same_thread=False, timeout=30)
        self._db.execute("PRAGMA journal_mode=WAL")
        self._db.execute("PRAGMA synchronous=NORMAL")
        self._db.execute("PRAGMA secure_delete=ON")
        self._db.execute(
            "CREATE TABLE IF NOT EXISTS team_vectors (team_id TEXT, key BLOB, vector BLOB NOT NULL,"
            " PRIMARY KEY (team_id, key)) WITHOUT ROWID"
        )
        self._db.commit()

    def get(self, team_id: str, keys: Sequence[bytes]) -> dict[bytes, npt.NDArray[np.float32]]:
        """Return the team's cached vectors, by key."""
        results: dict[bytes, npt.NDArray[np.float32]] = {}
        with self._lock:
            for start in range(0, len(keys), _CHUNK):
                chunk = keys[start : start + _CHUNK]
                marks = ",".join("?" * len(chunk))
                query = (
                    f"SELECT key, vector FROM team_vectors WHERE team_id = ? AND key IN ({marks})"
                )
                for key, vector in self._db.execute(query, (team_id, *chunk)):
                    results[key] = np.frombuffer(vector, dtype=np.float32)
        return results

    def put(self, team_id: str, keys: Sequence[bytes], vectors: npt.NDArray[np.float32]) -> None:
        """Store vectors, one a key. Raises ValueError when one is not a unit vector."""
        check_unit_vectors(vectors)
        rows = [(team_id, key, vector.tobytes()) for key, vector in zip(keys, vectors, strict=True)]
        with self._lock:
            self._db.executemany("INSERT OR REPLACE INTO team_vectors VALUES (?, ?, ?)", rows)
            self._db.commit()

    def forget(self, team_id: str, keys: Sequence[bytes]) -> int:
        """Remove vectors, overwriting them in the file; return how many there were."""
        with self._lock:
            removed = self._db.executemany(
                "DELETE FROM team_vectors WHERE team_id = ? AND key = ?",
                [(team_id, key) for key in keys],
            ).rowcount
            self._db.commit()
            self._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return removed

    def forget_team(self, team_id: str) -> None:
        """Remove all vectors of a team that was deleted."""
        with self._lock:
            self._db.execute("DELETE FROM team_vectors WHERE team_id = ?", (team_id,))
            self._db.commit()

    @property
    def shared(self) -> bool:
        """Whether the file still has the shared table of earlier versions."""
        with self._lock:
            query = "SELECT 1 FROM sqlite_master WHERE name = 'vectors'"
            return self._db.execute(query).fetchone() is not None

    def split_by_team(self, keys: Iterable[tuple[str, bytes]]) -> None:
        """Give each team its own copies of the shared vectors, and drop the shared table.

        `keys` are pairs of a team's id and the key of a text that the team's passages have.
        """
        copy = "INSERT OR IGNORE INTO team_vectors SELECT ?, key, vector FROM vectors WHERE key = ?"
        with self._lock:
            self._db.executemany(copy, keys)
            self._db.execute("DROP TABLE vectors")
            self._db.commit()

    def close(self) -> None:
        with self._lock:
            self._db.close()
