"""Exporting a team: its settings are read, and its knowledge bases exported as packs."""

from __future__ import annotations

import os
import tempfile
import zipfile
from collections.abc import Iterator
from pathlib import Path

from fontanel import __version__
from fontanel import schemas as s
from fontanel.client._sync.client import Client
from fontanel.client._team_format import (
    SETTINGS,
    ArchivedDesk,
    ArchivedEdition,
    ArchivedKb,
    ArchivedMark,
    ArchivedSet,
    Report,
    TeamArchive,
)
from fontanel.facts import ValidityMark
from fontanel.schemas.approved import ApprovedFields

_TEAM_SETTINGS = (
    "time_zone",
    "kept_days",
    "records_kept_days",
    "originals_kept_days",
    "monthly_tokens",
    "show_askers",
)
_SOURCE_FIELDS = set(s.SourceIn.model_fields) - {"credentials", "paused", "adopt"}


def export_team(client: Client, target: Path, report: Report = lambda _: None) -> TeamArchive:
    """Write everything of the client's team but people and records into a ZIP file.

    Args:
        client: Signed in as an owner of the team.
        target: The file; it appears when it is complete.
        report: Called with each step, in words.

    Returns:
        Everything in the file except the documents.
    """
    exporting = _Exporting(client, report)
    scratch = target.with_name(f"{target.name}.part")
    try:
        with zipfile.ZipFile(scratch, "w", zipfile.ZIP_STORED) as archive:
            team = exporting.team(archive)
            text = team.model_dump_json(indent=1)
            archive.writestr(SETTINGS, text, compress_type=zipfile.ZIP_DEFLATED)
        os.replace(scratch, target)
    finally:
        scratch.unlink(missing_ok=True)
    return team


class _Exporting:
    def __init__(self, client: Client, report: Report) -> None:
        self._client = client
        self._report = report
        self._notes: list[str] = []
        self._sets = {one.id: one for one in client.list_sets()}
        self._desks = {one.id: one for one in client.list_desks()}
        self._kbs = {one.id: one for one in client.list_kbs() if one.expires_at is None}

    def team(self, archive: zipfile.ZipFile) -> TeamArchive:
        (team,) = [one for one in self._client.list_teams() if one.slug == self._client.team]
        kbs = [self._kb(archive, kb) for kb in self._kbs.values()]
        self._report("desks and question sets")
        return TeamArchive(
            made_by=__version__,
            name=team.name,
            settings=s.TeamChange(**{name: getattr(team, name) for name in _TEAM_SETTINGS}),
            kbs=kbs,
            desks=[self._desk(desk) for desk in self._desks.values()],
            sets=[self._set(one) for one in self._sets.values()],
            notes=self._notes,
        )

    def _kb(self, archive: zipfile.ZipFile, kb: s.KbOut) -> ArchivedKb:
        self._report(f"knowledge base {kb.name}: {kb.documents:,} documents")
        editions = self._client.list_editions(kb.id)
        active = next(edition for edition in editions if edition.active)
        entry = f"kbs/{kb.slug}.pack"
        with tempfile.TemporaryDirectory(prefix="fontanel-") as scratch:
            pack = Path(scratch) / "pack"
            self._client.export_edition(kb.id, active.number, pack)
            archive.write(pack, entry)
        if waiting := kb.pending + kb.failed:
            self._notes.append(
                f"{kb.name}: {waiting:,} documents are left out, as they are not indexed."
            )
        documents = {one.id: one for one in self._client.list_documents(kb.id)}
        return ArchivedKb(
            key=kb.slug,
            name=kb.name,
            pack=entry,
            settings=_settings_of(kb),
            trial_set=self._set_name(kb.trial_set),
            marks=list(_marks(documents)),
            approved=[
                self._approved(kb, one, documents)
                for one in self._client.list_approved(kb.id, limit=1_000_000)
            ],
            sources=[_source(one) for one in self._client.list_sources(kb.id)],
            editions=[
                ArchivedEdition(splitting=one.splitting, embedder=one.embedder)
                for one in editions
                if not one.active
            ],
        )

    def _approved(
        self, kb: s.KbOut, approved: s.ApprovedOut, documents: dict[str, s.DocumentOut]
    ) -> s.ApprovedIn:
        places = []
        for place in approved.places:
            document = documents.get(place.document_id)
            if document is None:
                self._notes.append(
                    f"{kb.name}: {place.title!r}, which {approved.question!r} cites, was deleted."
                )
                continue
            start, end = self._range(kb, place, document)
            places.append(s.ApprovedPlaceIn(document=document.name, start=start, end=end))
            if start is None and place.quote:
                self._notes.append(
                    f"{kb.name}: the text that {approved.question!r} cites is not in"
                    f" {document.name} any more; all of the document is cited."
                )
        fields = {name: getattr(approved, name) for name in ApprovedFields.model_fields}
        return s.ApprovedIn(question=approved.question, text=approved.text, places=places, **fields)

    def _range(
        self, kb: s.KbOut, place: s.ApprovedPlaceOut, document: s.DocumentOut
    ) -> tuple[int | None, int | None]:
        """Return where a quote is in the revision that the pack has."""
        if not place.quote:
            return None, None
        if place.revision_id == document.active_revision:
            return place.start, place.end
        start = self._client.document_text(kb.id, document.id).text.find(place.quote)
        return (None, None) if start < 0 else (start, start + len(place.quote))

    def _desk(self, desk: s.DeskOut) -> ArchivedDesk:
        published = None if desk.published is None else self._portable(desk.published.settings)
        return ArchivedDesk(
            key=desk.slug, name=desk.name, published=published, draft=self._portable(desk.draft)
        )

    def _portable(self, settings: s.DeskSettings) -> s.DeskSettings:
        """Return settings that name knowledge bases by keys and question sets by names."""
        kbs = [
            one.model_copy(update={"kb": kb.slug})
            for one in settings.kbs
            if (kb := self._kb_of(one.kb)) is not None
        ]
        trial_set = self._set_name(settings.trial_set)
        return settings.model_copy(update={"kbs": kbs, "trial_set": trial_set})

    def _kb_of(self, ref: str) -> s.KbOut | None:
        return next((kb for kb in self._kbs.values() if ref in (kb.id, kb.slug)), None)

    def _set_name(self, ref: str | None) -> str | None:
        found = (one.name for one in self._sets.values() if ref in (one.id, one.slug))
        return next(found, None)

    def _set(self, one: s.SetOut) -> ArchivedSet:
        desk = self._desks.get(one.desk_id or "")
        fields = set(s.SetQuestionIn.model_fields)
        return ArchivedSet(
            name=one.name,
            about=one.about,
            desk=None if desk is None else desk.slug,
            schedule=one.schedule,
            questions=[
                s.SetQuestionIn(**question.model_dump(include=fields))
                for question in self._client.list_set_questions(one.id)
            ],
        )


def _settings_of(kb: s.KbOut) -> s.KbChange:
    """Return the settings of a knowledge base that differ from those of a new one."""
    return s.KbChange(
        description=kb.description,
        describer=None if kb.describing is None else kb.describing.model,
        transcriber=kb.transcriber,
        spoken=kb.spoken,
        viewer=None if kb.viewing is None else kb.viewing.model,
        max_pictures=kb.max_pictures,
        outdated=kb.outdated,
        proposes_questions=kb.proposes_questions,
        accepts_proposed_documents=kb.accepts_proposed_documents,
        proposer=kb.proposer,
        max_losses=kb.max_losses,
    )


def _marks(documents: dict[str, s.DocumentOut]) -> Iterator[ArchivedMark]:
    for document in documents.values():
        validity = document.validity
        if validity is None or validity.mark is None:
            continue
        replaced_by = None
        if validity.mark == ValidityMark.REPLACED:
            outdated = validity.outdated
            by = documents.get("" if outdated is None else outdated.replaced_by_id)
            if by is None:
                continue
            replaced_by = by.name
        yield ArchivedMark(document=document.name, mark=validity.mark, replaced_by=replaced_by)


def _source(source: s.SourceOut) -> s.SourceIn:
    """Return a source without credentials: paused, it waits for them."""
    kept = source.model_dump(include=_SOURCE_FIELDS)
    return s.SourceIn(**kept, paused=True, adopt=True)
