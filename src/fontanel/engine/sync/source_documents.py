"""The documents and items of a source, as its runs change them."""

from __future__ import annotations

from typing import Any, NamedTuple

from sqlalchemy import select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import rename_document
from fontanel.engine.documents.naming import document_name
from fontanel.records.tables import Document, DocumentState, Source, SourceItem
from fontanel.sources import Fetched, Listed
from fontanel.sources.patterns import matcher


class KnownItem(NamedTuple):
    """What the records have of an item."""

    item_id: str
    key: int
    mark: str
    same_as: str
    document_key: int | None
    error: str | None

    @property
    def failed(self) -> bool:
        return self.error is not None


def document_of(session: Session, item: KnownItem | SourceItem | None) -> Document | None:
    """Return an item's document, if it has one."""
    if item is None or item.document_key is None:
        return None
    return session.get(Document, item.document_key)


def upsert_item(session: Session, source: Source, item_id: str, values: dict[str, Any]) -> None:
    """Record an item of a source, or change its record."""
    fresh = {
        "mark": "",
        "same_as": "",
        "team_id": source.team_id,
        "source_id": source.id,
        "item_id": item_id,
    }
    statement = insert(SourceItem).values(**{**fresh, **values})
    session.execute(
        statement.on_conflict_do_update(index_elements=["source_id", "item_id"], set_=values)
    )


#: What precedes the name of an adopted document, where the item's id is not known yet.
_ADOPTED = "adopted document "


def adopt_documents(session: Session, source: Source) -> None:
    """Make documents of no source in a source's folder its own.

    Each gets an item in place of the one that a run will find under its name; one that is not found
    is missing, like any other item.
    """
    found = select(Document).where(
        Document.kb_id == source.kb_id,
        Document.name > f"{source.folder}/",
        Document.name < f"{source.folder}0",
        Document.source_id.is_(None),
    )
    rows = []
    for document in session.scalars(found).all():
        document.source_id = source.id
        if document.parent_key is None:
            item = {"item_id": _ADOPTED + document.name, "document_key": document.key, "mark": ""}
            rows.append({"team_id": source.team_id, "source_id": source.id, **item})
    if rows:
        session.execute(insert(SourceItem), rows)


class SourceDocuments:
    """Names and tags of a source's documents.

    Every method runs within the caller's transaction.
    """

    def __init__(self, source: Source) -> None:
        self._source = source
        self._rules = [(matcher([rule["pattern"]]), rule["tags"]) for rule in source.tag_rules]
        #: Items of adopted documents whose own items were found.
        self.found: set[str] = set()

    def adopted(self, session: Session, name: str) -> Document | None:
        """Return the adopted document of this name, whose item was found now."""
        item = session.scalar(
            select(SourceItem).where(
                SourceItem.source_id == self._source.id, SourceItem.item_id == _ADOPTED + name
            )
        )
        document = None if item is None else session.get(Document, item.document_key)
        if item is not None:
            session.delete(item)
            self.found.add(item.item_id)
        return document

    def keep(
        self, session: Session, item: Listed, fetched: Fetched, document: Document | None
    ) -> None:
        """Record an item that was fetched, with its mark and notes."""
        mark = fetched.mark if fetched.mark is not None else item.mark
        same_as = item.same_as and (mark if item.same_as == item.mark else item.same_as)
        values: dict[str, Any] = {"mark": mark, "same_as": same_as, "error": None}
        if fetched.notes is not None:
            values["notes"] = dict(fetched.notes)
        if document is not None:
            values["document_key"] = document.key
        upsert_item(session, self._source, item.id, values)

    def rename(self, session: Session, document: Document, path: str) -> None:
        """Rename a document to its item's path."""
        name = document_name(f"{self._source.folder}/{path}")
        if name != document.name:
            rename_document(session, document, self.free_name(session, name, document))

    def free_name(self, session: Session, name: str, own: Document | None = None) -> str:
        """Return a free name, which a removed document of this source may have."""
        stem, dot, ending = name.rpartition(".")
        number = 1
        requested = name
        while True:
            holder = session.scalar(
                select(Document).where(
                    Document.kb_id == self._source.kb_id, Document.name == requested
                )
            )
            mine = holder is not None and (
                holder is own
                or (
                    own is None
                    and holder.state == DocumentState.REMOVED
                    and holder.source_id == self._source.id
                )
            )
            if holder is None or mine:
                return requested
            number += 1
            requested = (
                f"{stem} ({number}){dot}{ending}"
                if dot and "/" not in ending
                else f"{name} ({number})"
            )

    def tags(self, path: str) -> dict[str, str]:
        """Return the tags of a path by the source's rules."""
        return {
            k: v
            for fits, tags in self._rules
            if fits is not None and fits(path)
            for k, v in tags.items()
        }
