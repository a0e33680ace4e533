"""The database: SQLite in WAL mode, migrated to the newest schema when opened."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import structlog
from sqlalchemy import Engine, create_engine, event

from fontanel.errors import NewerData
from fontanel.records.copies import copy_before_upgrade

log = structlog.get_logger()

_MIGRATIONS = Path(__file__).parent / "migrations"
#: The schema that the migrations lead to, written by `make schema`.
SCHEMA = Path(__file__).parent / "migrations" / "schema.sql"


def open_engine(path: Path) -> Engine:
    """Open (or create) the database file and bring its schema up to date."""
    path.parent.mkdir(parents=True, exist_ok=True)
    engine = create_engine(
        f"sqlite:///{path}",
        hide_parameters=True,
        connect_args={"timeout": 30},
        pool_size=20,
        max_overflow=40,
    )

    @event.listens_for(engine, "connect")
    def prepare(connection: Any, _: Any) -> None:
        # The driver's own BEGIN comes too late and too weak; `begin` below starts transactions.
        connection.isolation_level = None
        cursor = connection.cursor()
        for pragma in (
            "journal_mode=WAL",
            "foreign_keys=ON",
            "busy_timeout=30000",
            "synchronous=FULL",
            # What is deleted is overwritten, instead of being left in free pages.
            "secure_delete=ON",
        ):
            cursor.execute(f"PRAGMA {pragma}")
        cursor.close()

    @event.listens_for(engine, "begin")
    def begin(connection: Any) -> None:
        # A transaction that will write must say so first, or two could wait for each other.
        writes = connection.get_execution_options().get("writes", False)
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    migrate(engine, path)
    return engine


def newest_schema() -> str:
    """Return the version of the newest migration."""
    versions = _MIGRATIONS / "versions"
    return max(path.name for path in versions.glob("v[0-9]*.py"))[1:5]


def migrate(engine: Engine, path: Path) -> None:
    """Bring the schema to the newest migration's; keep a copy from before.

    An empty database gets the newest schema at once. The check of the version avoids loading
    Alembic, which takes a third of a second and reads every row.
    """
    newest = newest_schema()
    with engine.connect() as connection:
        existing = connection.exec_driver_sql(
            "SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'"
        ).scalar()
        present = (
            existing
            and connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar()
        )
    if present == newest:
        return
    if present and str(present) > newest:
        raise NewerData(
            f"The data directory was used by a newer version of Fontanel (records {present}, this"
            f" version knows {newest}). Use that version, or restore a backup from before the"
            " upgrade."
        )
    if present:
        log.info("the records are upgraded", schema=present, to=newest)
        copy = copy_before_upgrade(path, str(present))
        log.info("the records from before are kept", copy=str(copy))
    if present is None and _is_empty(engine):
        _create(engine)
    else:
        run_migrations(engine)


def _is_empty(engine: Engine) -> bool:
    with engine.connect() as connection:
        return not connection.exec_driver_sql("SELECT count(*) FROM sqlite_master").scalar()


def _create(engine: Engine) -> None:
    """Create the newest schema at once, which is quicker than all migrations."""
    with engine.connect() as connection:
        raw: Any = connection.connection.dbapi_connection
        raw.executescript(SCHEMA.read_text())


def run_migrations(engine: Engine) -> None:
    """Run the migrations that the database has not had."""
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    with engine.connect() as connection:
        # A rebuilt table is dropped on the way, which must not delete rows that refer to it.
        # SQLite's procedure is to switch foreign keys off outside a transaction, and to check them
        # at the end.
        raw: Any = connection.connection.dbapi_connection
        raw.execute("PRAGMA foreign_keys=OFF")
        try:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
            dangling = connection.exec_driver_sql("PRAGMA foreign_key_check").fetchone()
            assert dangling is None, f"The migration left a row that refers to nothing: {dangling}."
            connection.commit()
        finally:
            raw.execute("PRAGMA foreign_keys=ON")
