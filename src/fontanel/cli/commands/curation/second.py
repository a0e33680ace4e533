"""`fontanel desk second`: a second published version for a share of the askers."""

from __future__ import annotations

import argparse
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, percent
from fontanel.schemas import EstimateOut, SecondVersionOut, ShareOut, VersionFigures


def add_command(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    second = verb(
        group, "second", second_version, "serve a second version to a share of the askers", common
    )
    second.add_argument("desk", metavar="DESK")
    second.add_argument("--version", type=int, help="the version that some askers get")
    second.add_argument("--share", type=int, help="per cent of the askers who get it")
    what = second.add_mutually_exclusive_group()
    what.add_argument("--promote", action="store_true", help="publish the second version")
    what.add_argument("--end", action="store_true", help="serve the published version to all")


def second_version(context: Context, options: argparse.Namespace) -> None:
    client = context.client
    if options.promote or options.end:
        act = client.promote_second_version if options.promote else client.end_second_version
        desk = act(options.desk)
        number = desk.published.number if desk.published else 0
        context.show(desk, f"All askers get version {number}.")
        return
    if (options.version is None) != (options.share is None):
        raise UsageProblem("Give both --version and --share.")
    if options.version is not None:
        desk = client.set_second_version(options.desk, options.version, options.share)
        context.show(
            desk, f"{desk.second_share} % of the askers get version {desk.second_version}."
        )
        return
    _print(context, client.show_second_version(options.desk))


def _print(context: Context, both: SecondVersionOut) -> None:
    first, second = both.first, both.second
    table = context.table(
        [
            ("askers", first.askers, second.askers),
            ("questions", first.questions, second.questions),
            ("declined", _share(first.declined), _share(second.declined)),
            ("helpful", _share(first.helpful), _share(second.helpful)),
            ("tokens", _estimate(first.tokens, 0), _estimate(second.tokens, 0)),
            ("cost", _estimate(first.cost, 5), _estimate(second.cost, 5)),
            ("seconds, median", _estimate(first.seconds, 2), _estimate(second.seconds, 2)),
            ("seconds, p95", _p95(first), _p95(second)),
        ],
        figure="left",
        **{f"version {first.version}": "right", f"version {second.version}": "right"},
    )
    context.show(both, table)
    if not context.json:
        context.say(
            f"{both.share} % of the askers get version {second.version},"
            f" since {moment(both.since)}."
        )


def _share(share: ShareOut) -> str:
    if not share.of:
        return "-"
    return f"{percent(share.count / share.of)} ({percent(share.low)} to {percent(share.high)})"


def _estimate(value: EstimateOut | None, places: int) -> str:
    if value is None:
        return "-"
    return f"{value.value:.{places}f} ({value.low:.{places}f} to {value.high:.{places}f})"


def _p95(figures: VersionFigures) -> str:
    return "-" if figures.p95_seconds is None else f"{figures.p95_seconds:.2f}"
