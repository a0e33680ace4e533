"""What a model is sent of the passages: relevant sentences within a token budget."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from fontanel.core.answering.composing.asked import Scored
from fontanel.core.answering.composing.statements import Statement, planted
from fontanel.core.answering.evidence import EvidencePassage

#: Tokens of the markup around a source: its number, title and place.
_FRAME = 30
#: A passage this little longer than its chosen parts is sent whole.
_CHEAP = 40
GAP = " … "


@dataclass(frozen=True, slots=True)
class Source:
    """A passage as a model sees it: its number and chosen parts, with gaps marked."""

    number: int
    passage: EvidencePassage
    text: str
    tokens: int


@dataclass(frozen=True, slots=True)
class Context:
    """The packed sources, best first; `left_out` are sentences that address the model."""

    sources: tuple[Source, ...]
    tokens: int
    left_out: tuple[tuple[str, str], ...] = ()


def tokens_of(text: str) -> int:
    """Estimate the tokens of a text, erring on the high side.

    Four characters of English per token; other scripts by their bytes. What a server counts is
    recorded instead, when it does.
    """
    return math.ceil(len(text.encode()) / 3.6)


def pack(ranked: Sequence[Scored], passages: Sequence[EvidencePassage], budget: int) -> Context:
    """Fill the budget with the best statements, each with its neighbours if they fit.

    Args:
        ranked: The statements of the passages, best first.

    A passage of which little is missing is completed. Sources are in the order of their best
    statement.
    """
    order = list(dict.fromkeys(item.statement.passage.passage_id for item in ranked))
    by_id = {passage.passage_id: passage for passage in passages}
    first = [by_id[key] for key in order if key in by_id]
    packer = _Packer([*first, *(p for p in passages if p.passage_id not in order)], ranked, budget)
    for item in ranked:
        if not packer.take_around(item.statement):
            break
    return packer.context()


class _Packer:
    def __init__(
        self, passages: Sequence[EvidencePassage], ranked: Sequence[Scored], budget: int
    ) -> None:
        self._passages = passages
        self._left = budget
        self._units: dict[int, list[Statement]] = {passage.passage_id: [] for passage in passages}
        for item in sorted(ranked, key=lambda item: item.statement.start):
            self._units[item.statement.passage.passage_id].append(item.statement)
        self._taken: dict[int, set[int]] = {passage.passage_id: set() for passage in passages}
        self._left_out: list[tuple[str, str]] = []

    def take_around(self, statement: Statement) -> bool:
        """Take a statement and its neighbours; return False when the budget is used up."""
        passage = statement.passage
        units = self._units[passage.passage_id]
        place = next((n for n, unit in enumerate(units) if unit.start == statement.start), None)
        if place is not None:
            self._take(passage, place)
            for near in (place + 1, place - 1):
                if 0 <= near < len(units) and units[near].part == statement.part:
                    self._take(passage, near)
            if (leads := self._lead_of(units, place)) is not None:
                self._take(passage, leads)
        return self._left > _FRAME

    def _lead_of(self, units: list[Statement], place: int) -> int | None:
        """The sentence that leads into the list that a statement is of."""
        unit = units[place]
        if unit.kind != "item":
            return None
        before = [n for n in range(place) if units[n].part == unit.part - 1]
        return before[-1] if before and units[before[-1]].text.endswith(":") else None

    def _take(self, passage: EvidencePassage, place: int) -> None:
        taken = self._taken[passage.passage_id]
        unit = self._units[passage.passage_id][place]
        # One more for the separator between it and the next.
        cost = tokens_of(unit.text) + 1 + (0 if taken else _FRAME)
        if place in taken or cost > self._left:
            return
        taken.add(place)
        self._left -= cost

    def context(self) -> Context:
        sources: list[Source] = []
        for passage in self._passages:
            units = self._units[passage.passage_id]
            self._left_out += [(passage.title, unit.text) for unit in planted(passage)]
            taken = sorted(self._taken[passage.passage_id])
            if not taken:
                continue
            missing = [n for n in range(len(units)) if n not in taken]
            if missing and sum(tokens_of(units[n].text) for n in missing) <= min(
                _CHEAP, self._left
            ):
                self._left -= sum(tokens_of(units[n].text) for n in missing)
                taken = sorted({*taken, *missing})
            text = _joined(units, taken)
            sources.append(Source(len(sources) + 1, passage, text, _FRAME + tokens_of(text)))
        return Context(
            tuple(sources), sum(source.tokens for source in sources), tuple(self._left_out)
        )


def _joined(units: Sequence[Statement], taken: Sequence[int]) -> str:
    """Return the chosen statements in order, with gaps marked."""
    text = ""
    for position, place in enumerate(taken):
        unit = units[place]
        lined = unit.kind != "sentence" or (
            position and units[taken[position - 1]].part != unit.part
        )
        if position:
            gap = place != taken[position - 1] + 1
            text += (GAP.rstrip() if gap else "") + ("\n" if lined else " ")
        text += f"- {unit.text}" if unit.kind == "item" else unit.text
    return text
