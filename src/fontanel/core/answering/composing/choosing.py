"""Choose the statements that a composed answer quotes, with what they need to be understood."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from itertools import pairwise

from fontanel.core.answering.composing.asked import Question, Scored, exact_words
from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.composing.support import WORD
from fontanel.core.answering.question.required import names_another
from fontanel.core.answering.question.shape import Shape
from fontanel.core.answering.settings import STATEMENTS, Length

_ANAPHOR = re.compile(
    r"^(?:it|this|that|they|these|those|he|she|such|the same|both|otherwise|in (?:this|that)"
    r" case)\b",
    re.I,
)
#: "crane 5", which a question need not write as a name.
_WORD_WITH_NUMBER = re.compile(r"\b[^\W\d_]{3,} \d+[a-z]?\b")
#: How far behind the best statement others may be, next to it in its block and elsewhere.
_NEIGHBOUR_BEHIND, _BEHIND = 0.20, 0.14
#: How far behind the best statement the best step of a numbered list may be.
_STEPS_BEHIND = 0.25
#: Characters below which an answer of each length needs more context.
_SHORT = {Length.SHORT: 0, Length.MEDIUM: 170, Length.LONG: 500}
#: Characters below which the best sentence is followed by the next one in any case.
_CURT = 80
#: The share of common words above which two statements may say the same.
_SAME_WORDS = 0.7
#: Items of a list that is quoted whole.
_MAX_ITEMS = 14
#: Sentences that are added before one that begins with a pronoun, at most.
_MAX_ANTECEDENTS = 2


def choose(question: Question, ranked: list[Scored], length: Length) -> list[Statement]:
    """Return the statements to quote, in the order of the answer.

    Args:
        ranked: All statements, best first; not empty.
    """
    most = STATEMENTS[length]
    best = ranked[0]
    for item in ranked[:4] if question.shape == Shape.STEPS else ():
        if item.score >= best.score - _BEHIND and (steps := _numbered_steps(item, ranked)):
            return steps
    for item in ranked[:4]:
        if item.score >= best.score - 0.08 and (whole := _whole_list(question, item, ranked)):
            return whole
    chosen: list[Statement] = []
    named = question.named_in(best.statement.in_context) | _numbered(question, best.statement)
    for item in ranked[:12]:
        neighbour = (
            item.statement.passage is best.statement.passage
            and item.statement.part == best.statement.part
        )
        allowance = _NEIGHBOUR_BEHIND if neighbour else _BEHIND
        if len(chosen) == most or (chosen and item.score < best.score - allowance):
            continue
        if item.statement.text.endswith(":") and item is not best:
            continue  # a lead-in without its items says nothing
        if named and names_another(item.statement.in_context, question.exact | named):
            continue  # it is about another one
        if any(_repeats(item.statement, other) for other in chosen):
            continue
        chosen.append(item.statement)
    company = _with_company(
        _with_antecedents(chosen, ranked), best.statement, ranked, _SHORT[length]
    )
    return _in_order(_with_lists(company, ranked), ranked)


def _numbered(question: Question, statement: Statement) -> set[str]:
    """Return the words with a number ("crane 5 stop") that a statement has like the question."""
    text = statement.in_context.lower()
    return {
        name
        for name in _WORD_WITH_NUMBER.findall(question.own.lower())
        if re.search(rf"\b{re.escape(name)}\b", text)
    }


def _repeats(statement: Statement, other: Statement) -> bool:
    """Return whether a statement says the same as another, and about the same thing.

    "Berth 4 is 95 m long" does not repeat "Berth 2 is 80 m long", nor does one row another. What is
    said about a picture that two documents have repeats itself.
    """
    if statement.kind == "row" and statement.columns == other.columns:
        return statement.text == other.text
    picture = statement.locator.picture
    if picture is not None and picture == other.locator.picture:
        return statement.text == other.text
    words, others = (set(WORD.findall(s.text.lower())) for s in (statement, other))
    if not words or len(words & others) / len(words | others) <= _SAME_WORDS:
        return False
    return exact_words(statement.in_context) == exact_words(other.in_context)


def _numbered_steps(best: Scored, ranked: list[Scored]) -> list[Statement]:
    """Return the numbered list of the best statement's passage, with its lead-in.

    Who asks how wants the steps, even when a sentence next to them is closer.
    """
    passage = best.statement.passage
    near = [item for item in ranked if item.statement.passage is passage]
    for part in dict.fromkeys(
        item.statement.part for item in near if item.statement.kind == "item"
    ):
        items = [item for item in near if item.statement.part == part]
        start = passage.parts[part].start - passage.start
        if (
            not re.match(r"\s*\d", passage.text[start:])
            or max(item.score for item in items) < best.score - _STEPS_BEHIND
        ):
            continue
        lead = [
            item.statement
            for item in near
            if item.statement.part == part - 1 and item.statement.text.endswith(":")
        ]
        return [*lead[:1], *sorted((item.statement for item in items), key=lambda s: s.start)]
    return []


def _whole_list(question: Question, best: Scored, ranked: list[Scored]) -> list[Statement]:
    """Return the list with its lead-in, if the question asks for one."""
    statement = best.statement
    siblings = sorted(
        (item.statement for item in ranked if item.statement.passage is statement.passage),
        key=lambda s: s.start,
    )
    if statement.kind == "sentence" and statement.text.endswith(":"):
        items = [s for s in _led_by(statement, siblings) if s.kind == "item"]
        return [statement, *items[:_MAX_ITEMS]] if items else []
    if statement.kind == "item" and (
        question.shape in (Shape.STEPS, Shape.LIST)
        or (statement.lead and question.shape == Shape.FACT)
    ):
        items = [s for s in siblings if s.kind == "item" and s.part == statement.part]
        if len(items) > _MAX_ITEMS:
            return []
        lead = [s for s in siblings if s.part == statement.part - 1 and s.text.endswith(":")]
        return [*lead[-1:], *items]
    return []


def _led_by(lead: Statement, candidates: Sequence[Statement]) -> list[Statement]:
    """Return the items, or the code, that a sentence leads into."""
    return [
        s
        for s in candidates
        if s.passage is lead.passage and s.kind in ("item", "code") and s.part == lead.part + 1
    ]


def leans(statement: Statement) -> bool:
    """Return whether a sentence begins with a word that refers to the one before."""
    return statement.kind == "sentence" and bool(_ANAPHOR.match(statement.text))


def _with_antecedents(chosen: list[Statement], ranked: list[Scored]) -> list[Statement]:
    """Add the sentences that one that begins with a pronoun refers to.

    Leave it out if there are none, unless nothing else was chosen.
    """
    everything = sorted(
        {id(item.statement): item.statement for item in ranked}.values(),
        key=lambda s: (s.passage.passage_id, s.start),
    )
    before = {
        id(later): earlier
        for earlier, later in pairwise(everything)
        if earlier.passage is later.passage
    }
    out: list[Statement] = []
    for statement in chosen:
        needed = [statement]
        while leans(needed[-1]) and len(needed) <= _MAX_ANTECEDENTS:
            previous = before.get(id(needed[-1]))
            if previous is None or previous.locator.heading_path != statement.locator.heading_path:
                break  # it refers to its heading, or to what is not in the passage
            needed.append(previous)
        if len(chosen) > 1 and _is_dangling(needed[-1], before):
            continue
        out += [one for one in needed if one not in out]
    return out or chosen


def _is_dangling(statement: Statement, before: Mapping[int, Statement]) -> bool:
    """Return whether a sentence refers to something before the beginning of its passage."""
    parts = statement.passage.parts
    headed = bool(parts) and parts[0].kind == "heading"
    return leans(statement) and id(statement) not in before and not headed


def _with_company(
    chosen: list[Statement], best: Statement, ranked: list[Scored], short: int
) -> list[Statement]:
    """Add the sentences around the best one while the answer is short."""
    paragraph = sorted(
        (
            item.statement
            for item in ranked
            if item.statement.passage is best.passage and item.statement.part == best.part
        ),
        key=lambda statement: statement.start,
    )
    if best.kind != "sentence":
        return chosen
    place = paragraph.index(best)
    out = list(chosen)
    for offset in (1, -1, 2, -2):
        near = paragraph[place + offset] if 0 <= place + offset < len(paragraph) else None
        curt = short > 0 and offset == 1 and len(best.text) < _CURT
        if near is not None and near not in out and (curt or sum(len(s.text) for s in out) < short):
            out.append(near)
    return out


def _with_lists(chosen: list[Statement], ranked: list[Scored]) -> list[Statement]:
    """Add the list that a chosen sentence leads into, or leave that sentence out."""
    out: list[Statement] = []
    for statement in chosen:
        if statement.kind != "sentence" or not statement.text.endswith(":"):
            out.append(statement)
            continue
        items = _led_by(statement, [item.statement for item in ranked])
        if 0 < len(items) <= _MAX_ITEMS:
            out += [statement, *(item for item in items if item not in chosen)]
    return out or chosen


def _in_order(chosen: list[Statement], ranked: list[Scored]) -> list[Statement]:
    """Order passages by their best statement, and the blocks of a passage likewise.

    Statements of a block keep their order; a lead-in stays before what it introduces.
    """
    rank = {id(item.statement): place for place, item in enumerate(ranked)}
    passages: dict[int, int] = {}
    blocks: dict[tuple[int, int], int] = {}
    for statement in chosen:
        place, passage, block = (
            rank[id(statement)],
            statement.passage.passage_id,
            _block(statement, chosen),
        )
        passages[passage] = min(passages.get(passage, len(ranked)), place)
        blocks[passage, block] = min(blocks.get((passage, block), len(ranked)), place)
    return sorted(
        chosen,
        key=lambda s: (
            passages[s.passage.passage_id],
            blocks[s.passage.passage_id, _block(s, chosen)],
            s.start,
        ),
    )


def _block(statement: Statement, chosen: Sequence[Statement]) -> int:
    """Return the block that a statement is ordered with.

    That of the next block if the statement leads into it, or the next one refers back to it.
    """
    following = [
        other
        for other in chosen
        if other.passage is statement.passage and other.part == statement.part + 1
    ]
    if not following:
        return statement.part
    after = min(following, key=lambda other: other.start)
    if statement.text.endswith(":") or leans(after):
        return _block(after, chosen)
    return statement.part
