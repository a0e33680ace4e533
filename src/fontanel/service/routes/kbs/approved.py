"""Approved answers of a knowledge base."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import Query, Request, Response
from sqlalchemy import Select, func, select

from fontanel.core.transfer import Columns, Form, UnreadableFile, dump, parse
from fontanel.engine.answering.targets import TargetKb, combined, target_knowledge
from fontanel.engine.answering.turn_records import StoredCitation
from fontanel.engine.curation import approved as engine
from fontanel.errors import FontanelError, NotFound, Refused
from fontanel.facts import APPROVED_NEEDED
from fontanel.records.tables import (
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedState,
    Conversation,
    Document,
    FlagState,
    Kb,
    Turn,
)
from fontanel.schemas import (
    ApprovedChange,
    ApprovedCount,
    ApprovedFromTurn,
    ApprovedImport,
    ApprovedImportIn,
    ApprovedIn,
    ApprovedLine,
    ApprovedMatch,
    ApprovedOut,
    ApprovedPlaceIn,
    ApprovedVersionOut,
    FlagOut,
    FlagStateName,
    ImportProblem,
    Page,
)
from fontanel.schemas.approved import ApprovedFields, ApprovedStateName
from fontanel.service.auth.access import Access, Editor, EditorWrite, Reader, check_version
from fontanel.service.imports import MAX_PROBLEMS, MEDIA, checked_line
from fontanel.service.out.approved import approved_out, flag_out, version_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}/approved", "approved answers")

_COLUMNS = Columns(
    names=(
        "question",
        "text",
        "phrasings",
        "category",
        "valid_from",
        "valid_until",
        "owner",
        "state",
        "documents",
    ),
    needed=("question", "text"),
    lists=("phrasings", "documents"),
)


@router.get("", summary="List approved answers")
def list_approved(
    kb: str,
    access: Reader,
    state: ApprovedStateName | None = None,
    category: str | None = None,
    text: Annotated[
        str | None, Query(description="Only those whose question or answer contains it.")
    ] = None,
    cursor: str | None = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[ApprovedOut]:
    """Last changed first."""
    kb_row = access.scope.kb(kb)
    query = _of(access, kb_row)
    if state is not None:
        query = query.where(ApprovedAnswer.state == ApprovedState(state))
    if category is not None:
        query = query.where(ApprovedAnswer.category == category)
    if text:
        query = query.where(
            ApprovedAnswer.question.icontains(text, autoescape=True)
            | ApprovedAnswer.text.icontains(text, autoescape=True)
        )
    if cursor is not None:
        last = engine.find_approved(access.scope, kb_row, cursor)
        query = query.where(
            (ApprovedAnswer.changed_at < last.changed_at)
            | ((ApprovedAnswer.changed_at == last.changed_at) & (ApprovedAnswer.id > last.id))
        )
    query = query.order_by(ApprovedAnswer.changed_at.desc(), ApprovedAnswer.id).limit(limit + 1)
    rows = access.session.scalars(query).all()
    items = [approved_out(row) for row in rows[:limit]]
    return Page(items=items, next=items[-1].id if len(rows) > limit else None)


@router.get("/categories", summary="Count approved answers by category")
def count_approved(kb: str, access: Reader) -> list[ApprovedCount]:
    """By name; answers without a category are under an empty one."""
    query = (
        _of(access, access.scope.kb(kb))
        .with_only_columns(ApprovedAnswer.category, ApprovedAnswer.state, func.count())
        .group_by(ApprovedAnswer.category, ApprovedAnswer.state)
    )
    counts: dict[str, dict[str, int]] = {}
    for category, state, count in access.session.execute(query):
        counts.setdefault(category, dict.fromkeys(ApprovedState, 0))[state] = count
    return [ApprovedCount(category=name, **by_state) for name, by_state in sorted(counts.items())]


@router.get("/match", summary="Show which approved answers a question finds")
def match_approved(
    kb: str,
    access: Reader,
    question: Annotated[str, Query(min_length=1, max_length=2000)],
) -> list[ApprovedMatch]:
    """Likeliest first, with the likelihood that each answers the question."""
    kb_row = access.scope.kb(kb)
    runtime = access.runtime
    known = target_knowledge(
        access.scope, [TargetKb(kb_row.id)], runtime.editions, runtime.local_models
    )
    approved = runtime.approved.of(access.team.id, {kb_row.id: None})
    matches = approved.matches(question, combined(known.parts, frozenset(known.parts)))
    return [
        ApprovedMatch(
            id=one.row.id,
            question=one.row.question,
            wording=one.match.wording,
            likelihood=round(one.match.likelihood, 4),
            served=one.match.likelihood >= APPROVED_NEEDED,
        )
        for one in matches
    ]


@router.get("/export", summary="Export approved answers")
def export_approved(kb: str, access: Reader, form: Form = "jsonl") -> Response:
    """As JSON Lines or CSV; importing the file again changes nothing."""
    rows = access.session.scalars(
        _of(access, access.scope.kb(kb)).order_by(ApprovedAnswer.question, ApprovedAnswer.id)
    ).all()
    ids = {place["document_id"] for row in rows for place in row.places}
    names = dict(
        access.session.execute(
            access.scope.select(Document)
            .where(Document.id.in_(ids))
            .with_only_columns(Document.id, Document.name)
        ).all()
    )
    text = dump(form, (_line(row, names) for row in rows), _COLUMNS)
    headers = {"Content-Disposition": f'attachment; filename="approved-answers.{form}"'}
    return Response(text, media_type=MEDIA[form], headers=headers)


@router.post("", status_code=201, summary="Make an approved answer")
def create_approved(kb: str, body: ApprovedIn, access: EditorWrite) -> ApprovedOut:
    kb_row = access.scope.kb(kb)
    places = _places(access, kb_row, body.places)
    values = {**_fields(access, body), "question": body.question, "text": body.text}
    values["places"] = places
    return approved_out(_created(access, kb_row, values))


@router.post("/from-answer", status_code=201, summary="Approve an answer that was given")
def approve_answer(kb: str, body: ApprovedFromTurn, access: EditorWrite) -> ApprovedOut:
    """Its citations become the sources of the approved answer."""
    kb_row = access.scope.kb(kb)
    turn = access.session.scalar(access.scope.turns().where(Turn.id == body.turn))
    if turn is None or not _concerns(access, turn, kb_row):
        raise NotFound("answer", body.turn)
    if turn.outcome != "answered" and body.text is None:
        raise Refused("text", "The question was not answered; write the answer that is approved.")
    own = (StoredCitation.load(record) for record in turn.citations)
    places = [
        engine.Place(c.document_id, c.revision_id, c.title, c.start, c.end, c.quote, c.locator)
        for c in own
        if c.kb_id in ("", kb_row.id)
    ]
    values = {
        **_fields(access, body),
        "question": body.question or turn.standalone or turn.question,
        "text": body.text or turn.text,
        "places": [place.dump() for place in dict.fromkeys(places)],
    }
    return approved_out(_created(access, kb_row, values, turn.id))


@router.post("/import", summary="Import approved answers")
def import_approved(kb: str, body: ApprovedImportIn, access: EditorWrite) -> ApprovedImport:
    """All lines or, if one is not valid, none. A question that exists already is changed."""
    kb_row = access.scope.kb(kb)
    existing = {row.question: row for row in access.session.scalars(_of(access, kb_row))}
    result = ApprovedImport(created=0, changed=0, unchanged=0, problems=[])
    try:
        for number, fields in parse(body.form, body.text, _COLUMNS):
            if len(result.problems) >= MAX_PROBLEMS:
                break
            try:
                _import(access, kb_row, checked_line(ApprovedLine, fields), existing, result)
            except (FontanelError, ValueError) as error:
                result.problems.append(ImportProblem(line=number, problem=str(error)))
    except UnreadableFile as error:
        raise Refused("text", str(error)) from error
    if result.problems:
        access.session.rollback()
        result.created = result.changed = result.unchanged = 0
    return result


@router.get("/flags", summary="List approved answers whose source text has changed")
def list_flags(
    kb: str,
    access: Reader,
    state: FlagStateName = "open",
    limit: Annotated[int, Query(ge=1, le=200)] = 100,
) -> Page[FlagOut]:
    """Newest first: the text when it was approved, and the text now."""
    query = (
        access.scope.select(ApprovedFlag)
        .where(ApprovedFlag.kb_id == access.scope.kb(kb).id, ApprovedFlag.state == FlagState(state))
        .order_by(ApprovedFlag.changed_at.desc(), ApprovedFlag.id)
    )
    rows = access.session.scalars(query.limit(limit)).all()
    return Page(items=[flag_out(access.session, row) for row in rows])


@router.post("/flags/{flag}/confirm", summary="Confirm an approved answer after a change")
def confirm_flag(kb: str, flag: str, access: EditorWrite) -> ApprovedOut:
    """The answer is still right; from now on the text as it is now is its source."""
    kb_row = access.scope.kb(kb)
    row = access.session.scalar(
        access.scope.select(ApprovedFlag).where(
            ApprovedFlag.kb_id == kb_row.id, ApprovedFlag.id == flag
        )
    )
    if row is None:
        raise NotFound("flag", flag)
    approved = engine.find_approved(access.scope, kb_row, row.approved_id)
    if row.state == FlagState.OPEN:
        engine.confirm(access.session, approved, row, access.caller.name)
    return approved_out(approved)


@router.get("/{approved}", summary="Show an approved answer")
def show_approved(kb: str, approved: str, access: Reader, response: Response) -> ApprovedOut:
    row = engine.find_approved(access.scope, access.scope.kb(kb), approved)
    response.headers["ETag"] = f'"{row.version}"'
    return approved_out(row)


@router.patch("/{approved}", summary="Change, approve or retire an approved answer")
def change_approved(
    kb: str, approved: str, body: ApprovedChange, access: EditorWrite, request: Request
) -> ApprovedOut:
    """Fields left out stay. Needs If-Match, so that nobody overwrites another's change."""
    kb_row = access.scope.kb(kb)
    row = engine.find_approved(access.scope, kb_row, approved)
    check_version(request, row.version, required=True)
    values = body.model_dump(exclude_unset=True, exclude={"places"})
    for name in ("question", "text", "phrasings", "category", "owner", "state"):
        if name in values and values[name] is None:
            del values[name]
    if body.places is not None:
        values["places"] = _places(access, kb_row, body.places)
    if "state" in values:
        values["state"] = ApprovedState(values["state"])
    begins = values.get("valid_from", row.valid_from)
    ends = values.get("valid_until", row.valid_until)
    if begins and ends and ends < begins:
        raise Refused("valid_until", "It would end before it begins to be valid.")
    return approved_out(engine.change(access.session, row, values, access.caller.name))


@router.delete("/{approved}", status_code=204, summary="Delete an approved answer")
def delete_approved(kb: str, approved: str, access: EditorWrite) -> None:
    """With its versions; to keep them, retire it."""
    access.session.delete(engine.find_approved(access.scope, access.scope.kb(kb), approved))


@router.get("/{approved}/versions", summary="List the versions of an approved answer")
def list_versions(kb: str, approved: str, access: Editor) -> Page[ApprovedVersionOut]:
    """Newest first."""
    row = engine.find_approved(access.scope, access.scope.kb(kb), approved)
    return Page(items=[version_out(v) for v in engine.versions_of(access.scope, row)])


def _of(access: Access, kb: Kb) -> Select[ApprovedAnswer]:
    return access.scope.select(ApprovedAnswer).where(ApprovedAnswer.kb_id == kb.id)


def _fields(access: Access, body: ApprovedFields) -> dict[str, Any]:
    """Return the fields that all approved answers have, as they are stored."""
    values = body.model_dump(include=set(ApprovedFields.model_fields))
    return {
        **values,
        "state": ApprovedState(body.state),
        "owner": body.owner or access.caller.name,
    }


def _places(access: Access, kb: Kb, places: Sequence[ApprovedPlaceIn]) -> list[dict[str, Any]]:
    return [
        engine.place_at(
            access.scope,
            access.runtime.blobs,
            kb,
            place.document,
            place.revision,
            None if place.start is None or place.end is None else (place.start, place.end),
        ).dump()
        for place in places
    ]


def _created(
    access: Access, kb: Kb, values: dict[str, Any], turn_id: str | None = None
) -> ApprovedAnswer:
    count = access.session.scalar(select(func.count()).select_from(_of(access, kb).subquery()))
    if (count or 0) >= engine.MAX_APPROVED:
        raise ApiError(
            "conflict",
            f"The knowledge base has {engine.MAX_APPROVED:,} approved answers, the maximum.",
            advice="Delete those that are retired.",
        )
    return engine.create(access.session, kb, values, access.caller.name, turn_id)


def _concerns(access: Access, turn: Turn, kb: Kb) -> bool:
    """Return whether a turn was answered from a knowledge base, among others perhaps."""
    conversation = access.session.get(Conversation, turn.conversation_id)
    return kb.id in (turn.editions or {}) or (
        conversation is not None and conversation.kb_id == kb.id
    )


def _import(
    access: Access,
    kb: Kb,
    line: ApprovedLine,
    existing: dict[str, ApprovedAnswer],
    result: ApprovedImport,
) -> None:
    """Make an approved answer of a line, or change the one with the same question."""
    values = {**_fields(access, line), "question": line.question, "text": line.text}
    row = existing.get(line.question)
    kept = [] if row is None else row.places
    named = [_places(access, kb, [ApprovedPlaceIn(document=name)])[0] for name in line.documents]
    known = {place["document_id"]: place for place in kept}
    values["places"] = [known.get(place["document_id"], place) for place in named]
    if row is not None and not line.owner:
        values["owner"] = row.owner
    if row is None:
        existing[line.question] = _created(access, kb, values)
        result.created += 1
    elif any(getattr(row, name) != value for name, value in values.items()):
        engine.change(access.session, row, values, access.caller.name)
        result.changed += 1
    else:
        result.unchanged += 1


def _line(row: ApprovedAnswer, names: dict[str, str]) -> dict[str, Any]:
    documents = dict.fromkeys(place["document_id"] for place in row.places)
    return {
        "question": row.question,
        "text": row.text,
        "phrasings": row.phrasings,
        "category": row.category,
        "valid_from": row.valid_from.isoformat() if row.valid_from else None,
        "valid_until": row.valid_until.isoformat() if row.valid_until else None,
        "owner": row.owner,
        "state": row.state.value,
        "documents": [names[ref] for ref in documents if ref in names],
    }
