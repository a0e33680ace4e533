"""`fontanel proposal`: questions that documents answer, proposed for approval."""

from __future__ import annotations

import argparse
import time
from collections.abc import Sequence
from typing import Any

from rich.text import Text

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import percent
from fontanel.schemas import ProposalChange, ProposalOut

#: Seconds between two looks at a run.
_PAUSE = 0.3


def add_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    run = verb(group, "run", run_proposals, "propose the questions a document answers", common, kb)
    run.add_argument("document", metavar="DOCUMENT")
    run.add_argument("--no-wait", action="store_true", help="do not wait until it is done")

    listed = verb(group, "list", list_proposals, "list proposed questions", common, kb)
    listed.add_argument("--document", help="only those of this document")
    listed.add_argument("--state", choices=["open", "approved", "dismissed"], default="open")

    change = verb(group, "change", change_proposal, "change a proposed question", common, kb)
    change.add_argument("proposal", metavar="ID")
    change.add_argument("--question")
    change.add_argument("--answer", help="the answer, as Markdown")
    change.add_argument(
        "--phrasing",
        action="append",
        metavar="QUESTION",
        help="another wording of the question; repeatable",
    )

    approved = verb(group, "approve", approve, "approve proposed questions", common, kb)
    approved.add_argument("--category", default="")
    dismissed = verb(group, "dismiss", dismiss, "dismiss proposed questions", common, kb)
    reopen = verb(group, "open", reopen_proposals, "take a dismissal back", common, kb)
    for parser in (approved, dismissed, reopen):
        parser.add_argument("proposals", metavar="ID", nargs="+")


def run_proposals(context: Context, options: argparse.Namespace) -> int:
    kb = context.kb()
    result = context.client.propose_questions(kb, options.document)
    # A model that failed is asked again later: nobody waits for that here.
    while result.waiting and not result.error and not options.no_wait:
        time.sleep(_PAUSE)
        result = context.client.document_proposals(kb, options.document)
    if result.waiting and not result.error:
        message = "Its questions are being looked for."
        if result.passages:
            message += f" {result.passages_read} of {result.passages} passages are read."
        context.show(result, message)
        return 0
    if result.error:
        context.show(result, result.error)
        return 1
    if context.json:
        context.show(result)
        return 0
    _print(context, [one for one in result.items if one.state == "open"])
    context.say(Text(f"{len(result.items)} of {result.tried} questions passed.", "dim"))
    return 0


def list_proposals(context: Context, options: argparse.Namespace) -> None:
    kb = context.kb()
    if options.document is not None:
        items = context.client.document_proposals(kb, options.document).items
        items = [one for one in items if one.state == options.state]
    else:
        items = context.client.list_proposals(kb, options.state)
    if context.json or not items:
        context.show(items, "No such questions. 'fontanel proposal run DOCUMENT' proposes some.")
        return
    _print(context, items)


def _print(context: Context, items: Sequence[ProposalOut]) -> None:
    title = ""
    for one in items:
        if one.title != title:
            title = one.title
            context.say(Text(title, "bold"))
        head = f"  {percent(one.relevance):>5}  "
        context.say(Text.assemble((one.id, "cyan"), head, one.question))
        context.say(Text(f"    {' '.join(one.answer.split())[:160]}", "dim"))


def change_proposal(context: Context, options: argparse.Namespace) -> None:
    values = {
        "question": options.question,
        "answer": options.answer,
        "phrasings": options.phrasing,
    }
    given = {name: value for name, value in values.items() if value is not None}
    if not given:
        raise UsageProblem("Say what to change; see --help.")
    result = context.client.change_proposal(context.kb(), options.proposal, ProposalChange(**given))
    context.show(result, f"{result.id} is changed.")


def approve(context: Context, options: argparse.Namespace) -> None:
    result = context.client.decide_proposals(
        context.kb(), options.proposals, "approve", options.category
    )
    context.show(result, f"{len(result)} approved; they are served from now on.")


def dismiss(context: Context, options: argparse.Namespace) -> None:
    result = context.client.decide_proposals(context.kb(), options.proposals, "dismiss")
    context.show(result, f"{len(result)} dismissed.")


def reopen_proposals(context: Context, options: argparse.Namespace) -> None:
    result = context.client.decide_proposals(context.kb(), options.proposals, "open")
    context.show(result, f"{len(result)} open again.")
