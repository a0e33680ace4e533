"""The built-in description and title, from informative sentences of a document."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.describing.extractive import describe, has_title, suggested_title
from fontanel.core.reading import Reading, read
from fontanel.core.reading.model import ReadingBuilder

PLAN = """# Storm plan

The duty officer closes the outer berth when the wind passes 38 knots. Ships at the outer berth double their lines before that.
Coffee is to be had in the mess.

## Cranes

The quay crane stops at gusts of 45 knots, and its jib is lowered when the wind passes 50 knots.
"""  # noqa: E501


def reading(text: str, name: str = "a.md") -> Reading:
    return read(text.encode(), name)


def titled(title: str, *paragraphs: str, heading: str = "") -> Reading:
    builder = ReadingBuilder(title=title)
    if heading:
        builder.heading(heading, 1)
    for paragraph in paragraphs:
        builder.paragraph(paragraph)
    return builder.build("en")


def test_the_description_says_what_comes_back_in_the_document() -> None:
    about = describe(reading(PLAN)).description
    assert "wind passes" in about
    assert "Coffee" not in about
    assert len(about) <= 300


def test_it_is_made_of_whole_sentences_of_the_document_in_their_order() -> None:
    result = reading(PLAN)
    about = describe(result).description
    places = [result.text.index(sentence.rstrip(".")) for sentence in about.split(". ") if sentence]
    assert places == sorted(places)


@pytest.mark.parametrize(
    "text",
    [
        "# Only a title\n",
        "| Berth | Depth |\n| --- | --- |\n| North | 7 m |\n",
        "```\ncode = 1\n```\n",
    ],
)
def test_a_document_without_sentences_has_none(text: str) -> None:
    assert describe(reading(text)).description == ""


@pytest.mark.parametrize(
    "title",
    [
        "",
        "scan_0042",
        "IMG-2031",
        "Untitled",
        "Document1",
        "report.docx",
        "2026-11",
        "Sheet 2",
        "slide",
    ],
)
def test_a_title_that_a_program_gave_is_none(title: str) -> None:
    result = titled(title, "The lock keeper opens the gates at six.", heading="Lock rules")
    assert not has_title(result)
    assert suggested_title(result) == "Lock rules"


@pytest.mark.parametrize(
    "title",
    [
        "Lock rules",
        "Sheet anchors",
        "Image of a harbour",
        "New berths",
        "Scanning the horizon",
        "Règlement",
    ],
)
def test_a_title_that_a_person_gave_stays(title: str) -> None:
    result = titled(title, "The lock keeper opens the gates at six.", heading="Another heading")
    assert has_title(result)
    assert suggested_title(result) == title


def test_without_a_heading_the_first_sentence_makes_the_title() -> None:
    assert (
        suggested_title(
            titled("scan_1", "The lock keeper opens the gates. He closes them at nine.")
        )
        == "The lock keeper opens the gates"
    )
    long = suggested_title(
        titled("scan_1", "The keeper " + "of the old lock and of the new one " * 6)
    )
    assert long.endswith(" …")
    assert len(long) <= 93


def test_a_heading_that_says_nothing_is_passed_over() -> None:
    assert (
        suggested_title(titled("scan_1", "The gates open at six in the morning.", heading="1."))
        == "The gates open at six in the morning"
    )


@given(
    st.lists(
        st.text(alphabet=st.characters(categories=("L", "N", "P", "Zs")), max_size=200), max_size=12
    ),
    st.text(max_size=40),
)
def test_whatever_a_document_holds_it_gets_a_description_of_its_own_words(
    paragraphs: list[str], title: str
) -> None:
    builder = ReadingBuilder(title=title)
    for paragraph in paragraphs:
        builder.paragraph(paragraph)
    result = builder.build("en")
    about = describe(result)
    assert len(about.description) <= 301
    for word in about.description.split():
        assert word in result.text
    assert len(about.title) <= max(len(title), 93)
