"""Trials of question sets."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Annotated, Any

from fastapi import Query, Request, Response
from sqlalchemy import delete

from fontanel.core.trials import compare
from fontanel.engine.trials.running import ASKER, stop_trials
from fontanel.engine.trials.sets import find_set
from fontanel.engine.trials.starting import judged, results_of, start_trial
from fontanel.errors import Conflict, NotFound, Refused
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Conversation, Desk, Edition, Trial, TrialState
from fontanel.schemas import (
    DeskSettings,
    Page,
    ResultName,
    TrialComparison,
    TrialIn,
    TrialOut,
    TrialResultOut,
    TrialResume,
)
from fontanel.service.auth.access import Access, TeamEditor, TeamEditorWrite
from fontanel.service.desk_settings import check_settings, merge_settings, settings_of
from fontanel.service.idempotency import Idempotency
from fontanel.service.imports import MEDIA
from fontanel.service.out.trials import comparison_out, result_out, trial_out, trials_out
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/trials", "trials")


@router.get("", summary="List trials")
def list_trials(
    access: TeamEditor,
    question_set: str | None = None,
    desk: str | None = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[TrialOut]:
    """Newest first."""
    query = access.scope.select(Trial)
    if question_set is not None:
        query = query.where(Trial.set_id == find_set(access.scope, question_set).id)
    if desk is not None:
        query = query.where(Trial.desk_id == access.scope.desk(desk).id)
    rows = access.session.scalars(query.order_by(Trial.created_at.desc()).limit(limit)).all()
    return Page(items=trials_out(access.session, rows))


@router.post("", status_code=201, summary="Begin a trial")
def begin_trial(body: TrialIn, access: TeamEditorWrite, request: Request) -> TrialOut:
    """Ask each question of a set, in the background, and judge the answers."""
    idempotency = Idempotency(request, access.session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return TrialOut.model_validate_json(earlier)
    row = find_set(access.scope, body.question_set)
    pair = None if body.compare_with is None else find_trial(access.scope, body.compare_with)
    target = _desk_target(access, body) if body.desk is not None else _kb_target(access, body)
    started = start_trial(
        access.session,
        row,
        target.settings,
        label=target.label,
        author=access.caller.name,
        desk=target.desk,
        version=target.version,
        kb_id=target.kb_id,
        editions=target.editions,
        max_tokens=body.max_tokens,
        pair_id=None if pair is None else pair.id,
    )
    out = trial_out(access.session, started)
    idempotency.keep(out.model_dump_json())
    return out


@router.get("/{trial}", summary="Show a trial")
def show_trial(trial: str, access: TeamEditor) -> TrialOut:
    """Its progress, and the figures of the questions that were asked so far."""
    return trial_out(access.session, find_trial(access.scope, trial))


@router.get("/{trial}/results", summary="List the results of a trial")
def list_results(
    trial: str, access: TeamEditor, result: ResultName | None = None
) -> Page[TrialResultOut]:
    """In the order of the questions."""
    rows = results_of(access.session, find_trial(access.scope, trial).id)
    return Page(items=[result_out(row) for row in rows if result is None or row.result == result])


@router.get("/{trial}/export", summary="Export the results of a trial")
def export_trial(trial: str, access: TeamEditor) -> Response:
    """As JSON Lines, without times and ids: equal for equal answers."""
    row = find_trial(access.scope, trial)
    lines = (
        {
            **one.content,
            "result": one.result,
            "reason": one.reason,
            "cited": one.cited,
            "outcome": one.outcome,
            "text": one.text,
            "citations": one.citations,
            "sufficiency": one.sufficiency,
            "doubtful": one.doubtful,
            "composer": one.composer,
            "tokens": one.tokens,
        }
        for one in results_of(access.session, row.id)
    )
    text = "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in lines)
    headers = {"Content-Disposition": f'attachment; filename="{row.id}.jsonl"'}
    return Response(text, media_type=MEDIA["jsonl"], headers=headers)


@router.get("/{trial}/compare/{other}", summary="Compare two trials")
def compare_trials(trial: str, other: str, access: TeamEditor) -> TrialComparison:
    """Question by question: what the second won, lost, or changed."""
    before, after = find_trial(access.scope, trial), find_trial(access.scope, other)
    if before.set_id != after.set_id:
        raise Refused("other", "Both trials must be of the same question set.")
    own, others = (judged(results_of(access.session, one.id)) for one in (before, after))
    return comparison_out(access.session, before, after, compare(own, others))


@router.post("/{trial}/stop", summary="Stop a trial")
def stop_trial(trial: str, access: TeamEditorWrite) -> TrialOut:
    """Its results stay, and it can be resumed."""
    row = find_trial(access.scope, trial)
    stop_trials(access.session, row)
    return trial_out(access.session, row)


@router.post("/{trial}/resume", summary="Resume a trial")
def resume_trial(trial: str, body: TrialResume, access: TeamEditorWrite) -> TrialOut:
    """Go on after it was stopped or paused, with another budget of tokens if one is given."""
    row = find_trial(access.scope, trial)
    if row.state not in (TrialState.PAUSED, TrialState.STOPPED):
        raise Conflict(f"The trial is {row.state.value}; only a paused or stopped one is resumed.")
    if body.max_tokens is not None:
        row.max_tokens = body.max_tokens
    row.state, row.note = TrialState.WAITING, ""
    access.session.flush()
    return trial_out(access.session, row)


@router.delete("/{trial}", status_code=204, summary="Delete a trial")
def delete_trial(trial: str, access: TeamEditorWrite) -> None:
    """With its results and the records of its answers."""
    row = find_trial(access.scope, trial)
    access.session.execute(
        delete(Conversation).where(
            Conversation.team_id == row.team_id, Conversation.asker == f"{ASKER}{row.id}"
        )
    )
    access.session.delete(row)


@dataclass(frozen=True, slots=True)
class _Target:
    """What a trial asks."""

    settings: dict[str, Any]
    label: str
    desk: Desk | None = None
    version: int | None = None
    kb_id: str | None = None
    editions: dict[str, str] = field(default_factory=dict)


def _desk_target(access: Access, body: TrialIn) -> _Target:
    assert body.desk is not None
    desk = access.scope.desk(body.desk)
    number = desk.published if body.version is None else body.version
    version = None if number == "draft" else number
    stored = settings_of(access, desk, version)
    settings = check_settings(access, merge_settings(stored, body.settings))
    name = "draft" if version is None else f"version {version}"
    label = f"{desk.name}, {name}"
    if body.settings:
        changed = ", ".join(sorted(body.settings))
        return _Target(settings, f"{label}, other {changed}", desk)
    return _Target(settings, label, desk, version)


def _kb_target(access: Access, body: TrialIn) -> _Target:
    assert body.kb is not None
    kb = access.scope.kb(body.kb)
    kbs = [{"kb": kb.id}]
    settings = check_settings(
        access, merge_settings(DeskSettings().model_dump(), {**body.settings, "kbs": kbs})
    )
    # The active edition is named too: another one may be active before the trial ends.
    own = access.scope.select(Edition).where(Edition.kb_id == kb.id)
    chosen = Edition.id == kb.edition_id if body.edition is None else Edition.number == body.edition
    edition = access.session.scalar(own.where(chosen))
    if edition is None:
        raise NotFound("edition", str(body.edition))
    label = f"{kb.name}, edition {edition.number}"
    return _Target(settings, label, kb_id=kb.id, editions={kb.id: edition.id})


def find_trial(scope: TeamScope, ref: str) -> Trial:
    """Return a trial of a team by its id. Raises NotFound."""
    result = scope.session.scalar(scope.select(Trial).where(Trial.id == ref))
    if result is None:
        raise NotFound("trial", ref)
    return result
