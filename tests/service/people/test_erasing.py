"""Erasing people: nothing of theirs is left, and what they did for teams stays."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from fontanel.client import Client, Conflict, NotAllowed, NotFound, ProblemError
from fontanel.schemas import ApprovedIn, DeskKb, DeskSettings
from tests.conftest import STORM, Service, TeamSetup, join, new_team

NAME, EMAIL = "Quillon Abernathy", "quillon@skerrow.example"
QUESTION = "What is the wind limit at the outer berth?"


def everything(data: Path) -> str:
    """Return all that the records contain, as text."""
    with closing(sqlite3.connect(f"file:{data}/fontanel.db?mode=ro", uri=True)) as records:
        return "\n".join(records.iterdump())


def work_as(person: Client, kb: str) -> None:
    """Do everything that leaves a name or an address in the records."""
    desk = person.create_desk("Harbour office", DeskSettings(kbs=[DeskKb(kb=kb)]))
    person.publish_desk(desk.slug)
    answer = person.ask_desk(desk.slug, QUESTION)
    declined = person.ask_desk(desk.slug, "Who was the first lighthouse keeper of the moon?")
    person.give_feedback(desk.slug, declined.turn_id, helpful=False, comment="Nothing useful.")
    person.follow_answer(desk.slug, answer.turn_id)
    person.create_approved(
        kb, ApprovedIn(question="May I berth?", text="Ask first.", state="approved")
    )
    person.mark_document(kb, "storm-plan.md", "withdrawn")
    person.invite("somebody@skerrow.example", "Somebody")


def test_nothing_of_a_person_is_left_and_their_work_stays(tmp_path: Path) -> None:
    service = Service(tmp_path / "data").start()
    try:
        team = new_team(service)
        kb = team.client.create_kb("Harbour rules").slug
        team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
        password = join(service, team.client, EMAIL, NAME, "owner")
        with Client(service.url, team=team.slug) as person:
            with pytest.raises(ProblemError):
                person.sign_in(EMAIL, "not the password")
            person.sign_in(EMAIL, password)
            work_as(person, kb)
            made = person.make_key("nightly", "reader")
        kept = team.client.ask(kb, QUESTION)
        before = everything(service.data)
        assert NAME in before
        assert EMAIL in before
        with service.operator() as operator:
            erased = operator.erase_person(EMAIL)
            assert [one.id for one in operator.list_erasures()] == [erased.id]
            # The chain of the audit log is still whole, without the name.
            assert all(check.whole for check in operator.verify_audit(everywhere=True))
        assert erased.mentions == {}
        for kind in ("account", "conversations", "followed answers", "names", "audit entries"):
            assert erased.removed[kind] >= 1, kind
        assert erased.in_backups_until is None
        # What others did, and what the person made for the team, is there.
        assert team.client.show_answer(kept.turn_id).question == QUESTION
        [approved] = team.client.list_approved(kb)
        assert approved.approved_by == "erased person"
        assert Client(service.url, made.secret, team.slug).list_kbs()
        after = everything(service.data)
        assert NAME not in after
        assert EMAIL not in after
        assert erased.person_id is not None
        with service.operator() as operator, pytest.raises(NotFound):
            operator.erase_person(erased.person_id)
    finally:
        service.stop()
    # Not even in pages of the file that are free.
    for file in service.data.glob("fontanel.db*"):
        stored = file.read_bytes()
        assert NAME.encode() not in stored, file
        assert EMAIL.encode() not in stored, file


def test_what_others_wrote_is_counted_and_stays(team: TeamSetup, kb: str) -> None:
    name, email = "Ottoline Marsh", "ottoline@skerrow.example"
    join(team.service, team.client, email, name, "reader")
    team.client.add_document(
        kb, b"# Crew\n\nOttoline Marsh is the mate.\n", f"{name}.md", wait=True
    )
    with team.service.operator() as operator:
        erased = operator.erase_person(email)
    assert erased.mentions["documents"] == 1
    assert team.client.search(kb, "Who is the mate?").hits


def test_the_only_owner_and_operator_stay_and_others_may_not_erase(team: TeamSetup) -> None:
    with team.service.operator() as operator:
        with pytest.raises(Conflict, match="only owner of a team"):
            operator.erase_person(team.email)
        with pytest.raises(Conflict, match="only operator"):
            operator.erase_person("operator@localhost")
    with Client(team.service.url, team=team.slug) as owner:
        owner.sign_in(team.email, team.password)
        with pytest.raises(NotAllowed):
            owner.erase_person(team.email)
