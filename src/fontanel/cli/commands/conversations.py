"""`fontanel conversation`: your own conversations."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from rich.padding import Padding
from rich.text import Text

from fontanel.cli.context import Context
from fontanel.cli.format import moment, percent
from fontanel.schemas import (
    AnswerOut,
    CitationOut,
    EvidenceOut,
    LocatorOut,
    TurnOut,
)
from fontanel.schemas.display import place


def list_conversations(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_conversations(text=options.text, **_place(context, options))
    table = context.table(
        [(c.id, c.title, moment(c.changed_at)) for c in result],
        conversation="left",
        title="left",
        changed="left",
    )
    none = (
        "None mentions it."
        if options.text
        else "No conversations yet. Begin one with 'fontanel ask QUESTION'."
    )
    context.show(result, table if result else none)


def show_conversation(context: Context, options: argparse.Namespace) -> None:
    turns = context.client.show_conversation(options.conversation, **_place(context, options))
    if context.json:
        context.show(turns)
        return
    for turn in turns:
        context.say(Text(turn.question, "bold"))
        context.say(Text(turn.text))
        print_approval(context, turn)
        print_sources(context, turn)
        context.say()


def rename_conversation(context: Context, options: argparse.Namespace) -> None:
    result = context.client.rename_conversation(
        options.conversation, options.title, **_place(context, options)
    )
    context.show(result, f"Its title is now {result.title!r}.")


def export_conversation(context: Context, options: argparse.Namespace) -> None:
    """To standard output, as it is."""
    sys.stdout.write(
        context.client.export_conversation(
            options.conversation, options.form, **_place(context, options)
        )
    )


def delete_conversation(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_conversation(options.conversation, **_place(context, options))
    context.show([], "Deleted.")


def _place(context: Context, options: argparse.Namespace) -> dict[str, Any]:
    """Return the path of the conversations that the options select."""
    return {"desk": options.desk} if options.desk else {"kb": context.kb()}


def print_sources(context: Context, answer: AnswerOut | TurnOut) -> None:
    if answer.citations:
        context.say()
        for citation in answer.citations:
            print_citation(context, citation)
    elif answer.outcome == "declined" and answer.evidence:
        context.say(Text("\nNearest passages:", "dim"))
        for passage in answer.evidence[:3]:
            _print_nearest(context, passage)


def print_citation(context: Context, citation: CitationOut) -> None:
    print_place(
        context,
        citation.number,
        citation.title,
        citation.locator,
        citation.quote,
        f"  {percent(citation.match)}",
    )


def print_place(
    context: Context, number: int, title: str, locator: LocatorOut, quote: str, about: str = ""
) -> None:
    """Print a numbered place in a document with its text; without text, it is the document."""
    where = place(title, locator) if quote else "whole document"
    context.say(
        Text.assemble((f"[{number}] ", "cyan"), (title, "bold"), (f"  {where}{about}", "dim"))
    )
    if quote:
        shown = " / ".join(quote.replace("\t", "  ").split("\n"))
        context.say(Padding(Text(f"“{shown}”"), (0, 0, 0, 4), expand=False))


def print_approval(context: Context, answer: AnswerOut | TurnOut) -> None:
    """Print who approved an answer, and the approved questions that may have been meant."""
    if (approval := answer.approval) is not None:
        at = f" on {approval.approved_at:%Y-%m-%d}" if approval.approved_at else ""
        by = f" by {approval.approved_by}" if approval.approved_by else ""
        context.say(Text(f"Approved{by}{at}, as the answer to: {approval.question}", "green"))
        if approval.flag:
            context.say(Text(f"Its source text has changed since ({approval.flag}).", "yellow"))
    if answer.choices:
        context.say(Text("\nDid you mean one of these? They have an approved answer:", "dim"))
        for choice in answer.choices:
            context.say(Text(f"    {choice.question}"))


def _print_nearest(context: Context, passage: EvidenceOut) -> None:
    shown = " ".join(passage.text.split())[:160]
    context.say(
        Text.assemble(
            (f"    {percent(passage.match):>5}  ", "bold"),
            passage.title,
            (f"  {place(passage.title, passage.locator)}", "dim"),
        )
    )
    context.say(Padding(Text(f"{shown} ..."), (0, 0, 0, 11), expand=False))
