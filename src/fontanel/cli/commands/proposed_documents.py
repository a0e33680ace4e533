"""`fontanel document propose | proposed | accept | dismiss`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from rich.markup import escape

from fontanel.cli.context import Context
from fontanel.cli.format import moment, number


def add_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    propose = verb(
        group,
        "propose",
        propose_document,
        "propose a document, for an editor to accept",
        common,
        kb,
    )
    propose.add_argument("name", help="its name; that of a document proposes another text for it")
    propose.add_argument(
        "--from", dest="file", type=Path, help="a file with its text (default: standard input)"
    )
    propose.add_argument("--reason", default="", help="why, for whoever decides")
    proposed = verb(
        group, "proposed", show_proposed, "list proposed documents, or read one", common, kb
    )
    proposed.add_argument("proposed", nargs="?", help="the id of one, to read it")
    proposed.add_argument(
        "--state",
        choices=("open", "accepted", "dismissed"),
        default="open",
        help="which to list (default: open)",
    )
    accept = verb(group, "accept", accept_document, "add a proposed document", common, kb)
    accept.add_argument("proposed", help="its id")
    dismiss = verb(group, "dismiss", dismiss_document, "dismiss a proposed document", common, kb)
    dismiss.add_argument("proposed", help="its id")
    dismiss.add_argument("--note", default="", help="why, for whoever proposed it")


def propose_document(context: Context, options: argparse.Namespace) -> None:
    text = options.file.read_text() if options.file else sys.stdin.read()
    row = context.client.propose_document(context.kb(), options.name, text, options.reason)
    what = "a new document" if row.replaces is None else "another text for this document"
    context.show(row, f"Proposed {row.name} ({what}) as {row.id}. An editor decides about it.")


def show_proposed(context: Context, options: argparse.Namespace) -> None:
    if options.proposed is not None:
        row = context.client.show_proposed_document(context.kb(), options.proposed)
        context.show(row, escape(row.text or f"It was {row.state} by {row.decided_by}. {row.note}"))
        return
    rows = context.client.list_proposed_documents(context.kb(), options.state)
    table = [
        (
            row.id,
            row.name,
            "new" if row.replaces is None else "changed",
            number(row.characters) if row.state == "open" else row.decided_by,
            row.proposed_by,
            moment(row.created_at),
            row.reason if row.state == "open" else row.note,
        )
        for row in rows
    ]
    decided = options.state != "open"
    columns = {
        "ID": "left",
        "NAME": "left",
        "DOCUMENT": "left",
        "DECIDED BY" if decided else "CHARACTERS": "left" if decided else "right",
        "PROPOSED BY": "left",
        "PROPOSED": "left",
        "NOTE" if decided else "REASON": "left",
    }
    context.show(rows, context.table(table, **columns))


def accept_document(context: Context, options: argparse.Namespace) -> None:
    added = context.client.accept_proposed_document(context.kb(), options.proposed)
    context.show(added, f"{added.outcome}: {added.document.name}")


def dismiss_document(context: Context, options: argparse.Namespace) -> None:
    row = context.client.dismiss_proposed_document(context.kb(), options.proposed, options.note)
    context.show(row, f"Dismissed {row.name}.")
