"""Jobs of the second stage: each for its embedder alone, put off without counting an attempt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import select

from fontanel.engine.documents.documents import add_document
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.embedding import EmbedStage
from fontanel.engine.ingest.passage_embedders import Embedded, EmbedderAway, Owned
from fontanel.engine.ingest.progress import ProgressReporter
from fontanel.engine.ingest.queue import claim, postpone, waiting_teams
from fontanel.records.tables import Document, Job, JobStage, JobState, Kb, PassageRow, Team, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache

EMBEDDERS = ("own", "other")


@dataclass
class Embedder:
    """Gives equal vectors, or raises what it is told to."""

    failure: EmbedderAway | None = None
    refused: str = ""
    at_once: int = 128
    calls: int = 1
    good_calls: int = 100
    texts: list[Owned] = field(default_factory=list)
    recorded: list[str] = field(default_factory=list)

    def embed_owned(self, texts: Sequence[Owned]) -> Embedded:
        if self.failure is not None:
            raise self.failure
        self.good_calls -= 1
        if self.good_calls < 0:
            raise EmbedderAway("it cannot be reached", 0.0)
        if self.refused and any(self.refused in one.text for one in texts):
            raise EmbedderAway("it is too long", 5.0, refused=True)
        self.texts += texts
        vectors = np.full((len(texts), 4), 0.5, dtype=np.float32)
        return Embedded(vectors, lambda: self.recorded.extend(one.text for one in texts))


@pytest.fixture
def records(tmp_path: Path) -> Records:
    return Records(tmp_path / "fontanel.db")


@pytest.fixture
def stage(tmp_path: Path, records: Records) -> EmbedStage:
    return EmbedStage(
        records=records,
        vectors=VectorCache(tmp_path / "vectors"),
        editions=Editions(tmp_path / "editions", records),
        progress=ProgressReporter(records),
    )


def queued(records: Records, team: str, embedder: str, texts: Sequence[str]) -> list[str]:
    """Have a team's documents wait for an embedder; return the ids of their jobs."""
    names = []
    with records.writing() as session:
        if session.get(Team, team) is None:
            session.add(Team(id=team, slug=team, name=team))
            session.flush()
        kb = create_kb(session, team, f"Rules by {embedder}", "", embedder)
        session.flush()
        for number, text in enumerate(texts):
            added = add_document(session, kb, f"{number}.md", f"{number:064}", 1, None)
            job = added.job
            assert job is not None
            session.flush()
            job.stage, job.embedder, job.total = JobStage.EMBED, embedder, 1
            document = session.get_one(Document, job.document_key)
            session.add(_passage(kb, document, job.revision_id, text))
            names.append(job.id)
    return names


def _passage(kb: Kb, document: Document, revision_id: str, text: str) -> PassageRow:
    return PassageRow(
        team_id=kb.team_id,
        edition_id=kb.edition_id,
        document_key=document.key,
        revision_id=revision_id,
        ordinal=0,
        start=0,
        end=len(text),
        tokens=1,
        text=text,
        embedded_text=text,
        context="",
        locator={"heading_path": []},
        parts=[],
    )


def jobs(records: Records, names: Sequence[str]) -> list[Job]:
    with records.reading() as session:
        rows = {row.id: row for row in session.scalars(select(Job).where(Job.id.in_(names)))}
        return [rows[name] for name in names]


def test_jobs_are_claimed_for_their_embedder_alone(records: Records) -> None:
    own = queued(records, "a", "own", ["one", "two"])
    other = queued(records, "a", "other", ["three"])
    third = queued(records, "b", "other", ["four"])
    with records.reading() as session:
        assert waiting_teams(session, JobStage.EMBED, embedder="own") == ["a"]
        assert waiting_teams(session, JobStage.EMBED, embedder="other") == ["a", "b"]
        assert waiting_teams(session, JobStage.EMBED, "a", embedder="other") == ["b", "a"]
        assert waiting_teams(session, JobStage.EMBED, embedder="nobody") == []
        assert waiting_teams(session, JobStage.READ) == []
    taken = claim(records, JobStage.EMBED, 9, ["a", "b"], embedder="other")
    assert {job.id for job in taken} == {*other, *third}
    taken = claim(records, JobStage.EMBED, 9, ["a", "b"], embedder="own")
    assert {job.id for job in taken} == set(own)


def test_jobs_that_are_put_off_wait_and_count_no_attempt(records: Records) -> None:
    names = queued(records, "a", "own", ["one", "two"])
    taken = claim(records, JobStage.EMBED, 1, ["a"], embedder="own")
    postpone(records, [*taken, *jobs(records, names)], 60.0)
    first, second = jobs(records, names)
    assert {first.state, second.state} == {JobState.WAITING}
    assert first.attempts == 0
    # Only what ran is put off.
    assert first.run_after > now()
    assert second.run_after <= now()
    (again,) = claim(records, JobStage.EMBED, 9, ["a"], embedder="own")
    assert again.id == second.id


def test_an_embedder_that_is_away_keeps_the_jobs_waiting(
    records: Records, stage: EmbedStage
) -> None:
    names = queued(records, "a", "own", ["one", "two"])
    away = Embedder(EmbedderAway("it cannot be reached", 60.0))
    assert stage.round(away, "own")
    assert not stage.round(away, "own")
    assert {(job.state, job.attempts) for job in jobs(records, names)} == {(JobState.WAITING, 0)}


def test_a_refused_text_is_tried_alone(records: Records, stage: EmbedStage) -> None:
    good, bad, last = queued(records, "a", "own", ["one", "unembeddable", "three"])
    embedder = Embedder(refused="unembeddable")
    assert stage.round(embedder, "own")
    states = {job.id: (job.state, job.attempts) for job in jobs(records, [good, bad, last])}
    assert states[good][0] == states[last][0] == JobState.DONE
    assert states[bad] == (JobState.WAITING, 1)
    assert [one.text for one in embedder.texts] == ["one", "three"]


def test_teams_that_may_not_use_it_wait_and_delay_nobody(
    records: Records, stage: EmbedStage
) -> None:
    barred = queued(records, "a", "own", ["one"])
    served = queued(records, "b", "own", ["two"])
    embedder = Embedder()
    assert stage.round(embedder, "own", lambda session, team: team != "a")
    assert [job.state for job in jobs(records, served)] == [JobState.DONE]
    assert [job.state for job in jobs(records, barred)] == [JobState.WAITING]
    assert not stage.round(embedder, "own", lambda session, team: team != "a")
    assert stage.round(embedder, "own")
    assert [job.state for job in jobs(records, barred)] == [JobState.DONE]
    assert [(one.job.team_id, one.text) for one in embedder.texts] == [("b", "two"), ("a", "one")]


@pytest.mark.parametrize("calls", [1, 3])
def test_what_was_embedded_before_a_failure_is_kept_and_recorded_once(
    records: Records, stage: EmbedStage, calls: int
) -> None:
    texts = [f"text {n}" for n in range(20)]
    names = queued(records, "a", "own", texts)
    embedder = Embedder(at_once=2, calls=calls)
    embedder.good_calls = 4
    assert stage.round(embedder, "own")
    assert len(embedder.recorded) == 8
    assert {job.state for job in jobs(records, names)} == {JobState.WAITING}
    embedder.good_calls = 100
    assert stage.round(embedder, "own")
    assert {job.state for job in jobs(records, names)} == {JobState.DONE}
    assert sorted(embedder.recorded) == sorted(texts)
