"""Documents written here, changes between revisions, and bulk changes."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints, model_validator

from fontanel.facts import MAX_EDITABLE_BYTES
from fontanel.schemas.base import Model, Tags
from fontanel.schemas.documents import RevisionOut, StateName

WrittenText = Annotated[str, StringConstraints(max_length=MAX_EDITABLE_BYTES)]


class WrittenIn(Model):
    """A document written here: Markdown, or a table as CSV.

    It ends in .md, .txt or .csv.
    """

    name: str = Field(min_length=1, max_length=300, examples=["notes/winter-moorings.md"])
    text: WrittenText
    tags: Tags = {}


class WrittenChange(Model):
    text: WrittenText


class WrittenOut(Model):
    """A document's text for editing.

    `editable` is False for documents of sources or files.
    """

    name: str
    text: str
    editable: bool
    reason: str | None = None


class ChangeOut(Model):
    """A run of blocks that is the same, added, removed or changed.

    Long unchanged runs are shortened; `hidden` counts the blocks left out.
    """

    kind: Literal["same", "removed", "added", "changed"]
    before: list[str]
    after: list[str]
    before_marks: list[tuple[int, int]]
    after_marks: list[tuple[int, int]]
    hidden: int = 0


class DifferencesOut(Model):
    before: RevisionOut
    after: RevisionOut
    changes: list[ChangeOut]


class FolderOut(Model):
    """A folder: documents in and below it, and how many failed or have warnings."""

    name: str
    path: str
    documents: int
    failed: int
    warned: int


class DocumentSelection(Model):
    """Documents by id or name, or all that fit a filter."""

    documents: list[str] = Field([], max_length=5000)
    state: StateName | None = None
    source: str | None = None
    folder: str | None = None
    name: str | None = None
    warnings: bool = False
    outdated: bool = False
    tags: Tags = {}
    all: bool = Field(
        default=False, description="Needed to mean every document when nothing narrows the choice."
    )

    @model_validator(mode="after")
    def _means_something(self) -> DocumentSelection:
        narrowed = (
            self.documents
            or self.state
            or self.source
            or self.folder
            or self.name
            or self.warnings
            or self.outdated
            or self.tags
        )
        if not narrowed and not self.all:
            raise ValueError("say which documents are meant, or all=true")
        return self


class BulkIn(Model):
    """A bulk change: `retry` failed ones, `reread` all, or `tag`."""

    action: Literal["retry", "reread", "delete", "tag"]
    chosen: DocumentSelection
    set_tags: Tags = {}
    drop_tags: list[str] = Field([], max_length=100)


class BulkOut(Model):
    documents: int = Field(description="The number of documents changed.")
