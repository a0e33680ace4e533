"""Quotas of teams."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient


class AsyncQuotaClient(AsyncBaseClient):
    """What teams may have and use."""

    async def quotas(self) -> s.TeamQuotas:
        """Return the team's quotas, and how much of them is used."""
        return await self._send(self._calls.quotas())

    async def set_quotas(self, team: str, quotas: s.QuotasIn) -> s.TeamQuotas:
        """Replace a team's own quotas (operators only).

        What is not set has the default; None means without limit.
        """
        return await self._send(self._calls.set_quotas(team, quotas))

    async def all_quotas(self) -> s.AllQuotas:
        """Return the default quotas and those of all teams (operators only)."""
        return await self._send(self._calls.all_quotas())

    async def set_default_quotas(self, quotas: s.QuotasIn) -> s.AllQuotas:
        """Replace the quotas of teams without their own (operators only)."""
        return await self._send(self._calls.set_default_quotas(quotas))
