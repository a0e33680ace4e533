"""Sources of a knowledge base: settings checked, credentials encrypted."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import delete_document
from fontanel.engine.documents.naming import add_tags, check_tags
from fontanel.engine.kinds import filled, plain_settings, validated
from fontanel.engine.notices.webhooks import new_webhook_secret
from fontanel.engine.sync.cron import next_time
from fontanel.engine.sync.opening import check_settings, kind_of, usable_credentials
from fontanel.engine.sync.planning import next_run
from fontanel.engine.sync.source_documents import adopt_documents
from fontanel.errors import Refused
from fontanel.records.ids import new_id, slug_of
from fontanel.records.tables import Document, DocumentState, Kb, Source, Team, now
from fontanel.records.vault import Vault
from fontanel.sources import SourceLimits
from fontanel.sources.patterns import PatternRefused, check_pattern, matcher

_MAX_SOURCES = 100
_FOLDER = re.compile(r"^[^/\\\0]{1,100}$")


@dataclass(frozen=True, slots=True)
class SourceSpec:
    """The specification of a source; credentials of None keep the stored ones."""

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
    paused: bool = False
    adopt: bool = False


def create_source(
    session: Session, vault: Vault, kb: Kb, spec: SourceSpec, around: SourceLimits
) -> Source:
    """A new source of a kb. Raises Refused."""
    kind = kind_of(spec.kind)
    there = session.scalars(select(Source).where(Source.kb_id == kb.id)).all()
    if len(there) >= _MAX_SOURCES:
        raise Refused("name", f"A knowledge base can have {_MAX_SOURCES} sources.")
    if any(other.name.lower() == spec.name.lower() for other in there):
        raise Refused(
            "name", f"There is a source named {spec.name!r} already. Choose another name."
        )
    folder = _free_folder(spec, [other.folder for other in there])
    if spec.paused and spec.credentials is None:
        # What cannot be reached without credentials is checked when they are entered.
        validated(kind.settings, spec.settings, "settings")
    else:
        check_settings(kind, spec.settings, spec.credentials or {}, around)
    source = Source(
        id=new_id("src"),
        team_id=kb.team_id,
        kb_id=kb.id,
        name=spec.name,
        kind=kind.name,
        folder=folder,
        settings=plain_settings(kind, spec.settings),
        credentials=None,
        credential_names=[],
        tag_rules=[],
        signal_secret=vault.seal(new_webhook_secret()),
        paused=spec.paused,
    )
    _apply(session, vault, source, spec)
    session.add(source)
    if spec.adopt and not kind.pushed:
        session.flush()
        adopt_documents(session, source)
    return source


def change_source(
    session: Session, vault: Vault, source: Source, spec: SourceSpec, around: SourceLimits
) -> None:
    """Change a source; its documents stay until the next run.

    Raises:
        Refused: the settings cannot be used.
    """
    kind = kind_of(source.kind)
    credentials = usable_credentials(vault, source, spec.settings, spec.credentials)
    same_name = select(Source.id).where(
        Source.kb_id == source.kb_id, Source.id != source.id, Source.name == spec.name
    )
    if session.scalar(same_name):
        raise Refused(
            "name", f"There is a source named {spec.name!r} already. Choose another name."
        )
    check_settings(kind, spec.settings, credentials, around)
    settings = plain_settings(kind, spec.settings)
    moved = settings != source.settings
    source.settings = settings
    rules = [dict(rule) for rule in spec.tag_rules] != source.tag_rules
    _apply(session, vault, source, spec)
    if rules:
        _tag_again(session, source)
    if moved and not kind.pushed:
        source.next_run_at = now()


def _apply(session: Session, vault: Vault, source: Source, spec: SourceSpec) -> None:
    kind = kind_of(source.kind)
    team = session.get_one(Team, source.team_id)
    if spec.every_minutes is not None and spec.cron is not None:
        raise Refused("cron", "Give an interval or a cron line, not both.")
    if spec.cron is not None:
        next_time(spec.cron, team.time_zone, now())
    if kind.pushed and (spec.every_minutes or spec.cron):
        raise Refused(
            "every_minutes", "Documents are sent to this source; there is nothing to run."
        )
    for rule in spec.tag_rules:
        check_tags(rule["tags"])
        try:
            check_pattern(rule["pattern"])
        except PatternRefused as refused:
            raise Refused("tag_rules", str(refused)) from refused
    source.name, source.target_minutes = spec.name, spec.target_minutes
    source.every_minutes, source.cron = spec.every_minutes, spec.cron
    source.guard_share, source.guard_min = spec.guard_share, spec.guard_min
    source.tag_rules = [dict(rule) for rule in spec.tag_rules]
    if spec.credentials is not None:
        values = filled(spec.credentials)
        source.credentials = vault.seal(values) if values else None
        source.credential_names = sorted(values)
    source.next_run_at = next_run(source, team.time_zone, now())
    source.changed_at = now()
    source.version = (source.version or 0) + 1


def _free_folder(spec: SourceSpec, taken: Sequence[str]) -> str:
    if spec.folder is not None:
        if not _FOLDER.match(spec.folder) or spec.folder in (".", ".."):
            raise Refused("folder", "A folder's name has 1 to 100 characters and no slash.")
        if spec.folder in taken:
            raise Refused("folder", f"Another source keeps its documents in {spec.folder!r}.")
        return spec.folder
    base = slug_of(spec.name)
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
            {k: v for fits, values in rules if fits and fits(path) for k, v in values.items()},
        )


def delete_source(session: Session, kb: Kb, source: Source, *, keep_documents: bool) -> None:
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
