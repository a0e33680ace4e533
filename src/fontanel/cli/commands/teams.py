"""`fontanel team`, `notice` and `receiver`."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, size
from fontanel.client import team_archive
from fontanel.schemas import TeamChange


def add_commands(noun: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    team = noun("team", "teams")
    verb(team, "list", list_teams, "list your teams", common)
    granting = verb(
        team,
        "grant",
        set_grants,
        "set the folders and private networks that a team's sources may read; operators only",
        common,
    )
    granting.add_argument("name", metavar="TEAM")
    granting.add_argument(
        "--folder",
        action="append",
        default=[],
        help="a folder within FONTANEL_SOURCE_ROOTS; may be repeated",
    )
    granting.add_argument(
        "--network",
        action="append",
        default=[],
        help="a network within FONTANEL_SOURCE_NETWORKS; may be repeated",
    )
    granting.add_argument(
        "--everything", action="store_true", help="everything that the service allows"
    )
    create = verb(team, "create", create_team, "create a team; for operators (--email)", common)
    create.add_argument("name")
    change = verb(
        team,
        "change",
        change_team,
        "rename the team, or change its time zone, retention and budget",
        common,
    )
    change.add_argument("--name")
    change.add_argument("--time-zone", metavar="ZONE", help="for instance Europe/Berlin")
    change.add_argument(
        "--kept-days", type=int, metavar="DAYS", help="days to keep conversations; 0 for unlimited"
    )
    change.add_argument(
        "--records-kept-days",
        type=int,
        metavar="DAYS",
        help="days to keep records of how answers were made; 0 for unlimited",
    )
    change.add_argument(
        "--originals-kept-days",
        type=int,
        metavar="DAYS",
        help="days to keep originals of earlier revisions; 0 for unlimited",
    )
    change.add_argument(
        "--monthly-tokens",
        type=int,
        metavar="TOKENS",
        help="monthly budget of model tokens; 0 for unlimited",
    )
    change.add_argument(
        "--show-askers",
        choices=["yes", "no"],
        help="whether editors see who asked a question that was not answered well",
    )
    export = verb(
        team, "export", export_team, "export the team to a file, for another service", common
    )
    export.add_argument(
        "--to", type=Path, help="file to write (default: the team's short name, here)"
    )
    imported = verb(team, "import", import_team, "import an exported team into this team", common)
    imported.add_argument("file", type=Path)
    verb(
        noun("notice", "events of the team's sources"),
        "list",
        list_notices,
        "list notices",
        common,
    )
    receiver = noun("receiver", "addresses that notices are sent to")
    verb(receiver, "list", list_receivers, "list receivers", common)
    to = verb(
        receiver, "add", add_receiver, "send notices to an address as signed CloudEvents", common
    )
    to.add_argument("address", metavar="URL")
    to.add_argument(
        "--kind",
        action="append",
        default=[],
        help="only this kind, such as sync.failed or answer.declined; may be repeated",
    )
    verb(
        receiver, "remove", remove_receiver, "stop sending notices to an address", common
    ).add_argument("id")


def list_teams(context: Context, options: argparse.Namespace) -> None:
    teams = context.client.list_teams()
    context.show(
        teams,
        context.table(
            [(t.slug, t.name, moment(t.created_at)) for t in teams],
            team="left",
            name="left",
            created="left",
        ),
    )


def create_team(context: Context, options: argparse.Namespace) -> None:
    team = context.client.create_team(options.name)
    context.show(
        team,
        f"Created {team.slug}. Invite its owner with 'fontanel invitation create --team {team.slug}"
        " --role owner EMAIL NAME'.",
    )


def set_grants(context: Context, options: argparse.Namespace) -> None:
    if options.everything and (options.folder or options.network):
        raise UsageProblem("Pass --everything, or name folders and networks.")
    folders, networks = (None, None) if options.everything else (options.folder, options.network)
    team = context.client.set_grants(options.name, folders, networks)
    shown = [
        "all" if granted is None else ", ".join(granted) or "none"
        for granted in (team.source_folders, team.source_networks)
    ]
    context.show(
        team, f"Sources of {team.name} may read folders: {shown[0]}; private networks: {shown[1]}."
    )


#: What a team keeps for a number of days, by the name of the setting.
_KEPT = {
    "kept_days": "conversations",
    "records_kept_days": "records of how answers were made",
    "originals_kept_days": "originals of earlier revisions",
}


def _step(context: Context) -> Callable[[str], None]:
    """Return how a step is reported: on the error stream, as the result may be for a program."""
    return lambda step: context.err.print(step, markup=False)


def export_team(context: Context, options: argparse.Namespace) -> None:
    target: Path = options.to or Path(f"{context.client.team}.zip")
    if target.exists() and options.to is None:
        raise UsageProblem(f"{target} exists. Name another file with --to.")
    archive = team_archive.export_team(context.client, target, _step(context))
    lines = [
        f"Saved {target}, {size(target.stat().st_size)}.",
        f"Knowledge bases: {len(archive.kbs)}, desks: {len(archive.desks)},"
        f" question sets: {len(archive.sets)}.",
        *(f"  {note}" for note in archive.notes),
    ]
    context.show(archive, "\n".join(lines))


def import_team(context: Context, options: argparse.Namespace) -> int:
    done = team_archive.import_team(context.client, options.file, _step(context))
    lines = [f"Added: {len(done.added)}. Already there: {len(done.existing)}."]
    lines += [f"  Problem: {problem}" for problem in done.problems]
    context.show(done, "\n".join(lines))
    return 1 if done.problems else 0


def change_team(context: Context, options: argparse.Namespace) -> None:
    names = ("name", "time_zone", *_KEPT, "monthly_tokens")
    values = {name: getattr(options, name) for name in names}
    # 0 means without bound, which the service calls null.
    texts = {name: value or None for name, value in values.items() if value is not None}
    if options.show_askers is not None:
        texts["show_askers"] = options.show_askers == "yes"
    if not texts:
        raise UsageProblem("Say what to change; see --help.")
    team = context.client.change_team(TeamChange(**texts))
    kept = [
        f"{kept} kept {f'for {days} days' if (days := getattr(team, name)) else 'without limit'}"
        for name, kept in _KEPT.items()
    ]
    tokens = (
        f"{team.monthly_tokens:,} tokens a month" if team.monthly_tokens else "no bound on tokens"
    )
    lines = [f"{team.name}, time zone {team.time_zone}, {tokens}", *(f"  {one}" for one in kept)]
    context.show(team, "\n".join(lines))


def list_notices(context: Context, options: argparse.Namespace) -> None:
    notices = context.client.list_notices().items
    table = context.table(
        [(moment(n.created_at), n.kind, n.message) for n in notices],
        when="left",
        kind="left",
        notice="left",
    )
    context.show(notices, table if notices else "Nothing has happened yet.")


def list_receivers(context: Context, options: argparse.Namespace) -> None:
    receivers = context.client.list_receivers()
    rows = [
        (r.id, r.url, ", ".join(r.kinds) or "all", moment(r.last_sent_at), r.failing)
        for r in receivers
    ]
    table = context.table(
        rows, id="left", address="left", kinds="left", last_sent="left", trouble="left"
    )
    context.show(
        receivers,
        (
            table
            if receivers
            else "Notices are sent nowhere. Add an address with 'fontanel receiver add URL'."
        ),
    )


def add_receiver(context: Context, options: argparse.Namespace) -> None:
    made = context.client.add_receiver(options.address, options.kind)
    context.show(made, f"{made.id}: events are signed with {made.secret} (shown once).")


def remove_receiver(context: Context, options: argparse.Namespace) -> None:
    context.client.remove_receiver(options.id)
