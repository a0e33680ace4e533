"""Replies as text: cut at a sentence, numbered sources, words that are no questions."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.channels.protocol import Quoted
from fontanel.channels.words import asks_for_person, follows, opinion
from fontanel.channels.writing import Mark, html_text, plain_text, reply_text, source_lines


def quoted(number: int = 1, **more: str) -> Quoted:
    values = {
        "title": "Storm plan",
        "place": "page 2",
        "quote": "The crane stops.",
        "url": "https://docs.skerrow.example/storm",
        **more,
    }
    return Quoted(number=number, **values)


#: No single letters, which would be initials and end no sentence.
words = st.text("mnopqrsu", min_size=4, max_size=8)
sentences = st.lists(words, min_size=1, max_size=9).map(
    lambda parts: " ".join([parts[0].capitalize(), *parts[1:]]) + "."
)
answers = st.lists(sentences, min_size=1, max_size=8)


@given(answers, st.integers(1, 40))
def test_whole_sentences_within_the_limit_remain(parts: list[str], limit: int) -> None:
    text, _ = reply_text(" ".join(parts), [], limit)
    kept = text.partition("\n\n(The answer goes on")[0]
    assert " ".join(parts).startswith(kept)
    if kept != " ".join(parts):
        assert f"cut to {limit} words" in text
    if len(parts[0].split()) <= limit:
        # Whole sentences, and as many as there is room for.
        count = len(kept.split())
        assert count <= limit
        assert kept.endswith(".")
        rest = " ".join(parts)[len(kept) :].strip()
        assert not rest or count + len(rest.split(".")[0].split()) > limit


@given(answers, st.integers(5, 40))
def test_sources_of_what_was_cut_are_left_out(parts: list[str], limit: int) -> None:
    answer, marks = "", []
    for number, part in enumerate(parts, start=1):
        answer += part
        marks.append(Mark(len(answer), quoted(number)))
        answer += " "
    text, sources = reply_text(answer, marks, limit)
    assert [one.number for one in sources] == list(range(1, len(sources) + 1))
    for number in range(1, len(parts) + 1):
        assert (f"[{number}]" in text) == (number <= len(sources))
    unnumbered, same = reply_text(answer, marks, limit, numbers=False)
    assert same == sources
    assert "[1]" not in unnumbered


def test_a_single_long_sentence_is_cut_at_a_word() -> None:
    answer = " ".join(["word"] * 100) + "."
    text, _ = reply_text(answer, [], 20)
    assert text.split("\n\n")[0] == " ".join(["word"] * 20)


def test_plain_text_has_no_marks_of_emphasis() -> None:
    text = plain_text("Write **now** or _later_, snake_case and 2 * 3 * 4 stay.", [quoted()])
    first, _, sources = text.partition("\n\n")
    assert first == "Write now or later, snake_case and 2 * 3 * 4 stay."
    assert sources == "[1] Storm plan, page 2: https://docs.skerrow.example/storm"
    assert plain_text("Hello.", []) == "Hello."
    assert source_lines([quoted(3, place="", url="")]) == ["[3] Storm plan"]


def test_html_shows_markup_of_documents_as_text() -> None:
    html = html_text(
        "See <script>alert(1)</script> **now**.",
        [quoted(title="<b>Plan</b>", quote="<img src=x>", url="javascript:alert(1)")],
    )
    assert "<script" not in html
    assert "<img" not in html
    assert "<b>" not in html
    assert "javascript:" not in html
    assert "<strong>now</strong>" in html
    linked = html_text("Now.", [quoted(url='https://x.example/"onmouseover="')])
    assert '"onmouseover' not in linked
    assert '<a href="https://x.example/' in linked


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Yes!", True),
        ("thank you.", True),
        ("👍🏽", True),
        ("👍️", True),
        ("+1", True),
        ("Not helpful", False),
        ("-1", False),
        ("NO", False),
        ("Nein.", False),
        ("Yes, but what about the tug?", None),
        ("not", None),
        ("", None),
        ("🎉", None),
    ],
)
def test_opinions(text: str, expected: bool | None) -> None:
    assert opinion(text) is expected


def test_calls_for_a_person_and_following() -> None:
    assert asks_for_person(" *Person* ")
    assert asks_for_person("A human, please".removesuffix(", please"))
    assert not asks_for_person("Which person is on watch?")
    assert follows("Tell me when this changes!") is True
    assert follows("STOP.") is False
    assert follows("Stop the crane?") is None
