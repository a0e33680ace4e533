"""The built-in composer: quotes the statements that answer a question, in order.

It never states anything that no passage says: each sentence, item or row of an answer is a
quotation with its place.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np

from fontanel.core.answering.composing.asked import (
    Draft,
    Question,
    Scored,
    embedded_form,
    exact_words,
)
from fontanel.core.answering.composing.judging import Judgement
from fontanel.core.answering.composing.statements import Statement, statements
from fontanel.core.answering.composing.support import WORD, support_of
from fontanel.core.answering.composing.tabulating import tabulate
from fontanel.core.answering.evidence import NO_SUPPORT, EvidencePassage, Knowledge
from fontanel.core.answering.question.required import (
    missing_names,
    names_another,
    names_in,
    nearest_name,
)
from fontanel.core.answering.question.shape import Shape, fit
from fontanel.core.answering.settings import STATEMENTS, AnswerSettings, Length
from fontanel.core.arrays import Floats

_ANAPHOR = re.compile(
    r"^(?:it|this|that|they|these|those|he|she|such|the same|both|otherwise|in (?:this|that)"
    r" case)\b",
    re.I,
)
#: A sentence such as "What to do when oil is seen" announces an answer but contains none.
_ANNOUNCES = re.compile(r"^(?:what|how|who|where|why)\b(?!ever)", re.I)
#: Neither does one about the document: "It says when the port closes, and who decides".
_TELLS_OF = re.compile(
    r"\b(?:says?|tells?|describes?|explains?|sets? out|lays?"
    r" down|lists?|shows?|states?|covers?)\b[^.;]{0,40}?\b(?:when|how|who|what|where|which|whether|why)\b",  # noqa: E501
    re.I,
)
_OLD = re.compile(
    r"\b(?:superseded|withdrawn|obsolete|no longer in force|archived|replaced by)\b", re.I
)


#: "crane 5", which a question need not write as a name.
_WORD_WITH_NUMBER = re.compile(r"\b[^\W\d_]{3,} \d+[a-z]?\b")

#: Weights of a statement's parts: cosine, term coverage, its passage's match, the asked shape.
_COSINE, _COVERAGE, _MATCH, _SHAPE = 0.50, 0.30, 0.25, 0.08
#: What a number or an identifier of the question adds when a statement has it, or lacks it.
_EXACT = 0.08
#: How far behind the best statement others may be, next to it in its block and elsewhere.
_NEIGHBOUR_BEHIND, _BEHIND = 0.20, 0.14
#: How far behind the best statement the best step of a numbered list may be.
_STEPS_BEHIND = 0.25
#: Characters below which an answer of each length needs more context.
_SHORT = {Length.SHORT: 0, Length.MEDIUM: 170, Length.LONG: 500}
#: How many statements are embedded, and of how many passages all are.
_MAX_EMBEDDED, _FIRST = 40, 2
#: Characters below which the best sentence is followed by the next one in any case.
_CURT = 80
#: The share of common words above which two statements may say the same.
_SAME_WORDS = 0.7
#: Items of a list that is quoted whole.
_MAX_ITEMS = 14
#: Sentences that are added before one that begins with a pronoun, at most.
_MAX_ANTECEDENTS = 2
_OLD_PENALTY, _TELLS_PENALTY = 0.3, 0.15


def draft(
    standalone: str,
    passages: Sequence[EvidencePassage],
    knowledge: Knowledge,
    settings: AnswerSettings | None = None,
    names: str | None = None,
    judgement: Judgement | None = None,
    found: Sequence[EvidencePassage] | None = None,
) -> Draft:
    """Rank the statements of the passages and choose those that answer.

    Args:
        names: The text of which the exact names must be in the evidence; default: the question.
        judgement: What the evidence model says about the passages.
        found: All passages that were found, in which names are looked for; default: the passages.
    """
    question = Question(standalone, knowledge, names)
    ranked = _rank(question, passages, knowledge, judgement)
    if not ranked:
        return Draft([], [], NO_SUPPORT, keyword_only=True)
    chosen = _choose(question, ranked, (settings or AnswerSettings()).length)
    documents = {statement.passage.document_id for statement in chosen}
    quoted = _texts([passage for passage in passages if passage.document_id in documents])
    unmentioned = missing_names(question.names, _texts(found or passages))
    return Draft(
        ranked,
        chosen,
        support_of(question, ranked, passages, knowledge, judgement),
        question.vector is None,
        tuple(dict.fromkeys((*missing_names(question.names, quoted), *unmentioned))),
        (unmentioned[0], nearest_name(unmentioned[0], quoted)) if unmentioned else None,
        tabulate(question.own, ranked, knowledge.whole, knowledge.terms),
    )


def _texts(passages: Sequence[EvidencePassage]) -> list[str]:
    """Return the texts of passages with their titles and headings."""
    return [
        " ".join((passage.title, *passage.locator.heading_path, passage.context, passage.text))
        for passage in passages
    ]


def _rank(
    question: Question,
    passages: Sequence[EvidencePassage],
    knowledge: Knowledge,
    judgement: Judgement | None = None,
) -> list[Scored]:
    results = [statement for passage in passages for statement in statements(passage)]
    if not results:
        return []
    # The heading that a passage begins below applies to all of it.
    headings = [
        tuple(
            dict.fromkeys(
                (s.passage.title, *s.passage.locator.heading_path, *s.locator.heading_path)
            )
        )
        for s in results
    ]
    around = {path: set(knowledge.terms(" ".join(path))) for path in set(headings)}
    coverages = []
    for statement, path in zip(results, headings, strict=True):
        own = set(knowledge.terms(f"{statement.lead} {statement.text}"))
        coverages.append(
            0.75 * question.coverage(own) + 0.25 * question.coverage(own | around[path])
        )
    cosines = _cosines(question, results, coverages, passages, knowledge)
    scored: list[Scored] = []
    for statement, path, coverage, cosine in zip(
        results, headings, coverages, cosines, strict=True
    ):
        score = _COSINE * float(cosine) + _COVERAGE * coverage + _MATCH * statement.passage.match
        score += _SHAPE * fit(statement.text, question.own, question.shape)
        if question.exact:
            stored = len(_named(question, statement))
            score += _EXACT * (2 * stored / len(question.exact) - 1)
        if (
            len(statement.text) < 15
            or statement.text.endswith("?")
            or _ANNOUNCES.match(statement.text)
        ):
            score -= 0.1
        if _TELLS_OF.search(statement.text):
            score -= _TELLS_PENALTY
        if statement.passage.demoted or (not question.asks_old and _OLD.search(" ".join(path))):
            score -= _OLD_PENALTY
        if judgement is not None:
            score += judgement.score(statement)
        scored.append(Scored(statement, score, float(cosine), coverage))
    return sorted(scored, key=lambda item: -item.score)


def _cosines(
    question: Question,
    candidates: list[Statement],
    coverages: list[float],
    passages: Sequence[EvidencePassage],
    knowledge: Knowledge,
) -> Floats:
    """Return the cosine of each statement with the question.

    Embedding takes most of the time of an answer. Beyond a limit, only statements of the first
    passages and those with most of the question's words are embedded; the others get a low value.
    """
    cosines = np.zeros(len(candidates), dtype=np.float32)
    if question.vector is None:
        return cosines
    first = {passage.passage_id for passage in passages[:_FIRST]}
    likely = sorted(
        range(len(candidates)),
        key=lambda n: (
            candidates[n].passage.passage_id not in first,
            -coverages[n] - _MATCH * candidates[n].passage.match,
            n,
        ),
    )[:_MAX_EMBEDDED]
    vectors = knowledge.embed([embedded_form(candidates[n]) for n in likely])
    assert vectors is not None
    cosines[likely] = vectors @ question.vector
    return cosines


def _choose(question: Question, ranked: list[Scored], length: Length) -> list[Statement]:
    most = STATEMENTS[length]
    best = ranked[0]
    for item in ranked[:4] if question.shape == Shape.STEPS else ():
        if item.score >= best.score - _BEHIND and (steps := _numbered_steps(item, ranked)):
            return steps
    for item in ranked[:4]:
        if item.score >= best.score - 0.08 and (whole := _whole_list(question, item, ranked)):
            return whole
    chosen: list[Statement] = []
    named = _named(question, best.statement) | _numbered(question, best.statement)
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
        if named and names_another(_with_heading(item.statement), question.exact | named):
            continue  # it is about another one
        if any(_repeats(item.statement, other) for other in chosen):
            continue
        chosen.append(item.statement)
    company = _with_company(
        _with_antecedents(chosen, ranked), best.statement, ranked, _SHORT[length]
    )
    return _in_order(_with_lists(company, ranked), ranked)


def _named(question: Question, statement: Statement) -> set[str]:
    """Return the question's exact names that a statement, or what is above it, contains."""
    return names_in(_with_heading(statement), question.exact) if question.exact else set()


def _numbered(question: Question, statement: Statement) -> set[str]:
    """Return the words with a number ("crane 5 stop") that a statement has like the question."""
    text = _with_heading(statement).lower()
    return {
        name
        for name in _WORD_WITH_NUMBER.findall(question.own.lower())
        if re.search(rf"\b{re.escape(name)}\b", text)
    }


def _with_heading(statement: Statement) -> str:
    return f"{statement.heading}\n{statement.lead}\n{statement.text}"


def _repeats(statement: Statement, other: Statement) -> bool:
    """Return whether a statement says the same as another, and about the same thing.

    "Berth 4 is 95 m long" does not repeat "Berth 2 is 80 m long", nor does one row another.
    """
    if statement.kind == "row" and statement.columns == other.columns:
        return statement.text == other.text
    words, others = (set(WORD.findall(s.text.lower())) for s in (statement, other))
    if not words or len(words & others) / len(words | others) <= _SAME_WORDS:
        return False
    return exact_words(_with_heading(statement)) == exact_words(_with_heading(other))


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
