"""Quotas of teams.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._sync.base import BaseClient


class QuotaClient(BaseClient):
    """What teams may have and use."""

    def quotas(self) -> s.TeamQuotas:
        """Return the team's quotas, and how much of them is used."""
        return self._send(self._calls.quotas())

    def set_quotas(self, team: str, quotas: s.QuotasIn) -> s.TeamQuotas:
        """Replace a team's own quotas (operators only).

        What is not set has the default; None means without limit.
        """
        return self._send(self._calls.set_quotas(team, quotas))

    def all_quotas(self) -> s.AllQuotas:
        """Return the default quotas and those of all teams (operators only)."""
        return self._send(self._calls.all_quotas())

    def set_default_quotas(self, quotas: s.QuotasIn) -> s.AllQuotas:
        """Replace the quotas of teams without their own (operators only)."""
        return self._send(self._calls.set_default_quotas(quotas))
