"""Outdated editions at start.

One replacement each, and a switch at a quiet moment.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.text.analysis import ANALYSER_VERSION
from fontanel.engine.documents.documents import add_document
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.editions.lifecycle import (
    build_edition,
    is_outdated,
    progress_of,
    promote_successors,
    renew_outdated,
)
from fontanel.errors import Refused
from fontanel.facts import SplitSettings
from fontanel.records.tables import (
    Document,
    DocumentState,
    Edition,
    Job,
    JobStage,
    JobState,
    Kb,
    PassageRow,
    Revision,
    Team,
)
from fontanel.records.unit_of_work import Records


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    records = Records(tmp_path / "fontanel.db")
    with records.writing() as session:
        session.add(Team(id="team_a", slug="a", name="A"))
        session.flush()
        yield session
    records.close()


def kb_of(session: Session, documents: int = 2, embedder: str | None = "old") -> Kb:
    """A knowledge base with so many documents, indexed by an embedder."""
    kb = create_kb(session, "team_a", "Rules", "", embedder)
    for number in range(documents):
        added = add_document(session, kb, f"d{number}.md", f"{number:064x}", 3, None)
        assert added.job is not None
        added.job.state = JobState.DONE
        added.document.state = DocumentState.INDEXED
        added.document.revision_id = added.document.latest_revision_id
    session.flush()
    return kb


def editions(session: Session) -> list[Edition]:
    return list(session.scalars(select(Edition).order_by(Edition.number)))


def finish(session: Session, edition: Edition) -> None:
    """As the queue does: every document's passages, and its job done."""
    for job in session.scalars(select(Job).where(Job.edition_id == edition.id)):
        job.state = JobState.DONE
        session.add(
            PassageRow(
                team_id="team_a",
                edition_id=edition.id,
                document_key=job.document_key,
                revision_id=job.revision_id,
                ordinal=0,
                start=0,
                end=1,
                text="x",
                context="",
                tokens=1,
                locator={},
                parts=[],
                embedded_text="x",
            )
        )
    session.flush()


def test_what_was_made_by_the_present_embedder_is_left_alone(session: Session) -> None:
    kb_of(session)
    assert renew_outdated(session, "old") == []
    assert len(editions(session)) == 1


def test_without_an_embedder_nothing_is_outdated(session: Session) -> None:
    kb_of(session)
    assert renew_outdated(session, None) == []


@pytest.mark.parametrize("before", ["old", None])
def test_another_embedder_gets_a_successor_with_every_document_queued(
    session: Session, before: str | None
) -> None:
    kb = kb_of(session, 3, before)
    (made,) = renew_outdated(session, "new")
    assert (made.embedder, made.replaces_active, made.number, kb.edition_id != made.id) == (
        "new",
        True,
        2,
        True,
    )
    assert made.settings == editions(session)[0].settings
    assert progress_of(session, made).total == 3
    # At the next start it is there already.
    assert renew_outdated(session, "new") == []


def test_an_older_analyser_is_outdated_too(session: Session) -> None:
    kb_of(session)
    (serving,) = editions(session)
    serving.settings = {**serving.settings, "analyser": ANALYSER_VERSION - 1}
    assert is_outdated(serving, "old")
    (made,) = renew_outdated(session, None)
    assert (made.embedder, made.settings["analyser"]) == ("old", ANALYSER_VERSION)


def test_an_embedder_that_is_replaced_twice_leaves_one_successor(session: Session) -> None:
    kb_of(session)
    renew_outdated(session, "new")
    (newest,) = renew_outdated(session, "newest")
    assert [(edition.embedder, edition.replaces_active) for edition in editions(session)] == [
        ("old", False),
        ("newest", True),
    ]
    assert progress_of(session, newest).total == 2
    assert not session.scalars(
        select(Job).where(Job.edition_id.is_not(None), Job.edition_id != newest.id)
    ).all()


def test_going_back_before_it_took_over_needs_no_successor(session: Session) -> None:
    kb_of(session)
    renew_outdated(session, "new")
    assert renew_outdated(session, "old") == []
    assert [edition.embedder for edition in editions(session)] == ["old"]


def test_an_edition_that_somebody_built_beside_is_not_touched(session: Session) -> None:
    kb = kb_of(session)
    build_edition(session, kb, SplitSettings(target_tokens=90), "old")
    renew_outdated(session, "new")
    assert [(e.number, e.embedder, e.replaces_active) for e in editions(session)] == [
        (1, "old", False),
        (2, "old", False),
        (3, "new", True),
    ]


def test_what_waits_for_an_embedder_that_is_gone_is_done_by_words(session: Session) -> None:
    kb = kb_of(session, 1)
    document = session.scalars(select(Document)).one()
    job = session.scalars(select(Job)).one()
    job.stage, job.state = JobStage.EMBED, JobState.WAITING
    document.state = DocumentState.KEYWORD_READY
    renew_outdated(session, "new")
    assert (job.state, document.state) == (JobState.DONE, DocumentState.INDEXED)
    assert session.get_one(Kb, kb.id).edition_id == editions(session)[0].id


def test_the_successor_serves_once_it_is_built_and_the_old_one_goes(session: Session) -> None:
    kb = kb_of(session)
    (made,) = renew_outdated(session, "new")
    before = kb.edition_id
    assert promote_successors(session) == []
    finish(session, made)
    assert promote_successors(session) == [(kb.id, made.id, before)]
    assert kb.edition_id == made.id
    assert [edition.id for edition in editions(session)] == [made.id]
    assert not made.replaces_active
    assert promote_successors(session) == []
    counts = session.scalars(select(Revision.passages)).all()
    assert list(counts) == [1, 1]


def test_a_switch_waits_while_a_document_is_on_its_way(session: Session) -> None:
    kb = kb_of(session)
    (made,) = renew_outdated(session, "new")
    finish(session, made)
    added = add_document(session, kb, "late.md", "f" * 64, 3, None)
    assert added.job is not None
    session.flush()
    assert promote_successors(session) == []
    assert kb.edition_id != made.id
    added.job.state = JobState.DONE
    finish(session, made)
    assert len(promote_successors(session)) == 1


def test_so_many_editions_and_no_more(session: Session) -> None:
    kb = kb_of(session)
    for tokens in (60, 70, 80, 90):
        build_edition(session, kb, SplitSettings(target_tokens=tokens), "old")
    with pytest.raises(Refused, match="5 editions"):
        build_edition(session, kb, SplitSettings(target_tokens=100), "old")
    # An outdated one is renewed nevertheless.
    assert len(renew_outdated(session, "new")) == 1
