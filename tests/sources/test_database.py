"""Rows of a real PostgreSQL and of SQLite as documents; what a query may not do."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fontanel.sources import SettingsRefused, SourceUnavailable
from tests.servers import Postgres, content, look, opened


@pytest.fixture
def buoys(postgres: Postgres) -> Iterator[dict[str, Any]]:
    postgres.run(
        "create table buoys (id int primary key, name text, light text, area text, page text,"
        " changed timestamptz default now());insert into buoys values (1, 'Garrack', 'Fl R 5s',"
        " 'outer', 'https://b.example/1', '2026-01-02 03:04:05+00'), (2, 'Whelk: north', 'Q(3)"
        " 10s', null, null, '2026-01-03 03:04:05+00')"
    )
    yield {
        "system": "postgresql",
        "host": "127.0.0.1",
        "port": postgres.port,
        "database": "postgres",
        "query": "select *, 'Light: '||light as said, id::text as shown from buoys;",
        "identity": ["id"],
        "title": "name",
        "text": ["said"],
        "tags": ["area"],
        "link": "page",
        "changed_at": "changed",
    }
    postgres.run("drop table buoys")


KEEPER = {"user": "keeper"}


def test_rows_become_documents(buoys: dict[str, Any], postgres: Postgres) -> None:
    with opened("sql", buoys, KEEPER) as source:
        before = look(source)
        assert [item.name for item in before.items.values()] == ["1.md", "2.md"]
        assert content(source, before.items["1"]) == b"# Garrack\n\nLight: Fl R 5s\n"
        fetched = source.fetch(before.items["1"])
        assert (fetched.tags, fetched.link) == ({"area": "outer"}, "https://b.example/1")
        assert before.items["1"].changed_at == 1767323045.0
    postgres.run(
        "update buoys set light = 'Fl G 3s', changed = '2026-05-01' where id = 2; delete from buoys"
        " where id = 1"
    )
    with opened("sql", buoys, KEEPER) as source:
        after = look(source)
        assert list(after.items) == ["2"]
        assert after.items["2"].mark != before.items["2"].mark
        assert b"Fl G 3s" in content(source, after.items["2"])


def test_without_a_time_of_change_rows_are_compared_whole(
    buoys: dict[str, Any], postgres: Postgres
) -> None:
    settings = {**buoys, "changed_at": None, "text": ["light", "area"], "identity": ["id", "name"]}
    with opened("sql", settings, KEEPER) as source:
        before = look(source)
        assert (
            content(source, before.items['["1", "Garrack"]'])
            == b"# Garrack\n\nlight: Fl R 5s\n\narea: outer\n"
        )
    postgres.run("update buoys set area = 'inner' where id = 2")
    with opened("sql", settings, KEEPER) as source:
        after = look(source)
        changed = [key for key, item in after.items.items() if item.mark != before.items[key].mark]
        assert changed == ['["2", "Whelk: north"]']


@pytest.mark.parametrize(
    "query",
    [
        "delete from buoys",
        "insert into buoys (id) values (9)",
        "with gone as (delete from buoys returning *) select * from gone",
        (
            "select 1 as id, '' as said, '' as name, '' as area, '' as page, now() as changed) as"
            " x; delete from buoys; --"
        ),
        (
            "select *, pg_terminate_backend(pg_backend_pid())::text as said from buoys; commit;"
            " delete from buoys"
        ),
        "select * from (select setval('s', 1)) as x",
    ],
)
def test_a_query_cannot_write(query: str, buoys: dict[str, Any], postgres: Postgres) -> None:
    postgres.run("create sequence if not exists s")
    with (
        pytest.raises((SourceUnavailable, SettingsRefused)),
        opened("sql", {**buoys, "query": query}, KEEPER) as source,
    ):
        look(source)
    with opened("sql", buoys, KEEPER) as source:
        assert len(look(source).items) == 2


def test_limits_and_refusals(buoys: dict[str, Any]) -> None:
    with (
        opened("sql", {**buoys, "max_rows": 1}, KEEPER) as source,
        pytest.raises(SourceUnavailable, match="more than 1 rows"),
    ):
        look(source)
    slow = {**buoys, "query": "select b.*, light as said from buoys b, pg_sleep(30)", "seconds": 1}
    with opened("sql", slow, KEEPER) as source, pytest.raises(SourceUnavailable, match="timeout"):
        look(source)
    with (
        opened("sql", {**buoys, "identity": ["nothing"]}, KEEPER) as source,
        pytest.raises(SourceUnavailable, match="nothing"),
    ):
        look(source)
    with (
        opened("sql", buoys, KEEPER, networks=()) as source,
        pytest.raises(SourceUnavailable, match="private address"),
    ):
        look(source)
    with pytest.raises(SettingsRefused):
        opened("sql", {**buoys, "host": "/var/run/postgresql"}, KEEPER)
    with (
        opened("sql", {**buoys, "port": 1}, KEEPER) as source,
        pytest.raises(SourceUnavailable) as away,
    ):
        look(source)
    assert away.value.again


def test_an_sqlite_file_below_an_allowed_root(tmp_path: Path) -> None:
    path = tmp_path / "lights.db"
    with sqlite3.connect(path) as db:
        db.execute("create table lights (id text primary key, said text, n real)")
        db.executemany(
            "insert into lights values (?, ?, ?)", [("a/b", "One", 2.0), ("c", "Two", 2.5)]
        )
    settings = {
        "system": "sqlite",
        "database": str(path),
        "query": "select * from lights",
        "identity": ["id"],
        "text": ["said", "n"],
    }
    with opened("sql", settings, roots=(tmp_path,)) as source:
        result = look(source)
        assert content(source, result.items["c"]) == b"# c\n\nsaid: Two\n\nn: 2.5\n"
        assert result.items["a/b"].name.startswith("a-b ")
    for query in (
        "with x as (select 1) delete from lights",
        "select 1 as id, 1 as said, 1 as n; delete from lights",
    ):
        with (
            opened("sql", {**settings, "query": query}, roots=(tmp_path,)) as source,
            pytest.raises(SourceUnavailable),
        ):
            look(source)
    with pytest.raises(SettingsRefused):
        opened("sql", settings, roots=(tmp_path / "elsewhere",))
