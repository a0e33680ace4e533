"""Blobs, the vector cache, the database and its migrations, and the team scope."""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import create_engine
from sqlalchemy.orm import Session

from fontanel.errors import NotFound
from fontanel.records.blobs import BlobStore
from fontanel.records.database import run_migrations
from fontanel.records.ids import hash_password, new_id, password_matches, slug_of
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Base, Kb, Role, Team
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache


def test_blobs_are_found_by_their_hash(tmp_path: Path) -> None:
    blobs = BlobStore(tmp_path)
    sha256, size = blobs.put([b"one ", b"two"])
    assert (sha256, size) == (hashlib.sha256(b"one two").hexdigest(), 7)
    assert blobs.read(sha256) == b"one two"
    assert blobs.path(sha256).parent.name == sha256[:2]


def test_a_broken_off_upload_leaves_nothing(tmp_path: Path) -> None:
    def chunks() -> Iterator[bytes]:
        yield b"some"
        raise ConnectionError

    blobs = BlobStore(tmp_path)
    with pytest.raises(ConnectionError):
        blobs.put(chunks())
    assert not [path for path in tmp_path.rglob("*") if path.is_file()]


def test_sweeping_keeps_what_is_named_and_what_is_young(tmp_path: Path) -> None:
    blobs = BlobStore(tmp_path)
    kept, _ = blobs.put([b"kept"])
    removed, _ = blobs.put([b"gone"])
    assert blobs.sweep({kept}, older_than=3600) == 0
    assert blobs.sweep({kept}, older_than=-1) == 1
    assert blobs.path(kept).exists()
    assert not blobs.path(removed).exists()


def _unit(rows: int) -> np.ndarray[Any, np.dtype[np.float32]]:
    return np.eye(rows, 8, dtype=np.float32)


def test_vectors_come_back_to_their_team_and_unknown_keys_do_not(tmp_path: Path) -> None:
    cache = VectorCache(tmp_path / "vectors")
    keys = [bytes([n]) * 32 for n in range(5)]
    cache.put("a", keys, _unit(5))
    cache.close()
    again = VectorCache(tmp_path / "vectors")
    result = again.get("a", [*keys, b"x" * 32])
    assert len(result) == 5
    assert (result[keys[3]] == _unit(5)[3]).all()
    assert again.get("b", keys) == {}
    again.put("b", keys, _unit(5)[::-1].copy())
    assert (again.get("a", keys)[keys[3]] == _unit(5)[3]).all()
    again.forget_team("a")
    assert again.get("a", keys) == {}
    assert len(again.get("b", keys)) == 5
    again.close()


@pytest.mark.parametrize(
    "vectors", [np.ones((1, 8)), np.ones((1, 8), np.float32), np.full((1, 8), np.nan, np.float32)]
)
def test_only_unit_vectors_are_cached(tmp_path: Path, vectors: Any) -> None:
    cache = VectorCache(tmp_path / "vectors")
    with pytest.raises(ValueError, match="vectors"):
        cache.put("a", [b"k" * 32], vectors)
    cache.close()


def test_vectors_that_all_teams_shared_are_divided(tmp_path: Path) -> None:
    before = sqlite3.connect(tmp_path / "vectors")
    before.execute(
        "CREATE TABLE vectors (key BLOB PRIMARY KEY, vector BLOB NOT NULL) WITHOUT ROWID"
    )
    keys = [bytes([n]) * 32 for n in range(3)]
    before.executemany(
        "INSERT INTO vectors VALUES (?, ?)",
        zip(keys, [row.tobytes() for row in _unit(3)], strict=True),
    )
    before.commit()
    before.close()
    cache = VectorCache(tmp_path / "vectors")
    assert cache.shared
    cache.split_by_team([("a", keys[0]), ("b", keys[0]), ("b", keys[1]), ("b", b"x" * 32)])
    assert not cache.shared
    assert [len(cache.get(team, keys)) for team in "abc"] == [1, 2, 0]
    cache.close()


def test_migrations_give_the_tables_as_they_are_declared(tmp_path: Path) -> None:
    records = Records(tmp_path / "x.db")
    with records.engine.connect() as connection:
        differences = compare_metadata(MigrationContext.configure(connection), Base.metadata)
    assert differences == []


def lines(path: Path) -> list[str]:
    """Return the sorted lines of a schema: migrations add constraints in any order."""
    with closing(sqlite3.connect(path)) as database:
        text = "\n".join(database.iterdump())
    return sorted(line.rstrip(", ") for line in text.splitlines())


def test_new_records_have_the_schema_that_the_migrations_lead_to(tmp_path: Path) -> None:
    Records(tmp_path / "new.db").close()
    engine = create_engine(f"sqlite:///{tmp_path / 'migrated.db'}")
    run_migrations(engine)
    engine.dispose()
    assert lines(tmp_path / "new.db") == lines(tmp_path / "migrated.db"), "make schema"


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    records = Records(tmp_path / "x.db")
    with records.writing() as result:
        for team in ("a", "b"):
            result.add(Team(id=f"team_{team}", slug=team, name=team))
            result.flush()
            result.add(
                Kb(
                    id=f"kb_{team}",
                    team_id=f"team_{team}",
                    slug="rules",
                    name="Rules",
                    edition_id="ed",
                )
            )
        result.commit()
        yield result


def test_a_scope_sees_its_own_team_only(session: Session) -> None:
    scope = TeamScope(session, "team_a")
    assert scope.kb("rules").id == "kb_a"
    assert [kb.id for kb in session.scalars(scope.select(Kb))] == ["kb_a"]
    with pytest.raises(NotFound):
        scope.kb("kb_b")


def test_a_scope_can_be_narrowed_to_knowledge_bases(session: Session) -> None:
    with pytest.raises(NotFound):
        TeamScope(session, "team_a", frozenset({"kb_other"})).kb("rules")


def test_times_come_back_aware_and_words_as_members(session: Session) -> None:
    team = session.get_one(Team, "team_a")
    session.expire(team)
    assert team.created_at.tzinfo is not None
    assert Role("owner") is Role.OWNER


def test_passwords_and_names() -> None:
    stored = hash_password("correct horse")
    assert password_matches(stored, "correct horse")
    assert not password_matches(stored, "wrong horse")
    assert not password_matches(None, "correct horse")
    assert slug_of("Häfen & Schleusen") == "hafen-schleusen"
    assert slug_of("港湾") == "kb"
    assert len({new_id("doc") for _ in range(100)}) == 100
