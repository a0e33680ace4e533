"""Erasing people and documents, for `fontanel person` and `fontanel document`."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import Any

from fontanel.cli.context import Context
from fontanel.cli.format import moment
from fontanel.cli.options.asking_first import ask_first
from fontanel.schemas import ErasureOut


def add_for_people(person: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    erase = verb(
        person, "erase", erase_person, "erase a person, with conversations and feedback", common
    )
    erase.add_argument("address", metavar="EMAIL")
    ask_first(erase, "Erase {address}? This cannot be undone.")
    verb(person, "erasures", list_erasures, "list who was erased, by id", common)


def add_for_documents(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    about = "erase a document, with all answers and quotes that come from it; for owners"
    erase = verb(group, "erase", erase_document, about, common, kb)
    erase.add_argument("document", help="its name or id")
    erase.add_argument(
        "--no-wait", action="store_true", help="do not wait until its files are deleted"
    )
    ask_first(erase, "Erase {document}, with all answers from it? This cannot be undone.")
    verb(group, "erasures", list_erased_documents, "list erased documents, by id", common)


def erase_person(context: Context, options: argparse.Namespace) -> None:
    _show(context, context.client.erase_person(options.address), "name or address")


def erase_document(context: Context, options: argparse.Namespace) -> None:
    erased = context.client.erase_document(context.kb(), options.document, wait=not options.no_wait)
    _show(context, erased, "name")


def list_erasures(context: Context, options: argparse.Namespace) -> None:
    _list(context, context.client.list_erasures(), "Nothing was erased.")


def list_erased_documents(context: Context, options: argparse.Namespace) -> None:
    _list(context, context.client.list_erased_documents(), "No document was erased.")


def _show(context: Context, erased: ErasureOut, name: str) -> None:
    """Print the proof of an erasure."""
    lines = [f"Erased as {erased.id}:"]
    lines += [f"  {kind}: {count:,}" for kind, count in sorted(erased.removed.items())]
    if erased.mentions:
        counts = ", ".join(f"{table} ({count:,})" for table, count in erased.mentions.items())
        lines.append(f"Other records that still contain the {name}: {counts}.")
    if erased.finished_at is None:
        lines.append("Files are being deleted; see 'fontanel document erasures'.")
    if erased.in_backups_until:
        lines.append(f"Backups from before are kept until {moment(erased.in_backups_until)}.")
    context.show(erased, "\n".join(lines))


def _list(context: Context, erasures: Sequence[ErasureOut], empty: str) -> None:
    rows = [
        (
            one.id,
            one.person_id or one.document_id,
            moment(one.created_at),
            one.asked_by,
            sum(one.removed.values()),
            moment(one.finished_at) if one.finished_at else "being cleared",
            moment(one.in_backups_until) if one.in_backups_until else "-",
        )
        for one in erasures
    ]
    columns = {"erasure": "left", "erased": "left", "at": "left", "by": "left"}
    more = {"records": "right", "finished": "left", "in_backups_until": "left"}
    context.show(erasures, context.table(rows, **columns, **more) if rows else empty)
