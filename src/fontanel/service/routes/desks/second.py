"""A second published version of a desk, which a share of its askers gets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime

from sqlalchemy import select

from fontanel.core.trials import quantile
from fontanel.core.trials.means import Estimate, mean, median
from fontanel.engine.answering import second as engine
from fontanel.engine.answering.links import check_links_stay_open
from fontanel.engine.trials.running import ASKER
from fontanel.errors import Conflict, NotFound
from fontanel.records.tables import Desk, Feedback, Turn, TurnState, now
from fontanel.schemas import (
    DeskOut,
    EstimateOut,
    SecondVersionIn,
    SecondVersionOut,
    ShareOut,
    VersionFigures,
)
from fontanel.service.auth.access import Access, Editor, EditorWrite
from fontanel.service.out.desks import desk_out
from fontanel.service.out.shares import share_out
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/desks/{desk}/second", "desks")


@router.get("", summary="Compare two published versions")
def show_second(desk: str, access: Editor) -> SecondVersionOut:
    """What both were asked since the second one is served; trials do not count."""
    row = _served(access, desk)
    assert row.published is not None
    assert row.second_version is not None
    assert row.second_since is not None
    return SecondVersionOut(
        share=row.second_share,
        since=row.second_since,
        first=_figures(access, row, row.published, row.second_since),
        second=_figures(access, row, row.second_version, row.second_since),
    )


@router.put("", summary="Serve a second version to a share of the askers")
def set_second(desk: str, body: SecondVersionIn, access: EditorWrite) -> DeskOut:
    """Each asker always gets the same version."""
    row = access.scope.desk(desk)
    access.scope.desk_version(row, body.version)
    if row.published is None:
        raise Conflict("The desk is not published yet.", advice="Publish a version first.")
    if body.version == row.published:
        raise Conflict(f"Version {body.version} is the published one.", field="version")
    if body.version != row.second_version:
        row.second_since = now()
    row.second_version, row.second_share = body.version, body.share
    return _changed(access, row)


@router.delete("", summary="Serve the published version only")
def end_second(desk: str, access: EditorWrite) -> DeskOut:
    """Both versions stay."""
    row = access.scope.desk(desk)
    return _ended(access, row)


@router.post("/promote", summary="Publish the second version")
def promote_second(desk: str, access: EditorWrite) -> DeskOut:
    """All askers get it from now on."""
    row = _served(access, desk)
    assert row.second_version is not None
    version = access.scope.desk_version(row, row.second_version)
    check_links_stay_open(access.session, row, version.settings)
    row.published = version.number
    return _ended(access, row)


def _served(access: Access, ref: str) -> Desk:
    """Return a desk that has a second version. Raises NotFound."""
    row = access.scope.desk(ref)
    if row.second_version is None or row.published is None:
        raise NotFound("second version of the desk", row.slug)
    return row


def _ended(access: Access, row: Desk) -> DeskOut:
    engine.end_second(row)
    return _changed(access, row)


def _changed(access: Access, row: Desk) -> DeskOut:
    row.version += 1
    row.changed_at = now()
    access.session.flush()
    return desk_out(access, row)


def _figures(access: Access, row: Desk, number: int, since: datetime) -> VersionFigures:
    query = access.scope.turns().where(
        Turn.desk_id == row.id,
        Turn.desk_version == number,
        Turn.created_at >= since,
        Turn.state == TurnState.DONE,
        Turn.asker.not_like(f"{ASKER}%"),
    )
    turns = access.session.scalars(query).all()
    said = access.session.execute(
        select(Feedback.helpful).where(
            Feedback.turn_id.in_(query.with_only_columns(Turn.id)), Feedback.citation == 0
        )
    ).all()
    seconds = [float(turn.seconds.get("total", 0.0)) for turn in turns]
    return VersionFigures(
        version=number,
        askers=len({turn.asker for turn in turns}),
        questions=len(turns),
        declined=_share([turn.outcome == "declined" for turn in turns]),
        helpful=_share([helpful for (helpful,) in said]),
        cost=_estimate(mean([turn.cost for turn in turns])),
        tokens=_estimate(mean([float(turn.tokens_read + turn.tokens_written) for turn in turns])),
        seconds=_estimate(median(seconds)),
        p95_seconds=quantile(seconds, 0.95),
    )


def _share(values: Sequence[bool]) -> ShareOut:
    return share_out(sum(values), len(values))


def _estimate(value: Estimate | None) -> EstimateOut | None:
    return None if value is None else EstimateOut(**asdict(value))
