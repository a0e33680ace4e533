"""A snapshot of a data directory in use answers while its service is stopped or goes on."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel.client import Client, ProblemError
from tests.conftest import STORM, Service, TeamSetup, new_team, until

QUESTION = "What is the wind limit at the outer berth?"


@pytest.fixture
def main(tmp_path: Path) -> Iterator[Service]:
    started = Service(tmp_path / "data").start()
    yield started
    started.stop()


@pytest.fixture
def team(main: Service) -> TeamSetup:
    made = new_team(main)
    made.client.create_kb("Rules")
    made.client.add_document("rules", STORM, "storm-plan.md", wait=True)
    return made


def snapshot(main: Service) -> Service:
    """Serve a snapshot of the data directory, at another port."""
    return Service(main.data, {"FONTANEL_READ_ONLY": "true"}).start()


def client_of(service: Service, team: TeamSetup) -> Client:
    return Client(service.url, team.key, team.slug)


def folders(main: Service) -> list[str]:
    return [path.name for path in (main.data / "snapshots").glob("*")]


def test_it_answers_while_the_service_is_stopped_and_started(
    main: Service, team: TeamSetup
) -> None:
    aside = snapshot(main)
    try:
        reader = client_of(aside, team)
        main.stop()
        answer = reader.ask("rules", QUESTION)
        assert "28 knots" in answer.text
        assert reader.original("rules", "storm-plan.md") == STORM
        with pytest.raises(ProblemError, match="only answers"):
            reader.add_document("rules", b"# New\n\nText.\n", "new.md")
        # It is as if the new version changed the tables while the snapshot is served.
        with sqlite3.connect(main.data / "fontanel.db") as raw:
            raw.execute("ALTER TABLE turns RENAME TO turns_of_a_newer_version")
        assert "28 knots" in reader.ask("rules", QUESTION).text
        with sqlite3.connect(main.data / "fontanel.db") as raw:
            raw.execute("ALTER TABLE turns_of_a_newer_version RENAME TO turns")
        main.start()
        # What is asked of the snapshot stays there.
        assert client_of(main, team).list_conversations(kb="rules") == []
    finally:
        assert aside.stop() == 0
    assert folders(main) == []


def test_it_stays_as_it_was_while_the_service_goes_on(main: Service, team: TeamSetup) -> None:
    aside = snapshot(main)
    try:
        reader = client_of(aside, team)
        team.client.delete_document("rules", "storm-plan.md")
        # Enough documents for their segments to be merged, and the old files to be deleted.
        for number in range(12):
            text = f"# Note {number}\n\nBuoy {number} is lit.\n".encode()
            team.client.add_document("rules", text, f"note-{number}.md", wait=True)
        assert "28 knots" in reader.ask("rules", QUESTION).text
        assert [one.name for one in reader.list_documents("rules")] == ["storm-plan.md"]
        assert team.client.show_kb("rules").documents == 12
    finally:
        aside.stop()


def test_what_a_killed_one_leaves_is_removed(main: Service, team: TeamSetup) -> None:
    aside = snapshot(main)
    aside.kill()
    (left,) = folders(main)
    again = snapshot(main)
    try:
        assert left not in folders(main)
        assert "28 knots" in client_of(again, team).ask("rules", QUESTION).text
    finally:
        again.stop()
    until(lambda: not folders(main))


def test_a_directory_that_nobody_uses_is_served_itself(main: Service, team: TeamSetup) -> None:
    main.stop()
    alone = snapshot(main)
    try:
        assert folders(main) == []
        assert "28 knots" in client_of(alone, team).ask("rules", QUESTION).text
    finally:
        alone.stop()
    main.start()
