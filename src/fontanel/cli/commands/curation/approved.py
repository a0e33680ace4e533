"""`fontanel approved`: approved answers of a knowledge base."""

from __future__ import annotations

import argparse
import sys
from datetime import date
from pathlib import Path
from typing import Any

from rich.text import Text

from fontanel.cli.commands.conversations import print_place
from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, percent
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.records_file import read_records, refusal
from fontanel.schemas import ApprovedChange, ApprovedIn, ApprovedOut, ApprovedPlaceIn

_STATES = ("draft", "approved", "retired")


def add_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    listed = verb(group, "list", list_approved, "list approved answers", common, kb)
    listed.add_argument("--state", choices=_STATES)
    listed.add_argument("--category")
    listed.add_argument("--text", help="only those whose question or answer contains it")
    listed.add_argument("--limit", type=int, default=200)

    show = verb(group, "show", show_approved, "show an approved answer", common, kb)
    show.add_argument("--versions", action="store_true", help="also its earlier versions")

    add = verb(group, "add", add_approved, "make an approved answer", common, kb)
    add.add_argument("question", metavar="QUESTION")
    add.add_argument("--approve", action="store_true", help="serve it right away")
    _field_options(add)

    made = verb(
        group, "from-answer", from_answer, "make an approved answer of one given", common, kb
    )
    made.add_argument("answer", metavar="ANSWER", help="the id of the answer")
    made.add_argument("--question", help="default: the question as it was understood")
    made.add_argument("--text", help="default: the answer's text")
    made.add_argument("--category", default="")
    made.add_argument("--approve", action="store_true", help="serve it right away")

    change = verb(group, "change", change_approved, "change an approved answer", common, kb)
    change.add_argument("--question")
    _field_options(change)
    approve = verb(group, "approve", approve_one, "serve an approved answer", common, kb)
    retire = verb(group, "retire", retire_one, "stop serving an approved answer", common, kb)
    delete = verb(group, "delete", delete_one, "delete an approved answer", common, kb)
    ask_first(delete, "Delete {approved} and all its versions?")
    for parser in (show, change, approve, retire, delete):
        parser.add_argument("approved", metavar="ID")

    flags = verb(
        group,
        "flags",
        list_flags,
        "list approved answers whose source text has changed",
        common,
        kb,
    )
    flags.add_argument("--state", choices=["open", "confirmed", "settled"], default="open")
    confirm = verb(
        group, "confirm", confirm_flag, "confirm an approved answer after a change", common, kb
    )
    confirm.add_argument("flag", metavar="FLAG")

    match = verb(
        group, "match", match_question, "show which approved answers a question finds", common, kb
    )
    match.add_argument("question", metavar="QUESTION")

    imported = verb(group, "import", import_file, "import approved answers", common, kb)
    imported.add_argument("file", metavar="FILE", help="JSON Lines (.jsonl) or CSV (.csv)")
    exported = verb(group, "export", export_all, "print all approved answers", common, kb)
    exported.add_argument("--form", choices=["jsonl", "csv"], default="jsonl")


def _field_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--text", help="the answer, as Markdown")
    parser.add_argument("--file", help="read the answer from this file; - reads standard input")
    parser.add_argument(
        "--phrasing",
        action="append",
        metavar="QUESTION",
        help="another wording of the question; repeatable",
    )
    parser.add_argument("--category")
    parser.add_argument(
        "--document",
        action="append",
        metavar="NAME[:START-END]",
        help="a document that is its source, or characters of it; repeatable",
    )
    parser.add_argument("--valid-from", type=date.fromisoformat, metavar="DATE")
    parser.add_argument("--valid-until", type=date.fromisoformat, metavar="DATE")
    parser.add_argument("--owner", help="who is responsible for it")


def list_approved(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_approved(
        context.kb(),
        state=options.state,
        category=options.category,
        text=options.text,
        limit=options.limit,
    )
    table = context.table(
        [(a.id, a.question, a.category, _state(a), a.owner, moment(a.changed_at)) for a in result],
        id="left",
        question="left",
        category="left",
        state="left",
        owner="left",
        changed="left",
    )
    none = "No approved answers. Make one with 'fontanel approved add QUESTION --text ANSWER'."
    context.show(result, table if result else none)


def _state(approved: ApprovedOut) -> str:
    if approved.state == "approved" and not approved.served:
        return "not valid today"
    return approved.state


def show_approved(context: Context, options: argparse.Namespace) -> None:
    kb = context.kb()
    approved = context.client.show_approved(kb, options.approved)
    versions = (
        context.client.list_approved_versions(kb, options.approved) if options.versions else []
    )
    if context.json:
        context.show([approved, *versions] if options.versions else approved)
        return
    _print(context, approved)
    for version in versions:
        head = f"\nVersion {version.number}  {moment(version.created_at)}  {version.author}"
        context.say(Text(f"{head}  {version.state}", "bold"))
        context.say(Text(version.question))
        context.say(Text(version.text))


def _print(context: Context, approved: ApprovedOut) -> None:
    context.say(Text(approved.question, "bold"))
    for phrasing in approved.phrasings:
        context.say(Text(f"or: {phrasing}", "dim"))
    context.say(Text(approved.text))
    context.say()
    by = f" by {approved.approved_by}" if approved.approved_by else ""
    facts = [f"{_state(approved)}{by}", f"version {approved.version}"]
    facts += [f"category {approved.category}"] if approved.category else []
    facts += [f"owner {approved.owner}"] if approved.owner else []
    facts += [f"valid from {approved.valid_from}"] if approved.valid_from else []
    facts += [f"valid until {approved.valid_until}"] if approved.valid_until else []
    context.say(Text(", ".join(facts), "dim"))
    for number, place in enumerate(approved.places, 1):
        print_place(context, number, place.title, place.locator, place.quote)


def add_approved(context: Context, options: argparse.Namespace) -> None:
    values = _fields(options)
    if "text" not in values:
        raise UsageProblem("Give the answer with --text or --file.")
    state = "approved" if options.approve else "draft"
    body = ApprovedIn(question=options.question, state=state, **values)
    approved = context.client.create_approved(context.kb(), body)
    context.show(approved, _made(approved))


def from_answer(context: Context, options: argparse.Namespace) -> None:
    approved = context.client.approve_answer(
        context.kb(),
        options.answer,
        question=options.question,
        text=options.text,
        category=options.category,
        state="approved" if options.approve else "draft",
    )
    context.show(approved, _made(approved))


def _made(approved: ApprovedOut) -> str:
    if approved.state == "approved":
        return f"{approved.id} is served from now on."
    return f"{approved.id} is a draft. 'fontanel approved approve {approved.id}' serves it."


def change_approved(context: Context, options: argparse.Namespace) -> None:
    values = _fields(options)
    if options.question:
        values["question"] = options.question
    if not values:
        raise UsageProblem("Say what to change; see --help.")
    approved = _change(context, options.approved, ApprovedChange(**values))
    context.show(approved, f"{approved.id} is changed: version {approved.version}.")


def approve_one(context: Context, options: argparse.Namespace) -> None:
    approved = _change(context, options.approved, ApprovedChange(state="approved"))
    context.show(approved, _made(approved))


def retire_one(context: Context, options: argparse.Namespace) -> None:
    approved = _change(context, options.approved, ApprovedChange(state="retired"))
    context.show(approved, f"{approved.id} is no longer served.")


def _change(context: Context, ref: str, change: ApprovedChange) -> ApprovedOut:
    kb = context.kb()
    version = context.client.show_approved(kb, ref).version
    return context.client.change_approved(kb, ref, change, version)


def delete_one(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_approved(context.kb(), options.approved)
    context.show([], "Deleted.")


def list_flags(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_flags(context.kb(), options.state)
    if context.json or not result:
        context.show(result, "No approved answer has a source text that has changed.")
        return
    for flag in result:
        context.say(Text.assemble((flag.id, "cyan"), f"  {flag.change}  ", (flag.question, "bold")))
        context.say(Text(f"    approved: {flag.text}", "dim"))
        context.say(Text(f"    {flag.title}, before: {flag.old_text}"))
        context.say(Text(f"    {flag.title}, now:    {flag.new_text or 'removed'}"))
    context.say(
        Text(
            "\n'fontanel approved confirm FLAG' confirms an answer; 'change' and 'retire' settle"
            " its flags too.",
            "dim",
        )
    )


def confirm_flag(context: Context, options: argparse.Namespace) -> None:
    approved = context.client.confirm_flag(context.kb(), options.flag)
    context.show(approved, f"{approved.id} is confirmed: version {approved.version}.")


def match_question(context: Context, options: argparse.Namespace) -> None:
    result = context.client.match_approved(context.kb(), options.question)
    table = context.table(
        [
            (percent(m.likelihood), "served" if m.served else "", m.id, m.question, m.wording)
            for m in result
        ],
        likelihood="right",
        result="left",
        id="left",
        question="left",
        wording="left",
    )
    context.show(result, table if result else "No approved answer is near this question.")


def import_file(context: Context, options: argparse.Namespace) -> int:
    path = Path(options.file)
    text, form = read_records(path)
    result = context.client.import_approved(context.kb(), text, form)
    if result.problems:
        context.show(result, refusal(path, result.problems))
        return 1
    context.show(
        result,
        f"{result.created} created, {result.changed} changed, {result.unchanged} unchanged.",
    )
    return 0


def export_all(context: Context, options: argparse.Namespace) -> None:
    """To standard output, as it is."""
    sys.stdout.write(context.client.export_approved(context.kb(), options.form))


def _fields(options: argparse.Namespace) -> dict[str, Any]:
    """Return the fields that the options give."""
    values = {
        "category": options.category,
        "valid_from": options.valid_from,
        "valid_until": options.valid_until,
        "owner": options.owner,
        "phrasings": options.phrasing,
        "text": options.text,
    }
    if options.file is not None:
        values["text"] = sys.stdin.read() if options.file == "-" else _read(options.file)
    if options.document is not None:
        values["places"] = [_place(text) for text in options.document]
    return {name: value for name, value in values.items() if value is not None}


def _read(file: str) -> str:
    try:
        return Path(file).read_text("utf-8")
    except (OSError, UnicodeError) as error:
        raise UsageProblem(f"{file} cannot be read: {error}.") from error


def _place(text: str) -> ApprovedPlaceIn:
    """Read "NAME" or "NAME:START-END"."""
    name, colon, span = text.rpartition(":")
    start, dash, end = span.partition("-")
    if colon and dash and start.isdigit() and end.isdigit():
        return ApprovedPlaceIn(document=name, start=int(start), end=int(end))
    return ApprovedPlaceIn(document=text)
