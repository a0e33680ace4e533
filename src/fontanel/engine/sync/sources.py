"""Sources of a knowledge base: their settings checked, their credentials kept, opened, tried."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import delete_document
from fontanel.engine.documents.naming import add_tags, check_tags
from fontanel.engine.sync.cron import next_time
from fontanel.engine.sync.opening import check_settings, kind_of, usable_credentials
from fontanel.engine.sync.planning import next_run
from fontanel.errors import Refused
from fontanel.records.ids import new_id, new_secret, slug_of
from fontanel.records.tables import Document, DocumentState, Kb, Source, Team, now
from fontanel.records.vault import Vault
from fontanel.sources import SourceLimits
from fontanel.sources.patterns import PatternRefused, check_pattern, matcher

_MAX_SOURCES = 100
_FOLDER = re.compile(r"^[^/\\\0]{1,100}$")


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
    guard_min: int = 10


def create_source(
    session: Session, vault: Vault, kb: Kb, wanted: Wanted, around: SourceLimits
) -> Source:
    """A new source of a kb. Raises Refused."""
    kind = kind_of(wanted.kind)
    there = session.scalars(select(Source).where(Source.kb_id == kb.id)).all()
    if len(there) >= _MAX_SOURCES:
        raise Refused("name", f"A knowledge base can have {_MAX_SOURCES} sources.")
    if any(other.name.lower() == wanted.name.lower() for other in there):
        raise Refused(
            "name", f"There is a source named {wanted.name!r} already. Choose another name."
        )
    folder = _free_folder(wanted, [other.folder for other in there])
    check_settings(kind, wanted.settings, wanted.credentials or {}, around)
    source = Source(
        id=new_id("src"),
        team_id=kb.team_id,
        kb_id=kb.id,
        name=wanted.name,
        kind=kind.name,
        folder=folder,
        settings=_kept(kind.settings, wanted.settings),
        credentials=None,
        credential_names=[],
        tag_rules=[],
        signal_secret=vault.seal(new_secret("fs")),
    )
    _apply(session, vault, source, wanted)
    session.add(source)
    return source


def change_source(
    session: Session, vault: Vault, source: Source, wanted: Wanted, around: SourceLimits
) -> None:
    """Put what is wanted in a source's place; its documents stay until the next run. Raises Refused."""
    kind = kind_of(source.kind)
    credentials = usable_credentials(vault, source, wanted.settings, wanted.credentials)
    same_name = select(Source.id).where(
        Source.kb_id == source.kb_id, Source.id != source.id, Source.name == wanted.name
    )
    if session.scalar(same_name):
        raise Refused(
            "name", f"There is a source named {wanted.name!r} already. Choose another name."
        )
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
        next_time(wanted.cron, team.time_zone, now())
    if kind.pushed and (wanted.every_minutes or wanted.cron):
        raise Refused(
            "every_minutes", "Documents are sent to this source; there is nothing to run."
        )
    for rule in wanted.tag_rules:
        check_tags(rule["tags"])
        try:
            check_pattern(rule["pattern"])
        except PatternRefused as refused:
            raise Refused("tag_rules", str(refused)) from refused
    source.name, source.target_minutes = wanted.name, wanted.target_minutes
    source.every_minutes, source.cron = wanted.every_minutes, wanted.cron
    source.guard_share, source.guard_min = wanted.guard_share, wanted.guard_min
    source.tag_rules = [dict(rule) for rule in wanted.tag_rules]
    if wanted.credentials is not None:
        given = {
            name: value for name, value in wanted.credentials.items() if value not in (None, "")
        }
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
        Document.source_id == source.id,
        Document.parent_key.is_(None),
        Document.state != DocumentState.REMOVED,
    )
    for document in session.scalars(mine):
        path = document.name.removeprefix(source.folder + "/")
        add_tags(
            session,
            document,
            {k: v for fits, given in rules if fits and fits(path) for k, v in given.items()},
        )


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


# When
