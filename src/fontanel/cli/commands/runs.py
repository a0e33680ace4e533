"""`fontanel source run` and its like: runs of sources."""

from __future__ import annotations

import argparse
import sys
import time
from typing import Any

from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from fontanel.cli.context import Context
from fontanel.cli.format import moment, money, number, size
from fontanel.schemas import (
    SyncOut,
)


def sync_source(context: Context, options: argparse.Namespace) -> int:
    client, kb = context.client, context.kb()
    sync = client.sync_source(kb, options.source)
    if options.no_wait:
        context.show(sync, f"Started {sync.id}.")
        return 0
    return _follow(context, kb, options.source, sync.id)


def _follow(context: Context, kb: str, source: str, sync_id: str) -> int:
    """Watch a run until it has ended and its documents are indexed."""
    columns = (
        TextColumn("{task.description:>9}"),
        BarColumn(30),
        TimeElapsedColumn(),
        TextColumn("{task.fields[note]}"),
    )
    with Progress(*columns, console=context.err, disable=not context.lively) as progress:
        task = progress.add_task("waiting", total=None, note="")
        while True:
            sync = context.client.show_sync(kb, source, sync_id)
            sync_id = sync.id
            taken = sync.added + sync.changed
            if sync.state == "running":
                total = max(sync.expected, sync.seen) or None
                progress.update(
                    task,
                    description=sync.stage,
                    total=total,
                    completed=sync.seen,
                    note=_counts(sync),
                )
            elif sync.indexing:
                progress.update(
                    task,
                    description="indexing",
                    total=taken,
                    completed=taken - sync.indexing,
                    note=_counts(sync),
                )
            elif sync.state != "waiting":
                break
            time.sleep(_PAUSE)
    context.show(sync)
    if not context.json:
        _print_run(context, sync)
    return 0 if sync.state == "done" else 1


def _counts(sync: SyncOut) -> str:
    words = ("added", "changed", "moved", "removed", "unchanged", "skipped", "failed")
    return (
        ", ".join(f"{count:,} {word}" for word in words if (count := getattr(sync, word)))
        or "nothing there"
    )


def _print_run(context: Context, sync: SyncOut) -> None:
    context.say(f"{sync.state}: {_counts(sync)}", markup=False)
    if sync.passages:
        reused = sync.passages - sync.embedded
        context.say(
            f"{sync.words:,} words in {sync.passages:,} passages, of which {reused:,} had their"
            f" vectors; {size(sync.bytes)} read"
        )
    if sync.tokens_used:
        context.say(f"{number(sync.tokens_used)} tokens used, cost {money(sync.cost)}")
    for reason, count in sync.skip_reasons.items():
        context.say(f"{count:,} skipped: {reason}", markup=False)
    if sync.error:
        print(f"fontanel: {sync.error}", file=sys.stderr)
    if sync.held_reason:
        print(
            f"fontanel: {sync.held_reason} Look with 'fontanel source run SOURCE --outcome"
            " missing', then 'fontanel source confirm' or 'fontanel source reject'.",
            file=sys.stderr,
        )


def _runs_table(context: Context, runs: list[SyncOut]) -> Any:
    rows = [
        (
            r.id,
            moment(r.created_at),
            r.cause,
            r.state,
            _counts(r),
            (
                f"{(r.finished_at - r.started_at).total_seconds():.1f} s"
                if r.finished_at and r.started_at
                else None
            ),
            _stages(r.seconds),
            r.held_reason or r.error,
        )
        for r in runs
    ]
    return context.table(
        rows,
        run="left",
        when="left",
        cause="left",
        state="left",
        items="left",
        took="right",
        stages="left",
        why="left",
    )


def _stages(seconds: dict[str, float]) -> str | None:
    return (
        ", ".join(
            f"{stage} {run_seconds(value)}" for stage, value in seconds.items() if value >= 0.05
        )
        or None
    )


def list_runs(context: Context, options: argparse.Namespace) -> None:
    runs = context.client.list_syncs(context.kb(), options.source)
    context.show(runs, _runs_table(context, runs) if runs else "It has not run yet.")


def show_run(context: Context, options: argparse.Namespace) -> None:
    client, kb = context.client, context.kb()
    items = list(client.list_sync_items(kb, options.source, options.run_id, options.outcome))
    if context.json:
        context.show(items)
        return
    _print_run(context, client.show_sync(kb, options.source, options.run_id))
    rows = [
        (
            i.outcome,
            i.name or i.id,
            i.reason or i.error,
            i.state and i.state.replace("_", " "),
            size(i.bytes) if i.bytes else None,
            number(i.words) if i.words is not None else None,
            number(i.passages) if i.passages is not None else None,
            number(i.embedded) if i.passages is not None else None,
        )
        for i in items
    ]
    if rows:
        context.say(
            context.table(
                rows,
                did="left",
                item="left",
                why="left",
                state="left",
                size="right",
                words="right",
                passages="right",
                embedded="right",
            )
        )


def decide_run(context: Context, options: argparse.Namespace) -> int:
    client, kb = context.client, context.kb()
    if options.decision == "confirm":
        sync = client.confirm_sync(kb, options.source, options.run_id)
        return _follow(context, kb, options.source, sync.id)
    sync = client.reject_sync(kb, options.source, options.run_id)
    context.show(sync, "Nothing is removed.")
    return 0


_PAUSE = 0.3


def run_seconds(value: float) -> str:
    return f"{value:.1f} s" if value < 120 else f"{value / 60:.0f} min"
