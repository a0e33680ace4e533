"""Splitting: passages keep structure, size and context."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.embedding.encoder import estimate_tokens
from fontanel.core.passages.splitting import Locator, locator_at, split
from fontanel.core.reading import Reading, ReadingBuilder, read
from fontanel.core.reading.spoken.cues import Cue, add_cues
from fontanel.facts import SplitSettings
from tests.conftest import DOCUMENTS

WORDS = [
    "the",
    "pilot",
    "boards",
    "the",
    "ship",
    "off",
    "the",
    "mole",
    "when",
    "wind",
    "and",
    "swell",
    "allow",
    "it",
]


def passages_of(reading: Reading, target: int = 200, least: int = 60):  # type: ignore[no-untyped-def]
    return split(reading, SplitSettings(target, least), estimate_tokens)


def test_sections_are_kept_apart_and_carry_their_path() -> None:
    text = "# Plan\n\n" + "\n\n".join(
        f"## Part {n}\n\n{'Words about part number ' + str(n) + '. '}" * 1 + "It goes on. " * 20
        for n in range(3)
    )
    passages = passages_of(read(text.encode(), "plan.md"), target=150)
    assert [passage.locator.heading_path for passage in passages] == [
        ("Plan", f"Part {n}") for n in range(3)
    ]
    assert all(passage.text.startswith(("Plan", "Part")) for passage in passages)


def test_small_sections_are_joined_until_they_are_worth_a_passage() -> None:
    text = "# Plan\n\n" + "\n\n".join(f"## Part {n}\n\nShort." for n in range(6))
    assert len(passages_of(read(text.encode(), "plan.md"))) <= 2


def test_a_long_paragraph_is_cut_between_sentences() -> None:
    text = " ".join(f"Sentence number {n} says something about the harbour." for n in range(60))
    passages = passages_of(read(text.encode(), "x.txt"), target=80)
    assert len(passages) > 5
    assert all(passage.text.endswith("harbour.") for passage in passages)
    assert max(passage.tokens for passage in passages) <= 80


def test_a_long_list_repeats_its_lead_in_as_context() -> None:
    items = "\n".join(f"- item number {n} with some more words to fill it up" for n in range(40))
    passages = passages_of(
        read(f"Before sailing, check:\n\n{items}\n".encode(), "x.md"), target=100
    )
    assert passages[0].text.startswith("Before sailing, check:")
    assert all(passage.context == "Before sailing, check:" for passage in passages[1:])
    assert all(
        line.startswith("- item") for passage in passages[1:] for line in passage.text.split("\n")
    )


def test_a_long_table_repeats_its_header_and_never_cuts_a_row() -> None:
    rows = "\n".join(f"| Buoy {n} | light {n} | lifted in {1990 + n} |" for n in range(60))
    passages = passages_of(
        read(f"| Name | Light | Lifted |\n|---|---|---|\n{rows}\n".encode(), "x.md"), target=100
    )
    assert len(passages) > 3
    assert all(passage.context == "Name | Light | Lifted" for passage in passages[1:])
    assert all(line.count("\t") == 2 for passage in passages for line in passage.text.split("\n"))


def test_a_word_without_end_is_cut_all_the_same() -> None:
    passages = split(
        read(b"x" * 20_000, "x.txt"),
        SplitSettings(50, 10),
        lambda texts: [len(t) // 4 for t in texts],
    )
    assert max(len(passage.text) for passage in passages) <= 240
    assert "".join(passage.text for passage in passages) == "x" * 20_000


def test_pages_and_anchors_become_locators() -> None:
    handbook = read(
        (DOCUMENTS / "marine-operations" / "pilotage-handbook.pdf").read_bytes(), "p.pdf"
    )
    assert all(passage.locator.page for passage in passages_of(handbook))
    page = read((DOCUMENTS / "marine-operations" / "mooring-guide.html").read_bytes(), "m.html")
    anchors = {
        passage.locator.heading_path[-1]: passage.locator.anchor for passage in passages_of(page)
    }
    assert anchors["Snap-back"] == "snap-back"
    locator = passages_of(handbook)[3].locator
    assert Locator.from_dict(locator.to_dict()) == locator


blocks = st.lists(
    st.tuples(
        st.sampled_from(["heading", "paragraph", "list", "table", "code"]), st.integers(1, 60)
    ),
    min_size=1,
    max_size=25,
)


@given(blocks, st.integers(20, 200))
def test_passages_cover_the_text_in_order_without_overlap(
    shape: list[tuple[str, int]], target: int
) -> None:
    builder = ReadingBuilder()
    for kind, size in shape:
        words = [WORDS[i % len(WORDS)] for i in range(size)]
        if kind == "heading":
            builder.heading(" ".join(words[:8]), 1 + size % 3)
        elif kind == "paragraph":
            builder.paragraph(
                ". ".join(" ".join(words[i : i + 9]).capitalize() for i in range(0, size, 9)) + "."
            )
        elif kind == "list":
            builder.list([f"- {word}" for word in words])
        elif kind == "table":
            builder.table([["a", "b"], *[[word, word] for word in words]], 1)
        else:
            builder.code("\n".join(words))
    reading = builder.build("en")
    passages = passages_of(reading, target, target // 3)
    covered = 0
    for passage in passages:
        assert reading.text[passage.start : passage.end] == passage.text
        assert not reading.text[covered : passage.start].strip()
        assert passage.parts[0].start == passage.start
        assert passage.parts[-1].end == passage.end
        covered = passage.end
    left = [block for block in reading.blocks if block.start >= covered]
    assert all(block.kind == "heading" for block in left)


def test_a_place_within_a_passage_knows_its_own_heading_and_page() -> None:
    text = (
        b"# Plan\n\n## Berths\n\nBerth 4 is deep.\n\n### Fenders\n\nThey are black.\n\n##"
        b" Cranes\n\nThe crane is yellow.\n"
    )
    reading = read(text, "plan.md")
    (passage,) = split(reading, SplitSettings(300, 200), estimate_tokens)
    requested = {
        "deep": ("Plan", "Berths"),
        "black": ("Plan", "Berths", "Fenders"),
        "yellow": ("Plan", "Cranes"),
    }
    for word, path in requested.items():
        at = reading.text.index(word)
        result = locator_at(passage.locator, passage.parts, passage.text, passage.start, at)
        assert result.heading_path == path, (word, passage.locator.heading_path)


def test_each_sentence_of_a_recording_has_its_own_time() -> None:
    builder = ReadingBuilder(title="Notice")
    builder.paragraph("Spoken by the duty officer.")
    cues = [Cue(4.0 * n, 4.0 * n + 3, f"Basin {n} is closed today.") for n in range(6)]
    add_cues(builder, cues)
    (passage,) = split(builder.build("en"), SplitSettings(), estimate_tokens)
    assert passage.locator.seconds == 0.0
    for n in range(6):
        at = passage.text.index(f"Basin {n}")
        found = locator_at(passage.locator, passage.parts, passage.text, passage.start, at)
        assert found.seconds == 4.0 * n
