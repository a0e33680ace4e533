"""Sources of a knowledge base: their settings checked, their credentials kept, opened, tried."""

from __future__ import annotations

import re
import time
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from apscheduler.triggers.cron import CronTrigger
from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.records.ids import new_id, new_secret, slug_of
from fontanel.records.tables import Document, DocumentState, Kb, Source, Sync, SyncState, Team, now
from fontanel.records.vault import Vault
from fontanel.settings import Settings
from fontanel.sources import KINDS, Kind, Listed, SettingsRefused, Skipped, Surroundings
from fontanel.sources import Source as OpenSource
from fontanel.sources.patterns import PatternRefused, check_pattern, matcher
from fontanel.sources.reach import Network, networks
from fontanel.work.documents import Refused, add_tags, check_tags, delete_document
from fontanel.work.isolated_source import IsolatedSource

_MOST_SOURCES = 100
#: A trial listing ends after so many items or seconds.
_TRIAL_ITEMS, _TRIAL_SECONDS, _SAMPLE = 2000, 15.0, 20
#: Seconds after which a trial that still waits for a server is given up.
TRIAL_LIMIT = 20.0
_FOLDER = re.compile(r"^[^/\\\0]{1,100}$")


@dataclass(frozen=True, slots=True)
class Trial:
    """What a look at a source showed: how many items would be taken, a sample of them, and what would be skipped and why.
    `complete` is False when the look ended before the listing did."""

    taken: int
    bytes: int | None
    sample: list[Listed]
    skipped: dict[str, int]
    skipped_sample: list[Skipped]
    complete: bool
    seconds: float


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a source is to be. `credentials` None keeps what there is."""

    name: str
    kind: str
    settings: Mapping[str, Any]
    credentials: Mapping[str, Any] | None
    folder: str | None = None
    tag_rules: Sequence[Mapping[str, Any]] = ()
    every_minutes: int | None = None
    cron: str | None = None
    target_minutes: int = 15
    guard_share: float = 0.2
    guard_least: int = 10


def check_grants(settings: Settings, folders: Sequence[str] | None, granted: Sequence[str] | None) -> None:
    """Raise Refused unless these folders and networks lie within what the service is started with."""
    allowed = allowed_roots(settings)
    for folder in folders or ():
        if not Path(folder).is_absolute() or not _is_below(Path(folder), allowed):
            raise Refused("source_folders", f"{folder!r} is not within FONTANEL_SOURCE_ROOTS.")
    outer = networks(settings.source_networks)
    for text in granted or ():
        try:
            inner = networks(text)
        except ValueError as error:
            raise Refused("source_networks", f"{text!r} is not a network: {error}.") from error
        for network in inner:
            if not _is_part(network, outer):
                raise Refused("source_networks", f"{text!r} is not within FONTANEL_SOURCE_NETWORKS.")


def _is_below(folder: Path, roots: Sequence[Path]) -> bool:
    return any(folder.resolve().is_relative_to(root.resolve()) for root in roots)


def _is_part(network: Network, outer: Sequence[Network]) -> bool:
    return any(network.version == other.version and network.subnet_of(other) for other in outer)  # type: ignore[arg-type]


def allowed_roots(settings: Settings) -> list[Path]:
    return [Path(part) for part in settings.source_roots.split(":") if part]


def surroundings(settings: Settings, team: Team, scratch: Path | None = None, stopping: Any = None) -> Surroundings:
    """What a team's sources may use: what the operator has granted it, within what the service is started with."""
    roots, reachable = allowed_roots(settings), networks(settings.source_networks)
    if team.source_folders is not None:
        granted = [Path(folder) for folder in team.source_folders]
        roots = [folder for folder in granted if _is_below(folder, roots)]
    if team.source_networks is not None:
        wanted = [network for text in team.source_networks for network in networks(text)]
        reachable = tuple(network for network in wanted if _is_part(network, reachable))
    return Surroundings(
        roots=tuple(roots),
        networks=reachable, memory_mb=settings.read_memory_mb, most_bytes=settings.most_upload_mb * 1_000_000, scratch=scratch,
        seconds=settings.source_seconds, stopping=stopping or (lambda: False),
    )  # fmt: skip


def kind_of(name: str) -> Kind:
    kind = KINDS.get(name)
    if kind is None:
        raise Refused("kind", f"There is no kind of source {name!r}. There are: {', '.join(sorted(KINDS))}.")
    return kind


def open_kind(
    kind: Kind, settings: Mapping[str, Any], credentials: Mapping[str, Any], around: Surroundings
) -> OpenSource:
    """Open a source with these settings, in a process of its own where its kind says so. Raises Refused when they cannot be used."""
    try:
        valid = _valid(kind.settings, settings, "settings")
        own = _valid(kind.credentials, credentials, "credentials")
        if kind.isolated:
            return IsolatedSource(kind, valid, own.model_dump(), around, around.memory_mb)
        return kind.open(valid, own, around)
    except SettingsRefused as refused:
        raise Refused(f"settings.{refused.field}", str(refused)) from refused


def check_settings(
    kind: Kind, settings: Mapping[str, Any], credentials: Mapping[str, Any], around: Surroundings
) -> None:
    """Raise Refused when a source cannot be opened with these settings. Nothing is connected to."""
    try:
        kind.open(
            _valid(kind.settings, settings, "settings"), _valid(kind.credentials, credentials, "credentials"), around
        ).close()
    except SettingsRefused as refused:
        raise Refused(f"settings.{refused.field}", str(refused)) from refused


def _valid(model: type[Any], given: Mapping[str, Any], where: str) -> Any:
    try:
        return model.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
        name = ".".join([where, *(str(part) for part in first["loc"])])
        raise Refused(name, f"{name}: {first['msg']}.") from error


def try_source(opened: OpenSource) -> Trial:
    """List until enough is seen. Raises SourceUnavailable."""
    began = time.monotonic()
    sample: list[Listed] = []
    skipped: Counter[str] = Counter()
    skipped_sample: list[Skipped] = []
    taken = size = 0
    sized = True
    complete = True
    for item in opened.items(lambda _: None):
        if isinstance(item, Skipped):
            skipped[item.reason] += 1
            if len(skipped_sample) < _SAMPLE:
                skipped_sample.append(item)
        else:
            taken += 1
            sized = sized and item.size is not None
            size += item.size or 0
            if len(sample) < _SAMPLE:
                sample.append(item)
        if taken + skipped.total() >= _TRIAL_ITEMS or time.monotonic() - began > _TRIAL_SECONDS:
            complete = False
            break
    seconds = time.monotonic() - began
    return Trial(
        taken, size if sized else None, sample, dict(skipped.most_common(20)), skipped_sample, complete, seconds
    )


def create_source(session: Session, vault: Vault, kb: Kb, wanted: Wanted, around: Surroundings) -> Source:
    """A new source of a kb. Raises Refused."""
    kind = kind_of(wanted.kind)
    there = session.scalars(select(Source).where(Source.kb_id == kb.id)).all()
    if len(there) >= _MOST_SOURCES:
        raise Refused("name", f"A knowledge base can have {_MOST_SOURCES} sources.")
    if any(other.name.lower() == wanted.name.lower() for other in there):
        raise Refused("name", f"There is a source named {wanted.name!r} already. Choose another name.")
    folder = _free_folder(wanted, [other.folder for other in there])
    check_settings(kind, wanted.settings, wanted.credentials or {}, around)
    source = Source(
        id=new_id("src"), team_id=kb.team_id, kb_id=kb.id, name=wanted.name, kind=kind.name, folder=folder,
        settings=_kept(kind.settings, wanted.settings), credentials=None, credential_names=[], tag_rules=[],
        signal_secret=vault.seal(new_secret("fs")),
    )  # fmt: skip
    _apply(session, vault, source, wanted)
    session.add(source)
    return source


def change_source(session: Session, vault: Vault, source: Source, wanted: Wanted, around: Surroundings) -> None:
    """Put what is wanted in a source's place; its documents stay until the next run. Raises Refused."""
    kind = kind_of(source.kind)
    credentials = usable_credentials(vault, source, wanted.settings, wanted.credentials)
    same_name = select(Source.id).where(
        Source.kb_id == source.kb_id, Source.id != source.id, Source.name == wanted.name
    )
    if session.scalar(same_name):
        raise Refused("name", f"There is a source named {wanted.name!r} already. Choose another name.")
    check_settings(kind, wanted.settings, credentials, around)
    settings = _kept(kind.settings, wanted.settings)
    moved = settings != source.settings
    source.settings = settings
    rules = [dict(rule) for rule in wanted.tag_rules] != source.tag_rules
    _apply(session, vault, source, wanted)
    if rules:
        _tag_again(session, source)
    if moved and not kind.pushed:
        source.next_run_at = now()


def _apply(session: Session, vault: Vault, source: Source, wanted: Wanted) -> None:
    kind = kind_of(source.kind)
    team = session.get_one(Team, source.team_id)
    if wanted.every_minutes is not None and wanted.cron is not None:
        raise Refused("cron", "Give an interval or a cron line, not both.")
    if wanted.cron is not None:
        cron_trigger(wanted.cron, team.time_zone)
    if kind.pushed and (wanted.every_minutes or wanted.cron):
        raise Refused("every_minutes", "Documents are sent to this source; there is nothing to run.")
    for rule in wanted.tag_rules:
        check_tags(rule["tags"])
        try:
            check_pattern(rule["pattern"])
        except PatternRefused as refused:
            raise Refused("tag_rules", str(refused)) from refused
    source.name, source.target_minutes = wanted.name, wanted.target_minutes
    source.every_minutes, source.cron = wanted.every_minutes, wanted.cron
    source.guard_share, source.guard_least = wanted.guard_share, wanted.guard_least
    source.tag_rules = [dict(rule) for rule in wanted.tag_rules]
    if wanted.credentials is not None:
        given = {name: value for name, value in wanted.credentials.items() if value not in (None, "")}
        source.credentials = vault.seal(given) if given else None
        source.credential_names = sorted(given)
    source.next_run_at = next_run(source, team.time_zone, now())
    source.changed_at = now()
    source.version = (source.version or 0) + 1


def _kept(model: type[Any], given: Mapping[str, Any]) -> dict[str, Any]:
    kept: dict[str, Any] = model.model_validate(given).model_dump(mode="json")
    return kept


def _free_folder(wanted: Wanted, taken: Sequence[str]) -> str:
    if wanted.folder is not None:
        if not _FOLDER.match(wanted.folder) or wanted.folder in (".", ".."):
            raise Refused("folder", "A folder's name has 1 to 100 characters and no slash.")
        if wanted.folder in taken:
            raise Refused("folder", f"Another source keeps its documents in {wanted.folder!r}.")
        return wanted.folder
    base = slug_of(wanted.name)
    folder, number = base, 1
    while folder in taken:
        number += 1
        folder = f"{base}-{number}"
    return folder


def _tag_again(session: Session, source: Source) -> None:
    """Give the tags of changed rules to the documents that are there."""
    rules = [(matcher([rule["pattern"]]), rule["tags"]) for rule in source.tag_rules]
    mine = select(Document).where(
        Document.source_id == source.id, Document.parent_key.is_(None), Document.state != DocumentState.REMOVED
    )
    for document in session.scalars(mine):
        path = document.name.removeprefix(source.folder + "/")
        add_tags(session, document, {k: v for fits, given in rules if fits and fits(path) for k, v in given.items()})


def delete_source(session: Session, kb: Kb, source: Source, keep_documents: bool) -> None:
    """Remove a source, with its documents or without."""
    documents = session.scalars(
        select(Document).where(Document.source_id == source.id, Document.parent_key.is_(None))
    ).all()
    for document in documents:
        if keep_documents:
            document.source_id = None
        else:
            delete_document(session, kb, document)
    session.delete(source)


def credentials_of(vault: Vault, source: Source) -> dict[str, Any]:
    """Raises SecretsLost."""
    return vault.open(source.credentials) if source.credentials is not None else {}


def usable_credentials(
    vault: Vault, source: Source, settings: Mapping[str, Any], given: Mapping[str, Any] | None
) -> Mapping[str, Any]:
    """The credentials to use with these settings: those given, else the stored ones. Raises Refused, or SecretsLost.

    Stored credentials go to the place that they were entered for and to no other, or whoever may edit a source could have them
    sent to a server of their own.
    """
    if given is not None:
        return given
    stored = credentials_of(vault, source)
    kind = kind_of(source.kind)
    before, after = (kind.destination(_valid(kind.settings, one, "settings")) for one in (source.settings, settings))
    if stored and before != after:
        raise Refused("credentials", f"The stored credentials are for {before}. Enter those for {after}.")
    return stored


# When

_DAYS = ("sun", "mon", "tue", "wed", "thu", "fri", "sat")
_WEEKDAYS = re.compile(r"(?:([0-7])(?:-([0-7]))?|\*)(?:/(\d{1,2}))?")


def cron_trigger(line: str, time_zone: str) -> CronTrigger:
    """A cron line of five fields. Raises Refused."""
    fields = line.split()
    try:
        if len(fields) == 5:
            fields[4] = ",".join(map(_weekdays, fields[4].split(",")))
        return CronTrigger.from_crontab(" ".join(fields), timezone=ZoneInfo(time_zone))
    except (ValueError, KeyError) as error:
        raise Refused("cron", f"{line!r} is not a cron line (minute hour day month weekday): {error}.") from error


def _weekdays(part: str) -> str:
    """Weekdays of a cron line by their names: cron counts from Sunday, which is 7 too, and the trigger from Monday. What is no
    number is left to the trigger."""
    match = _WEEKDAYS.fullmatch(part)
    if match is None or part == "*":
        return part
    first, last, step = match.groups()
    low = int(first or 0)
    high = int(last) if last else low if first and not step else 6
    days = range(low, high + 1, int(step or 1))
    return ",".join(dict.fromkeys(_DAYS[day % 7] for day in days)) or part


def next_run(source: Source, time_zone: str, after: datetime) -> datetime | None:
    """When a source is due next, by its schedule; None when only people start it."""
    if source.cron is not None:
        due: datetime | None = cron_trigger(source.cron, time_zone).get_next_fire_time(
            None, after + timedelta(seconds=1)
        )
        return due
    if source.every_minutes is not None:
        return after + timedelta(minutes=source.every_minutes)
    if watches(source):
        return after + timedelta(minutes=WATCHED_MINUTES)
    return None


def plan_again(session: Session, team: Team) -> None:
    """Set when a team's sources that follow cron lines are due, since its time zone changed."""
    for source in session.scalars(select(Source).where(Source.team_id == team.id, Source.cron.is_not(None))):
        source.next_run_at = next_run(source, team.time_zone, now())


#: A folder that is watched is gone through this often all the same: events can get lost.
WATCHED_MINUTES = 10


def watches(source: Source) -> bool:
    kind = KINDS.get(source.kind)
    return kind is not None and kind.watchable and bool(source.settings.get("watch"))


def start_sync(session: Session, source: Source, cause: str) -> Sync:
    """Queue a run, unless one waits already; one that runs is followed by this one."""
    waiting = select(Sync).where(Sync.source_id == source.id, Sync.state == SyncState.WAITING)
    sync = session.scalar(waiting)
    if sync is None:
        sync = Sync(
            id=new_id("sync"), team_id=source.team_id, kb_id=source.kb_id, source_id=source.id, cause=cause,
            state=SyncState.WAITING, skip_reasons={}, seconds={},
        )  # fmt: skip
        session.add(sync)
        session.flush()
    return sync
