"""A file to upload, as a form."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from fontanel import schemas as s


@dataclass(frozen=True, slots=True)
class Upload:
    """A file about to be sent: its name in the knowledge base, its bytes, its tags."""

    name: str
    file: BinaryIO | bytes
    tags: Mapping[str, str] | None = None
    columns: s.Columns | None = None
    splitting: s.Splitting | None = None

    @classmethod
    def of(cls, source: Path | bytes, name: str | None, **fields: Any) -> Upload:
        """Return a file to send, with the fields of its form.

        Raises:
            ValueError: bytes without a name.
        """
        if isinstance(source, bytes):
            if not name:
                raise ValueError("Bytes need a name.")
            return cls(name, source, **fields)
        return cls(name or source.name, source.open("rb"), **fields)

    def form(self) -> dict[str, Any]:
        """Return the form's fields, with the file from its beginning."""
        if not isinstance(self.file, bytes):
            self.file.seek(0)
        data = {"name": self.name}
        if self.tags is not None:
            data["tags"] = json.dumps(dict(self.tags))
        if self.columns is not None:
            data["columns"] = self.columns.model_dump_json()
        if self.splitting is not None:
            data["splitting"] = self.splitting.model_dump_json()
        return {"data": data, "files": {"file": ("file", self.file)}}

    def close(self) -> None:
        if not isinstance(self.file, bytes):
            self.file.close()
