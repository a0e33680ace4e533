"""Group questions as they come in: a background step takes those that no gap has yet."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import groupby

import numpy as np
from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session

from fontanel.core.arrays import Floats
from fontanel.core.gaps import Grouping, Unanswered, central
from fontanel.core.text.analysis import fold
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.notices.notify import emit
from fontanel.errors import NotFound
from fontanel.records.ids import new_id
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Gap, GapQuestion, GapState, now
from fontanel.records.unit_of_work import Records

#: Questions that are grouped in one unit of work.
_BATCH = 256
#: Questions of a gap among which the most central is looked for, newest first.
_CENTRAL_OF = 500


@dataclass(slots=True)
class _TeamGroups:
    """The groups of a team in memory, and which questions they have."""

    stamp: tuple[int, int]
    grouping: Grouping
    gaps: list[str] = field(default_factory=list)
    """The gap of each group."""


class GapGroups:
    """Groups new questions; the team that was last grouped is kept in memory."""

    def __init__(self, records: Records, local_models: LocalModels) -> None:
        self._records = records
        self._local_models = local_models
        self._loaded: tuple[str, _TeamGroups] | None = None

    def group_next(self) -> bool:
        """Group a batch of questions of a team; return whether there were any."""
        with self._records.reading() as session:
            first = session.scalar(_pending().limit(1))
            if first is None:
                return False
            own = _pending().where(GapQuestion.team_id == first.team_id)
            rows = session.scalars(own.limit(_BATCH)).all()
        texts = [row.question for row in rows]
        vectors = self._local_models.embed(self._local_models.name, texts)
        with self._records.writing() as session:
            # Those that were deleted in the meantime are left out.
            stored = [session.get(GapQuestion, row.key) for row in rows]
            if vectors is None:
                _group_equal(session, [row for row in stored if row is not None])
                return True
            known = [
                (row, vector)
                for row, vector in zip(stored, vectors, strict=True)
                if row is not None and row.gap_id is None
            ]
            self._group(session, first.team_id, known)
        return True

    def _group(
        self, session: Session, team_id: str, questions: Sequence[tuple[GapQuestion, Floats]]
    ) -> None:
        if not questions:
            return
        groups = self._groups_of(session, team_id)
        assigned = groups.grouping.add([_unanswered(row, vector) for row, vector in questions])
        for (row, vector), group in zip(questions, assigned, strict=True):
            row.vector, row.embedder = _stored(vector), self._local_models.name
            if group == len(groups.gaps):
                groups.gaps.append(_new_gap(session, row).id)
            row.gap_id = groups.gaps[group]
        session.flush()
        for gap_id in dict.fromkeys(row.gap_id for row, _ in questions):
            assert gap_id is not None
            _refresh(session, session.get_one(Gap, gap_id), [row for row, _ in questions])
        groups.stamp = _stamp(session, team_id, self._local_models.name)

    def _groups_of(self, session: Session, team_id: str) -> _TeamGroups:
        """Return a team's groups as they are stored, from memory where nothing else changed."""
        name = self._local_models.name
        stamp = _stamp(session, team_id, name)
        if self._loaded is not None and self._loaded[0] == team_id:
            groups = self._loaded[1]
            if groups.stamp == stamp:
                return groups
        query = select(GapQuestion).where(
            GapQuestion.team_id == team_id,
            GapQuestion.gap_id.is_not(None),
            GapQuestion.embedder == name,
        )
        rows = session.scalars(query.order_by(GapQuestion.key)).all()
        gaps = list(dict.fromkeys(row.gap_id for row in rows if row.gap_id is not None))
        places = {gap_id: place for place, gap_id in enumerate(gaps)}
        grouping = Grouping(
            [_unanswered(row, vector_of(row)) for row in rows],
            [places[row.gap_id] for row in rows if row.gap_id is not None],
        )
        groups = _TeamGroups(stamp, grouping, gaps)
        self._loaded = (team_id, groups)
        return groups


def _pending() -> Select[GapQuestion]:
    return select(GapQuestion).where(GapQuestion.gap_id.is_(None)).order_by(GapQuestion.key)


def _stamp(session: Session, team_id: str, embedder: str | None) -> tuple[int, int]:
    """Return what differs when other questions are grouped, or in other groups."""
    query = select(func.count(), func.max(GapQuestion.key)).where(
        GapQuestion.team_id == team_id,
        GapQuestion.gap_id.is_not(None),
        GapQuestion.embedder == embedder,
    )
    count, last = session.execute(query).one()
    return count, last or 0


def _unanswered(row: GapQuestion, vector: Floats) -> Unanswered:
    return Unanswered(vector, tuple(row.found))


def _stored(vector: Floats) -> bytes:
    return vector.astype(np.float16).tobytes()


def vector_of(row: GapQuestion) -> Floats:
    """Return the stored embedding of a question."""
    assert row.vector is not None
    return np.frombuffer(row.vector, dtype=np.float16).astype(np.float32)


def _new_gap(session: Session, row: GapQuestion) -> Gap:
    gap = Gap(
        id=new_id("gap"),
        team_id=row.team_id,
        question=row.question,
        state=GapState.OPEN,
        comments=[],
        checked_at=row.asked_at,
    )
    session.add(gap)
    session.flush()
    data = {"gap": gap.id, "question": gap.question, "desk": row.desk_id, "kbs": row.kb_ids}
    emit(session, row.team_id, "gap.opened", f"Not answered well: {gap.question}", data)
    return gap


def _refresh(session: Session, gap: Gap, new: Sequence[GapQuestion]) -> None:
    """Name a gap by its most central question; open it if it is asked again."""
    query = select(GapQuestion).where(GapQuestion.gap_id == gap.id)
    rows = session.scalars(query.order_by(GapQuestion.key.desc()).limit(_CENTRAL_OF)).all()
    known = [row for row in rows if row.vector is not None]
    if known:
        gap.question = known[central(np.stack([vector_of(row) for row in known]))].question
    later = [row for row in new if row.gap_id == gap.id and row.asked_at > gap.changed_at]
    if gap.state == GapState.RESOLVED and later:
        gap.state, gap.answer = GapState.OPEN, None
        gap.resolution = gap.resolved_by = ""
        data = {"gap": gap.id, "question": gap.question, "again": True}
        emit(session, gap.team_id, "gap.opened", f"Asked again: {gap.question}", data)
    gap.changed_at = now()


def _group_equal(session: Session, rows: Sequence[GapQuestion]) -> None:
    """Without an embedder, only equal questions are one gap."""
    for text, same in groupby(sorted(rows, key=_plain), key=_plain):
        asked = [row for row in same if row.gap_id is None]
        if not asked:
            continue
        gaps = session.scalars(select(Gap).where(Gap.team_id == asked[0].team_id))
        gap = next((one for one in gaps if fold(one.question) == text), None)
        gap = gap or _new_gap(session, asked[0])
        for row in asked:
            row.gap_id = gap.id
        session.flush()
        _refresh(session, gap, asked)


def _plain(row: GapQuestion) -> str:
    return fold(row.question)


def take_out(session: Session, row: GapQuestion) -> Gap:
    """Move a question that asks for something else into a gap of its own."""
    old = row.gap_id
    gap = _new_gap(session, row)
    row.gap_id = gap.id
    session.flush()
    if old is not None:
        _refresh(session, session.get_one(Gap, old), [])
    return gap


def find_gap(scope: TeamScope, ref: str) -> Gap:
    """Return a gap of a team that has questions.

    Raises:
        NotFound: there is none.
    """
    asked = select(GapQuestion.key).where(GapQuestion.gap_id == Gap.id)
    result = scope.session.scalar(scope.select(Gap).where(Gap.id == ref, asked.exists()))
    if result is None:
        raise NotFound("gap", ref)
    return result
