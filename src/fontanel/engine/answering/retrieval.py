"""Retrieval over the records: a snapshot's results joined with their documents."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from functools import cached_property

import numpy as np
import numpy.typing as npt
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.answering import EvidencePassage
from fontanel.core.answering.composing.judging import CANDIDATES, Judgement, judge
from fontanel.core.answering.evidence import probability
from fontanel.core.embedding.comparable import Scale
from fontanel.core.evidence import WindowScore, WindowText
from fontanel.core.index import Candidate, Mode, Query, Snapshot
from fontanel.core.index.operators import parse
from fontanel.core.passages.splitting import Locator, PassagePart
from fontanel.core.validity import Outdated, asks_for_earlier, years_in
from fontanel.engine.answering.local_models import LocalModels, Owner
from fontanel.engine.documents.outdated import outdated_documents
from fontanel.facts import KEYWORD_WEIGHT, OutdatedRanking
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Document, Kb, PassageRow, Revision, Validity

#: Passages of a document that is read whole, for its tables.
_MAX_WHOLE = 1_000
#: The boost of the newest document when newer ones are preferred, and its half-life in days.
_NEWER = 0.15
_HALF_LIFE_DAYS = 180.0
#: The boost of a document that is not in force, where those rank lower.
_OUTDATED = 0.5


@dataclass(frozen=True, slots=True)
class Hit:
    """A passage found, with its document.

    `also` are other documents that say the same; `merged` the passages merged with it, in order;
    `relevance` is the evidence model's, 0-1.
    """

    candidate: Candidate
    document: Document
    passage: EvidencePassage
    also: tuple[Document, ...] = ()
    merged: tuple[PassageRow, ...] = ()
    relevance: float | None = None


def _ranked(hits: Sequence[Hit], judgement: Judgement) -> list[Hit]:
    """Return hits in the order that the evidence model and their match give together."""
    by_id = {hit.passage.passage_id: hit for hit in hits}
    ranked = []
    for passage in judgement.ranked([hit.passage for hit in hits]):
        logit = judgement.passages.get(passage.passage_id)
        hit = by_id[passage.passage_id]
        ranked.append(replace(hit, relevance=None if logit is None else probability(logit)))
    return ranked


@dataclass(frozen=True, slots=True)
class Options:
    """Options of a search.

    `operators`: quotes, + and - are operators. `keyword_weight`: the share of keywords in the
    score, calibrated by default. `prefer_newer` raises recently changed documents. `boosts`
    multiplies the scores of documents with a tag, by ("key", "value"). With `deep` the evidence
    model ranks the best passages.
    """

    mode: Mode = Mode.HYBRID
    limit: int = 10
    per_document: int = 3
    operators: bool = False
    keyword_weight: float | None = None
    prefer_newer: bool = False
    boosts: Mapping[tuple[str, str], float] = field(default_factory=dict)
    join: bool = False
    explain: bool = False
    deep: bool = False


@dataclass(frozen=True, slots=True)
class Results:
    """The results of a search: hits, idf of terms, corrected words, passages scored.

    `deep` says whether the evidence model took part.
    """

    hits: list[Hit]
    weights: Mapping[str, float]
    corrected: Mapping[str, list[str]]
    scored: int
    deep: bool = False


class KbKnowledge:
    """One knowledge base as answering sees it, within one session.

    Args:
        tags: Only search documents with these tags.
        documents: Only search these documents (ids or names).
    """

    def __init__(
        self,
        *,
        scope: TeamScope,
        kb: Kb,
        snapshot: Snapshot,
        embedder: str | None,
        local_models: LocalModels,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
    ) -> None:
        self._scope = scope
        self._kb = kb
        self._snapshot = snapshot
        self._embedder = embedder
        self._local_models = local_models
        self._filters = (tags or {}, documents or ())
        self.document_ids: frozenset[str] | None = None
        """The documents that are searched; None means all."""
        self._documents = self._filter(scope.session, tags or {}, documents)
        self._idf: dict[str, float] = {}
        self._scale = local_models.scale(embedder)
        #: Whether the last search had no vector for its question.
        self._without_vector = self._scale is None

    def _filter(
        self, session: Session, tags: Mapping[str, str], documents: Sequence[str] | None
    ) -> npt.NDArray[np.int64] | None:
        if not tags and not documents:
            return None
        query = self._scope.select(Document).where(Document.kb_id == self._kb.id)
        if documents:
            query = query.where(Document.id.in_(documents) | Document.name.in_(documents))
        for tag, value in tags.items():
            query = query.where(Document.key.in_(self._scope.keys_with_tag(self._kb, tag, value)))
        found = session.scalars(query).all()
        self.document_ids = frozenset(document.id for document in found)
        return np.array([document.key for document in found], dtype=np.int64)

    def unmatched_filters(self) -> list[str]:
        """Return the filters that match no document by themselves: `key=value`, or a name."""
        session = self._scope.session
        tags, documents = self._filters
        unmatched = [
            f"{tag}={value}"
            for tag, value in tags.items()
            if session.scalar(self._scope.keys_with_tag(self._kb, tag, value).limit(1)) is None
        ]
        for ref in documents:
            named = self._scope.select(Document).where(
                Document.kb_id == self._kb.id, (Document.id == ref) | (Document.name == ref)
            )
            if session.scalar(named.limit(1)) is None:
                unmatched.append(ref)
        return unmatched

    @property
    def keyword_only(self) -> bool:
        """Whether no vectors take part: there is no embedder, or it is away."""
        return self._embedder is None or self._without_vector

    def search(self, question: str, options: Options) -> Results:
        """Search; without an embedder, by keywords only."""
        vector = None
        mode = options.mode
        demoted = self._demoted(question)
        if mode != Mode.LEXICAL:
            plain = parse(question).words if options.operators else question
            owner = Owner(self._kb.team_id, self._kb.id)
            vector = self._local_models.embed_question(self._embedder, plain or question, owner)
            self._without_vector = vector is None
        if vector is None:
            mode = Mode.LEXICAL
        weight = KEYWORD_WEIGHT if options.keyword_weight is None else options.keyword_weight
        query = Query(
            question,
            vector,
            mode,
            max(options.limit, CANDIDATES) if options.deep else options.limit,
            self._documents,
            per_document=options.per_document,
            operators=options.operators,
            keyword_weight=weight,
            without=self._excluded(),
            boosts=self._boosts(options, demoted),
            join=options.join,
            explain=options.explain,
            scale=self._scale or Scale(),
        )
        result = self._snapshot.find(query)
        hits = self._joined(result.candidates, demoted)
        judgement = None
        if options.deep:
            judgement = judge(question, [hit.passage for hit in hits[:CANDIDATES]], self)
        if judgement is not None:
            hits = _ranked(hits, judgement)
        return Results(
            hits[: options.limit],
            result.weights,
            result.corrected,
            result.scored,
            judgement is not None,
        )

    @cached_property
    def _outdated(self) -> Mapping[int, Outdated]:
        """Why documents are not in force, by their keys."""
        return outdated_documents(self._scope.session, self._kb.id)

    def _excluded(self) -> npt.NDArray[np.int64] | None:
        """Return the keys of documents that are not searched as they are not in force."""
        if self._kb.outdated != OutdatedRanking.EXCLUDE or not self._outdated:
            return None
        return np.array(sorted(self._outdated), dtype=np.int64)

    def _demoted(self, question: str) -> frozenset[int]:
        """Return the keys of outdated documents that rank lower for a question.

        Those with a year in their title that the question names do not, and none does if it asks
        for what was in force before.
        """
        if (
            self._kb.outdated != OutdatedRanking.LOWER
            or not self._outdated
            or asks_for_earlier(question)
        ):
            return frozenset()
        demoted = frozenset(self._outdated)
        for year in years_in(question):
            dated = self._scope.select(Document).where(
                Document.kb_id == self._kb.id, Document.title.contains(year)
            )
            demoted -= {document.key for document in self._scope.session.scalars(dated)}
        return demoted

    def _boosts(self, options: Options, demoted: Collection[int]) -> dict[int, float]:
        """The factor of each document's scores, for those that have one."""
        factors: dict[int, float] = dict.fromkeys(demoted, _OUTDATED)
        session = self._scope.session
        for (tag, value), factor in options.boosts.items():
            for key in session.scalars(self._scope.keys_with_tag(self._kb, tag, value)):
                factors[key] = factors.get(key, 1.0) * factor
        if options.prefer_newer:
            query = select(Document.key, Revision.created_at).join(
                Revision, Revision.id == Document.revision_id
            )
            rows = session.execute(query.where(Document.kb_id == self._kb.id)).all()
            newest = max((at for _, at in rows), default=None)
            for key, at in rows:
                assert newest is not None
                age = (newest - at).total_seconds() / 86_400
                factors[key] = factors.get(key, 1.0) * (
                    1.0 + _NEWER * 0.5 ** (age / _HALF_LIFE_DAYS)
                )
        return factors

    def _joined(self, candidates: Sequence[Candidate], demoted: Collection[int]) -> list[Hit]:
        """Candidates with their passages and documents."""
        session = self._scope.session
        rows = {
            row.id: row
            for row in session.scalars(
                self._scope.select(PassageRow).where(
                    PassageRow.id.in_(
                        [key for hit in candidates for key in (hit.passage_id, *hit.merged)]
                    )
                )
            )
        }
        keys = {row.document_key for row in rows.values()} | {
            key for hit in candidates for _, key in hit.also
        }
        documents = {
            d.key: d
            for d in session.scalars(self._scope.select(Document).where(Document.key.in_(keys)))
        }
        about = self._languages_and_dates({row.revision_id for row in rows.values()})
        hits = []
        for candidate in candidates:
            row = rows.get(candidate.passage_id)
            document = documents.get(row.document_key) if row else None
            if row is None or document is None:
                continue  # left between the snapshot and the look-up
            others = dict.fromkeys(
                key for _, key in candidate.also if key != document.key and key in documents
            )
            also = tuple(documents[key] for key in others)
            language, dated = about.get(row.revision_id, ("en", None))
            passage = EvidencePassage(
                passage_id=row.id,
                document_id=document.id,
                revision_id=row.revision_id,
                title=document.title,
                text=row.text,
                start=row.start,
                locator=Locator.from_dict(row.locator),
                match=candidate.match,
                similarity=candidate.similarity,
                context=row.context,
                parts=tuple(PassagePart(**part) for part in row.parts),
                language=language,
                terms=candidate.terms,
                kb_id=self._kb.id,
                also=tuple(other.title for other in also),
                outdated=self._outdated.get(document.key),
                demoted=document.key in demoted,
                dated=dated,
            )
            merged = tuple(rows[key] for key in candidate.merged if key in rows)
            hits.append(Hit(candidate, document, passage, also, merged))
        return hits

    def _languages_and_dates(
        self, revisions: Collection[str]
    ) -> dict[str, tuple[str, date | None]]:
        """Return the language of revisions, and the days from which their documents apply.

        That is the day that the document says, else the first date at its beginning.
        """
        query = (
            select(Revision.id, Revision.language, Revision.opening_dates, Validity.in_force_from)
            .outerjoin(Validity, Validity.document_key == Revision.document_key)
            .where(Revision.id.in_(revisions), Revision.team_id == self._scope.team_id)
        )
        return {
            key: (language or "en", begins or (date.fromisoformat(dates[0]) if dates else None))
            for key, language, dates, begins in self._scope.session.execute(query)
        }

    # What `core.answering.Knowledge` asks for

    def retrieve(self, question: str, limit: int) -> list[EvidencePassage]:
        result = self.search(question, Options(limit=limit, per_document=4))
        return [hit.passage for hit in result.hits]

    def terms(self, text: str) -> list[str]:
        return self._snapshot.query_terms(text)

    def idf(self, term: str) -> float:
        if term not in self._idf:
            self._idf[term] = self._snapshot.idf(term)
        return self._idf[term]

    def embed(self, texts: Sequence[str]) -> npt.NDArray[np.float32] | None:
        """Return vectors of texts by the service's own embedder, whatever the edition's is.

        Scores of statements are calibrated for it, and nothing has to be sent anywhere.
        """
        if self._embedder is None:
            return None
        return self._local_models.embed(self._local_models.name, texts)

    @property
    def kb_id(self) -> str:
        return self._kb.id

    def whole(self, passage: EvidencePassage) -> Sequence[EvidencePassage]:
        own = self._scope.select(PassageRow).where(PassageRow.id == passage.passage_id)
        found = self._scope.session.scalar(own)
        if found is None:
            return ()
        query = (
            self._scope.select(PassageRow)
            .where(
                PassageRow.edition_id == found.edition_id,
                PassageRow.document_key == found.document_key,
            )
            .order_by(PassageRow.ordinal)
            .limit(_MAX_WHOLE + 1)
        )
        rows = self._scope.session.scalars(query).all()
        if len(rows) > _MAX_WHOLE:
            return ()
        return [
            replace(
                passage,
                passage_id=row.id,
                text=row.text,
                start=row.start,
                locator=Locator.from_dict(row.locator),
                context=row.context,
                parts=tuple(PassagePart(**part) for part in row.parts),
            )
            for row in rows
        ]

    def score(self, question: str, windows: Sequence[WindowText]) -> list[WindowScore] | None:
        return self._local_models.score(question, windows)
