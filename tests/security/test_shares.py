"""One team's work does not delay another's, and archives unpack within limits."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.passages.splitting import split
from fontanel.core.reading import read
from fontanel.engine.documents.contained import StoredFile, add_contained, add_many_contained
from fontanel.engine.documents.documents import add_document, rename_document
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.ingest.queue import claim, waiting_teams
from fontanel.facts import SplitSettings
from fontanel.records.ids import new_id
from fontanel.records.tables import Document, Job, JobStage, JobState, Kb, Revision, Team
from fontanel.records.unit_of_work import Records
from tests.conftest import STORM, Service, new_team
from tests.core import samples


@pytest.fixture
def records(tmp_path: Path) -> Iterator[Records]:
    records = Records(tmp_path / "records.db")
    yield records
    records.close()


def kb_of(session: Session, name: str) -> Kb:
    team = Team(id=new_id("team"), slug=name, name=name)
    session.add(team)
    session.flush()
    return create_kb(session, team.id, "Rules", "", None)


def inside(count: int, size: int, prefix: str = "") -> list[StoredFile]:
    return [
        StoredFile(f"{prefix}{number}.md", f"{number:064x}", size, {}) for number in range(count)
    ]


def test_archives_in_archives_have_one_bound_together(records: Records) -> None:
    with records.writing() as session:
        kb = kb_of(session, "a")
        outer = add_document(session, kb, "all.zip", "0" * 64, 1, None).document
        assert add_contained(session, outer, inside(3, 10, "part")) is None
        parts = [
            session.query(Document).filter_by(name=f"all.zip/part{n}.md").one() for n in range(3)
        ]
        assert add_contained(session, parts[0], inside(2, 400_000_000)) is None
        warning = add_contained(session, parts[1], inside(2, 400_000_000))
        assert warning is not None
        assert "2 files inside were left out" in warning
        # The same again is no more than it was.
        assert add_contained(session, parts[0], inside(2, 400_000_000)) is None
        other = add_document(session, kb, "other.zip", "1" * 64, 1, None).document
        assert add_contained(session, other, inside(2, 400_000_000)) is None


def test_files_inside_a_renamed_archive_are_not_there_twice(records: Records) -> None:
    with records.writing() as session:
        kb = kb_of(session, "a")
        outer = add_document(session, kb, "all.zip", "0" * 64, 1, None).document
        assert add_contained(session, outer, inside(1, 10, "part")) is None
        part = session.query(Document).filter_by(name="all.zip/part0.md").one()
        assert add_contained(session, part, inside(2, 10)) is None
        rename_document(session, outer, "every.zip")
        assert add_contained(session, part, inside(2, 10)) is None
        names = session.scalars(select(Document.name).where(Document.parent_key == part.key))
        assert sorted(names) == ["every.zip/part0.md/0.md", "every.zip/part0.md/1.md"]


def test_a_number_of_files_is_enough(records: Records) -> None:
    with records.writing() as session:
        outer = add_document(session, kb_of(session, "a"), "all.zip", "0" * 64, 1, None).document
        warning = add_contained(session, outer, inside(10_003, 1))
        assert warning is not None
        assert warning.startswith("3 files inside were left out")


def test_many_files_are_added_in_parts_and_are_there_once(records: Records) -> None:
    with records.writing() as session:
        kb = kb_of(session, "a")
        outer = add_document(session, kb, "all.zip", "0" * 64, 1, None)
        key = outer.document.key
    assert outer.job is not None
    files = inside(450, 1)
    add_many_contained(records, outer.job, files[:250])
    # Interrupted, and read again.
    add_many_contained(records, outer.job, files)
    with records.writing() as session:
        document = session.get_one(Document, key)
        assert add_contained(session, document, files) is None
        members = session.scalars(select(Document).where(Document.parent_key == key)).all()
        assert {member.name for member in members} == {f"all.zip/{n}.md" for n in range(450)}
        assert session.query(Job).count() == len(members) + 1
        # Without some of its files, changed ones, and others.
        less = [*inside(3, 1)[1:], StoredFile("3.md", "f" * 64, 2, {}), *inside(1, 1, "new")]
        assert add_contained(session, document, less) is None
        members = session.scalars(select(Document).where(Document.parent_key == key)).all()
        assert {member.name.removeprefix("all.zip/") for member in members} == {
            *("1.md", "2.md", "3.md", "new0.md")
        }
        assert session.query(Revision).filter_by(sha256="f" * 64).one().number == 2


def test_files_of_an_outdated_archive_are_not_added(records: Records) -> None:
    with records.writing() as session:
        kb = kb_of(session, "a")
        outer = add_document(session, kb, "all.zip", "0" * 64, 1, None)
        add_document(session, kb, "all.zip", "1" * 64, 1, None)
    assert outer.job is not None
    add_many_contained(records, outer.job, inside(450, 1))
    with records.reading() as session:
        assert session.query(Document).count() == 1


def test_teams_take_turns(records: Records) -> None:
    with records.writing() as session:
        kbs = [kb_of(session, name) for name in "abc"]
        for kb, count in zip(kbs, (100, 1, 3), strict=True):
            for number in range(count):
                add_document(session, kb, f"{number}.md", f"{number:064x}", 1, None)
        session.commit()
    with records.reading() as session:
        teams = waiting_teams(session, JobStage.READ)
        assert sorted(teams) == sorted(kb.team_id for kb in kbs)
        assert waiting_teams(session, JobStage.READ, after=teams[0]) == [*teams[1:], teams[0]]
    taken = claim(records, JobStage.READ, 9, teams)
    counts = {kb.slug + kb.team_id: sum(job.team_id == kb.team_id for job in taken) for kb in kbs}
    assert sorted(counts.values()) == [1, 3, 5]
    with records.reading() as session:
        left = session.query(Job).filter_by(state=JobState.WAITING).all()
        assert {job.team_id for job in left} == {kbs[0].team_id}


def test_an_archive_of_one_team_keeps_no_other_upload_waiting(tmp_path: Path) -> None:
    running = Service(tmp_path / "data").start()
    try:
        one, other = new_team(running), new_team(running)
        many = {
            f"{number}.md": f"# Log {number}\n\nThe wind was {number} knots at the quay."
            for number in range(400)
        }
        kb = one.client.create_kb("Logs").slug
        one.client.add_document(kb, samples.zipped(many), "logs.zip")
        mine = other.client.create_kb("Mine").slug
        added = other.client.add_document(mine, STORM, "storm.md", wait=True)
        assert added.document.state == "indexed"
        assert one.client.show_kb(kb).pending > 0, "the archive is still on its way"
    finally:
        running.stop()


# Text that nobody wrote


@pytest.mark.parametrize(
    ("name", "data", "said"),
    [
        ("a.txt", b"x" * 3_000_000, ""),
        ("a.txt", b"word " * 300_000, ""),
        ("a.md", b"# " + b"h" * 200_000 + b"\n\nText.", ""),
        ("a.csv", b'name,text\n"open,1\n' + b"row,text\n" * 20_000, "never closed"),
        ("a.csv", b'"' + b"x" * 12_000_000, "never closed"),
        ("a.json", b'{"a": NaN, "b": [1, -Infinity], "c": "text"}', ""),
        ("a.json", b'{"title": "\\ud800", "\\udc00": "the gate \\ud83d is shut"}', ""),
    ],
)
def test_odd_text_is_read_into_passages_that_can_be_kept(name: str, data: bytes, said: str) -> None:
    reading = read(data, name)
    assert said in " ".join(reading.warnings)
    passages = split(reading, SplitSettings(), lambda texts: [1 for _ in texts])
    assert passages
    assert max(len(passage.text) for passage in passages) < 20_000
    assert max(len("".join(passage.locator.heading_path)) for passage in passages) < 5_000
    assert str(reading.to_dict()).encode()
