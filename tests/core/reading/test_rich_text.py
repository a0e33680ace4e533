"""Rich text: styles, outline levels, lists, tables, notes, code pages and Unicode."""

from __future__ import annotations

from contextlib import suppress

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fontanel.core.reading import Reading, ReadingFailed, read
from tests.core.samples import RICH_HEAD as HEAD


def rich(body: str, head: str = HEAD) -> Reading:
    return read((head + body + "}").encode("latin-1"), "rules.rtf")


def blocks(reading: Reading) -> list[tuple[str, int, str]]:
    return [
        (block.kind, block.level, reading.text[block.start : block.end]) for block in reading.blocks
    ]


def test_styles_and_outline_levels_make_headings() -> None:
    reading = rich(
        r"\pard\plain\s4 The rules of mooring\par"
        r"\pard\plain\s1\b\fs32 Lines\par \pard\plain\fs22 Ships take \b six\b0  lines.\par"
        r"\pard\plain\s2 At the outer berth\par \pard\plain Double them.\par"
        r"\pard\plain\s3 In a storm\par \pard\plain\outlinelevel2 By night\par"
        r" \pard\plain\outlinelevel9 Leave early.\par"
    )
    assert reading.title == "Mooring rules"
    assert blocks(reading) == [
        ("heading", 1, "The rules of mooring"),
        ("heading", 1, "Lines"),
        ("paragraph", 0, "Ships take six lines."),
        ("heading", 2, "At the outer berth"),
        ("paragraph", 0, "Double them."),
        ("heading", 2, "In a storm"),
        ("heading", 3, "By night"),
        ("paragraph", 0, "Leave early."),
    ]


def test_without_styles_larger_letters_make_headings() -> None:
    body = (
        r"\pard\fs22 The harbour master sets each stage, and ends it in writing. So it has been"
        r" since 1990.\par "
    )
    reading = rich(
        rf"\pard\fs40 Storm plan\par {body}\pard\fs30 Stages\par {body}\pard\b\fs22 Amber\b0\par"
        rf" {body}"
        rf"\pard\fs30 This is said in large letters.\par \pard\fs30 \endash  Old saying\par {body}",
        r"{\rtf1\ansi{\fonttbl{\f0 Arial;}}",
    )
    results = [(level, text) for kind, level, text in blocks(reading) if kind == "heading"]
    assert results == [(1, "Storm plan"), (2, "Stages"), (3, "Amber")]


def test_items_of_lists_carry_their_numbers_and_depth() -> None:
    reading = rich(
        r"\pard At amber:\par"
        r"{\listtext\pard\plain\'b7\tab}\pard\s15\ls1\ilvl0 double the lines\par"
        r"{\listtext\pard\plain o\tab}\pard\ls1\ilvl1 bow and stern\par"
        r"{\listtext\pard\plain\'b7\tab}\pard\ls1\ilvl0 stop the cranes\par"
        r"\pard Then:\par {\pntext\f0 1.\tab}{\*\pn\pnlvlbody}\fi-360\li720 call the tower\par"
        r" {\pntext\f0 2.\tab}wait\par"
        r"\pard\ls0 Nothing else.\par"
    )
    assert [text for kind, _, text in blocks(reading) if kind == "list"] == [
        "- double the lines\n  - bow and stern\n- stop the cranes",
        "1. call the tower\n2. wait",
    ]
    assert blocks(reading)[-1] == ("paragraph", 0, "Nothing else.")


def test_rows_and_cells_are_a_table_with_its_header() -> None:
    row = r"\trowd{}\cellx3000\cellx6000\pard\intbl {}\cell {}\cell\row "
    reading = rich(
        r"\pard Limits\par "
        + row.format(r"\trhdr", "Stage", "Wind")
        + row.format("", "Amber", r"25 knots\par mean")
        + row.format("", "Red", r"35 \'b0")
        + r"\pard After it.\par "
        + row.format("", "Alone", "One row")
    )
    tables = [block for block in reading.blocks if block.kind == "table"]
    assert [reading.text[block.start : block.end] for block in tables] == [
        "Stage\tWind\nAmber\t25 knots mean\nRed\t35 °",
        "Alone\tOne row",
    ]
    assert [block.header_rows for block in tables] == [1, 0]
    assert [kind for kind, _, _ in blocks(reading)] == ["paragraph", "table", "paragraph", "table"]


def test_footnotes_follow_what_they_note() -> None:
    note = r"{\super\chftn{\footnote\pard\plain{\super\chftn} Since %d.\par}}"
    reading = rich(
        r"\pard Six lines"
        + note % 2024
        + r" at least.\par \trowd\cellx900\pard\intbl A"
        + note % 2020
        + r"\cell\row "
        r"\pard Next" + note % 1990 + r" one.\par"
    )
    assert [(kind, text) for kind, _, text in blocks(reading)] == [
        ("paragraph", "Six lines at least."),
        ("footnote", "Since 2024."),
        ("table", "A"),
        ("footnote", "Since 2020."),
        ("paragraph", "Next one."),
        ("footnote", "Since 1990."),
    ]


def test_letters_of_one_width_are_code() -> None:
    reading = rich(
        r"\pard Run:\par \pard\f1 cd /harbour\line     ls -l\par \pard\f1 make tide\par \pard\f0"
        r" And wait.\par"
    )
    assert blocks(reading)[1] == ("code", 0, "cd /harbour\n    ls -l\nmake tide")
    assert blocks(reading)[2] == ("paragraph", 0, "And wait.")


def test_characters_in_the_code_page_of_their_font() -> None:
    reading = rich(
        r"\pard caf\'e9 \f2 \'cf\'f0\'e8\'f7\'e0\'eb\f0  and \f3 \'82\'a0\'83A\f0  \'80 12 \endash "
        r" \ldblquote so\rdblquote\~it is\_good\-ness\par"
    )
    assert reading.text == "café Причал and あア € 12 – “so” it is-goodness"


def test_what_is_not_shown_is_not_read() -> None:
    reading = rich(
        r"\pard Seen {\v hidden} {\deleted struck} {\*\bkmkstart b}and{\*\bkmkend b} {\xe index}"
        r" read"
        r"{\field{\*\fldinst HYPERLINK \"https://skerrow.example\"}{\fldrslt  the plan}}.\par"
        r"{\*\shppict{\pict\pngblip 89504e47}}{\nonshppict{\pict\wmetafile8"
        r" 0100}}{\pict\pngblip\bin4 }}{}}"
        r"{\shp{\*\shpinst{\sp{\sn fFlip}{\sv 0}}{\shptxt\pard In a box\par}}{\shprslt\pard Old"
        r" box\par}}"
    )
    assert [" ".join(text.split()) for _, _, text in blocks(reading)] == [
        "Seen and read the plan.",
        "In a box",
    ]
    assert reading.figures == 2


@pytest.mark.parametrize(
    ("data", "code"),
    [
        (b"{\\rtf1\\ansi" + b"{" * 5000 + b"x", "damaged"),
        (b"{\\rtf1\\ansi{\\fonttbl{\\f0 Arial;}}\\pard \\par}", "no_text"),
    ],
)
def test_what_cannot_be_read_says_why(data: bytes, code: str) -> None:
    with pytest.raises(ReadingFailed) as failed:
        read(data, "rules.rtf")
    assert failed.value.code == code


def test_a_file_that_is_cut_short_is_read_as_far_as_it_goes() -> None:
    reading = read((HEAD + r"\pard First.\par Second is cut").encode(), "rules.rtf")
    assert reading.text == "First.\n\nSecond is cut"
    assert reading.warnings == ("The file is cut short; what comes before that was read",)


def encoded(text: str) -> str:
    """Encode text as programs do: other characters as numbers with a question mark."""
    out = []
    for letter in text:
        if letter in "\\{}":
            out.append("\\" + letter)
        elif letter.isascii():
            out.append(letter)
        else:
            units = letter.encode("utf-16-le")
            for start in range(0, len(units), 2):
                number = int.from_bytes(units[start : start + 2], "little", signed=True)
                out.append(f"\\u{number}?")
    return "".join(out)


WORDS = st.text(
    st.characters(exclude_categories=("Cs", "Cc", "Zl", "Zp", "Zs", "Cn", "Co", "Cf")),
    min_size=1,
    max_size=12,
)


@settings(max_examples=150, deadline=None)
@given(st.lists(st.lists(WORDS, min_size=1, max_size=6), min_size=1, max_size=5))
def test_any_words_come_back(paragraphs: list[list[str]]) -> None:
    body = "".join(
        r"\pard\plain " + encoded(" ".join(words)) + r"\par" + "\n" for words in paragraphs
    )
    reading = rich(r"\pard\plain Begin here.\par " + body)
    assert reading.text.split() == [
        "Begin",
        "here.",
        *(word for words in paragraphs for word in words),
    ]


@settings(max_examples=150, deadline=None)
@given(st.binary(max_size=200), st.integers(0, 1000))
def test_damage_anywhere_gives_a_reading_or_a_reason(noise: bytes, place: int) -> None:
    data = (HEAD + r"\pard One.\par \trowd\pard\intbl A\cell B\cell\row \pard Two.\par}").encode()
    place %= len(data)
    with suppress(ReadingFailed):
        reading = read(data[:place] + noise + data[place:], "rules.rtf")
        assert all(0 <= block.start < block.end <= len(reading.text) for block in reading.blocks)
