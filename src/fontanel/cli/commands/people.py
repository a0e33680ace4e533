"""`fontanel member`, `invitation`, `key`, and signing in."""

from __future__ import annotations

import argparse
import sys
from typing import Any, get_args

from fontanel.cli.commands.erasing import add_for_people
from fontanel.cli.context import Context, UsageProblem, new_password, write_profile
from fontanel.cli.format import moment
from fontanel.cli.options.asking_first import ask_first
from fontanel.schemas.base import RoleName

_ROLES = get_args(RoleName)


def add_commands(noun: Any, verb: Any, commands: Any, common: argparse.ArgumentParser) -> None:
    member = noun("member", "people in the team")
    verb(member, "list", list_members, "list members", common)
    change = verb(member, "change", change_member, "give a member another role", common)
    change.add_argument("member", metavar="EMAIL")
    change.add_argument("--role", required=True, choices=_ROLES)
    remove = verb(member, "remove", remove_member, "remove a member", common)
    remove.add_argument("member", metavar="EMAIL")
    ask_first(remove, "Remove {member} from the team?")
    link = verb(
        member,
        "password-link",
        make_password_link,
        "create a link to set a new password; operators only",
        common,
    )
    link.add_argument("member", metavar="EMAIL")
    session = noun("session", "where you are signed in to the console (with --email)")
    verb(session, "list", list_sign_ins, "list where you are signed in", common)
    verb(session, "end-others", end_other_sign_ins, "sign out everywhere else", common)
    password = noun("password", "your own password")
    new = verb(password, "set", set_password, "set a new password with a link", common)
    new.add_argument("link", metavar="LINK")
    invitation = noun("invitation", "invitations to the team")
    verb(invitation, "list", list_invitations, "list open invitations", common)
    invite = verb(
        invitation,
        "create",
        create_invitation,
        "invite somebody; prints a link that works once",
        common,
    )
    invite.add_argument("member", metavar="EMAIL")
    invite.add_argument("name")
    invite.add_argument("--role", choices=_ROLES, default="reader")
    invite.add_argument("--days", type=int, default=7, help="days until it expires (default 7)")
    withdraw = verb(
        invitation,
        "withdraw",
        withdraw_invitation,
        "withdraw an invitation",
        common,
    )
    withdraw.add_argument("member", metavar="EMAIL")
    accept = verb(
        invitation, "accept", accept_invitation, "join a team with an invitation's link", common
    )
    accept.add_argument("link", metavar="LINK")
    accept.add_argument("--name", help="your name (default: as in the invitation)")
    person = noun("person", "people with an account; for operators")
    add_for_people(person, verb, common)
    key = noun("key", "access keys for programs")
    verb(key, "list", list_keys, "list keys", common)
    make = verb(key, "make", make_key, "create a key, which is shown once", common)
    make.add_argument("name")
    make.add_argument("--role", choices=_ROLES, default="reader")
    make.add_argument(
        "--only",
        action="append",
        metavar="KB",
        help="limit the key to this knowledge base; may be repeated",
    )
    make.add_argument(
        "--days", type=int, help="days until it expires (default: never; operators: at most 7)"
    )
    make.add_argument(
        "--per-minute",
        type=int,
        metavar="N",
        help="requests that it may send in a minute (default: as the team's quota allows)",
    )
    revoke = verb(key, "revoke", revoke_key, "revoke a key", common)
    revoke.add_argument("id")
    ask_first(revoke, "Revoke the key {id}? Programs that use it stop working.")
    sign_in = verb(
        commands,
        "sign-in",
        keep_profile,
        "store address, key, team and knowledge base for later commands",
        common,
    )
    sign_in.add_argument("--kb", help="the knowledge base to use when none is named")
    verb(commands, "whoami", show_session, "show the current key's owner, and its access", common)


def list_members(context: Context, options: argparse.Namespace) -> None:
    members = context.client.list_members()
    rows = [(m.email, m.name, m.role, moment(m.created_at)) for m in members]
    context.show(
        members, context.table(rows, member="left", name="left", role="left", since="left")
    )


def list_invitations(context: Context, options: argparse.Namespace) -> None:
    rows = context.client.list_invitations()
    table = context.table(
        [(row.email, row.name, row.role, row.invited_by, row.expires_at.date()) for row in rows],
        email="left",
        name="left",
        role="left",
        invited_by="left",
        expires="left",
    )
    context.show(rows, table if rows else "There are no open invitations.")


def create_invitation(context: Context, options: argparse.Namespace) -> None:
    made = context.client.invite(options.member, options.name, options.role, options.days)
    if made.url is None:
        context.show(made, f"An invitation was sent to {made.email}.")
    else:
        until = f"It works once, until {made.expires_at.date()}, and is not shown again."
        context.show(made, f"{made.url}\nThis link is for {made.email}. {until}")


def withdraw_invitation(context: Context, options: argparse.Namespace) -> None:
    context.client.withdraw_invitation(options.member)
    context.show([], f"Withdrew the invitation of {options.member}.")


def accept_invitation(context: Context, options: argparse.Namespace) -> None:
    """With --email as that person, who signs in; else a new account is created."""
    secret = options.link.rpartition("#")[2]
    if options.email:
        session = context.client.accept_invitation(secret)
    else:
        client = context.anonymous()
        face = client.open_invitation(secret)
        print(
            f"{face.invited_by} invites {face.email} to {face.team} as {face.role}.",
            file=sys.stderr,
        )
        session = client.accept_invitation(
            secret, options.name, new_password("Choose a password: ")
        )
    context.show(
        session, f"{session.name} reaches {', '.join(team.name for team in session.teams)}."
    )


def change_member(context: Context, options: argparse.Namespace) -> None:
    changed = context.client.change_member(options.member, options.role)
    context.show(changed, f"{changed.email} is now {changed.role}.")


def remove_member(context: Context, options: argparse.Namespace) -> None:
    context.client.remove_member(options.member)
    context.show([], f"Removed {options.member}.")


def make_password_link(context: Context, options: argparse.Namespace) -> None:
    made = context.client.make_password_link(options.member)
    context.show(
        made,
        f"{made.url}\nThis link is for {made.email}. It works once, within a day, and is not shown"
        " again.",
    )


def set_password(context: Context, options: argparse.Namespace) -> None:
    context.anonymous().set_password(
        options.link.rpartition("#")[2], new_password("Choose a password: ")
    )
    context.show([], "The new password is set. All sign-ins have ended.")


def list_sign_ins(context: Context, options: argparse.Namespace) -> None:
    rows = context.client.list_sign_ins()
    table = context.table(
        [
            (moment(row.created_at), row.address, row.agent, "this one" if row.current else "")
            for row in rows
        ],
        since="left",
        address="left",
        program="left",
        current="left",
    )
    context.show(rows, table if rows else "A key is not signed in anywhere.")


def end_other_sign_ins(context: Context, options: argparse.Namespace) -> None:
    context.client.end_other_sign_ins()
    context.show([], "Signed out everywhere else.")


def list_keys(context: Context, options: argparse.Namespace) -> None:
    keys = context.client.list_keys()
    rows = [
        (
            k.id,
            k.name,
            f"{k.start}...",
            k.role,
            f"{k.made_by} (operator)" if k.by_operator else k.made_by,
            moment(k.last_used_at),
            k.expires_at and k.expires_at.date(),
        )
        for k in keys
    ]
    columns = {
        "id": "left",
        "name": "left",
        "key": "left",
        "role": "left",
        "made_by": "left",
        "last_used": "left",
        "expires": "left",
    }
    context.show(keys, context.table(rows, **columns))


def make_key(context: Context, options: argparse.Namespace) -> None:
    made = context.client.make_key(
        options.name, options.role, options.only, options.days, options.per_minute
    )
    context.show(made, f"{made.secret}\nThis is the key; it is not shown again.")


def revoke_key(context: Context, options: argparse.Namespace) -> None:
    context.client.revoke_key(options.id)
    context.show([], "Revoked.")


def keep_profile(context: Context, options: argparse.Namespace) -> None:
    if options.email:
        raise UsageProblem(
            "Only a key can be stored. Create one with 'fontanel key make NAME --email ...'."
        )
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
