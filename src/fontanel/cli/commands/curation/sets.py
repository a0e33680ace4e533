"""`fontanel set`: question sets of a team."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from rich.text import Text

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.records_file import read_records, refusal
from fontanel.schemas import SetChange, SetQuestionIn, SetQuestionOut


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    verb(group, "list", list_sets, "list question sets", common)

    create = verb(group, "create", create_set, "create a question set", common)
    create.add_argument("name", metavar="NAME")
    create.add_argument("--about", default="", help="what it is for")

    show = verb(group, "show", show_set, "show the questions of a set", common)
    show.add_argument("--text", help="only questions that contain it")

    change = verb(group, "change", change_set, "change a question set", common)
    change.add_argument("--name")
    change.add_argument("--about")
    change.add_argument("--desk", help="the desk whose published version is asked automatically")
    change.add_argument(
        "--schedule",
        choices=["never", "nightly", "after_sync"],
        help="when it is asked automatically: each night, or after a source changed documents",
    )

    add = verb(group, "add", add_question, "add a question to a set", common)
    _expectations(add)

    remove = verb(group, "remove", remove_question, "remove a question from a set", common)

    collected = verb(group, "collect", collect, "take over questions that were asked", common)
    collected.add_argument(
        "--answer", action="append", default=[], metavar="ID", help="of this answer; repeatable"
    )
    collected.add_argument(
        "--gap", action="append", default=[], metavar="ID", help="of this gap; repeatable"
    )
    collected.add_argument(
        "--proposed-of", metavar="KB", help="the open proposed questions of a knowledge base"
    )
    collected.add_argument(
        "--approved-of", metavar="KB", help="of the approved answers of a knowledge base"
    )
    collected.add_argument("--category", help="only of approved answers of this category")
    collected.add_argument(
        "--questions-only", action="store_true", help="without other wordings of the questions"
    )

    imported = verb(group, "import", import_set, "import questions into a set", common)
    exported = verb(group, "export", export_set, "print the questions of a set", common)
    exported.add_argument("--form", choices=["jsonl", "csv"], default="jsonl")
    delete = verb(group, "delete", delete_set, "delete a question set and its trials", common)
    ask_first(delete, "Delete {set} with its questions and trials?")
    for parser in (show, change, add, remove, collected, imported, exported, delete):
        parser.add_argument("set", metavar="SET")
    add.add_argument("question", metavar="QUESTION")
    remove.add_argument("question", metavar="ID")
    imported.add_argument("file", metavar="FILE", help="JSON Lines (.jsonl) or CSV (.csv)")


def _expectations(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--document",
        action="append",
        default=[],
        metavar="NAME",
        help="one of these documents must be cited; repeatable",
    )
    parser.add_argument(
        "--quote",
        action="append",
        default=[],
        metavar="TEXT",
        help="one of these quotes must be cited; repeatable",
    )
    parser.add_argument(
        "--contains",
        action="append",
        default=[],
        metavar="TEXT",
        help="must be in the answer; 'noon|12:00' allows either; repeatable",
    )
    parser.add_argument(
        "--must-decline", action="store_true", help="the documents do not answer it"
    )
    parser.add_argument(
        "--after",
        action="append",
        default=[],
        metavar="QUESTION",
        help="is asked before it in the same conversation; repeatable",
    )
    parser.add_argument("--kind", default="", help="a group of questions in the figures")
    parser.add_argument("--note", default="")


def list_sets(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_sets()
    table = context.table(
        [
            (
                one.slug,
                one.name,
                one.questions,
                one.schedule.replace("_", " "),
                moment(one.changed_at),
            )
            for one in result
        ],
        set="left",
        name="left",
        questions="right",
        schedule="left",
        changed="left",
    )
    none = "No question sets. Make one with 'fontanel set create NAME'."
    context.show(result, table if result else none)


def create_set(context: Context, options: argparse.Namespace) -> None:
    result = context.client.create_set(options.name, options.about)
    context.show(
        result,
        f"{result.slug} is created. Add questions with 'fontanel set add {result.slug} QUESTION'.",
    )


def show_set(context: Context, options: argparse.Namespace) -> None:
    questions = context.client.list_set_questions(options.set, options.text)
    if context.json or not questions:
        context.show(questions, "No questions.")
        return
    question_set = context.client.show_set(options.set)
    context.say(Text(question_set.name, "bold"))
    if question_set.about:
        context.say(Text(question_set.about, "dim"))
    for one in questions:
        for earlier in one.history:
            context.say(Text(f"       after: {earlier}", "dim"))
        kind = f"  [{one.kind}]" if one.kind else ""
        context.say(Text.assemble((f"{one.number:>4}  ", "dim"), one.question, (kind, "dim")))
        context.say(Text(f"      {one.id}  {_expected(one)}", "dim"))


def _expected(one: SetQuestionOut) -> str:
    if one.must_decline:
        return "must be declined"
    parts = [f"cites {' or '.join(one.documents)}"] if one.documents else []
    parts += [f"contains {text!r}" for text in one.contains]
    parts += [f"quotes {len(one.quotes)}"] if one.quotes and not one.documents else []
    return ", ".join(parts) or "not judged"


def change_set(context: Context, options: argparse.Namespace) -> None:
    values = {
        name: value
        for name in ("name", "about", "desk", "schedule")
        if (value := getattr(options, name)) is not None
    }
    if not values:
        raise UsageProblem("Say what to change; see --help.")
    result = context.client.change_set(options.set, SetChange(**values))
    context.show(result, f"{result.slug} is changed.")


def delete_set(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_set(options.set)
    context.show([], "Deleted.")


def add_question(context: Context, options: argparse.Namespace) -> None:
    question = SetQuestionIn(
        question=options.question,
        history=options.after,
        documents=options.document,
        quotes=options.quote,
        contains=options.contains,
        must_decline=options.must_decline,
        kind=options.kind,
        note=options.note,
    )
    (added,) = context.client.add_set_questions(options.set, [question])
    context.show(added, f"{added.id} is question {added.number}: {_expected(added)}.")


def remove_question(context: Context, options: argparse.Namespace) -> None:
    context.client.remove_set_question(options.set, options.question)
    context.show([], "Removed.")


def collect(context: Context, options: argparse.Namespace) -> None:
    chosen = (options.answer, options.gap, options.approved_of, options.proposed_of)
    if not any(chosen):
        raise UsageProblem("Give --answer, --gap, --approved-of or --proposed-of.")
    added = context.client.collect_set_questions(
        options.set,
        answers=options.answer,
        gaps=options.gap,
        proposed_of=options.proposed_of,
        approved_of=options.approved_of,
        category=options.category,
        phrasings=not options.questions_only,
    )
    questions = "1 question" if len(added) == 1 else f"{len(added)} questions"
    context.show(added, f"{questions} added.")


def import_set(context: Context, options: argparse.Namespace) -> int:
    path = Path(options.file)
    text, form = read_records(path)
    result = context.client.import_set(options.set, text, form)
    if result.problems:
        context.show(result, refusal(path, result.problems))
        return 1
    context.show(result, f"{result.added} questions added.")
    return 0


def export_set(context: Context, options: argparse.Namespace) -> None:
    """To standard output, as it is."""
    sys.stdout.write(context.client.export_set(options.set, options.form))
