"""`fontanel quota`: what teams may have and use."""

from __future__ import annotations

import argparse
import re
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import size as size_text
from fontanel.facts import QuotaName
from fontanel.schemas import QuotaOut, QuotasIn, TeamQuotas

_HELP: dict[QuotaName, str] = {
    "documents": "documents in all knowledge bases",
    "bytes": "bytes of the originals, such as 500M or 20G",
    "passages": "passages of the active editions",
    "questions": "questions in a calendar month",
    "tokens": "tokens of models in a calendar month",
    "recording_minutes": "minutes of recordings transcribed in a calendar month",
    "streams": "event streams that are open at the same time",
    "requests_per_minute": "requests of each key, person and guest",
    "questions_per_minute": "questions of each key, person and guest",
}
_UNITS = {"": 1, "k": 1_000, "m": 1_000_000, "g": 1_000_000_000, "t": 1_000_000_000_000}
_DEFAULT, _UNLIMITED = "default", "none"


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    verb(group, "show", show_quotas, "show the team's quotas and what it uses of them", common)
    verb(group, "list", list_quotas, "list the quotas of all teams; operators only", common)
    change = verb(group, "set", set_quotas, "set a team's own quotas; operators only", common)
    change.add_argument("name", metavar="TEAM")
    defaults = verb(
        group, "defaults", set_defaults, "set the quotas of all other teams; operators only", common
    )
    for parser, extra in ((change, ", or 'default'"), (defaults, "")):
        for name, about in _HELP.items():
            parser.add_argument(
                f"--{name.replace('_', '-')}", metavar="N", help=f"{about}, or 'none'{extra}"
            )


def show_quotas(context: Context, options: argparse.Namespace) -> None:
    result = context.client.quotas()
    context.show(result, _table(context, result))


def list_quotas(context: Context, options: argparse.Namespace) -> None:
    result = context.client.all_quotas()
    rows = [
        (team.team, quota.name, *_cells(quota))
        for team in result.teams
        for quota in team.quotas
        if quota.limit is not None and quota.used is not None
    ]
    columns = {"team": "left", "quota": "left", "used": "right", "limit": "right"}
    table = context.table(rows, **columns, share="right", state="left", set="left")
    context.show(result, table if rows else "No team has a limit.")


def set_quotas(context: Context, options: argparse.Namespace) -> None:
    before = next(
        (team for team in context.client.all_quotas().teams if team.team == options.name), None
    )
    own = {} if before is None else {one.name: one.limit for one in before.quotas if one.own}
    result = context.client.set_quotas(options.name, _changed(own, options))
    context.show(result, _table(context, result))


def set_defaults(context: Context, options: argparse.Namespace) -> None:
    before = context.client.all_quotas().defaults.model_dump()
    result = context.client.set_default_quotas(_changed(before, options))
    limits = result.defaults.model_dump()
    rows = [(name, _amount(name, limits[name])) for name in _HELP]
    context.show(result, context.table(rows, quota="left", default="right"))


def _changed(limits: dict[Any, int | None], options: argparse.Namespace) -> QuotasIn:
    """Return limits with those of the command line."""
    texts = {name: getattr(options, name) for name in _HELP if getattr(options, name) is not None}
    if not texts:
        raise UsageProblem("Name a quota, for instance --documents 5000.")
    for name, text in texts.items():
        if text == _DEFAULT:
            limits.pop(name, None)
        else:
            limits[name] = None if text == _UNLIMITED else _number(name, text)
    return QuotasIn(**limits)


def _number(name: str, text: str) -> int:
    match = re.fullmatch(r"(\d+(?:\.\d+)?)([kmgt]?)b?", text.replace(",", ""), re.IGNORECASE)
    if match is None:
        raise UsageProblem(f"--{name.replace('_', '-')} takes a number such as 5000, not {text!r}.")
    return int(float(match[1]) * _UNITS[match[2].lower()])


def _table(context: Context, team: TeamQuotas) -> Any:
    rows = [(quota.name, *_cells(quota)) for quota in team.quotas]
    columns = {"quota": "left", "used": "right", "limit": "right", "share": "right"}
    return context.table(rows, **columns, state="left", set="left")


def _cells(quota: QuotaOut) -> tuple[str, str, str, str, str]:
    used = "-" if quota.used is None else _amount(quota.name, quota.used)
    share = "-" if quota.share is None else f"{quota.share:.0%}"
    state = "-" if quota.limit is None else quota.state
    return used, _amount(quota.name, quota.limit), share, state, "own" if quota.own else "default"


def _amount(name: str, value: int | None) -> str:
    if value is None:
        return "none"
    return size_text(value) if name == "bytes" else f"{value:,}"
