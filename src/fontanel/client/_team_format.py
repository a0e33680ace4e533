"""The file `team.json` of an archive of a team."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from pydantic import Field

from fontanel import schemas as s
from fontanel.facts import ValidityMark
from fontanel.schemas.base import Model

#: Is called with each step of an export or import, in words.
Report = Callable[[str], None]

FORMAT, VERSION = "fontanel-team", 1
#: The archive's entry with everything but the packs, and its maximum size.
SETTINGS, MAX_SETTINGS = "team.json", 300_000_000
#: Questions of a set that are sent at once.
QUESTIONS_AT_ONCE = 500


class ArchivedMark(Model):
    """A person's decision about a document; `replaced_by` is a document's name."""

    document: str
    mark: ValidityMark
    replaced_by: str | None = None


class ArchivedEdition(Model):
    """An edition that is built again; the active one is in the pack."""

    splitting: s.Splitting
    embedder: str | None


class ArchivedKb(Model):
    """A knowledge base. Others refer to it by its key."""

    key: str
    name: str
    pack: str
    settings: s.KbChange
    trial_set: str | None = None
    marks: list[ArchivedMark] = Field(default_factory=list)
    approved: list[s.ApprovedIn] = Field(default_factory=list)
    sources: list[s.SourceIn] = Field(default_factory=list)
    editions: list[ArchivedEdition] = Field(default_factory=list)


class ArchivedDesk(Model):
    """A desk. Knowledge bases in its settings are keys, question sets are names."""

    key: str
    name: str
    published: s.DeskSettings | None
    draft: s.DeskSettings


class ArchivedSet(Model):
    """A question set; `desk` is the key of the desk that is asked on a schedule."""

    name: str
    about: str
    desk: str | None
    schedule: s.ScheduleName
    questions: list[s.SetQuestionIn]


class TeamArchive(Model):
    """Everything of a team but its documents."""

    format: Literal["fontanel-team"] = "fontanel-team"
    version: Literal[1] = 1
    made_by: str
    name: str
    settings: s.TeamChange
    kbs: list[ArchivedKb]
    desks: list[ArchivedDesk]
    sets: list[ArchivedSet]
    notes: list[str] = Field(
        default_factory=list, description="What could not be exported as it was."
    )
