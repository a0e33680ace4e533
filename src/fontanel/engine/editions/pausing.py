"""Builds of editions that a person pauses, or that pause at their budget."""

from __future__ import annotations

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from fontanel.engine.answering.budgets import tokens_and_cost
from fontanel.errors import Conflict, Refused
from fontanel.records.tables import Edition, Job, JobState, PausedBy, Use, now

_OPEN = (JobState.WAITING, JobState.RUNNING)


def cost_of(session: Session, edition: Edition) -> tuple[int, float]:
    """Return the tokens and the cost of embedding that are counted for an edition."""
    tokens, cost = tokens_and_cost(session, Use.edition_id == edition.id)
    return tokens, round(cost, 8)


def pause_build(session: Session, edition: Edition, by: PausedBy) -> None:
    """Pause the build of a standby edition; documents that are being embedded are completed.

    Raises:
        Conflict: it is paused, or nothing of it waits.
    """
    if edition.paused_by is not None:
        raise Conflict(f"The build of edition {edition.number} is paused already.")
    if not _is_building(session, edition):
        raise Conflict(f"Edition {edition.number} is not being built.")
    edition.paused_by = by
    waiting = update(Job).where(Job.edition_id == edition.id, Job.state == JobState.WAITING)
    session.execute(waiting.values(state=JobState.PAUSED, changed_at=now()))


def pause_at_budget(session: Session, edition_id: str) -> None:
    """Pause the build of an edition that has cost more than its budget after all."""
    edition = session.get(Edition, edition_id)
    if edition is not None and edition.budget is not None:
        session.flush()
        if cost_of(session, edition)[1] >= edition.budget:
            stop_at_budget(session, edition_id)


def stop_at_budget(session: Session, edition_id: str) -> None:
    """Pause a build whose budget has no room for its next text, unless it is complete by then."""
    edition = session.get(Edition, edition_id)
    if edition is not None and edition.paused_by is None and _is_building(session, edition):
        pause_build(session, edition, PausedBy.BUDGET)


def _is_building(session: Session, edition: Edition) -> bool:
    jobs = select(Job.id).where(Job.edition_id == edition.id, Job.state.in_(_OPEN))
    return session.scalar(jobs.limit(1)) is not None


def resume_build(session: Session, edition: Edition, budget: float | None) -> None:
    """Go on with a paused build.

    Args:
        budget: The new maximum cost; None keeps the present one.

    Raises:
        Conflict: it is not paused.
        Refused: the budget is used up.
    """
    if edition.paused_by is None:
        raise Conflict(f"The build of edition {edition.number} is not paused.")
    if budget is not None:
        edition.budget = budget
    cost = cost_of(session, edition)[1]
    if edition.budget is not None and cost >= edition.budget:
        raise Refused(
            "budget", f"Edition {edition.number} has cost {cost:.4g} already. Name a larger budget."
        )
    edition.paused_by = None
    paused = update(Job).where(Job.edition_id == edition.id, Job.state == JobState.PAUSED)
    session.execute(paused.values(state=JobState.WAITING, run_after=now(), changed_at=now()))
