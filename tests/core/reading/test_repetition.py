"""What repeats at the edges of the pages of one source is left out."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.embedding.encoder import estimate_tokens
from fontanel.core.passages.splitting import split
from fontanel.core.reading import Reading, ReadingBuilder
from fontanel.core.reading.repetition import edge_fingerprints, find_repeated, leave_out
from fontanel.facts import SplitSettings

ABOVE, BELOW = ["Download the book", "Prev Next"], ["Copyright of the port"]


def page(*paragraphs: str) -> Reading:
    builder = ReadingBuilder()
    for text in paragraphs:
        if text.startswith("# "):
            builder.heading(text[2:], 1)
        else:
            builder.paragraph(text)
    return builder.build("en")


def kept(reading: Reading) -> list[str]:
    return [reading.text[b.start : b.end] for b in reading.blocks if not b.left_out]


def learned(pages: list[Reading]) -> list[Reading]:
    """Return the pages, each without what repeats on it."""
    edges = {number: edge_fingerprints(reading) for number, reading in enumerate(pages)}
    repeated = find_repeated(edges)
    return [
        leave_out(reading, repeated.on(number, edges[number]))
        for number, reading in enumerate(pages)
    ]


def test_what_repeats_at_the_edges_is_left_out_of_all_pages_but_one() -> None:
    own = [[f"# Part {n}", f"Text about {n}.", "See the table."] for n in range(6)]
    pages = learned([page(*ABOVE, *text, *BELOW) for text in own])
    assert kept(pages[0]) == [*ABOVE, "Part 0", "Text about 0.", "See the table.", *BELOW]
    for text, reading in zip(own[1:], pages[1:], strict=True):
        # "See the table." repeats as well, directly above the last block.
        assert kept(reading) == [text[0][2:], text[1]]
        passages = split(reading, SplitSettings(), estimate_tokens)
        assert "Download" not in " ".join(passage.text for passage in passages)
        assert all(reading.text[p.start : p.end] == p.text for p in passages)


def test_what_repeats_between_paragraphs_is_content() -> None:
    pages = learned(
        [page(f"# open{n}", f"It opens {n}.", "# Errors", f"It fails {n}.") for n in range(6)]
    )
    assert all("Errors" in kept(reading) for reading in pages)


def test_a_few_pages_or_a_small_share_are_not_enough() -> None:
    three = [page("Notice to all", f"Text {n}.") for n in range(3)]
    assert all(len(kept(reading)) == 2 for reading in learned(three))
    many = three + [page("Notice to all", "Text 3.")] + [page(f"Other {n}.") for n in range(20)]
    assert all("Notice to all" in kept(reading) for reading in learned(many)[:4])


def test_pages_that_are_all_the_same_stay_whole() -> None:
    pages = learned([page("# Closed", "The page moved.") for _ in range(8)])
    assert all(kept(reading) == ["Closed", "The page moved."] for reading in pages)


@given(st.lists(st.lists(st.sampled_from("abcdefgh"), min_size=1, max_size=9), max_size=9))
def test_every_text_remains_on_some_page(texts: list[list[str]]) -> None:
    pages = [page(*text) for text in texts]
    remaining = [text for reading in learned(pages) for text in kept(reading)]
    assert {text for reading in pages for text in kept(reading)} == set(remaining)
    assert all(kept(reading) for reading in learned(pages))
