"""Quotas of many teams, counted together."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import event

from fontanel.engine.answering.background import TRANSCRIBED
from fontanel.engine.quotas.limits import month_began
from fontanel.engine.quotas.quotas import quotas_of, quotas_of_all
from fontanel.records.ids import new_id
from fontanel.records.tables import Team, Use
from fontanel.records.unit_of_work import Records


@pytest.fixture
def records(tmp_path: Path) -> Iterator[Records]:
    records = Records(tmp_path / "records.db")
    yield records
    records.close()


def add_teams(records: Records, zones: list[str]) -> None:
    """Add teams that each used something this month, and something just before it began."""
    with records.writing() as session:
        for number, zone in enumerate(zones):
            team = Team(id=new_id("team"), slug=f"t{number}", name=f"T{number}", time_zone=zone)
            session.add(team)
            session.flush()
            began = month_began(team)
            for at, asked in ((began, number + 1), (began - timedelta(minutes=1), 50)):
                for one in range(asked):
                    session.add(used(team, f"{asked}-{one}", at=at))
                session.add(used(team, f"{asked}", at=at, outcome=TRANSCRIBED, seconds=150))


def used(
    team: Team, name: str, outcome: str = "answered", seconds: float = 0.0, **more: object
) -> Use:
    return Use(
        team_id=team.id,
        turn_id=f"{team.id}-{name}",
        kb_ids=[],
        asker="person_1",
        outcome=outcome,
        composer="built-in",
        tokens_read=0 if outcome == TRANSCRIBED else 7,
        recorded_seconds=seconds,
        **more,
    )


def test_each_team_s_month_begins_in_its_time_zone(records: Records) -> None:
    add_teams(records, ["UTC", "Pacific/Auckland", "America/Los_Angeles", "UTC"])
    with records.reading() as session:
        teams = session.query(Team).order_by(Team.slug).all()
        together = quotas_of_all(session, teams, {teams[0].id: 3})
        assert together == {
            team.id: quotas_of(session, team, 3 if team is teams[0] else 0) for team in teams
        }
        counts = [{one.name: one.used for one in together[team.id]} for team in teams]
    assert [one["questions"] for one in counts] == [1, 2, 3, 4]
    assert [one["tokens"] for one in counts] == [7, 14, 21, 28]
    assert [one["recording_minutes"] for one in counts] == [2, 2, 2, 2]
    assert [one["streams"] for one in counts] == [3, 0, 0, 0]


def test_more_teams_take_no_more_statements(records: Records) -> None:
    counted: list[str] = []

    def count(_connection: object, _cursor: object, statement: str, *_more: object) -> None:
        counted.append(statement)

    def statements() -> int:
        counted.clear()
        with records.reading() as session:
            teams = session.query(Team).all()
            engine = session.get_bind()
            event.listen(engine, "before_cursor_execute", count)
            quotas_of_all(session, teams)
            event.remove(engine, "before_cursor_execute", count)
        return len(counted)

    add_teams(records, ["UTC"])
    one = statements()
    assert one > 3
    with records.writing() as session:
        for number in range(40):
            session.add(Team(id=new_id("team"), slug=f"more{number}", name="More", time_zone="UTC"))
    assert statements() == one
