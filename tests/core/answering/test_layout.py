"""Answers as prose, lists, steps and tables: nothing is lost, nothing is quoted twice."""

from __future__ import annotations

from collections.abc import Sequence

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.answering import Layout
from fontanel.core.answering.composing.layout import ComposedPiece, groups, lay_out
from fontanel.core.answering.composing.statements import Statement, statements
from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.passages.splitting import split
from fontanel.core.reading import read
from fontanel.facts import SplitSettings

RULES = b"""# Rules

The lock opens at six. Ships call on channel 71.

Bring:

- the permit
- the crew list

1. Switch off the engine.
2. Put out two lines.

| Berth | Length | Use |
| --- | --- | --- |
| Berth 2 | 95 m | cargo |
| Berth 4 | 120 m | a / b |
"""


def _words_of(texts: Sequence[str]) -> list[int]:
    return [len(text.split()) for text in texts]


def all_statements() -> list[Statement]:
    reading = read(RULES, "rules.md")
    results = []
    for number, passage in enumerate(split(reading, SplitSettings(), _words_of)):
        shown = EvidencePassage(
            passage_id=number,
            document_id="d",
            revision_id="r",
            title="Rules",
            text=passage.text,
            start=passage.start,
            locator=passage.locator,
            match=0.5,
            similarity=None,
            context=passage.context,
            parts=passage.parts,
        )
        results += statements(shown)
    return results


ALL = all_statements()


def written(pieces: Sequence[ComposedPiece]) -> str:
    return "".join(piece.text for piece in pieces)


def of(*words: str) -> list[Statement]:
    """The statements that have one of these words, in order."""
    return [one for one in ALL if any(word in one.text for word in words)]


def test_the_document_has_statements_of_all_kinds() -> None:
    assert {one.kind for one in ALL} >= {"sentence", "item", "row"}


@pytest.mark.parametrize(
    ("chosen", "layout", "text"),
    [
        (("opens", "channel"), Layout.PROSE, "The lock opens at six. Ships call on channel 71."),
        (
            ("opens", "channel"),
            Layout.LIST,
            "- The lock opens at six.\n- Ships call on channel 71.",
        ),
        (
            ("engine", "lines"),
            Layout.STEPS,
            "1. Switch off the engine.\n2. Put out two lines.",
        ),
        (("permit", "crew list"), Layout.LIST, "- the permit\n- the crew list"),
        (("permit", "crew list"), Layout.PROSE, "the permit; the crew list"),
        (
            ("95 m", "120 m"),
            Layout.TABLE,
            "| Berth | Length | Use |\n| --- | --- | --- |\n| Berth 2 | 95 m | cargo |"
            "\n| Berth 4 | 120 m | a / b |",
        ),
        (
            ("opens", "channel"),
            Layout.TABLE,
            "- The lock opens at six.\n- Ships call on channel 71.",
        ),
    ],
)
def test_statements_are_laid_out(chosen: tuple[str, ...], layout: Layout, text: str) -> None:
    assert written(list(lay_out(of(*chosen), layout))) == text


def test_numbers_of_steps_run_on_over_groups() -> None:
    text = written(list(lay_out([*of("opens"), *of("engine", "lines")], Layout.STEPS)))
    assert [line[:2] for line in text.splitlines()] == ["1.", "2.", "3."]


def test_only_adjacent_statements_share_a_citation() -> None:
    opens, channel, engine = *of("opens", "channel"), *of("engine")
    assert [len(group) for group in groups([opens, channel])] == [2]
    assert [len(group) for group in groups([opens, engine])] == [1, 1]
    assert [len(group) for group in groups([channel, opens])] == [1, 1]
    assert groups([]) == []


@given(
    st.lists(st.sampled_from(range(len(ALL))), min_size=1, max_size=6, unique=True),
    st.sampled_from([Layout.PROSE, Layout.LIST, Layout.STEPS, Layout.AUTO]),
)
def test_every_statement_is_quoted_once_in_order(numbers: list[int], layout: Layout) -> None:
    chosen = [ALL[number] for number in numbers]
    pieces = list(lay_out(chosen, layout))
    assert [one for piece in pieces for one in piece.group] == chosen
    for piece in pieces:
        assert 0 <= piece.start <= len(piece.text)
        quoted = piece.text[piece.start :]
        assert all(one.text.rstrip(".;") in quoted for one in piece.group)


@given(st.lists(st.sampled_from(range(len(ALL))), min_size=1, max_size=6, unique=True))
def test_a_table_has_the_rows_of_one_table_alone(numbers: list[int]) -> None:
    chosen = [ALL[number] for number in numbers]
    pieces = list(lay_out(chosen, Layout.TABLE))
    rows = [one for one in chosen if one.kind == "row"]
    if not rows:
        assert [one for piece in pieces for one in piece.group] == chosen
        return
    assert [one for piece in pieces for one in piece.group] == rows
    lines = written(pieces).splitlines()
    assert len(lines) == 2 + len(rows)
    assert all(line.startswith("| ") and line.endswith(" |") for line in (lines[0], *lines[2:]))
