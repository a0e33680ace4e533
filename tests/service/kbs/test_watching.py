"""The stream of a knowledge base's changes is complete, even for many at once."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta

from sqlalchemy import insert, update

from fontanel.records.tables import Document, DocumentState, Kb, Revision, now
from fontanel.records.unit_of_work import Records
from fontanel.schemas import DocumentOut, KbOut
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, new_team
from tests.core import samples


def events(lines: Iterator[str]) -> Iterator[tuple[str, dict[str, object]]]:
    name = ""
    for line in lines:
        if line.startswith("event: "):
            name = line[7:]
        elif line.startswith("data: "):
            yield name, json.loads(line[6:])


@contextmanager
def watched(team: TeamSetup, kb: str) -> Iterator[Iterator[tuple[str, dict[str, object]]]]:
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/events"
    with patient.stream(
        "GET", url, headers={"Authorization": f"Bearer {team.key}"}, timeout=60
    ) as response:
        yield events(response.iter_lines())


def test_documents_can_be_watched_as_they_move(team: TeamSetup, kb: str) -> None:
    notes = "\n\n".join(
        f"## Log {n}\n\nAt {n} past the hour the watch wrote down {n * 37} and went on."
        for n in range(150)
    )
    states: list[str] = []
    removed = False
    with watched(team, kb) as stream:
        assert next(stream)[0] == "kb"
        added = team.client.add_document(kb, notes.encode(), "log.md")
        for name, data in stream:
            if name == "document":
                document = DocumentOut.model_validate(data)
                states.append(document.state)
                if document.state == "indexed" and not removed:
                    team.client.delete_document(kb, added.document.id)
                    removed = True
            if name == "removed":
                assert data == {"id": added.document.id}
                break
    order = ["waiting", "reading", "splitting", "keyword_ready", "indexed"]
    assert states == sorted(states, key=order.index)
    assert states[-1] == "indexed"
    assert "keyword_ready" in states


def test_what_is_deleted_with_a_document_is_told_too(team: TeamSetup, kb: str) -> None:
    archive = samples.zipped({"storm.md": STORM, "dues.xlsx": samples.workbook()})
    team.client.add_document(kb, archive, "all.zip", wait=True)
    inside = {
        team.client.wait_for_document(kb, f"all.zip/{name}").id
        for name in ("storm.md", "dues.xlsx")
    }
    with watched(team, kb) as stream:
        assert next(stream)[0] == "kb"
        team.client.delete_document(kb, "all.zip")
        removed = {
            str(data["id"]) for name, data in (next(stream) for _ in range(3)) if name == "removed"
        }
        assert inside < removed
        assert KbOut.model_validate(next(stream)[1]).documents == 0


def test_thousands_of_changes_are_all_told_in_their_turn(service: Service) -> None:
    team = new_team(service)
    kb = team.client.create_kb("Large").slug
    records = Records(service.data / "fontanel.db")
    count, at = 1_300, now() - timedelta(days=1)
    with records.writing() as session:
        kb_row = session.get_one(Kb, team.client.show_kb(kb).id)
        of_kb = {
            "team_id": kb_row.team_id,
            "kb_id": kb_row.id,
            "created_at": at,
            "changed_at": at,
            "tags": {},
        }
        session.execute(
            insert(Document),
            [
                {
                    "id": f"doc_{n}",
                    "name": f"d{n:04}",
                    "title": f"D {n}",
                    "state": DocumentState.INDEXED,
                    "latest_revision_id": f"rev_{n}",
                    "revision_id": f"rev_{n}",
                    **of_kb,
                }
                for n in range(count)
            ],
        )
        keys = {
            row.id: row.key for row in session.query(Document).where(Document.kb_id == kb_row.id)
        }
        session.execute(
            insert(Revision),
            [
                {
                    "id": f"rev_{n}",
                    "team_id": kb_row.team_id,
                    "document_key": keys[f"doc_{n}"],
                    "number": 1,
                    "size": 1,
                    "sha256": f"{n:064x}",
                    "warnings": [],
                    "seconds": {},
                    "created_at": at,
                }
                for n in range(count)
            ],
        )
        session.commit()
    with watched(team, kb) as stream:
        assert next(stream)[0] == "kb", "settled documents are not told of at first"
        # All at the same moment: the key tells them apart.
        with records.writing() as session:
            session.execute(
                update(Document).where(Document.kb_id == kb_row.id).values(change=1, version=2)
            )
            session.commit()
        team.client.add_document(kb, STORM, "storm.md")
        messages: list[str] = []
        while "storm.md" not in messages:
            name, data = next(stream)
            if name == "document":
                messages.append(DocumentOut.model_validate(data).name)
    assert messages[:-1] == [f"d{n:04}" for n in range(count)]
    records.close()


def test_other_tags_and_another_name_are_told(team: TeamSetup, storm: str) -> None:
    with watched(team, storm) as stream:
        assert next(stream)[0] == "kb"
        team.client.set_tags(storm, "storm-plan.md", {"year": "2026"})
        name, data = next(stream)
        assert (name, data["tags"]) == ("document", {"year": "2026"})
