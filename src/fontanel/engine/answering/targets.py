"""The target of a question: a desk in one of its versions, or a knowledge base."""

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
    FlaggedAnswers,
    Grounding,
    Knowledge,
    Layout,
    Length,
    Route,
    UnsupportedStatements,
)
from fontanel.core.evidence import WindowScore, WindowText
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.answering.retrieval import KbKnowledge
from fontanel.engine.editions.store import Editions
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Desk, DeskVersion, Edition, Kb

#: Settings of a desk as they are stored.
StoredSettings = Mapping[str, Any]

#: Stored settings that the core uses unchanged.
_PLAIN_SETTINGS = (
    "passages",
    "documents",
    "evidence_needed",
    "approved_needed",
    "language",
    "context_tokens",
    "answer_tokens",
    "temperature",
    "instructions",
    "purpose",
    "greeting",
)


@dataclass(frozen=True, slots=True)
class TargetKb:
    """A knowledge base that is asked, and how it is narrowed."""

    kb_id: str
    use_for: str = ""
    tags: Mapping[str, str] = field(default_factory=dict)
    documents: Sequence[str] | None = None
    edition_id: str | None = None
    """An edition other than the active one."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """What is asked."""

    team_id: str
    kbs: tuple[TargetKb, ...]
    settings: AnswerSettings
    kb_id: str | None = None
    """The knowledge base, where one is asked directly."""
    desk_id: str | None = None
    version: int | None = None
    """The desk's version; None for its draft."""
    model: str | None = None
    link_tags: tuple[str, ...] = ()
    stored: StoredSettings | None = None
    """The desk's settings, as the turn records them."""


def kb_target(kb: Kb, tags: Mapping[str, str], documents: Sequence[str] | None) -> Target:
    """Return a single knowledge base as a target."""
    part = TargetKb(kb.id, "", tags, documents)
    return Target(team_id=kb.team_id, kbs=(part,), settings=AnswerSettings(), kb_id=kb.id)


def desk_target(
    desk: Desk, stored: StoredSettings, version: int | None, reachable: frozenset[str]
) -> Target:
    """Return a desk under stored settings, without kbs that are gone or not reachable."""
    kbs = tuple(
        TargetKb(part["kb"], part.get("use_for", ""), part.get("tags") or {})
        for part in stored.get("kbs", ())
        if part["kb"] in reachable
    )
    return Target(
        team_id=desk.team_id,
        kbs=kbs,
        settings=answer_settings(desk.name, stored),
        desk_id=desk.id,
        version=version,
        model=stored.get("model"),
        link_tags=tuple(stored.get("link_tags", ())),
        stored=stored,
    )


def answer_settings(name: str, stored: StoredSettings) -> AnswerSettings:
    """Return the core's settings from those that a desk stores."""
    plain = {key: stored[key] for key in _PLAIN_SETTINGS if key in stored}
    defaults = AnswerSettings()
    return replace(
        AnswerSettings(**plain, name=name),
        grounding=Grounding(stored.get("grounding", defaults.grounding)),
        length=Length(stored.get("length", defaults.length)),
        layout=Layout(stored.get("layout", defaults.layout)),
        flagged=FlaggedAnswers(stored.get("flagged", defaults.flagged)),
        unsupported=UnsupportedStatements(stored.get("unsupported", defaults.unsupported)),
    )


def version_of(session: Session, desk: Desk, number: int) -> DeskVersion | None:
    """Return a published version of a desk by its number."""
    return session.scalar(
        select(DeskVersion).where(DeskVersion.desk_id == desk.id, DeskVersion.number == number)
    )


def published_version(session: Session, desk: Desk) -> DeskVersion | None:
    """Return the version of a desk that is published; None if none is."""
    return None if desk.published is None else version_of(session, desk, desk.published)


class CombinedKnowledge:
    """Several knowledge bases as one: passages of all, best match first."""

    def __init__(self, parts: Sequence[KbKnowledge]) -> None:
        self._parts = parts

    def retrieve(self, question: str, limit: int) -> list[EvidencePassage]:
        """Return the best passages of all parts.

        The relevance is comparable across knowledge bases, scores are not; within one, its own
        order is kept.
        """
        if len(self._parts) == 1:
            return self._parts[0].retrieve(question, limit)
        queues = [part.retrieve(question, limit) for part in self._parts]
        merged: list[EvidencePassage] = []
        while len(merged) < limit and any(queues):
            best = max((queue for queue in queues if queue), key=lambda queue: queue[0].match)
            merged.append(best.pop(0))
        return merged

    def terms(self, text: str) -> list[str]:
        """Return the index terms of a text, in any part."""
        return list(dict.fromkeys(term for part in self._parts for term in part.terms(text)))

    def idf(self, term: str) -> float:
        """Return a term's weight where it is most frequent.

        That a part lacks a term does not make the term more informative.
        """
        return min((part.idf(term) for part in self._parts), default=0.0)

    def embed(self, texts: Sequence[str]) -> npt.NDArray[np.float32] | None:
        """Return unit vectors; None when one of the parts has keyword search only."""
        if not self._parts or any(part.keyword_only for part in self._parts):
            return None
        return self._parts[0].embed(texts)

    def whole(self, passage: EvidencePassage) -> Sequence[EvidencePassage]:
        """Return all passages of a passage's document, in order; none if there are too many."""
        return next(
            (part.whole(passage) for part in self._parts if part.kb_id == passage.kb_id), ()
        )

    def score(self, question: str, windows: Sequence[WindowText]) -> list[WindowScore] | None:
        """Return the evidence model's scores; None without one."""
        return self._parts[0].score(question, windows) if self._parts else None


@dataclass(frozen=True, slots=True)
class TargetKnowledge:
    """The knowledge bases of a target as they are at one moment."""

    parts: dict[str, KbKnowledge]
    editions: dict[str, str]
    """The active edition of each knowledge base."""
    routes: list[Route]


def target_knowledge(
    scope: TeamScope, kbs: Sequence[TargetKb], editions: Editions, local_models: LocalModels
) -> TargetKnowledge:
    """Open the knowledge bases of a target; those that are gone are left out."""
    session = scope.session
    requested = scope.select(Kb).where(Kb.id.in_([part.kb_id for part in kbs]))
    by_id = {kb.id: kb for kb in session.scalars(requested)}
    knowledge = TargetKnowledge({}, {}, [])
    for part in kbs:
        if (kb := by_id.get(part.kb_id)) is None:
            continue
        edition = session.get_one(Edition, part.edition_id or kb.edition_id)
        knowledge.parts[kb.id] = KbKnowledge(
            scope=scope,
            kb=kb,
            snapshot=editions.snapshot(edition.id),
            embedder=edition.embedder,
            local_models=local_models,
            tags=part.tags,
            documents=part.documents,
        )
        knowledge.editions[kb.id] = edition.id
        knowledge.routes.append(Route(kb.id, kb.name, part.use_for))
    return knowledge


def combined(parts: Mapping[str, KbKnowledge], kb_ids: frozenset[str]) -> Knowledge:
    """Return some of the parts as one knowledge."""
    return CombinedKnowledge([part for kb_id, part in parts.items() if kb_id in kb_ids])
