"""Write the schema of new records, which is what all migrations lead to: `make schema`."""

from __future__ import annotations

import sqlite3
import tempfile
from contextlib import closing
from pathlib import Path

from sqlalchemy import create_engine

from fontanel.records.database import SCHEMA, run_migrations


def text() -> str:
    """Migrate an empty database; return the statements that create the same."""
    with tempfile.TemporaryDirectory() as scratch:
        path = Path(scratch) / "fontanel.db"
        engine = create_engine(f"sqlite:///{path}")
        run_migrations(engine)
        engine.dispose()
        with closing(sqlite3.connect(path)) as migrated:
            lines = "\n".join(migrated.iterdump()).splitlines()
    return "".join(f"{line.rstrip()}\n" for line in lines)


if __name__ == "__main__":
    SCHEMA.write_text(text())
