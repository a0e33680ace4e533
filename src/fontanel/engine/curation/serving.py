"""Serving approved answers: each knowledge base's set, in memory, as of its last change."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime

import numpy as np
import numpy.typing as npt
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.core.answering import (
    AnswerSettings,
    Approval,
    ApprovedAnswer,
    ApprovedFound,
    Choice,
    Citation,
    FlaggedAnswers,
)
from fontanel.core.answering.evidence import Knowledge
from fontanel.core.curation import ApprovedSet, ApprovedText, Match
from fontanel.core.curation.following import TextChange
from fontanel.core.embedding.encoder import text_key
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.curation.approved import Place
from fontanel.facts import APPROVED_OFFERED
from fontanel.records.tables import ApprovedAnswer as ApprovedRow
from fontanel.records.tables import ApprovedFlag, ApprovedState, FlagState, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache

#: Knowledge bases whose approved answers are kept in memory.
_MAX_SETS = 50
#: Texts that a question waits for to be embedded; the others are embedded in the background.
_MAX_WAITED, _BATCH = 64, 64
_WORST_FIRST = (TextChange.CONTRADICTED, TextChange.REMOVED, TextChange.REWORDED)
#: Choices that are offered with an answer.
_MAX_CHOICES = 3


@dataclass(frozen=True, slots=True)
class Candidate:
    """An approved answer that may answer a question, and what became of its text."""

    match: Match
    row: ApprovedRow
    change: str = ""


@dataclass(frozen=True, slots=True)
class _Loaded:
    """The approved answers of a knowledge base that are valid on a day."""

    stamp: tuple[object, ...]
    rows: dict[str, ApprovedRow]
    approved: ApprovedSet
    changes: dict[str, str]
    """What became of the text of those with open flags."""
    complete: bool
    """Whether all texts are embedded."""


@dataclass(slots=True)
class _Waiting:
    """Texts to embed, by team and embedder."""

    texts: dict[tuple[str, str, str], None] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)


class ApprovedStore:
    """The approved answers of all knowledge bases; what is asked for is kept in memory."""

    def __init__(self, records: Records, vectors: VectorCache, local_models: LocalModels) -> None:
        self._records = records
        self._vectors = vectors
        self._local_models = local_models
        self._lock = threading.Lock()
        self._sets: OrderedDict[str, _Loaded] = OrderedDict()
        self._waiting = _Waiting()

    def of(self, team_id: str, kbs: Mapping[str, frozenset[str] | None]) -> KbApproved:
        """Return the approved answers of some knowledge bases of a team.

        Args:
            kbs: The ids of the documents that may be used, by knowledge base; None means all.
        """
        return KbApproved(self, team_id, kbs)

    def embed_next(self) -> bool:
        """Embed a batch of texts that wait; return whether there were any."""
        with self._waiting.lock:
            first = next(iter(self._waiting.texts), None)
            if first is None:
                return False
            batch = [key for key in self._waiting.texts if key[:2] == first[:2]][:_BATCH]
        self._embed(first[0], first[1], [text for _, _, text in batch])
        with self._waiting.lock:
            for key in batch:
                self._waiting.texts.pop(key, None)
        return True

    def loaded(self, team_id: str, kb_id: str) -> _Loaded | None:
        """Return a knowledge base's approved answers as of now; None if it has none."""
        with self._records.reading() as session:
            # By the service's own embedder, for which scores are calibrated.
            stamp = _stamp(session, self._local_models.name, team_id, kb_id)
            if stamp is None:
                return None
            with self._lock:
                current = self._sets.get(kb_id)
                if current is not None:
                    self._sets.move_to_end(kb_id)
            if current is not None and current.stamp == stamp and current.complete:
                return current
            valid = _valid(session, team_id, kb_id)
            changes = worst_changes(session, team_id, kb_id)
        embedder = str(stamp[0]) if stamp[0] else None
        result = self._load(team_id, embedder, valid, changes, stamp)
        with self._lock:
            self._sets[kb_id] = result
            while len(self._sets) > _MAX_SETS:
                self._sets.popitem(last=False)
        return result

    def _load(
        self,
        team_id: str,
        embedder: str | None,
        valid: Sequence[ApprovedRow],
        changes: dict[str, str],
        stamp: tuple[object, ...],
    ) -> _Loaded:
        entries = [
            ApprovedText(row.id, row.question, tuple(row.phrasings), row.text) for row in valid
        ]
        known = self._known(team_id, embedder, ApprovedSet.texts(entries))
        ready = [e for e in entries if all(text in known for text in ApprovedSet.texts([e]))]
        ready_ids = {entry.id for entry in ready}
        # Those that are still being embedded are matched by equal wording alone.
        entries = [*ready, *(e for e in entries if e.id not in ready_ids)]
        vectors = [known[text] for text in ApprovedSet.texts(ready)]
        return _Loaded(
            stamp,
            {row.id: row for row in valid},
            ApprovedSet(entries, np.stack(vectors) if vectors else None, len(ready)),
            changes,
            complete=embedder is None or len(ready) == len(entries),
        )

    def _known(
        self, team_id: str, embedder: str | None, texts: Sequence[str]
    ) -> dict[str, npt.NDArray[np.float32]]:
        """Return the vectors of texts; a few are embedded now, many in the background."""
        if embedder is None:
            return {}
        keys = {text: text_key(embedder, text) for text in dict.fromkeys(texts)}
        cached = self._vectors.get(team_id, list(keys.values()))
        missing = [text for text, key in keys.items() if key not in cached]
        if len(missing) <= _MAX_WAITED:
            cached |= self._embed(team_id, embedder, missing)
        else:
            with self._waiting.lock:
                self._waiting.texts |= {(team_id, embedder, text): None for text in missing}
        return {text: cached[key] for text, key in keys.items() if key in cached}

    def _embed(
        self, team_id: str, embedder: str, texts: Sequence[str]
    ) -> dict[bytes, npt.NDArray[np.float32]]:
        vectors = self._local_models.embed(embedder, texts) if texts else None
        if vectors is None:
            return {}
        keys = [text_key(embedder, text) for text in texts]
        self._vectors.put(team_id, keys, vectors)
        return dict(zip(keys, vectors, strict=True))


class KbApproved:
    """The approved answers of some knowledge bases, as answering asks for them."""

    def __init__(
        self, store: ApprovedStore, team_id: str, kbs: Mapping[str, frozenset[str] | None]
    ) -> None:
        self._store = store
        self._team_id = team_id
        self._kbs = kbs

    def find(self, question: str, knowledge: Knowledge, settings: AnswerSettings) -> ApprovedFound:
        """Return the approved answer of a question, or choices."""
        needed = settings.approved_needed
        candidates = [
            candidate
            for candidate in self.matches(question, knowledge)
            if not _withheld(candidate.change, settings.flagged)
        ]
        if candidates and candidates[0].match.likelihood >= needed:
            return ApprovedFound(_served(candidates[0]))
        return ApprovedFound(
            None,
            tuple(
                Choice(one.row.id, one.row.question, one.match.likelihood)
                for one in candidates[:_MAX_CHOICES]
                if one.match.likelihood >= min(APPROVED_OFFERED, needed)
            ),
        )

    def matches(self, question: str, knowledge: Knowledge) -> list[Candidate]:
        """Return the approved answers that may answer a question, likeliest first."""
        candidates: list[Candidate] = []
        vector = None
        for kb_id, documents in self._kbs.items():
            loaded = self._store.loaded(self._team_id, kb_id)
            if loaded is None:
                continue
            if vector is None:
                vectors = knowledge.embed([question])
                vector = None if vectors is None else vectors[0]
            candidates += [
                Candidate(match, loaded.rows[match.id], loaded.changes.get(match.id, ""))
                for match in loaded.approved.matches(
                    question, vector, knowledge.terms, knowledge.score
                )
                if _rests_on(loaded.rows[match.id], documents)
            ]
        return sorted(candidates, key=lambda one: -one.match.likelihood)


def _rests_on(row: ApprovedRow, documents: frozenset[str] | None) -> bool:
    """Return whether all sources of an approved answer, and at least one, are these documents.

    What is limited to some documents must not reveal what was approved about others.
    """
    if documents is None:
        return True
    own = {place["document_id"] for place in row.places}
    return bool(own) and own <= documents


def _withheld(change: str, flagged: FlaggedAnswers) -> bool:
    """Return whether an approved answer is not served for what became of its text."""
    if flagged == FlaggedAnswers.WITHHOLD_CONTRADICTED:
        return change in (TextChange.CONTRADICTED, TextChange.REMOVED)
    return bool(change) and flagged == FlaggedAnswers.WITHHOLD


def worst_changes(session: Session, team_id: str, kb_id: str) -> dict[str, str]:
    """Return what became of the text of approved answers with open flags, by their id."""
    query = select(ApprovedFlag).where(
        ApprovedFlag.team_id == team_id,
        ApprovedFlag.kb_id == kb_id,
        ApprovedFlag.state == FlagState.OPEN,
    )
    results: dict[str, str] = {}
    for flag in session.scalars(query):
        before = results.get(flag.approved_id, flag.change)
        results[flag.approved_id] = min(before, flag.change, key=_WORST_FIRST.index)
    return results


def _stamp(
    session: Session, embedder: str | None, team_id: str, kb_id: str
) -> tuple[object, ...] | None:
    """Return what changes whenever the approved answers of a knowledge base do."""
    count, changed, followed = session.execute(
        select(
            func.count(), func.max(ApprovedRow.changed_at), func.max(ApprovedRow.followed_at)
        ).where(
            ApprovedRow.team_id == team_id,
            ApprovedRow.kb_id == kb_id,
            ApprovedRow.state == ApprovedState.APPROVED,
        )
    ).one()
    if not count:
        return None
    flags = session.execute(
        select(func.count(), func.max(ApprovedFlag.changed_at)).where(
            ApprovedFlag.team_id == team_id, ApprovedFlag.kb_id == kb_id
        )
    ).one()
    return embedder, count, changed, followed, *flags, _today()


def _valid(session: Session, team_id: str, kb_id: str) -> Sequence[ApprovedRow]:
    """Return the approved answers of a knowledge base that are valid today."""
    today = _today()
    return session.scalars(
        select(ApprovedRow)
        .where(
            ApprovedRow.team_id == team_id,
            ApprovedRow.kb_id == kb_id,
            ApprovedRow.state == ApprovedState.APPROVED,
            ApprovedRow.valid_from.is_(None) | (ApprovedRow.valid_from <= today),
            ApprovedRow.valid_until.is_(None) | (ApprovedRow.valid_until >= today),
        )
        .order_by(ApprovedRow.id)
    ).all()


def _today() -> date:
    moment: datetime = now()
    return moment.date()


def _served(candidate: Candidate) -> ApprovedAnswer:
    match, row = candidate.match, candidate.row
    approval = Approval(
        row.id,
        row.question,
        row.approved_by,
        row.approved_at,
        row.kb_id,
        row.version,
        candidate.change,
    )
    citations = [
        Citation(
            number=number,
            answer_start=0,
            answer_end=len(row.text),
            document_id=place.document_id,
            revision_id=place.revision_id,
            title=place.title,
            locator=place.locator,
            start=place.start,
            end=place.end,
            quote=place.quote,
            passage_id=0,
            match=match.likelihood,
            support=1.0,
            kb_id=row.kb_id,
        )
        for number, place in enumerate(map(Place.load, row.places), 1)
    ]
    return ApprovedAnswer(approval, row.text, tuple(citations), match.likelihood)
