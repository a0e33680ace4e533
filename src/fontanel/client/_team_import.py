"""Importing an archive of a team through the service's own interface.

What the team has already by the same name stays as it is, so that an import that was interrupted
can be repeated.
"""

from __future__ import annotations

import json
import shutil
import tempfile
import zipfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

from pydantic import Field, ValidationError

from fontanel import schemas as s
from fontanel.client._errors import ProblemError
from fontanel.client._sync.client import Client
from fontanel.client._team_format import (
    FORMAT,
    MAX_SETTINGS,
    QUESTIONS_AT_ONCE,
    SETTINGS,
    VERSION,
    ArchivedDesk,
    ArchivedKb,
    ArchivedSet,
    Report,
    TeamArchive,
)
from fontanel.errors import FontanelError
from fontanel.schemas.base import Model


class ArchiveUnreadable(FontanelError):
    """The file is not an archive of a team, or damaged."""


class TeamImport(Model):
    """What an import did."""

    added: list[str] = Field(default_factory=list)
    existing: list[str] = Field(
        default_factory=list, description="What the team had already by the same name."
    )
    problems: list[str] = Field(
        default_factory=list, description="What was refused or left out, and why."
    )


def import_team(client: Client, source: Path, report: Report = lambda _: None) -> TeamImport:
    """Import an archive into the client's team.

    Args:
        client: Signed in as an owner of the team.
        source: A file that `export_team` wrote.
        report: Called with each step, in words.

    Raises:
        ArchiveUnreadable: the file is not an archive, or damaged.
    """
    try:
        with zipfile.ZipFile(source) as archive:
            team = _settings(archive)
            return _Importing(client, archive, report).team(team)
    except (zipfile.BadZipFile, OSError, KeyError, EOFError, NotImplementedError) as error:
        raise ArchiveUnreadable(
            f"{source} is not an archive of a team, or damaged: {error}."
        ) from error


def _settings(archive: zipfile.ZipFile) -> TeamArchive:
    if archive.getinfo(SETTINGS).file_size > MAX_SETTINGS:
        raise ArchiveUnreadable(f"{SETTINGS} is larger than {MAX_SETTINGS // 1_000_000} MB.")
    try:
        raw = json.loads(archive.read(SETTINGS))
        if raw.get("format") == FORMAT and raw.get("version") != VERSION:
            raise ArchiveUnreadable(
                f"The archive has version {raw.get('version')} of the format; this client reads"
                f" version {VERSION}. Use a newer client."
            )
        return TeamArchive.model_validate(raw)
    except (ValueError, ValidationError, AttributeError, RecursionError) as error:
        raise ArchiveUnreadable(f"{SETTINGS} cannot be read: {str(error)[:300]}") from error


class _Importing:
    def __init__(self, client: Client, archive: zipfile.ZipFile, report: Report) -> None:
        self._client = client
        self._archive = archive
        self._report = report
        self._result = TeamImport()
        self._models = {model.name for model in client.list_usable_models()}
        #: The ids of what is here, by the archive's keys and names.
        self._kbs: dict[str, str] = {}
        self._sets: dict[str, str] = {}
        self._desks: dict[str, str] = {}

    def team(self, team: TeamArchive) -> TeamImport:
        self._result.problems += [f"when it was exported: {note}" for note in team.notes]
        self._try("settings of the team", lambda: self._client.change_team(team.settings))
        for one in team.sets:
            self._try(f"question set {one.name}", partial(self._set, one))
        for kb in team.kbs:
            self._try(f"knowledge base {kb.name}", partial(self._kb, kb))
        for desk in team.desks:
            self._try(f"desk {desk.name}", partial(self._desk, desk))
        for one in team.sets:
            if one.desk in self._desks and one.name in self._sets:
                change = s.SetChange(desk=self._desks[one.desk], schedule=one.schedule)
                self._try(
                    f"schedule of the question set {one.name}",
                    partial(self._client.change_set, self._sets[one.name], change),
                )
        return self._result

    def _try(self, what: str, call: Callable[[], object]) -> bool:
        """Do a step; a refusal is a problem of this step alone."""
        try:
            call()
        except ProblemError as error:
            self._result.problems.append(f"{what}: {error}")
            return False
        return True

    def _note(self, what: str, *, existed: bool) -> None:
        (self._result.existing if existed else self._result.added).append(what)
        self._report(f"{what}{' is already there' if existed else ''}")

    # Question sets

    def _set(self, archived: ArchivedSet) -> None:
        there = next((one for one in self._client.list_sets() if one.name == archived.name), None)
        made = there or self._client.create_set(archived.name, archived.about)
        self._sets[archived.name] = made.id
        missing = archived.questions[made.questions :]
        for start in range(0, len(missing), QUESTIONS_AT_ONCE):
            self._client.add_set_questions(made.id, missing[start : start + QUESTIONS_AT_ONCE])
        self._note(f"question set {archived.name}", existed=not missing and there is not None)

    # Knowledge bases

    def _kb(self, archived: ArchivedKb) -> None:
        what = f"knowledge base {archived.name}"
        there = next((kb for kb in self._client.list_kbs() if kb.name == archived.name), None)
        kb = (there or self._import_pack(archived)).id
        self._kbs[archived.key] = kb
        self._note(what, existed=there is not None)
        # One by one: what names a model that this service lacks is refused alone.
        settings = archived.settings.model_dump(exclude_none=True)
        if archived.trial_set in self._sets:
            settings["trial_set"] = self._sets[archived.trial_set]
        for name, value in settings.items() if there is None else ():
            self._try(
                f"{what}, {name}",
                partial(self._client.change_kb, kb, **{name: value}),
            )
        for mark in archived.marks if there is None else ():
            self._try(
                f"{what}, validity of {mark.document}",
                partial(
                    self._client.mark_document,
                    kb,
                    mark.document,
                    mark.mark,
                    replaced_by=mark.replaced_by,
                ),
            )
        self._approved(kb, archived)
        self._sources(kb, archived)
        self._editions(kb, archived)

    def _import_pack(self, archived: ArchivedKb) -> s.KbOut:
        with tempfile.TemporaryDirectory(prefix="fontanel-") as scratch:
            pack = Path(scratch) / f"{archived.key[:60]}.pack"
            with self._archive.open(archived.pack) as entry, pack.open("wb") as file:
                shutil.copyfileobj(entry, file, 1 << 20)
            return self._client.import_pack(pack, archived.name)

    def _approved(self, kb: str, archived: ArchivedKb) -> None:
        there = {one.question for one in self._client.list_approved(kb, limit=1_000_000)}
        added = 0
        for one in archived.approved:
            if one.question not in there:
                added += self._try(
                    f"knowledge base {archived.name}, approved answer to {one.question!r}",
                    partial(self._client.create_approved, kb, one),
                )
        if added:
            self._note(f"approved answers of {archived.name}: {added:,}", existed=False)

    def _sources(self, kb: str, archived: ArchivedKb) -> None:
        there = {source.name.lower() for source in self._client.list_sources(kb)}
        for source in archived.sources:
            what = f"source {source.name} of {archived.name}"
            # The credentials of a source never come from a file, and it runs when it is resumed.
            safe = source.model_copy(update={"credentials": None, "paused": True, "adopt": True})
            if source.name.lower() in there:
                self._note(what, existed=True)
            elif self._try(what, partial(self._client.connect_source, kb, safe)):
                self._note(f"{what}, paused", existed=False)

    def _editions(self, kb: str, archived: ArchivedKb) -> None:
        there = [(one.splitting, one.embedder) for one in self._client.list_editions(kb)]
        for number, one in enumerate(archived.editions, 2):
            if (one.splitting, one.embedder) not in there:
                what = f"edition {number} of {archived.name}"
                if self._try(
                    what,
                    partial(self._client.build_edition, kb, one.splitting, embedder=one.embedder),
                ):
                    self._note(f"{what}, being built", existed=False)

    # Desks

    def _desk(self, archived: ArchivedDesk) -> None:
        what = f"desk {archived.name}"
        there = next((one for one in self._client.list_desks() if one.name == archived.name), None)
        if there is not None:
            self._desks[archived.key] = there.id
            self._note(what, existed=True)
            return
        first = archived.published or archived.draft
        desk = self._client.create_desk(archived.name, self._local(what, first))
        self._desks[archived.key] = desk.id
        if archived.published is not None:
            # A trial that a draft has to pass was passed where it was published.
            self._try(f"{what}, published version", lambda: self._publish(desk, archived))
        self._note(what, existed=False)

    def _publish(self, desk: s.DeskOut, archived: ArchivedDesk) -> None:
        trial_set = desk.draft.trial_set
        if trial_set is not None:
            desk = self._client.change_desk(desk.id, {"trial_set": None}, version=desk.version)
        self._client.publish_desk(desk.id, "Imported with the team")
        if trial_set is not None or archived.draft != archived.published:
            draft = self._local(f"desk {archived.name}, draft", archived.draft)
            version = self._client.show_desk(desk.id).version
            self._client.change_desk(desk.id, draft.model_dump(), version=version)

    def _local(self, what: str, settings: s.DeskSettings) -> s.DeskSettings:
        """Return settings that name what this service has, and note what it lacks."""
        lost = [one.kb for one in settings.kbs if one.kb not in self._kbs]
        update: dict[str, object] = {
            "kbs": [
                one.model_copy(update={"kb": self._kbs[one.kb]})
                for one in settings.kbs
                if one.kb in self._kbs
            ],
            "trial_set": self._sets.get(settings.trial_set or ""),
        }
        if settings.model is not None and settings.model not in self._models:
            update["model"] = None
            lost.append(f"the model {settings.model}")
        if lost:
            self._result.problems.append(f"{what}: without {', '.join(lost)}, which is not here")
        return settings.model_copy(update=update)
