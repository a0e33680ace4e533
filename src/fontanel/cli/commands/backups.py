"""`fontanel backup` and `fontanel restore`."""

from __future__ import annotations

import argparse
import getpass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment
from fontanel.cli.format import size as size_text
from fontanel.cli.options.asking_first import ask_first
from fontanel.schemas import BackupOut

if TYPE_CHECKING:
    from fontanel.engine.backup.repository import Manifest, Repository


def add_commands(commands: Any, group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    start = verb(group, "start", start_backup, "take a backup of the running service", common)
    start.add_argument("--wait", action="store_true", help="until it is done, with progress")
    verb(group, "list", list_backups, "list the backups of the service", common)
    contents = verb(
        group, "contents", list_contents, "list the backups in a place, without the service"
    )
    check = verb(
        group,
        "verify",
        verify_backup,
        "read all of a backup, open it and ask it a question, without the service",
    )
    check.add_argument("backup", nargs="?", metavar="ID", help="default: the newest")
    restore = verb(commands, "restore", restore_backup, "restore a backup into a new directory")
    restore.add_argument("target", type=Path, metavar="DIRECTORY", help="the new data directory")
    restore.add_argument("--backup", metavar="ID", help="which one (default: the newest)")
    restore.add_argument("--only-team", metavar="TEAM", help="restore only this team")
    for parser in (contents, check, restore):
        parser.add_argument(
            "--from",
            dest="place",
            help="the folder, or s3://BUCKET/PREFIX (FONTANEL_BACKUP);"
            " FONTANEL_BACKUP_KEY has the key of encrypted ones",
        )


def add_upgrade_commands(group: Any, verb: Any) -> None:
    listed = verb(group, "list", list_upgrades, "list the copies from before upgrades")
    undo = verb(
        group, "undo", undo_last_upgrade, "put back the records from before the last upgrade"
    )
    for parser in (listed, undo):
        parser.add_argument("--data", type=Path, required=True, help="the data directory")
    ask_first(
        undo,
        "Put back the records from before the last upgrade? What was done since is put aside.",
    )


def list_upgrades(context: Context, options: argparse.Namespace) -> None:
    from fontanel.records.copies import copies_before_upgrades

    rows = [
        (one.schema, moment(one.at), size_text(one.path.stat().st_size))
        for one in copies_before_upgrades(options.data)
    ]
    table = context.table(rows, records="left", upgraded="left", size="right")
    context.say(table if rows else "No copy from before an upgrade.")


def undo_last_upgrade(context: Context, options: argparse.Namespace) -> None:
    from fontanel.engine.auditing.machine import leave_for_log
    from fontanel.engine.runtime.runtime import lock_directory
    from fontanel.records.copies import undo_upgrade

    with lock_directory(options.data):
        copy, aside = undo_upgrade(options.data)
        leave_for_log(options.data, "upgrade.undo", aside.name, getpass.getuser())
    context.say(
        f"Put back the records of version {copy.schema} from {moment(copy.at)}.\n"
        f"Those from after the upgrade are in {aside}.\n"
        "Start the version of Fontanel that you used before.",
        markup=False,
    )


def start_backup(context: Context, options: argparse.Namespace) -> int:
    started = context.client.start_backup()
    if not options.wait:
        context.show(started, f"Backup {started.id} was started.")
        return 0
    last = started
    with _bar(context) as bar:
        task = bar.add_task("Backing up", total=None)
        for last in context.client.wait_for_backup(started.id):
            bar.update(task, completed=last.done, total=last.total or None)
    context.show(last, _summary(last))
    return 0 if last.state == "done" else 1


def _summary(backup: BackupOut) -> str:
    if backup.state == "failed":
        return f"Backup {backup.id} failed: {backup.error}"
    return (
        f"Backup {backup.id}: {size_text(backup.done)} of {backup.documents} documents,"
        f" {size_text(backup.new)} new.\nChecked: {backup.checked}."
    )


def list_backups(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_backups()
    table = context.table(
        [
            (
                one.id,
                moment(one.created_at),
                "deleted" if one.deleted_at else one.state,
                size_text(one.done),
                size_text(one.new),
                one.documents,
                one.error or one.checked,
            )
            for one in result.items
        ],
        backup="left",
        taken="left",
        state="left",
        size="right",
        new="right",
        documents="right",
        note="left",
    )
    context.show(result, table if result.items else "No backup yet.")
    if context.json:
        return
    due = f" Next: {moment(result.next_at)}." if result.next_at else ""
    where = f"to {result.place}" if result.place else "nowhere: FONTANEL_BACKUP is not set"
    context.say(f"\nTaken {where}; kept for {result.days} days.{due}", markup=False)


def list_contents(context: Context, options: argparse.Namespace) -> None:
    repository = _repository(options.place)
    rows = [
        (
            one.id,
            moment(one.at),
            one.version,
            size_text(one.bytes),
            one.documents,
            ", ".join(one.teams),
        )
        for one in repository.manifests()
    ]
    columns = ("backup", "taken", "version", "size", "documents", "teams")
    sides = ("left", "left", "left", "right", "right", "left")
    table = context.table(rows, **dict(zip(columns, sides, strict=True)))
    context.say(table if rows else "No backup in this place.")


def verify_backup(context: Context, options: argparse.Namespace) -> None:
    from fontanel.engine.answering.local_models import LocalModels
    from fontanel.engine.backup.checking import check_backup
    from fontanel.settings import Settings

    repository = _repository(options.place)
    manifest = _chosen(repository, options.backup)
    settings = Settings()
    models = LocalModels(settings.embedder_directory, settings.evidence_directory)
    context.say(f"{manifest.id}: {check_backup(repository, manifest, models, full=True)}.")


def restore_backup(context: Context, options: argparse.Namespace) -> None:
    from fontanel.engine.auditing.machine import leave_for_log
    from fontanel.engine.backup.restoring import restore

    repository = _repository(options.place)
    manifest = _chosen(repository, options.backup)
    with _bar(context) as bar:
        task = bar.add_task("Restoring", total=None)
        restore(
            repository,
            manifest,
            options.target,
            options.only_team,
            lambda now: bar.update(task, completed=now.done, total=now.total),
        )
    leave_for_log(options.target, "backup.restore", manifest.id, getpass.getuser())
    context.say(f"Restored {manifest.id} to {options.target}.", markup=False)
    if not manifest.secrets:
        context.say(
            "The backup is not encrypted, so it has no credentials of sources, models and"
            " channels: enter them again, or copy secret.key from the old directory."
        )
    context.say(
        f"Look into it with 'fontanel serve --data {options.target} --port 8461 --read-only'.",
        markup=False,
    )


def _repository(place: str | None) -> Repository:
    from fontanel.engine.backup.repository import open_repository
    from fontanel.settings import Settings

    settings = Settings()
    return open_repository(
        settings if place is None else settings.model_copy(update={"backup": place})
    )


def _chosen(repository: Repository, backup_id: str | None) -> Manifest:
    ids = repository.ids()
    if not ids:
        raise UsageProblem("There is no backup in this place.")
    return repository.manifest(backup_id or ids[0])


def _bar(context: Context) -> Progress:
    columns = (TextColumn("{task.description}"), BarColumn(), DownloadColumn())
    return Progress(*columns, console=context.err, disable=not context.lively, transient=True)
