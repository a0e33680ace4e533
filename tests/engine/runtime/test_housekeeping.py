"""Retention: what is deleted after a while, and what stays."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import select, update

from fontanel.engine.documents.documents import add_document
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.tables import (
    Document,
    DocumentState,
    IdempotentReply,
    Person,
    SignIn,
    Team,
    now,
)
from fontanel.settings import Settings


@pytest.fixture
def runtime(tmp_path: Path) -> Iterator[Runtime]:
    """One that does nothing by itself, with a team."""
    result = Runtime(Settings(data=tmp_path / "data", removed_days=30))
    with result.records.writing() as session:
        session.add(Team(id="team_a", slug="a", name="A"))
        session.commit()
    yield result
    result.stop()


def test_documents_go_long_after_they_left_their_source(runtime: Runtime) -> None:
    ages = {"old.md": 31, "new.md": 29, "here.md": 400}
    with runtime.records.writing() as session:
        kb = create_kb(session, "team_a", "Rules", "", None)
        for name in ages:
            document = add_document(session, kb, name, f"{len(name):064x}", 3, None).document
            document.state = DocumentState.INDEXED if name == "here.md" else DocumentState.REMOVED
        session.flush()
        for name, days in ages.items():
            at = now() - timedelta(days=days)
            session.execute(update(Document).where(Document.name == name).values(changed_at=at))
        session.commit()
    runtime.housekeeping.delete_removed_documents()
    with runtime.records.reading() as session:
        assert set(session.scalars(select(Document.name))) == {"new.md", "here.md"}


def test_sign_ins_and_kept_replies_end(runtime: Runtime) -> None:
    with runtime.records.writing() as session:
        session.add(
            Person(
                id="per_a", email="a@skerrow.example", name="A", password_hash="-", operator=False
            )
        )
        session.flush()
        for name, hours in (("old", -1), ("new", 1)):
            session.add(
                SignIn(
                    token_hash=name, person_id="per_a", expires_at=now() + timedelta(hours=hours)
                )
            )
            session.add(
                IdempotentReply(
                    caller="key_a",
                    route="POST /kbs",
                    key=name,
                    body_hash="",
                    status=201,
                    body="",
                    created_at=now() - timedelta(days=1) + timedelta(hours=hours),
                )
            )
        session.commit()
    runtime.housekeeping.delete_expired_sign_ins()
    with runtime.records.reading() as session:
        assert session.scalars(select(SignIn.token_hash)).all() == ["new"]
        assert session.scalars(select(IdempotentReply.key)).all() == ["new"]
