"""Quotas of teams."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fontanel.facts import QuotaName
from fontanel.schemas.base import Model

Limit = Annotated[int | None, Field(ge=0, le=1_000_000_000_000_000)]
PerMinute = Annotated[int | None, Field(ge=0, le=1_000_000)]
#: What a quota counts in.
Period = Literal["total", "month", "now", "minute"]


class QuotasIn(Model):
    """Limits by name; null means without limit.

    Of a team, what is left out has the default; of the defaults, what is left out has no limit.
    """

    documents: Limit = Field(None, description="Documents in all knowledge bases.")
    bytes: Limit = Field(None, description="Bytes of the originals, earlier revisions included.")
    passages: Limit = Field(None, description="Passages of the active editions.")
    questions: Limit = Field(None, description="Questions in a calendar month.")
    tokens: Limit = Field(None, description="Tokens of models in a calendar month.")
    recording_minutes: Limit = Field(
        None, description="Minutes of recordings that are transcribed in a calendar month."
    )
    streams: Limit = Field(None, description="Event streams that are open at the same time.")
    requests_per_minute: PerMinute = Field(None, description="Of each key, person and guest.")
    questions_per_minute: PerMinute = Field(None, description="Of each key, person and guest.")


class QuotaOut(Model):
    """One quota; `state` is none (without a limit), fine, low (from 80 %) or reached."""

    name: QuotaName
    limit: int | None
    used: int | None = Field(description="Null for rates, which each caller has apart.")
    share: float | None
    state: Literal["none", "fine", "low", "reached"]
    own: bool = Field(description="Whether the limit is the team's own instead of the default.")
    per: Period


class TeamQuotas(Model):
    """The quotas of a team."""

    team: str = Field(description="The short name of the team.")
    name: str
    quotas: list[QuotaOut]


class AllQuotas(Model):
    """The defaults, and the quotas of all teams, those with the largest share in use first."""

    defaults: QuotasIn
    teams: list[TeamQuotas]
