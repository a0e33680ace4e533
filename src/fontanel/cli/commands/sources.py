"""`fontanel source`: sources of a knowledge base, synced automatically."""

from __future__ import annotations

import argparse
import base64
from pathlib import Path
from typing import Any

from fontanel.cli.commands.runs import (
    _follow,
    _runs_table,
    decide_run,
    list_runs,
    run_seconds,
    show_run,
    sync_source,
)
from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, number, percent, size
from fontanel.cli.options.asking_first import yes_option
from fontanel.cli.options.documents import files_below, parse_tags, tag_option
from fontanel.cli.options.sources import (
    add_schedule,
    add_settings,
    credentials_of,
    kind_of,
    kind_rows,
    schedule_of,
    settings_of,
)
from fontanel.schemas import (
    CheckIn,
    FreshnessOut,
    PushedIn,
    SourceChange,
    SourceCheck,
    SourceIn,
    SourceOut,
)


def add_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    verb(group, "kinds", list_kinds, "list the kinds of sources, with their settings", common)
    check = verb(
        group,
        "check",
        check_source,
        "preview a source: what would be added, and what is skipped",
        common,
        kb,
    )
    check.add_argument("source", nargs="?", help="a connected source, instead of --kind and --set")
    check.add_argument("--kind", help="the kind of a source that is not connected yet")
    add_settings(check)
    connect = verb(group, "connect", connect_source, "connect a source and run it", common, kb)
    connect.add_argument("name")
    connect.add_argument("--kind", required=True, help="see 'fontanel source kinds'")
    connect.add_argument(
        "--folder",
        help="the folder of its documents (default: from its name)",
    )
    connect.add_argument(
        "--adopt",
        action="store_true",
        help="make documents that are in its folder already, and of no source, its own",
    )
    connect.add_argument(
        "--paused",
        action="store_true",
        help="run nothing yet; credentials can be entered before it is resumed",
    )
    connect.add_argument("--no-wait", action="store_true", help="do not watch the first run")
    add_settings(connect)
    add_schedule(connect)
    verb(group, "list", list_sources, "list the sources with their freshness", common, kb)
    for name, run, about in (
        ("show", show_source, "show a source with its settings and recent runs"),
        ("signal", make_secret, "create the secret for signing signals"),
    ):
        verb(group, name, run, about, common, kb).add_argument("source")
    change = verb(
        group, "change", change_source, "change a source's settings, schedule or guard", common, kb
    )
    change.add_argument("source")
    change.add_argument("--name")
    change.add_argument("--pause", action="store_true", help="pause scheduled runs")
    change.add_argument("--resume", action="store_true", help="resume scheduled runs")
    add_settings(change)
    add_schedule(change)
    sync = verb(group, "sync", sync_source, "run a source now and watch it", common, kb)
    sync.add_argument("source")
    sync.add_argument("--no-wait", action="store_true", help="return immediately")
    runs = verb(group, "runs", list_runs, "list a source's runs", common, kb)
    runs.add_argument("source")
    run = verb(group, "run", show_run, "show the outcome of a run, item by item", common, kb)
    run.add_argument("source")
    run.add_argument(
        "run_id", nargs="?", default="latest", metavar="RUN", help="default: the latest"
    )
    run.add_argument(
        "--outcome",
        help="only these items",
        choices=(
            "added",
            "changed",
            "unchanged",
            "moved",
            "removed",
            "skipped",
            "failed",
            "missing",
        ),
    )
    for name, decision, about in (
        ("confirm", "confirm", "let a held run remove the documents that it listed"),
        ("reject", "reject", "keep what a held run would remove, or cancel a running one"),
    ):
        decide = verb(group, name, decide_run, about, common, kb)
        decide.set_defaults(decision=decision)
        decide.add_argument("source")
        decide.add_argument("run_id", nargs="?", default="latest", metavar="RUN")
    push = verb(group, "push", push_files, "send files to a source of the kind 'push'", common, kb)
    push.add_argument("source")
    push.add_argument(
        "paths",
        nargs="*",
        type=Path,
        help="files, or folders with files; their paths are their ids",
    )
    tag_option(push, "a tag for each document")
    push.add_argument(
        "--remove", action="append", default=[], metavar="ID", help="the id of a removed document"
    )
    drop = verb(group, "disconnect", disconnect, "disconnect a source", common, kb)
    drop.add_argument("source")
    drop.add_argument(
        "--keep-documents",
        action="store_true",
        help="keep its documents as if people had added them",
    )
    yes_option(drop)
    verb(group, "freshness", show_freshness, "show the freshness of the team's sources", common)


def list_kinds(context: Context, options: argparse.Namespace) -> None:
    kinds = context.client.source_kinds()
    rows = kind_rows(kinds)
    context.show(kinds, context.table(rows, kind="left", setting="left", about="left"))


def check_source(context: Context, options: argparse.Namespace) -> None:
    client, kb = context.client, context.kb()
    if options.source:
        source = client.show_source(kb, options.source)
        kind = kind_of(context, source.kind)
        settings = {**source.settings, **settings_of(kind, options.set)} if options.set else None
        credentials = credentials_of(kind, options.credential)
        texts = {"settings": settings, "credentials": credentials}
        trial = client.check_again(
            kb, source.id, SourceChange(**{k: v for k, v in texts.items() if v is not None})
        )
    elif options.kind:
        kind = kind_of(context, options.kind)
        body = CheckIn(
            kind=kind.name,
            settings=settings_of(kind, options.set),
            credentials=credentials_of(kind, options.credential),
        )
        trial = client.check_source(kb, body)
    else:
        raise UsageProblem("Name a source, or say --kind and --set.")
    context.show(trial)
    if not context.json:
        _print_trial(context, trial)


def _print_trial(context: Context, trial: SourceCheck) -> None:
    least = "" if trial.complete else "at least "
    amount = f", {size(trial.bytes)}" if trial.bytes is not None else ""
    context.say(f"{least}{trial.taken:,} would be added{amount} ({trial.seconds:.1f} s)")
    for item in trial.sample[:10]:
        context.say(f"  {item.name}", markup=False)
    if trial.taken > 10:
        context.say("  ...")
    for reason, count in trial.skipped.items():
        example = next((item.id for item in trial.skipped_sample if item.reason == reason), "")
        context.say(
            f"{count:,} skipped: {reason}" + (f", for instance {example}" if example else ""),
            markup=False,
        )


def connect_source(context: Context, options: argparse.Namespace) -> int:
    client, kb = context.client, context.kb()
    kind = kind_of(context, options.kind)
    source = client.connect_source(
        kb,
        SourceIn(
            name=options.name,
            kind=kind.name,
            settings=settings_of(kind, options.set),
            folder=options.folder,
            credentials=credentials_of(kind, options.credential) or None,
            paused=options.paused,
            adopt=options.adopt,
            **schedule_of(options),
        ),
    )
    if options.no_wait or options.paused or kind.pushed:
        context.show(source, f"Connected {source.name} ({source.id}).")
        return 0
    return _follow(context, kb, source.id, "latest")


def list_sources(context: Context, options: argparse.Namespace) -> None:
    sources = context.client.list_sources(context.kb())
    rows = [
        (
            s.name,
            s.kind,
            number(s.documents),
            _fresh(s.freshness),
            _plan(s),
            moment(s.recent[0].created_at) if s.recent else None,
            s.error
            or (
                "held, see 'fontanel source run'"
                if s.recent and s.recent[0].state == "held"
                else None
            ),
        )
        for s in sources
    ]
    table = context.table(
        rows,
        source="left",
        kind="left",
        documents="right",
        freshness="left",
        runs="left",
        last_run="left",
        trouble="left",
    )
    context.show(
        sources,
        (
            table
            if sources
            else "No sources. Connect one with 'fontanel source connect NAME --kind KIND'."
        ),
    )


def _fresh(freshness: FreshnessOut) -> str:
    words = {
        "late": "late",
        "unscheduled": "unscheduled",
        "paused": "paused",
        "new": "not looked at yet",
    }
    text = words.get(freshness.state, "fresh")
    if freshness.state == "late" and freshness.late_since:
        since = moment(freshness.late_since).removesuffix(" ago")
        text += "" if since.endswith(" s") else f" for {since}"
    if freshness.median_seconds is not None and freshness.within is not None:
        text += (
            f", {percent(freshness.within)} within {freshness.target_minutes} min, median"
            f" {run_seconds(freshness.median_seconds)}"
        )
    return text


def _plan(source: SourceOut) -> str:
    if source.paused:
        return "paused"
    if source.cron:
        return f"cron {source.cron}"
    if source.every_minutes:
        return f"every {source.every_minutes} min"
    return "watched" if source.settings.get("watch") else "by hand"


def show_source(context: Context, options: argparse.Namespace) -> None:
    source = context.client.show_source(context.kb(), options.source)
    settings = [
        (name, _shown(value))
        for name, value in source.settings.items()
        if value not in (None, [], {}, "")
    ]
    rows: list[tuple[str, str | None]] = [
        ("name", source.name),
        ("id", source.id),
        ("kind", source.kind),
        ("folder", source.folder),
        *settings,
        ("credentials", ", ".join(source.credentials) or None),
        (
            "tag rules",
            "; ".join(
                f"{r.pattern}: " + ", ".join(f"{k}={v}" for k, v in r.tags.items())
                for r in source.tag_rules
            )
            or None,
        ),
        ("runs", _plan(source)),
        ("guard", f"{percent(source.guard_share)}, at least {source.guard_min}"),
        ("documents", number(source.documents)),
        ("freshness", _fresh(source.freshness)),
        ("trouble", source.error),
    ]
    context.show(source, context.table(rows, source="left", **{" ": "left"}))
    if not context.json and source.recent:
        context.say(_runs_table(context, source.recent[:5]))


def _shown(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def change_source(context: Context, options: argparse.Namespace) -> None:
    client, kb = context.client, context.kb()
    source = client.show_source(kb, options.source)
    kind = kind_of(context, source.kind)
    texts: dict[str, Any] = schedule_of(options)
    if options.set:
        texts["settings"] = {**source.settings, **settings_of(kind, options.set)}
    if (credentials := credentials_of(kind, options.credential)) is not None:
        texts["credentials"] = credentials
    if options.name:
        texts["name"] = options.name
    if options.pause or options.resume:
        texts["paused"] = bool(options.pause)
    if not texts:
        raise UsageProblem("Say what to change; see 'fontanel source change --help'.")
    changed = client.change_source(kb, source.id, SourceChange(**texts), source.version)
    context.show(changed, f"Changed {changed.name}.")


def push_files(context: Context, options: argparse.Namespace) -> int:
    tags = parse_tags(options.tag)
    documents = [
        PushedIn(
            id=name, name=name, content=base64.b64encode(path.read_bytes()).decode(), tags=tags
        )
        for path, name in (files_below(options.paths) if options.paths else [])
    ]
    failed = 0
    for start in range(0, max(len(documents), 1), 50):
        out = context.client.push_documents(
            context.kb(),
            options.source,
            documents[start : start + 50],
            options.remove if start == 0 else (),
        )
        rows = [(item.outcome, item.id, item.reason) for item in out.items]
        context.show(out, context.table(rows, did="left", document="left", why="left"))
        failed += sum(item.outcome == "failed" for item in out.items)
    return 1 if failed else 0


def make_secret(context: Context, options: argparse.Namespace) -> None:
    made = context.client.make_signal_secret(context.kb(), options.source)
    context.show(made, f"Send signals to {made.path}, signed with {made.secret} (shown once).")


def disconnect(context: Context, options: argparse.Namespace) -> None:
    client, kb = context.client, context.kb()
    source = client.show_source(kb, options.source)
    what = (
        "keeping its documents"
        if options.keep_documents
        else f"and delete its {source.documents} documents"
    )
    if not options.yes and not context.confirm(f"Disconnect {source.name} {what}?"):
        return
    client.disconnect_source(kb, source.id, keep_documents=options.keep_documents)


def show_freshness(context: Context, options: argparse.Namespace) -> None:
    result = context.client.freshness()
    rows = [
        (
            f.kb,
            f.source,
            f.kind,
            number(f.documents),
            _fresh(f.freshness),
            f"{f.freshness.target_minutes} min",
            (
                run_seconds(f.freshness.worst_seconds)
                if f.freshness.worst_seconds is not None
                else None
            ),
            f.error,
        )
        for f in result
    ]
    table = context.table(
        rows,
        kb="left",
        source="left",
        kind="left",
        documents="right",
        freshness="left",
        target="right",
        worst="right",
        trouble="left",
    )
    context.show(result, table if result else "The team has no sources.")
