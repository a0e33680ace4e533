"""Question sets of a team."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Request, Response
from sqlalchemy import func, select

from fontanel.core.transfer import Columns, Form, UnreadableFile, dump, parse
from fontanel.engine.gaps.groups import find_gap
from fontanel.engine.trials import sets as engine
from fontanel.errors import Conflict, FontanelError, NotFound, Refused
from fontanel.records.ids import new_id, slug_of
from fontanel.records.tables import QuestionSet, SetQuestion, TrialSchedule, Turn
from fontanel.schemas import (
    Page,
    SetChange,
    SetCollectIn,
    SetImport,
    SetImportIn,
    SetImportProblem,
    SetIn,
    SetOut,
    SetQuestionIn,
    SetQuestionOut,
    SetQuestionsIn,
)
from fontanel.service.auth.access import Access, TeamEditor, TeamEditorWrite, check_version
from fontanel.service.idempotency import Idempotency
from fontanel.service.imports import MAX_PROBLEMS, MEDIA, checked_line
from fontanel.service.out.trials import question_out, set_out
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/sets", "question sets")

_COLUMNS = Columns(
    names=engine.FIELDS,
    needed=("question",),
    lists=("history", "documents", "quotes", "contains"),
)


@router.get("", summary="List question sets")
def list_sets(access: TeamEditor) -> Page[SetOut]:
    query = access.scope.select(QuestionSet).order_by(func.lower(QuestionSet.name))
    return Page(items=[set_out(access.session, row) for row in access.session.scalars(query).all()])


@router.post("", status_code=201, summary="Create a question set")
def create_set(body: SetIn, access: TeamEditorWrite, request: Request) -> SetOut:
    idempotency = Idempotency(request, access.session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return SetOut.model_validate_json(earlier)
    slug = _free_name(access, body.name)
    own = access.scope.select(QuestionSet).subquery()
    if (access.session.scalar(select(func.count()).select_from(own)) or 0) >= engine.MAX_SETS:
        raise Conflict(f"The team has {engine.MAX_SETS} question sets, the maximum.")
    row = QuestionSet(
        id=new_id("qset"),
        team_id=access.team.id,
        slug=slug,
        name=body.name,
        about=body.about,
        schedule=TrialSchedule.NEVER,
    )
    access.session.add(row)
    access.session.flush()
    out = set_out(access.session, row)
    idempotency.keep(out.model_dump_json())
    return out


@router.get("/{question_set}", summary="Show a question set")
def show_set(question_set: str, access: TeamEditor, response: Response) -> SetOut:
    row = engine.find_set(access.scope, question_set)
    response.headers["ETag"] = f'"{row.version}"'
    return set_out(access.session, row)


@router.patch("/{question_set}", summary="Change a question set")
def change_set(
    question_set: str, body: SetChange, access: TeamEditorWrite, request: Request
) -> SetOut:
    """Its name, description, and when a desk is asked automatically."""
    row = engine.find_set(access.scope, question_set)
    check_version(request, row.version)
    if body.name is not None and body.name != row.name:
        _free_name(access, body.name, row)
        row.name = body.name
    if body.about is not None:
        row.about = body.about
    if "desk" in body.model_fields_set:
        row.desk_id = None if body.desk is None else access.scope.desk(body.desk).id
    if body.schedule is not None:
        row.schedule = TrialSchedule(body.schedule)
    if row.desk_id is None and row.schedule != TrialSchedule.NEVER:
        raise Refused("desk", "Name the desk whose published version is asked.")
    access.session.flush()
    return set_out(access.session, row)


@router.delete("/{question_set}", status_code=204, summary="Delete a question set")
def delete_set(question_set: str, access: TeamEditorWrite) -> None:
    """With its questions and trials."""
    access.session.delete(engine.find_set(access.scope, question_set))


@router.get("/{question_set}/questions", summary="List the questions of a set")
def list_set_questions(
    question_set: str,
    access: TeamEditor,
    text: Annotated[str | None, Query(description="Only those that contain it.")] = None,
    cursor: Annotated[int, Query(ge=0, le=1_000_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Page[SetQuestionOut]:
    row = engine.find_set(access.scope, question_set)
    query = access.scope.select(SetQuestion).where(
        SetQuestion.set_id == row.id, SetQuestion.number > cursor
    )
    if text:
        query = query.where(SetQuestion.question.icontains(text, autoescape=True))
    rows = access.session.scalars(query.order_by(SetQuestion.number).limit(limit + 1)).all()
    items = [question_out(one) for one in rows[:limit]]
    return Page(items=items, next=str(items[-1].number) if len(rows) > limit else None)


@router.post("/{question_set}/questions", status_code=201, summary="Add questions to a set")
def add_set_questions(
    question_set: str, body: SetQuestionsIn, access: TeamEditorWrite
) -> Page[SetQuestionOut]:
    row = engine.find_set(access.scope, question_set)
    fields = [one.model_dump() for one in body.questions]
    added = engine.add_questions(access.session, row, fields)
    return Page(items=[question_out(one) for one in added])


@router.put("/{question_set}/questions/{question}", summary="Replace a question of a set")
def replace_set_question(
    question_set: str, question: str, body: SetQuestionIn, access: TeamEditorWrite
) -> SetQuestionOut:
    row = engine.find_set(access.scope, question_set)
    found = engine.find_question(access.scope, row, question)
    for name, value in body.model_dump().items():
        setattr(found, name, value)
    engine.touch(row)
    found.changed_at = row.changed_at
    access.session.flush()
    return question_out(found)


@router.delete(
    "/{question_set}/questions/{question}",
    status_code=204,
    summary="Remove a question from a set",
)
def remove_set_question(question_set: str, question: str, access: TeamEditorWrite) -> None:
    row = engine.find_set(access.scope, question_set)
    access.session.delete(engine.find_question(access.scope, row, question))
    engine.touch(row)


@router.post("/{question_set}/collect", summary="Take over questions of answers")
def collect_set_questions(
    question_set: str, body: SetCollectIn, access: TeamEditorWrite
) -> Page[SetQuestionOut]:
    """Of answers that were given, gaps, approved answers, or proposed questions.

    Those that the set has are left out. An answer's citations become what is expected; a question
    that was declined must be declined. A gap is not judged until you say what is expected, unless
    it was closed with an answer.
    """
    row = engine.find_set(access.scope, question_set)
    fields: list[dict[str, Any]] = []
    for ref in body.answers:
        turn = access.session.scalar(access.scope.turns().where(Turn.id == ref))
        if turn is None:
            raise NotFound("answer", ref)
        fields.append(engine.from_turn(access.scope, turn))
    fields += [engine.from_gap(access.scope, find_gap(access.scope, ref)) for ref in body.gaps]
    if body.proposed_of is not None:
        kb = access.scope.kb(body.proposed_of)
        fields += engine.from_proposals(access.scope, kb, phrasings=body.phrasings)
    if body.approved_of is not None:
        kb = access.scope.kb(body.approved_of)
        fields += engine.from_approved(access.scope, kb, body.category, phrasings=body.phrasings)
    known = {
        (one.question, tuple(one.history)) for one in engine.questions_of(access.session, row.id)
    }
    new = [one for one in fields if (one["question"], tuple(one.get("history", ()))) not in known]
    return Page(items=[question_out(one) for one in engine.add_questions(access.session, row, new)])


@router.post("/{question_set}/import", summary="Import questions into a set")
def import_set(question_set: str, body: SetImportIn, access: TeamEditorWrite) -> SetImport:
    """All lines or, if one is not valid, none."""
    row = engine.find_set(access.scope, question_set)
    fields: list[dict[str, Any]] = []
    problems: list[SetImportProblem] = []
    try:
        for number, values in parse(body.form, body.text, _COLUMNS):
            if len(problems) >= MAX_PROBLEMS:
                break
            try:
                fields.append(checked_line(SetQuestionIn, values).model_dump())
            except (FontanelError, ValueError) as error:
                problems.append(SetImportProblem(line=number, problem=str(error)))
    except UnreadableFile as error:
        raise Refused("text", str(error)) from error
    if problems:
        return SetImport(added=0, problems=problems)
    return SetImport(added=len(engine.add_questions(access.session, row, fields)), problems=[])


@router.get("/{question_set}/export", summary="Export the questions of a set")
def export_set(question_set: str, access: TeamEditor, form: Form = "jsonl") -> Response:
    """As JSON Lines or CSV, which can be imported into another set."""
    row = engine.find_set(access.scope, question_set)
    lines = (
        {name: getattr(one, name) for name in engine.FIELDS}
        for one in engine.questions_of(access.session, row.id)
    )
    headers = {"Content-Disposition": f'attachment; filename="{row.slug}.{form}"'}
    return Response(dump(form, lines, _COLUMNS), media_type=MEDIA[form], headers=headers)


def _free_name(access: Access, name: str, own: QuestionSet | None = None) -> str:
    """Return the short name of a set's name. Raises Conflict if another set has it."""
    slug = slug_of(name)
    query = access.scope.select(QuestionSet).where(
        (QuestionSet.slug == slug) | (func.lower(QuestionSet.name) == name.lower())
    )
    taken = access.session.scalar(query)
    if taken is not None and taken is not own:
        raise Conflict(f"There is a question set named {taken.name!r} already.", field="name")
    return slug
