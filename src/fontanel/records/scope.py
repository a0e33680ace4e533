"""Queries scoped by team: the one way from a request to a team's records."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar
from urllib.parse import unquote

from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session

from fontanel.errors import NotFound
from fontanel.records.tables import (
    Base,
    Conversation,
    Desk,
    DeskVersion,
    Document,
    DocumentTag,
    Kb,
    Source,
    Sync,
    Turn,
)

Row = TypeVar("Row", bound=Base)


def spellings(ref: str) -> list[str]:
    """Return what a path segment may name: itself, or with a slash that was encoded."""
    return list(dict.fromkeys((ref, unquote(ref))))


class TeamScope:
    """One team's records, optionally limited to some knowledge bases."""

    def __init__(
        self, session: Session, team_id: str, kb_ids: frozenset[str] | None = None
    ) -> None:
        self.session = session
        self.team_id = team_id
        self.kb_ids = kb_ids

    def select(self, table: type[Row]) -> Select[Row]:
        """Return a query for the team's rows of a table, in the allowed knowledge bases."""
        columns: Any = table
        query = select(table).where(columns.team_id == self.team_id)
        if self.kb_ids is not None:
            if table is Kb:
                query = query.where(Kb.id.in_(self.kb_ids))
            elif hasattr(table, "kb_id"):
                query = query.where(columns.kb_id.in_(self.kb_ids))
        return query

    def keys_with_tag(self, kb: Kb, tag: str, value: str) -> Select[int]:
        """Return a query for the keys of a knowledge base's documents with a tag."""
        return select(DocumentTag.document_key).where(
            DocumentTag.team_id == self.team_id,
            DocumentTag.kb_id == kb.id,
            DocumentTag.tag == tag,
            DocumentTag.value == value,
        )

    def kb(self, ref: str) -> Kb:
        """A knowledge base by id or by slug. Raises NotFound."""
        result = self.session.scalar(self.select(Kb).where((Kb.id == ref) | (Kb.slug == ref)))
        if result is None:
            raise NotFound("knowledge base", ref)
        return result

    def document(self, kb: Kb, ref: str) -> Document:
        """Return a document by id or name.

        Raises:
            NotFound: there is none.
        """
        for name in spellings(ref):
            query = self.select(Document).where(
                Document.kb_id == kb.id, (Document.id == name) | (Document.name == name)
            )
            result = self.session.scalar(query)
            if result is not None:
                return result
        raise NotFound("document", ref)

    def conversation(self, kb: Kb, ref: str, asker: str) -> Conversation:
        """A conversation of the asker at a knowledge base. Raises NotFound."""
        query = self.select(Conversation).where(
            Conversation.kb_id == kb.id, Conversation.id == ref, Conversation.asker == asker
        )
        result = self.session.scalar(query)
        if result is None:
            raise NotFound("conversation", ref)
        return result

    def desk(self, ref: str) -> Desk:
        """Return a desk by id or slug.

        In a limited scope, only one that uses no other base.

        Raises:
            NotFound: there is none.
        """
        result = self.session.scalar(self.select(Desk).where((Desk.id == ref) | (Desk.slug == ref)))
        if result is None or not self.may_reach(result):
            raise NotFound("desk", ref)
        return result

    def may_reach(self, desk: Desk) -> bool:
        """Return whether all of a desk's current knowledge bases are in scope."""
        if self.kb_ids is None:
            return True
        if not self.covers(desk.draft):
            return False
        served = [number for number in (desk.published, desk.second_version) if number is not None]
        versions = select(DeskVersion).where(
            DeskVersion.desk_id == desk.id, DeskVersion.number.in_(served)
        )
        return all(self.covers(version.settings) for version in self.session.scalars(versions))

    def covers(self, settings: Mapping[str, Any]) -> bool:
        """Whether a desk with these settings uses knowledge bases within the scope only."""
        return (
            self.kb_ids is None or {part["kb"] for part in settings.get("kbs", ())} <= self.kb_ids
        )

    def desk_version(self, desk: Desk, number: int) -> DeskVersion:
        """Return a published version of a desk; in a limited scope, only one within it.

        Raises:
            NotFound: there is none.
        """
        query = self.select(DeskVersion).where(
            DeskVersion.desk_id == desk.id, DeskVersion.number == number
        )
        result = self.session.scalar(query)
        if result is None or not self.covers(result.settings):
            raise NotFound("version", str(number))
        return result

    def turns(self) -> Select[Turn]:
        """Return a query for the team's turns; in a limited scope, only those within it."""
        query = self.select(Turn)
        if self.kb_ids is not None:
            used = func.json_each(Turn.editions).table_valued("key")
            query = query.where(
                ~select(1).select_from(used).where(used.c.key.not_in(self.kb_ids)).exists()
            )
        return query

    def source(self, kb: Kb, ref: str) -> Source:
        """Return a source by id, name or folder.

        Raises:
            NotFound: there is none.
        """
        for name in spellings(ref):
            named = (Source.id == name) | (Source.name == name) | (Source.folder == name)
            result = self.session.scalar(self.select(Source).where(Source.kb_id == kb.id, named))
            if result is not None:
                return result
        raise NotFound("source", ref)

    def sync(self, source: Source, ref: str) -> Sync:
        """A run of a source by id; `latest` is the newest. Raises NotFound."""
        query = self.select(Sync).where(Sync.source_id == source.id)
        query = (
            query.order_by(Sync.created_at.desc()).limit(1)
            if ref == "latest"
            else query.where(Sync.id == ref)
        )
        result = self.session.scalar(query)
        if result is None:
            raise NotFound("run", ref)
        return result
