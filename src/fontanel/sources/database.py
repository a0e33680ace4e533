"""Rows of a query as documents, read through SQLAlchemy in read-only transactions."""

from __future__ import annotations

import hashlib
import json
import sqlite3
import threading
import time
from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime
from typing import Any, Literal
from urllib.parse import quote

from pydantic import Field
from sqlalchemy import Connection, Engine, create_engine, event, text
from sqlalchemy.engine import URL
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.pool import NullPool

from fontanel.core.reading.data.row_documents import tag_name
from fontanel.sources.folder import allowed_folder
from fontanel.sources.network.reach import AddressForbidden, resolve
from fontanel.sources.protocol import (
    Fetched,
    ItemFailed,
    Kind,
    Listed,
    PreviousItems,
    SettingsModel,
    SettingsRefused,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)

#: Rows fetched from the server at a time.
_PAGE = 20
#: Bytes of a cell, and of anything in between that SQLite computes.
_MAX_CELL = 20_000_000
#: Bytes of rows kept from the listing to the fetching.
_MAX_HELD = 300_000_000


class DatabaseSettings(SettingsModel):
    system: Literal["postgresql", "sqlite"] = Field("postgresql", title="Database system")
    host: str | None = Field(None, title="Host", max_length=255, description="PostgreSQL only.")
    port: int = Field(5432, title="Port", ge=1, le=65535)
    database: str = Field(
        title="Database",
        min_length=1,
        max_length=1000,
        description=(
            "Its name; for SQLite the path of its file, below a folder that the operator allows."
        ),
    )
    query: str = Field(
        title="Query",
        min_length=1,
        max_length=20_000,
        description="One SELECT. Each row becomes a document.",
    )
    identity: list[str] = Field(title="Columns that identify a row", min_length=1, max_length=10)
    title: str | None = Field(None, title="Title column")
    text: list[str] = Field(title="Text columns", min_length=1, max_length=50)
    link: str | None = Field(None, title="Link column")
    tags: list[str] = Field([], title="Tag columns", max_length=20)
    changed_at: str | None = Field(
        None,
        title="Changed-at column",
        description="With it, only changed rows are read; without it, all rows are, at each run.",
    )
    max_rows: int = Field(100_000, title="Rows at most", ge=1, le=5_000_000)
    seconds: int = Field(60, title="Maximum seconds for a query", ge=1, le=3600)


class DatabaseCredentials(SettingsModel):
    user: str | None = Field(None, title="User name")
    password: str | None = Field(None, title="Password")


class Database(Source):
    """Rows of a query as items by their identity columns.

    The query is embedded in a SELECT, so that it can only be a SELECT itself; the transaction is
    read-only; each statement has a time limit.
    """

    at_once = 1

    def __init__(
        self, settings: DatabaseSettings, credentials: DatabaseCredentials, around: SourceLimits
    ) -> None:
        self._settings = settings
        self._query = settings.query.strip().rstrip(";").strip()
        if not self._query.lower().startswith(("select", "with")):
            raise SettingsRefused("query", "The query must be one SELECT (or WITH ... SELECT).")
        self._around = around
        self._engine = self._open(credentials)
        self._rows: dict[str, dict[str, Any]] = {}
        self._lock = threading.Lock()

    def _open(self, credentials: DatabaseCredentials) -> Engine:
        settings = self._settings
        if settings.system == "sqlite":
            path = allowed_folder(settings.database, self._around, "database")
            engine = create_engine(
                f"sqlite:///file:{quote(str(path))}?mode=ro&uri=true",
                poolclass=NullPool,
                connect_args={"timeout": settings.seconds},
            )
            event.listen(engine, "connect", self._limit_sqlite)
            return engine
        if not settings.host:
            raise SettingsRefused("host", "Name the host of the database.")
        if settings.host.startswith("/") or "," in settings.host:
            raise SettingsRefused("host", "Name one host, not a socket or several hosts.")
        self._url = URL.create(
            "postgresql+psycopg",
            credentials.user,
            credentials.password,
            settings.host,
            settings.port,
            settings.database,
        )
        return create_engine(self._url, poolclass=NullPool)

    def _limit_sqlite(self, connection: Any, _: Any) -> None:
        until = time.monotonic() + self._settings.seconds
        connection.execute("PRAGMA query_only=ON")
        connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _MAX_CELL)
        connection.set_progress_handler(lambda: time.monotonic() > until, 10_000)

    def _connect(self) -> Connection:
        if self._settings.system == "postgresql":
            assert self._settings.host is not None
            try:
                address = resolve(self._settings.host, self._settings.port, self._around.networks)
            except AddressForbidden as error:
                raise SourceUnavailable(str(error), again=False) from error
            except OSError as error:
                raise SourceUnavailable(f"There is no host {self._settings.host}.") from error
            # Connect to the address that was checked, whatever the name resolves to a moment later.
            options = (
                f"-c statement_timeout={self._settings.seconds * 1000} -c"
                " default_transaction_read_only=on"
            )
            arguments = {
                "hostaddr": address,
                "connect_timeout": max(2, int(self._around.seconds)),
                "options": options,
            }
            engine = create_engine(self._url, poolclass=NullPool, connect_args=arguments)
            return engine.connect().execution_options(postgresql_readonly=True)
        return self._engine.connect()

    def close(self) -> None:
        self._engine.dispose()

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        settings = self._settings
        requested = list(
            dict.fromkeys(
                [
                    *settings.identity,
                    *([settings.changed_at] if settings.changed_at else self._columns()),
                ]
            )
        )
        seen = stored = 0
        for row in self._select(requested, "", {}):
            seen += 1
            if seen > settings.max_rows:
                raise SourceUnavailable(
                    f"The query returns more than {settings.max_rows:,} rows. Narrow it, or allow"
                    " more.",
                    again=False,
                )
            item_id = _identity(row, settings.identity)
            if item_id is None:
                yield Skipped(f"row {seen}", "an identity column is empty")
                continue
            changed = row.get(settings.changed_at) if settings.changed_at else None
            if settings.changed_at:
                mark = _shown(changed)
            else:
                self._rows[item_id] = row
                stored += sum(
                    len(value) for value in row.values() if isinstance(value, (str, bytes))
                )
                if stored > _MAX_HELD:
                    raise SourceUnavailable(
                        f"The rows have more than {_MAX_HELD // 1_000_000} MB. Narrow the query, or"
                        " name the column that says when a row changed, so that they are read one"
                        " by one.",
                        again=False,
                    )
                mark = hashlib.sha256(
                    json.dumps(row, default=str, sort_keys=True).encode()
                ).hexdigest()[:32]
            yield Listed(item_id, mark, _name(item_id), _seconds(changed))

    def fetch(self, item: Listed) -> Fetched:
        # Rows share one connection's worth of the database at a time.
        with self._lock:
            row = self._rows.get(item.id) or self._one(item.id)
        settings = self._settings
        heading = _shown(row.get(settings.title)) if settings.title else ""
        heading = " ".join(heading.split()) or item.id
        alone = len(settings.text) == 1
        body = [
            _shown(row.get(name)) if alone else f"{name}: {_shown(row.get(name))}"
            for name in settings.text
            if row.get(name) not in (None, "")
        ]
        tags = {
            tag_name(name): _shown(row[name])[:200]
            for name in settings.tags
            if row.get(name) not in (None, "")
        }
        link = _shown(row.get(settings.link)) if settings.link else ""
        content = f"# {heading}\n\n" + "\n\n".join(body) + "\n"
        return Fetched([content.encode()], tags=tags, link=link)

    def _one(self, item_id: str) -> dict[str, Any]:
        values = json.loads(item_id) if len(self._settings.identity) > 1 else [item_id]
        where = " and ".join(
            f"cast({self._name(name)} as varchar) = :id{i}"
            for i, name in enumerate(self._settings.identity)
        )
        results = list(
            self._select(
                self._columns(), f" where {where}", {f"id{i}": str(v) for i, v in enumerate(values)}
            )
        )
        if not results:
            raise ItemFailed("The row is no longer there.")
        if len(results) > 1:
            raise ItemFailed(f"The query returns {len(results)} rows with this identity.")
        return results[0]

    def _columns(self) -> list[str]:
        s = self._settings
        named = [*s.identity, *s.text, *s.tags, *filter(None, (s.title, s.link, s.changed_at))]
        return list(dict.fromkeys(named))

    def _name(self, column: str) -> str:
        quoted: str = self._engine.dialect.identifier_preparer.quote_identifier(column)
        return quoted

    def _select(
        self, columns: Sequence[str], where: str, values: dict[str, Any]
    ) -> Iterator[dict[str, Any]]:
        chosen = ", ".join(self._name(column) for column in columns)
        # A bound limit makes the driver use the protocol that accepts a single statement.
        statement = (
            f"select {chosen} from (\n{self._query.replace(':', chr(92) + ':')}\n) as"
            f" source_rows{where} limit :max_rows"
        )
        try:
            with self._connect() as connection:
                options = {"stream_results": True, "yield_per": _PAGE}
                limit = {"max_rows": self._settings.max_rows + 1}
                result = connection.execution_options(**options).execute(
                    text(statement), {**values, **limit}
                )
                for row in result.mappings():
                    yield dict(row)
        except SQLAlchemyError as error:
            raise SourceUnavailable(
                f"The database refuses: {_reason(error)}", again=_passing(error)
            ) from error


def _identity(row: dict[str, Any], names: Sequence[str]) -> str | None:
    values = [row.get(name) for name in names]
    if any(value is None for value in values):
        return None
    return (
        _shown(values[0])
        if len(values) == 1
        else json.dumps([_shown(value) for value in values], ensure_ascii=False)
    )


def _name(item_id: str) -> str:
    plain = (
        "".join(c if c.isalnum() or c in " .-_" else "-" for c in item_id).strip("-. ")[:120]
        or "row"
    )
    # Different ids may read alike once they are plain.
    return (
        f"{plain}.md"
        if plain == item_id
        else f"{plain} {hashlib.sha256(item_id.encode()).hexdigest()[:6]}.md"
    )


def _shown(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, (datetime, date)):
        return value.isoformat(sep=" ") if isinstance(value, datetime) else value.isoformat()
    if isinstance(value, bytes):
        return value.decode(errors="replace")
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)


def _seconds(value: Any) -> float | None:
    if isinstance(value, str):
        try:
            value = datetime.fromisoformat(value)
        except ValueError:
            return None
    if isinstance(value, datetime):
        return (value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp()
    return None


def _reason(error: SQLAlchemyError) -> str:
    """The database's own words in one line, without our statement."""
    texts = str(getattr(error, "orig", None) or error).strip().splitlines()
    return (texts[0] if texts else type(error).__name__)[:300]


def _passing(error: SQLAlchemyError) -> bool:
    """Return whether an error is temporary: the server is down or busy."""
    own = getattr(error, "orig", None)
    if isinstance(own, sqlite3.Error):
        return any(word in str(own) for word in ("locked", "busy", "unable to open"))
    state = getattr(own, "sqlstate", None)
    return state is None or str(state)[:2] in ("08", "53", "57", "40", "58")


KIND = Kind(
    name="sql",
    title="Database rows",
    description="Rows of a query on a PostgreSQL or SQLite database; each becomes a document.",
    settings=DatabaseSettings,
    credentials=DatabaseCredentials,
    open=Database,
    isolated=True,
    destination=lambda s: f"{s.system}://{s.host}:{s.port}/{s.database}",
)
