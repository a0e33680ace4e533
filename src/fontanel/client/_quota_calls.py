"""Calls about quotas."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._call import Call, quoted


class QuotaCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def quotas(self) -> Call[s.TeamQuotas]:
        return Call("GET", f"{self._team()}/quotas", s.TeamQuotas)

    def set_quotas(self, team: str, quotas: s.QuotasIn) -> Call[s.TeamQuotas]:
        return Call("PUT", f"/teams/{quoted(team)}/quotas", s.TeamQuotas, quotas)

    def all_quotas(self) -> Call[s.AllQuotas]:
        return Call("GET", "/quotas", s.AllQuotas)

    def set_default_quotas(self, quotas: s.QuotasIn) -> Call[s.AllQuotas]:
        return Call("PUT", "/quotas", s.AllQuotas, quotas)
