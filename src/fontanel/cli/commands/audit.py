"""`fontanel audit`: who did what."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from contextlib import ExitStack
from itertools import groupby
from pathlib import Path
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment
from fontanel.cli.options.times import add_period
from fontanel.client import AuditFilter
from fontanel.core.auditing import Broken, verify
from fontanel.schemas import AuditCheckOut, AuditEntryOut


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    listed = verb(group, "list", list_entries, "list what was done, the newest first", common)
    _add_filters(listed)
    listed.add_argument("--limit", type=int, default=50, help="how many (default 50)")
    export = verb(group, "export", export_entries, "export the log, the oldest entry first", common)
    _add_filters(export)
    export.add_argument("--csv", action="store_true", help="as CSV instead of JSON Lines")
    check = verb(
        group,
        "verify",
        verify_log,
        "check that no entry was changed, removed or inserted",
        common,
    )
    check.add_argument(
        "file",
        nargs="?",
        type=Path,
        help="an export as JSON Lines, checked here; without it, the service checks its own log",
    )
    check.add_argument("--all", action="store_true", help="the logs of all teams, for operators")


def _add_filters(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--all", action="store_true", help="all teams, for operators")
    parser.add_argument("--log", help="with --all: only this team, or 'service'")
    parser.add_argument("--actor", help="a person, key or guest, by id or a part of the name")
    parser.add_argument("--action", help="an action, or its beginning: 'key.'")
    parser.add_argument("--target", help="a part of what it was done to")
    parser.add_argument("--refused", action="store_true", help="only what was refused")
    add_period(parser)


def _filter(options: argparse.Namespace) -> AuditFilter:
    return AuditFilter(
        actor=options.actor,
        action=options.action,
        target=options.target,
        outcome="refused" if options.refused else None,
        since=options.since,
        until=options.until,
    )


def list_entries(context: Context, options: argparse.Namespace) -> None:
    entries: list[AuditEntryOut] = []
    cursor: str | None = None
    while len(entries) < options.limit:
        page = context.client.list_audit(
            _filter(options),
            everywhere=options.all,
            log=options.log,
            cursor=cursor,
            limit=min(200, options.limit - len(entries)),
        )
        entries += page.items
        cursor = page.next
        if cursor is None:
            break
    table = context.table(
        [
            (moment(one.at), _who(one), one.address, one.action, one.target, _outcome(one))
            for one in entries
        ],
        at="left",
        who="left",
        from_="left",
        action="left",
        target="left",
        result="left",
    )
    context.show(entries, table if entries else "No entry.")


def _who(entry: AuditEntryOut) -> str:
    name = entry.name or entry.about or entry.actor_id
    return f"{entry.actor_kind} {name}" if name else entry.actor_kind


def _outcome(entry: AuditEntryOut) -> str:
    times = f" {entry.count} times" if entry.count > 1 else ""
    if entry.outcome == "refused":
        return f"refused{times}: {entry.problem}"
    if not entry.changes:
        return f"{entry.entries} entries" if entry.entries else "read"
    first = entry.changes[0]
    rest = len(entry.changes) - 1 + entry.more
    fields = ", ".join(
        f"{name} {value[0]} -> {value[1]}" if isinstance(value, list) and len(value) == 2 else name
        for name, value in first.fields.items()
    )
    what = f"{first.kind} {first.change}" + (f": {fields}" if fields else "")
    return f"{what} and {rest} more" if rest else what


def export_entries(context: Context, options: argparse.Namespace) -> None:
    lines = context.client.export_audit(
        _filter(options),
        everywhere=options.all,
        log=options.log,
        form="csv" if options.csv else "jsonl",
    )
    for line in lines:
        print(line)


def verify_log(context: Context, options: argparse.Namespace) -> int:
    if options.file is not None:
        return _verify_file(context, options.file)
    checks = context.client.verify_audit(everywhere=options.all)
    table = context.table(
        [_check_row(one) for one in checks],
        log="left",
        entries="right",
        result="left",
        last_hash="left",
    )
    context.show(checks, table if checks else "No entry.")
    return 0 if all(one.whole for one in checks) else 1


def _check_row(check: AuditCheckOut) -> tuple[Any, ...]:
    return (check.name or check.log, check.entries, check.fault or "whole", check.hash)


def _verify_file(context: Context, path: Path) -> int:
    """Verify an export without the service; each log in it on its own."""
    faults: list[Broken] = []
    count = 0
    with ExitStack() as stack:
        try:
            file = stack.enter_context(path.open(encoding="utf-8"))
            entries = sorted(_lines(file, path), key=lambda one: str(one.get("log")))
        except (OSError, UnicodeDecodeError) as error:
            raise UsageProblem(f"{path} cannot be read: {error}") from error
    count = len(entries)
    for _, log in groupby(entries, key=lambda one: str(one.get("log"))):
        chain = list(log)
        first = chain[0].get("number")
        fault = verify(chain, number=first if isinstance(first, int) else None)
        faults += [fault] if fault is not None else []
    for fault in faults:
        context.say(f"Log {fault.log}, entry {fault.number}: {fault.what}.", markup=False)
    if not faults:
        context.say(f"{count} entries: the chain is whole.")
    return 1 if faults else 0


def _lines(file: Any, path: Path) -> Iterator[dict[str, Any]]:
    for number, line in enumerate(file, 1):
        try:
            entry = json.loads(line)
        except ValueError as error:
            raise UsageProblem(f"{path}, line {number} is not JSON.") from error
        if not isinstance(entry, dict):
            raise UsageProblem(f"{path}, line {number} is not an entry.")
        yield entry
