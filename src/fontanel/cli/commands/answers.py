"""`fontanel answer`: how an answer was made, and the same question asked again."""

from __future__ import annotations

import argparse
from typing import Any

from rich.padding import Padding
from rich.text import Text

from fontanel.cli.context import Context
from fontanel.cli.format import moment, percent
from fontanel.cli.options.times import add_period
from fontanel.schemas import RecordOut, StatementOut, StepOut
from fontanel.schemas.display import place

_MARKS = {
    "supported": "ok",
    "weak": "weak",
    "uncited": "uncited",
    "outdated": "outdated",
    "none": "",
}


def add_commands(noun: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    answers = noun("answer", "how answers were made")
    show = verb(answers, "show", show_answer, "show how an answer was made", common)
    show.add_argument(
        "--prompt", action="store_true", help="also the exact prompt and the model's text"
    )
    again = verb(answers, "again", ask_again, "ask the same question again now", common)
    feedback = verb(answers, "feedback", give_feedback, "give feedback on an answer", common)
    changed = verb(
        answers, "changed", list_changed, "list answers that cite text that has changed", common
    )
    changed.add_argument("--desk", help="only of this desk")
    changed.add_argument(
        "--contradicted",
        action="store_true",
        help="only where the text states another value, or is gone",
    )
    export = verb(
        answers, "export", export_answers, "print questions and answers as JSON Lines", common
    )
    export.add_argument("--desk", help="only of this desk")
    add_period(export)
    for parser in (show, again, feedback):
        parser.add_argument("answer", metavar="ID")
    feedback.add_argument("desk", metavar="DESK")
    feedback.add_argument("verdict", choices=["helpful", "unhelpful"])
    feedback.add_argument(
        "--reason",
        default="",
        choices=[
            "",
            "wrong",
            "incomplete",
            "outdated",
            "unclear",
            "wrong_source",
            "should_have_answered",
            "other",
        ],
    )
    feedback.add_argument("--comment", default="")
    feedback.add_argument("--citation", type=int, default=0, help="on this citation only")
    follow = verb(
        answers, "follow", follow_answer, "be notified when an answer of yours changes", common
    )
    follow.add_argument("--by-mail", action="store_true", help="by e-mail as well as in a feed")
    followed = verb(answers, "followed", list_followed, "list the answers you follow", common)
    unfollow = verb(answers, "unfollow", stop_following, "stop following an answer", common)
    for parser in (follow, unfollow):
        parser.add_argument("answer", metavar="ID")
    for parser in (follow, followed, unfollow):
        parser.add_argument("--desk", required=True, help="the desk that was asked")


def export_answers(context: Context, options: argparse.Namespace) -> None:
    for one in context.client.export_answers(options.desk, options.since, options.until):
        print(one.model_dump_json())


def list_changed(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_changed_answers(
        desk=options.desk, contradicted=options.contradicted
    )
    if context.json or not result:
        context.show(result, "No answer cites text that has changed.")
        return
    for one in result:
        context.say(Text.assemble((one.answer_id, "cyan"), "  ", (one.question, "bold")))
        for source in one.sources:
            context.say(Text(f"    {source.change}: {source.title}"))
            context.say(Text(f"      before: {source.old_text}", "dim"))
            context.say(Text(f"      now:    {source.new_text or 'removed'}", "dim"))
    context.say(Text("\n'fontanel answer again ID' asks one again.", "dim"))


def show_answer(context: Context, options: argparse.Namespace) -> None:
    record = context.client.show_answer(options.answer)
    if context.json:
        context.show(record)
        return
    out = context.out
    out.print(Text(record.question, "bold"))
    if record.standalone != record.question:
        out.print(Text(f"Understood as: {record.standalone}", "dim"))
    version = "draft" if record.desk_version is None else f"version {record.desk_version}"
    asked = f"desk {record.desk_id}, {version}" if record.desk_id else "knowledge base directly"
    tokens = (
        f", {record.tokens_read} tokens read, {record.tokens_written} written, cost"
        f" {record.cost:.5f}"
        if record.tokens_read
        else ""
    )
    out.print(
        Text(
            f"{record.created_at:%Y-%m-%d %H:%M:%S} UTC  {asked}  {record.outcome}, by"
            f" {record.composer}{tokens}",
            "dim",
        )
    )
    out.print()
    out.print(Text(record.text))
    if record.note:
        out.print(Text(record.note, "yellow"))
    if record.record_deleted_at:
        deleted = f"\nHow it was made was deleted on {record.record_deleted_at:%Y-%m-%d}."
        out.print(Text(deleted, "dim"))
    _print_steps(context, record.steps)
    _print_statements(context, record)
    if record.changed_since:
        out.print(Text("\nIt rests on text that has changed since", "bold yellow"))
        for item in record.changed_since:
            out.print(f"  [{item.citation}] {item.title}: {item.state}", markup=False)
    if options.prompt:
        _print_prompt(context, record)


def _print_steps(context: Context, steps: list[StepOut]) -> None:
    rows = [(f"{step.began:.3f}", f"{step.seconds:.3f}", step.name, _told(step)) for step in steps]
    context.say()
    context.say(context.table(rows, at="right", took="right", step="left", found="left"))


def _told(step: StepOut) -> str:
    """Return the plain values of a step's details, as one line."""
    plain = {
        key: value for key, value in step.details.items() if not isinstance(value, (list, dict))
    }
    listed = {
        key: len(value) for key, value in step.details.items() if isinstance(value, list) and value
    }
    return ", ".join(
        f"{key.replace('_', ' ')} {value}" for key, value in {**plain, **listed}.items()
    )


def _print_statements(context: Context, record: RecordOut) -> None:
    if record.statements:
        context.say(Text("\nStatements", "bold"))
    for statement in record.statements or ():
        context.say(
            Text(
                f"  {_MARKS[statement.verdict]:>8}  {percent(statement.support):>5} "
                f" {_said(record, statement)}"
            )
        )
        if statement.reason:
            context.say(Padding(Text(statement.reason, "yellow"), (0, 0, 0, 19)))
        for citation in record.citations:
            if citation.number in statement.citations:
                where = (
                    f"[{citation.number}] {citation.title} "
                    f" {place(citation.title, citation.locator)}"
                )
                context.say(
                    Padding(
                        Text(f"{where}: “{' '.join(citation.quote.split())[:160]}”", "dim"),
                        (0, 0, 0, 19),
                    )
                )
    if record.evidence:
        context.say(Text("\nPassages", "bold"))
    for passage in record.evidence:
        cosine = "-" if passage.similarity is None else f"{passage.similarity:.2f}"
        context.say(
            Text(
                f"  {percent(passage.match):>5}  cosine {cosine}  {passage.title} "
                f" {place(passage.title, passage.locator)}"
            )
        )


def _said(record: RecordOut, statement: StatementOut) -> str:
    return (
        f"(removed) {statement.removed}"
        if statement.removed
        else record.text[statement.start : statement.end]
    )


def _print_prompt(context: Context, record: RecordOut) -> None:
    for message in record.prompt:
        context.say(Text(f"\n{message.role}", "bold"))
        context.say(Text(message.content))
    if record.raw:
        context.say(Text("\nthe model's own words", "bold"))
        context.say(Text(record.raw))


def ask_again(context: Context, options: argparse.Namespace) -> None:
    result = context.client.ask_again(options.answer)
    if context.json:
        context.show(result)
        return
    if result.same_text and not result.citations_new and not result.citations_gone:
        context.say("The answer is the same today.")
        return
    for sign, line in result.lines:
        context.say(Text(f"{sign} {line}", {"-": "red", "+": "green"}.get(sign, "dim")))
    for title, items in (
        ("No longer cited", result.citations_gone),
        ("Newly cited", result.citations_new),
    ):
        if items:
            context.say(Text(f"\n{title}", "bold"))
            for item in items:
                context.say(Text(f"  {' '.join(item.split())[:160]}"))


def follow_answer(context: Context, options: argparse.Namespace) -> None:
    made = context.client.follow_answer(options.desk, options.answer, email=options.by_mail)
    context.show(made, f"Changes appear in the feed {made.feed}\nIts address is not shown again.")


def list_followed(context: Context, options: argparse.Namespace) -> None:
    found = context.client.list_followed(options.desk)
    rows = [
        (
            one.turn_id,
            one.question,
            moment(one.changed_at) if one.changed_at else None,
            " ".join(one.answer.split())[:80],
        )
        for one in found
    ]
    table = context.table(rows, answer="left", question="left", changed="left", now="left")
    context.show(found, table if found else "You follow no answers of this desk.")


def stop_following(context: Context, options: argparse.Namespace) -> None:
    context.client.unfollow(options.desk, options.answer)
    context.say("You no longer follow this answer.")


def give_feedback(context: Context, options: argparse.Namespace) -> None:
    values = context.client.give_feedback(
        options.desk,
        options.answer,
        helpful=options.verdict == "helpful",
        reason=options.reason,
        comment=options.comment,
        citation=options.citation,
    )
    context.show(values, "Thank you, the desk's editors see it.")
