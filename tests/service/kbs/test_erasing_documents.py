"""Erasing documents: nothing of them is left, in records, files, vectors or segments."""

from __future__ import annotations

import os
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel.client import NotAllowed, NotFound
from fontanel.engine.erasing.documents import ERASED_ANSWER
from fontanel.schemas import DeskKb, DeskSettings, SetQuestionIn
from tests.conftest import STORM, Service, TeamSetup, new_team, until

#: Words that only the erased document has.
SECRET = "Quillon"
QUESTION = "Who has a medical certificate until 2031?"
CERTIFICATE = f"""# Certificates

{SECRET} has a medical certificate until 2031. The certificate of {SECRET} allows night watches.
""".encode()


@pytest.fixture
def own(tmp_path: Path) -> Iterator[Service]:
    service = Service(tmp_path / "data").start()
    yield service
    service.stop()


def filled(service: Service) -> tuple[TeamSetup, str]:
    """Return a team with two documents, of which one has the secret."""
    team = new_team(service)
    kb = team.client.create_kb("Harbour rules").slug
    team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    team.client.add_document(kb, CERTIFICATE, "certificate.md", wait=True)
    return team, kb


def make_older(data: Path) -> None:
    """Let all files be older than an upload that is not recorded yet may be."""
    past = time.time() - 600
    for path in (data / "blobs").glob("*/*"):
        os.utime(path, (past, past))


def files_naming(data: Path, words: str) -> list[str]:
    """Return the files of a data directory that contain words, also within larger ones."""
    small = words.lower().encode()
    return [
        str(path.relative_to(data))
        for path in data.rglob("*")
        if path.is_file() and small in path.read_bytes().lower()
    ]


def test_nothing_of_a_document_is_left(own: Service) -> None:
    team, kb = filled(own)
    client = team.client
    client.create_desk("Harbour office", DeskSettings(kbs=[DeskKb(kb=kb)]))
    client.publish_desk("harbour-office")
    answer = client.ask_desk("harbour-office", QUESTION)
    assert SECRET in answer.text
    other = client.ask(kb, "At what gust does the quay crane stop?")
    client.follow_answer("harbour-office", answer.turn_id)
    client.approve_answer(kb, client.ask(kb, QUESTION).turn_id)
    questions = client.create_set("Crew questions")
    client.add_set_questions(questions.slug, [SetQuestionIn(question=QUESTION)])
    trial = client.begin_trial(questions.slug, kb=kb)
    client.wait_for_trial(trial.id)
    document = client.show_document(kb, "certificate.md")
    assert files_naming(own.data, SECRET)
    make_older(own.data)

    erased = client.erase_document(kb, "certificate.md", wait=True)

    assert erased.finished_at is not None
    assert erased.document_id == document.id
    for kind in ("documents", "revisions", "passages", "answers", "vectors", "files", "quotes"):
        assert erased.removed[kind] >= 1, kind
    for kind in ("answers of trials", "followed answers", "approved answers retired"):
        assert erased.removed[kind] == 1, kind
    assert [one.id for one in client.list_erased_documents()] == [erased.id]
    with pytest.raises(NotFound):
        client.show_document(kb, document.id)
    # The answer is there, without what was found; another document's is as it was.
    record = client.show_answer(answer.turn_id)
    assert (record.question, record.text) == (QUESTION, ERASED_ANSWER)
    assert record.citations == []
    assert record.steps == []
    assert "38 knots" in client.show_answer(other.turn_id).text
    [approved] = client.list_approved(kb)
    assert (approved.state, approved.places) == ("retired", [])
    assert client.ask(kb, QUESTION).outcome == "declined"
    assert "38 knots" in client.ask(kb, "At what gust does the quay crane stop?").text
    # The approved answer is a person's text, which is theirs to change.
    client.delete_approved(kb, approved.id)
    own.stop()
    assert files_naming(own.data, SECRET) == []
    own.start()
    assert "38 knots" in client.ask(kb, "At what gust does the quay crane stop?").text


def test_erasing_survives_a_kill_and_leaves_what_others_have(own: Service) -> None:
    team, kb = filled(own)
    second = team.client.create_kb("Crew").slug
    team.client.add_document(second, CERTIFICATE, "copy.md", wait=True)
    team.client.erase_document(kb, "certificate.md")
    assert team.client.list_erased_documents()[0].finished_at is None
    own.kill()
    own.start()
    make_older(own.data)
    until(lambda: team.client.list_erased_documents()[0].finished_at)
    # Another document has the same bytes.
    assert SECRET in team.client.ask(second, QUESTION).text
    assert team.client.document_text(second, "copy.md").text
    assert team.client.ask(kb, QUESTION).outcome == "declined"


def test_files_inside_an_archive_are_erased_with_it(
    team: TeamSetup, kb: str, tmp_path: Path
) -> None:
    path = tmp_path / "crew.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("certificate.md", CERTIFICATE)
    team.client.add_document(kb, path, wait=True)
    until(lambda: team.client.search(kb, QUESTION).hits)
    erased = team.client.erase_document(kb, "crew.zip")
    assert erased.removed["documents"] == 2
    assert team.client.search(kb, QUESTION).hits == []


def test_only_owners_erase(team: TeamSetup, storm: str) -> None:
    with pytest.raises(NotAllowed):
        team.with_role("editor").erase_document(storm, "storm-plan.md")
    with pytest.raises(NotAllowed):
        team.with_role("editor").list_erased_documents()
    with pytest.raises(NotFound):
        team.client.erase_document(storm, "no-such.md")
    assert team.client.list_erased_documents() == []
