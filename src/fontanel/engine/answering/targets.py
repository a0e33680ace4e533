"""What a question is asked of: a desk in one of its versions, or a knowledge base by itself; its knowledge and its model."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.answering import (
    AnswerSettings,
    EvidencePassage,
    Ground,
    Knowledge,
    Layout,
    Length,
    Route,
    Weak,
)
from fontanel.engine.answering.retrieval import Embedders, KbKnowledge
from fontanel.engine.editions.store import Editions
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Desk, DeskVersion, Edition, Kb

Settings = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Part:
    """A knowledge base that is asked, and how it is narrowed."""

    kb_id: str
    use_for: str = ""
    tags: Mapping[str, str] = field(default_factory=dict)
    documents: Sequence[str] | None = None


@dataclass(frozen=True, slots=True)
class Target:
    """What is asked. `kb_id` is set for a knowledge base by itself, `desk_id` for a desk; `version` is None for a draft; `kept` are
    the settings as the turn records them."""

    team_id: str
    parts: tuple[Part, ...]
    settings: AnswerSettings
    kb_id: str | None = None
    desk_id: str | None = None
    version: int | None = None
    model: str | None = None
    link_tags: tuple[str, ...] = ()
    kept: Settings | None = None


def kb_target(kb: Kb, tags: Mapping[str, str], documents: Sequence[str] | None) -> Target:
    return Target(kb.team_id, (Part(kb.id, "", tags, documents),), AnswerSettings(), kb_id=kb.id)


def desk_target(
    desk: Desk, stored: Settings, version: int | None, reachable: frozenset[str]
) -> Target:
    """A desk under stored settings. Knowledge bases that are gone, or that the asker may not reach, are left out."""
    parts = tuple(
        Part(part["kb"], part.get("use_for", ""), part.get("tags") or {})
        for part in stored.get("kbs", ())
        if part["kb"] in reachable
    )
    return Target(
        desk.team_id,
        parts,
        answer_settings(desk.name, stored),
        desk_id=desk.id,
        version=version,
        model=stored.get("model"),
        link_tags=tuple(stored.get("link_tags", ())),
        kept=stored,
    )


def answer_settings(name: str, stored: Settings) -> AnswerSettings:
    """The core's settings from those that a desk keeps."""
    plain = (
        "passages",
        "documents",
        "evidence_floor",
        "language",
        "context_tokens",
        "answer_tokens",
        "temperature",
        "instructions",
        "purpose",
        "greeting",
    )
    given = {key: stored[key] for key in plain if key in stored}
    settings = AnswerSettings(**given, name=name)
    return replace(
        settings,
        ground=Ground(stored.get("ground", settings.ground)),
        length=Length(stored.get("length", settings.length)),
        layout=Layout(stored.get("layout", settings.layout)),
        weak=Weak(stored.get("weak", settings.weak)),
    )


def version_of(session: Session, desk: Desk, number: int) -> DeskVersion | None:
    return session.scalar(
        select(DeskVersion).where(DeskVersion.desk_id == desk.id, DeskVersion.number == number)
    )


class DeskKnowledge:
    """Several knowledge bases as one: passages of all, best match first."""

    def __init__(self, parts: Sequence[KbKnowledge]) -> None:
        self._parts = parts

    def retrieve(self, question: str, limit: int) -> list[EvidencePassage]:
        if len(self._parts) == 1:
            return self._parts[0].retrieve(question, limit)
        found = [part.retrieve(question, limit) for part in self._parts]
        # The match is comparable across knowledge bases, scores are not; within one, its own order stands.
        merged: list[EvidencePassage] = []
        while len(merged) < limit and any(found):
            best = max(
                (passages for passages in found if passages), key=lambda passages: passages[0].match
            )
            merged.append(best.pop(0))
        return merged

    def terms(self, text: str) -> list[str]:
        return list(dict.fromkeys(term for part in self._parts for term in part.terms(text)))

    def idf(self, term: str) -> float:
        """As telling as where it is least rare: a term that one of them never has is no more telling for that."""
        return min((part.idf(term) for part in self._parts), default=0.0)

    def embed(self, texts: Sequence[str]) -> npt.NDArray[np.float32] | None:
        """None when one of them works by words alone."""
        if not self._parts or any(part.by_words for part in self._parts):
            return None
        return self._parts[0].embed(texts)


def knowledge_of(
    scope: TeamScope, parts: Sequence[Part], editions: Editions, embedders: Embedders
) -> tuple[dict[str, KbKnowledge], dict[str, str], list[Route]]:
    """The knowledge of each part as it is at this moment, the edition that it serves from, and its line."""
    session = scope.session
    wanted = [part.kb_id for part in parts]
    kbs = {kb.id: kb for kb in session.scalars(scope.select(Kb).where(Kb.id.in_(wanted)))}
    known: dict[str, KbKnowledge] = {}
    routes: list[Route] = []
    for part in parts:
        if (kb := kbs.get(part.kb_id)) is None:
            continue
        edition = session.get_one(Edition, kb.edition_id)
        snapshot = editions.snapshot(edition.id)
        known[kb.id] = KbKnowledge(
            scope, kb, snapshot, edition.embedder, embedders, part.tags, part.documents
        )
        routes.append(Route(kb.id, kb.name, part.use_for))
    return known, {kb_id: kbs[kb_id].edition_id for kb_id in known}, routes


def among(known: Mapping[str, KbKnowledge], kb_ids: frozenset[str]) -> Knowledge:
    return DeskKnowledge([part for kb_id, part in known.items() if kb_id in kb_ids])
