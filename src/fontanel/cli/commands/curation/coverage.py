"""`coverage` of knowledge bases and documents: what answers needed of them."""

from __future__ import annotations

import argparse
from typing import Any

from fontanel.cli.context import Context
from fontanel.cli.format import moment
from fontanel.schemas.display import place


def add_kb_command(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    shown = verb(
        group, "coverage", show_coverage, "show which documents answers needed", common, kb
    )
    shown.add_argument(
        "--unused",
        type=int,
        metavar="DAYS",
        help="only older documents that were not cited for as many days",
    )
    shown.add_argument("--limit", type=int, default=100)


def add_document_command(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    shown = verb(
        group,
        "coverage",
        show_document_coverage,
        "show which passages of a document answers needed",
        common,
        kb,
    )
    shown.add_argument("document", metavar="DOCUMENT")


def show_coverage(context: Context, options: argparse.Namespace) -> None:
    result = context.client.show_coverage(context.kb(), options.unused, options.limit)
    table = context.table(
        [
            (
                one.name,
                one.passages,
                one.unfound,
                one.found,
                one.cited,
                moment(one.last_cited_at) if one.last_cited_at else "never",
            )
            for one in result
        ],
        document="left",
        passages="right",
        unfound="right",
        found="right",
        cited="right",
        last="left",
    )
    context.show(result, table if result else "No such documents.")


def show_document_coverage(context: Context, options: argparse.Namespace) -> None:
    kb = context.kb()
    title = context.client.show_document(kb, options.document).title
    result = context.client.show_document_coverage(kb, options.document)
    table = context.table(
        [
            (
                f"{one.start}-{one.end}",
                one.found,
                one.cited,
                place(title, one.locator),
            )
            for one in result
        ],
        characters="right",
        found="right",
        cited="right",
        place="left",
    )
    context.show(result, table if result else "It has no passages.")
