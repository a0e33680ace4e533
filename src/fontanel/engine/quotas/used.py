"""What teams use of their quotas: counted for many in few statements.

What is stored is counted by triggers of the database, so that it costs the same whatever a team
has.
"""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.answering.background import BACKGROUND, TRANSCRIBED
from fontanel.engine.answering.tool_calls import TOOL_CALL
from fontanel.engine.gaps.collecting import TRIAL
from fontanel.records.tables import Kb, PassageCounts, TeamCounts, Turn, TurnState, Use

#: Ids of teams; what is returned is by them, and teams without any are left out.
Teams = Collection[str]


def stored(session: Session, teams: Teams) -> dict[str, tuple[int, int]]:
    """Return how many documents teams have, and the bytes of all their revisions."""
    query = select(TeamCounts.team_id, TeamCounts.documents, TeamCounts.bytes)
    rows = session.execute(query.where(TeamCounts.team_id.in_(teams)))
    return {team: (documents, size) for team, documents, size in rows}


def passages(session: Session, teams: Teams) -> dict[str, int]:
    """Return how many passages the active editions of teams have."""
    query = (
        select(Kb.team_id, func.sum(PassageCounts.passages))
        .join(PassageCounts, PassageCounts.edition_id == Kb.edition_id)
        .where(Kb.team_id.in_(teams))
    )
    return {team: int(count) for team, count in session.execute(query.group_by(Kb.team_id))}


def questions(session: Session, teams: Teams, since: datetime) -> dict[str, int]:
    """Return how many questions teams asked, and ask now; those of trials do not count."""
    asked = select(Use.team_id, func.count()).where(
        Use.team_id.in_(teams),
        Use.at >= since,
        Use.outcome.not_in((*BACKGROUND, TOOL_CALL)),
        Use.asker.not_like(f"{TRIAL}%"),
    )
    being_answered = select(Turn.team_id, func.count()).where(
        Turn.team_id.in_(teams),
        Turn.state == TurnState.ANSWERING,
        Turn.asker.not_like(f"{TRIAL}%"),
    )
    counts = {team: int(count) for team, count in session.execute(asked.group_by(Use.team_id))}
    for team, count in session.execute(being_answered.group_by(Turn.team_id)):
        counts[team] = counts.get(team, 0) + count
    return counts


def tokens(session: Session, teams: Teams, since: datetime) -> dict[str, int]:
    """Return the tokens of models that teams used."""
    query = select(Use.team_id, func.sum(Use.tokens_read + Use.tokens_written)).where(
        Use.team_id.in_(teams), Use.at >= since
    )
    return {team: int(count) for team, count in session.execute(query.group_by(Use.team_id))}


def recorded_minutes(session: Session, teams: Teams, since: datetime) -> dict[str, int]:
    """Return the whole minutes of recordings that were transcribed for teams."""
    query = select(Use.team_id, func.sum(Use.recorded_seconds)).where(
        Use.team_id.in_(teams), Use.at >= since, Use.outcome == TRANSCRIBED
    )
    rows = session.execute(query.group_by(Use.team_id))
    return {team: int(seconds // 60) for team, seconds in rows}
