"""`fontanel usage`: questions, tokens and costs."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import Any

from fontanel.cli.context import Context
from fontanel.schemas import (
    UsageRow,
)


def show_usage(context: Context, options: argparse.Namespace) -> None:
    if options.csv:
        print(context.client.usage_csv(options.by, desk=options.desk), end="")
        return
    result = context.client.usage(options.by, desk=options.desk)
    if context.json:
        context.show(result)
        return
    context.say(_use_table(context, options.by, [*result.rows, result.total]))
    budget = result.budget
    if budget.limit is not None:
        context.say(
            f"\nTokens this month: {budget.used:,} used, {budget.share or 0:.0%} of the budget of"
            f" {budget.limit:,}."
        )


def show_team_usage(context: Context, options: argparse.Namespace) -> None:
    if options.csv:
        print(context.client.all_usage_csv(), end="")
        return
    result = context.client.all_usage()
    context.show(
        result,
        _use_table(context, "team", [team.used for team in result]) if result else "No team yet.",
    )
    for team in result:
        if team.budget.state in ("low", "spent") and not context.json:
            context.say(
                f"{team.used.name} has used {team.budget.used:,} of {team.budget.limit:,}"
                " tokens this month."
            )


def _use_table(context: Context, by: str, rows: Sequence[UsageRow]) -> Any:
    names = {
        by: "left",
        "questions": "right",
        "tool_calls": "right",
        "answered": "right",
        "approved": "right",
        "declined": "right",
        "unfinished": "right",
        "helpful": "right",
        "not_helpful": "right",
        "read": "right",
        "written": "right",
        "cost": "right",
        "median_s": "right",
        "p95_s": "right",
    }
    return context.table([_use(row) for row in rows], **names)


def _use(row: UsageRow) -> tuple[Any, ...]:
    def seconds(value: float | None) -> str:
        return "-" if value is None else f"{value:.2f}"

    return (
        row.name,
        row.questions,
        row.tool_calls,
        row.answered,
        row.approved,
        row.declined,
        row.unfinished,
        row.helpful,
        row.not_helpful,
        f"{row.tokens_read:,}",
        f"{row.tokens_written:,}",
        f"{row.cost:.4f}",
        seconds(row.median_seconds),
        seconds(row.p95_seconds),
    )
