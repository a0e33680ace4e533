"""`fontanel team`, `member`, `key`, and signing in."""

from __future__ import annotations

import argparse
from typing import Any

from fontanel.cli.context import Context, UsageProblem, write_profile
from fontanel.cli.format import ago
from fontanel.schemas import TeamChange

_ROLES = ["reader", "editor", "owner"]


def add_commands(noun: Any, verb: Any, commands: Any, common: argparse.ArgumentParser) -> None:
    team = noun("team", "teams")
    verb(team, "list", list_teams, "list the teams you reach", common)
    create = verb(team, "create", create_team, "create a team; for operators (--email)", common)
    create.add_argument("name")
    change = verb(team, "change", change_team, "rename the team, or set the time zone of its cron lines", common)
    change.add_argument("--name")
    change.add_argument("--time-zone", metavar="ZONE", help="for instance Europe/Berlin")
    change.add_argument("--kept-days", type=int, metavar="DAYS", help="keep conversations so long; 0 for good")
    change.add_argument(
        "--monthly-tokens", type=int, metavar="TOKENS", help="what desks may use of models; 0 without bound"
    )
    verb(noun("notice", "what happened to the team's sources"), "list", list_notices, "list notices", common)
    receiver = noun("receiver", "addresses that notices are sent to")
    verb(receiver, "list", list_receivers, "list receivers", common)
    to = verb(receiver, "add", add_receiver, "send notices to an address as signed CloudEvents", common)
    to.add_argument("address", metavar="URL")
    to.add_argument("--kind", action="append", default=[], help="only notices of this kind; may be repeated")
    verb(receiver, "remove", remove_receiver, "send no more notices to an address", common).add_argument("id")
    member = noun("member", "people in the team")
    verb(member, "list", list_members, "list members", common)
    add = verb(member, "add", add_member, "add a member; someone new gets a password, shown once", common)
    add.add_argument("member", metavar="EMAIL")
    add.add_argument("name")
    add.add_argument("--role", choices=_ROLES, default="reader")
    remove = verb(member, "remove", remove_member, "remove a member", common)
    remove.add_argument("member", metavar="EMAIL")
    key = noun("key", "access keys for programs")
    verb(key, "list", list_keys, "list keys", common)
    make = verb(key, "make", make_key, "make a key, shown once", common)
    make.add_argument("name")
    make.add_argument("--role", choices=_ROLES, default="reader")
    make.add_argument("--only", action="append", metavar="KB", help="reach this knowledge base only; may be repeated")
    make.add_argument("--days", type=int, help="days until it expires (default: never)")
    revoke = verb(key, "revoke", revoke_key, "revoke a key", common)
    revoke.add_argument("id")
    sign_in = verb(
        commands, "sign-in", keep_profile, "keep address, key, team and knowledge base for later commands", common
    )
    sign_in.add_argument("--kb", help="the knowledge base to use when none is named")
    verb(commands, "whoami", show_session, "show whose key is in use and what it reaches", common)


def list_teams(context: Context, options: argparse.Namespace) -> None:
    teams = context.client.list_teams()
    context.show(
        teams,
        context.table([(t.slug, t.name, ago(t.created_at)) for t in teams], team="left", name="left", created="left"),
    )


def create_team(context: Context, options: argparse.Namespace) -> None:
    team = context.client.create_team(options.name)
    context.show(
        team,
        f"Created {team.slug}. Add its owner with 'fontanel member add --team {team.slug} --role owner EMAIL NAME'.",
    )


def change_team(context: Context, options: argparse.Namespace) -> None:
    given = {name: getattr(options, name) for name in ("name", "time_zone", "kept_days", "monthly_tokens")}
    # 0 means without bound, which the service calls null.
    said = {name: (value or None) for name, value in given.items() if value is not None}
    if not said:
        raise UsageProblem("Say --name, --time-zone, --kept-days or --monthly-tokens.")
    team = context.client.change_team(TeamChange(**said))
    kept = f"conversations kept for {team.kept_days} days" if team.kept_days else "conversations kept for good"
    tokens = f"{team.monthly_tokens:,} tokens a month" if team.monthly_tokens else "no bound on tokens"
    context.show(team, f"{team.name}, time zone {team.time_zone}, {kept}, {tokens}")


def list_notices(context: Context, options: argparse.Namespace) -> None:
    notices = context.client.list_notices().items
    table = context.table(
        [(ago(n.created_at), n.kind, n.message) for n in notices], when="left", kind="left", notice="left"
    )
    context.show(notices, table if notices else "Nothing has happened yet.")


def list_receivers(context: Context, options: argparse.Namespace) -> None:
    receivers = context.client.list_receivers()
    rows = [(r.id, r.url, ", ".join(r.kinds) or "all", ago(r.last_sent_at), r.failing) for r in receivers]
    table = context.table(rows, id="left", address="left", kinds="left", last_sent="left", trouble="left")
    context.show(
        receivers, table if receivers else "Notices are sent nowhere. Add an address with 'fontanel receiver add URL'."
    )


def add_receiver(context: Context, options: argparse.Namespace) -> None:
    made = context.client.add_receiver(options.address, options.kind)
    context.show(made, f"{made.id}: events are signed with {made.secret} (shown once).")


def remove_receiver(context: Context, options: argparse.Namespace) -> None:
    context.client.remove_receiver(options.id)


def list_members(context: Context, options: argparse.Namespace) -> None:
    members = context.client.list_members()
    rows = [(m.email, m.name, m.role, ago(m.created_at)) for m in members]
    context.show(members, context.table(rows, member="left", name="left", role="left", since="left"))


def add_member(context: Context, options: argparse.Namespace) -> None:
    made = context.client.add_member(options.member, options.name, options.role)
    shown = f" The password is {made.password} and is not shown again." if made.password else ""
    context.show(made, f"{made.email} is {made.role}.{shown}")


def remove_member(context: Context, options: argparse.Namespace) -> None:
    context.client.remove_member(options.member)
    context.show([], f"Removed {options.member}.")


def list_keys(context: Context, options: argparse.Namespace) -> None:
    keys = context.client.list_keys()
    rows = [
        (k.id, k.name, f"{k.start}...", k.role, ago(k.last_used_at), k.expires_at and k.expires_at.date()) for k in keys
    ]
    context.show(
        keys, context.table(rows, id="left", name="left", key="left", role="left", last_used="left", expires="left")
    )


def make_key(context: Context, options: argparse.Namespace) -> None:
    made = context.client.make_key(options.name, options.role, options.only, options.days)
    context.show(made, f"{made.secret}\nThis is the key; it is not shown again.")


def revoke_key(context: Context, options: argparse.Namespace) -> None:
    context.client.revoke_key(options.id)
    context.show([], "Revoked.")


def keep_profile(context: Context, options: argparse.Namespace) -> None:
    if options.email:
        raise UsageProblem("Only a key can be kept. Make one with 'fontanel key make NAME --email ...'.")
    session = context.client.session()
    values = {name: context.setting(name) for name in ("url", "key", "team", "kb")}
    if values["team"] is None and len(session.teams) == 1:
        values["team"] = session.teams[0].slug
    path = write_profile({name: value for name, value in values.items() if value})
    context.show(session, f"Kept in {path}.")


def show_session(context: Context, options: argparse.Namespace) -> None:
    session = context.client.session()
    reach = ", ".join(f"{team.name} ({team.role})" for team in session.teams) or "no team"
    operator = ", operator" if session.operator else ""
    context.show(session, f"{session.name}{operator}: {reach}")
