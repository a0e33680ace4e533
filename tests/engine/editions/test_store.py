"""Editions on disk: segments recorded in transactions, merged by size, swept."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import select

from fontanel.core.index import Mode, Query, VectorSegment, WordsEntry, WordsSegment
from fontanel.engine.documents.documents import add_document, delete_document
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.documents.naming import document_name
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.failures import InterruptedJobs
from fontanel.engine.ingest.queue import MAX_ATTEMPTS, claim, recover, retry_later, waiting
from fontanel.engine.workers.merger import MergeFailed, MergePlan, merge_elsewhere, merge_here
from fontanel.errors import Busy, Refused
from fontanel.records.tables import (
    Document,
    DocumentState,
    Edition,
    Job,
    JobStage,
    JobState,
    Segment,
    Team,
    Tombstone,
    now,
)
from fontanel.records.unit_of_work import Records


@pytest.fixture
def records(tmp_path: Path) -> Records:
    return Records(tmp_path / "fontanel.db")


@pytest.fixture
def edition(records: Records) -> Edition:
    with records.writing() as session:
        session.add(Team(id="team_a", slug="a", name="A"))
        session.flush()
        kb = create_kb(session, "team_a", "Rules", "", "an-embedder")
        session.commit()
        return session.get_one(Edition, kb.edition_id)


@pytest.fixture
def editions(tmp_path: Path, records: Records) -> Editions:
    return Editions(tmp_path / "editions", records)


def add_segment(records: Records, editions: Editions, edition: Edition, ids: list[int]) -> None:
    words = WordsSegment.build(
        [WordsEntry(i, 1, (["storm"], [], [f"word{i}", "gale"], [])) for i in ids]
    )
    vectors = VectorSegment(
        np.array(ids, dtype=np.int64), np.eye(8, dtype=np.float32)[np.array(ids) % 8]
    )
    with records.writing() as session:
        editions.write(session, edition, words)
        editions.write(session, edition, vectors)
        session.commit()
    editions.refresh(edition.id)


def found(editions: Editions, edition: Edition) -> list[int]:
    query = Query("gale", mode=Mode.LEXICAL, limit=100, per_document=100)
    return sorted(hit.passage_id for hit in editions.snapshot(edition.id).search(query))


def test_a_snapshot_has_what_is_committed_before_subscribers_know(
    tmp_path: Path, records: Records, edition: Edition
) -> None:
    seen: list[list[int]] = []
    opened: list[Editions] = []
    # It is told before the editions are.
    records.subscribe(lambda committed: seen.append(found(opened[0], edition)))
    opened.append(Editions(tmp_path / "editions", records))
    assert found(opened[0], edition) == []
    with records.writing() as session:
        opened[0].write(
            session, edition, WordsSegment.build([WordsEntry(1, 1, (["gale"], [], [], []))])
        )
    assert seen == [[1]]


def test_a_unit_of_work_that_fails_publishes_nothing(
    records: Records, editions: Editions, edition: Edition
) -> None:
    def fail_after_writing() -> None:
        with records.writing() as session:
            editions.write(session, edition, WordsSegment.build([]))
            session.flush()
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail_after_writing()
    assert not records.publishes(edition.id)


def test_an_old_snapshot_sees_what_it_saw(
    records: Records, editions: Editions, edition: Edition
) -> None:
    add_segment(records, editions, edition, [1, 2])
    before = editions.snapshot(edition.id)
    add_segment(records, editions, edition, [3])
    assert before.passages == 2
    assert found(editions, edition) == [1, 2, 3]


def test_eight_small_segments_become_one_without_the_dead(
    records: Records, editions: Editions, edition: Edition
) -> None:
    for number in range(1, 9):
        add_segment(records, editions, edition, [number])
    with records.writing() as session:
        session.add(Tombstone(edition_id=edition.id, passage_id=3, team_id="team_a"))
        session.commit()
    editions.refresh(edition.id)
    expected = [1, 2, 4, 5, 6, 7, 8]
    assert found(editions, edition) == expected
    assert editions.merge(edition.id)
    assert not editions.merge(edition.id)
    assert found(editions, edition) == expected
    with records.reading() as session:
        assert [
            (row.kind, row.passages)
            for row in session.scalars(select(Segment).order_by(Segment.kind))
        ] == [
            ("vectors", 7),
            ("words", 7),
        ]
        assert session.scalars(select(Tombstone)).all() == []
    assert len(list(editions.path(edition.id, "x").parent.iterdir())) == 2


def test_a_file_that_no_record_names_is_swept(
    records: Records, editions: Editions, edition: Edition
) -> None:
    add_segment(records, editions, edition, [1])
    orphan = editions.path(edition.id, "words_orphan")
    orphan.write_bytes(b"left behind")
    stray = orphan.parent.parent / "ed_gone"
    stray.mkdir()
    lost: list[str] = []
    editions.sweep(lost.append)
    assert not orphan.exists()
    assert not stray.exists()
    assert lost == []
    next(orphan.parent.iterdir()).unlink()
    editions.sweep(lost.append)
    assert lost == [edition.id]


def queued(records: Records, edition: Edition, count: int) -> list[str]:
    from fontanel.records.tables import Kb

    names = []
    with records.writing() as session:
        kb = session.get_one(Kb, edition.kb_id)
        for number in range(count):
            job = add_document(session, kb, f"{number}.md", f"{number:064}", 1, None).job
            assert job is not None
            session.flush()
            names.append(job.id)
        session.commit()
    return names


def test_jobs_are_claimed_once_and_oldest_first(records: Records, edition: Edition) -> None:
    jobs = queued(records, edition, 5)
    first = claim(records, JobStage.READ, 3, [edition.team_id])
    second = claim(records, JobStage.READ, 3, [edition.team_id])
    assert {job.id for job in first + second} == set(jobs)
    assert claim(records, JobStage.READ, 3, [edition.team_id]) == []
    with records.reading() as session:
        states = set(session.scalars(select(Document.state)))
        assert states == {DocumentState.READING}
        assert waiting(session) == 5


def test_what_ran_when_the_service_ended_waits_again(records: Records, edition: Edition) -> None:
    queued(records, edition, 2)
    claim(records, JobStage.READ, 2, [edition.team_id])
    assert recover(records) == 2
    assert len(claim(records, JobStage.READ, 5, [edition.team_id])) == 2


def test_a_retry_waits_longer_each_time(records: Records, edition: Edition) -> None:
    queued(records, edition, 1)
    job = claim(records, JobStage.READ, 1, [edition.team_id])[0]
    pauses = []
    for attempt in (1, 2, 3):
        job.attempts = attempt
        with records.writing() as session:
            retry_later(session, job)
        pauses.append(job.run_after - now())
    assert pauses == sorted(pauses)
    assert pauses[0] > timedelta(seconds=1)


def test_a_round_of_embedding_takes_no_more_than_it_can(records: Records, edition: Edition) -> None:
    jobs = queued(records, edition, 4)
    with records.writing() as session:
        for key in jobs:
            job = session.get_one(Job, key)
            job.stage, job.total = JobStage.EMBED, 100
        session.commit()
    assert len(claim(records, JobStage.EMBED, 64, [edition.team_id], max_passages=150)) == 2
    assert len(claim(records, JobStage.EMBED, 64, [edition.team_id], max_passages=50)) == 1


def test_jobs_of_a_round_that_broke_are_queued_again_a_few_times(
    records: Records, edition: Edition
) -> None:
    (key,) = queued(records, edition, 1)
    interrupted = InterruptedJobs(records)
    for attempt in range(1, MAX_ATTEMPTS + 1):
        with records.writing() as session:
            session.get_one(Job, key).run_after = now()
        jobs = claim(records, JobStage.READ, 4, [edition.team_id])
        assert [job.id for job in jobs] == [key]
        with pytest.raises(Busy), interrupted.queued_again(jobs):
            raise Busy("The service is busy.")
        interrupted.queue_again("It broke.")
        interrupted.queue_again("It broke.")
        with records.reading() as session:
            job = session.get_one(Job, key)
            assert job.attempts == attempt
            assert job.state == (JobState.FAILED if attempt == MAX_ATTEMPTS else JobState.WAITING)
    with records.reading() as session:
        (document,) = session.scalars(select(Document))
        assert (document.state, document.error) == (DocumentState.FAILED, "It broke.")


def test_a_newer_revision_drops_the_job_of_the_older(records: Records, edition: Edition) -> None:
    from fontanel.records.tables import Kb

    old = queued(records, edition, 1)[0]
    with records.writing() as session:
        kb = session.get_one(Kb, edition.kb_id)
        added = add_document(session, kb, "0.md", "f" * 64, 2, None)
        session.commit()
        assert added.outcome == "revised"
        assert session.get_one(Job, old).state == JobState.DONE
        delete_document(session, kb, added.document)
        session.commit()
        assert session.scalars(select(Job)).all() == []


@pytest.mark.parametrize(
    ("raw", "clean"),
    [
        ("a.md", "a.md"),
        ("../../x", "x"),
        ("a//b/./c.md", "a/b/c.md"),
        ("C:\\notes\\a.md", "C:/notes/a.md"),
        ("a\x00b\n.md", "ab.md"),
    ],
)
def test_names_are_made_safe(raw: str, clean: str) -> None:
    assert document_name(raw) == clean


@pytest.mark.parametrize("raw", ["", "..", "/", "\x00", "a" * 401])
def test_names_that_are_none_are_refused(raw: str) -> None:
    with pytest.raises(Refused):
        document_name(raw)


@pytest.mark.parametrize("kind", ["words", "vectors"])
def test_a_merge_in_a_process_of_its_own_writes_what_one_here_does(
    records: Records, editions: Editions, edition: Edition, tmp_path: Path, kind: str
) -> None:
    for first in (1, 6, 11):
        add_segment(records, editions, edition, list(range(first, first + 5)))
    with records.reading() as session:
        rows = session.scalars(select(Segment).where(Segment.kind == kind)).all()
    plan = MergePlan(
        kind,
        str(tmp_path / "here"),
        [str(editions.path(edition.id, row.id)) for row in rows],
        [2, 7],
        [float(mean) for mean in editions.snapshot(edition.id).averages],
    )
    assert merge_here(plan) == 13
    assert merge_elsewhere(replace(plan, target=str(tmp_path / "elsewhere"))) == 13
    assert (tmp_path / "here").read_bytes() == (tmp_path / "elsewhere").read_bytes()


def test_a_merge_that_fails_says_so_and_leaves_no_file(tmp_path: Path) -> None:
    (tmp_path / "broken").write_bytes(b"no segment")
    with pytest.raises(MergeFailed, match="not a segment file"):
        merge_elsewhere(
            MergePlan("words", str(tmp_path / "out"), [str(tmp_path / "broken")], [], [1.0] * 4)
        )
    assert not (tmp_path / "out").exists()


def test_editions_that_were_written_to_are_merged_in_turn(
    records: Records, editions: Editions, edition: Edition
) -> None:
    for first in range(1, 41, 5):
        add_segment(records, editions, edition, list(range(first, first + 5)))
    assert editions.merge_round()
    assert not editions.merge_round()
    with records.reading() as session:
        assert {row.passages for row in session.scalars(select(Segment))} == {40}
    result = editions.snapshot(edition.id).search(
        Query("gale", mode=Mode.LEXICAL, limit=100, per_document=100, fold=False)
    )
    assert len(result) == 40


def test_what_dies_while_segments_are_merged_stays_dead(
    records: Records, editions: Editions, edition: Edition
) -> None:
    for first in range(1, 41, 5):
        add_segment(records, editions, edition, list(range(first, first + 5)))
    planned = editions.snapshot(edition.id)
    with records.writing() as session:
        session.add(Tombstone(edition_id=edition.id, passage_id=17, team_id="team_a"))
        session.commit()
    # The merge works from the snapshot before: passage 17 lives in it.
    assert 17 in [hit.passage_id for hit in planned.search(Query("word17", mode=Mode.LEXICAL))]
    assert editions.merge(edition.id)
    assert editions.snapshot(edition.id).search(Query("word17", mode=Mode.LEXICAL)) == []
