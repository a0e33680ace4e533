"""What was asked and used."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from fontanel.schemas.base import Model


class UsageRow(Model):
    """The usage of a day, desk, knowledge base, asker, model or source, by its id and name.

    Each question counts in one row: `questions` is the sum of `answered`, `declined` and
    `unfinished`.
    """

    key: str
    name: str
    questions: int
    tool_calls: int = Field(description="Calls of tools by programs, besides questions.")
    answered: int
    approved: int = Field(description="Those answered with an approved answer.")
    declined: int
    unfinished: int = Field(description="Stopped by the asker, interrupted or failed.")
    helpful: int
    not_helpful: int
    tokens_read: int
    tokens_written: int
    cost: float
    median_seconds: float | None
    p95_seconds: float | None


class BudgetOut(Model):
    """The team's monthly token budget.

    `state` is none, fine, low (from 80 %) or spent.
    """

    monthly_tokens: int | None = Field(description="The team's own budget.")
    limit: int | None = Field(description="The budget, or the team's quota if that is lower.")
    used: int
    share: float | None
    state: Literal["none", "fine", "low", "spent"]
    since: datetime


class TeamUsage(Model):
    """What a team used, for operators; the row's `key` is the team's slug."""

    used: UsageRow
    budget: BudgetOut


class UsageOut(Model):
    by: Literal["day", "desk", "kb", "member", "model", "source"]
    rows: list[UsageRow]
    total: UsageRow
    budget: BudgetOut
