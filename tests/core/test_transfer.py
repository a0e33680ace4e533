"""Records in files come back as they were, and what is wrong with a line is said."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.transfer import Columns, UnreadableFile, dump, parse

COLUMNS = Columns(("question", "notes", "kind"), ("question",), ("notes",))
#: Text without what spreadsheets and CSV change: carriage returns and blanks at the edges.
TEXT = st.text(
    st.characters(exclude_characters="\r\n\x00", exclude_categories=("Cs", "Cc", "Zl", "Zp")),
    min_size=1,
    max_size=30,
).filter(lambda text: text == text.strip() and text != "")
LINES = st.lists(
    st.fixed_dictionaries({"question": TEXT, "notes": st.lists(TEXT, max_size=3), "kind": TEXT}),
    max_size=8,
)


@given(LINES, st.sampled_from(["jsonl", "csv"]))
def test_what_is_dumped_is_parsed(lines: list[dict[str, object]], form: str) -> None:
    text = dump(form, lines, COLUMNS)  # type: ignore[arg-type]
    found = [fields for _, fields in parse(form, text, COLUMNS)]  # type: ignore[arg-type]
    if form == "csv":  # an empty cell is a field that is left out
        found = [{"notes": [], **fields} for fields in found]
    assert found == lines


@given(st.text(max_size=200), st.sampled_from(["jsonl", "csv"]))
def test_any_text_is_parsed_or_refused(text: str, form: str) -> None:
    try:
        lines = list(parse(form, text, COLUMNS))  # type: ignore[arg-type]
    except UnreadableFile:
        return
    numbers = [number for number, _ in lines]
    assert numbers == sorted(numbers)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "no column 'question'"),
        ("kind\nx\n", "no column 'question'"),
        ("question,colour\nx,red\n", "'colour' is not known. Columns are question, notes, kind."),
    ],
)
def test_columns_are_checked(text: str, message: str) -> None:
    with pytest.raises(UnreadableFile, match=message):
        list(parse("csv", text, COLUMNS))


def test_bad_lines_are_said_and_good_ones_kept() -> None:
    lines = dict(parse("jsonl", '{"question": "Who?"}\n\nnot json\n{"question": "What?"}', COLUMNS))
    assert lines[1] == {"question": "Who?"}
    assert "not JSON" in lines[3]
    assert lines[4] == {"question": "What?"}
    cells = dict(parse("csv", "question,kind\nWho?\nWhat?,a\n", COLUMNS))
    assert "another number of cells" in cells[2]
    assert cells[3] == {"question": "What?", "kind": "a"}


def test_no_cell_begins_like_a_formula() -> None:
    text = dump("csv", [{"question": "=1+1", "notes": [], "kind": "@x"}], COLUMNS)
    assert "'=1+1" in text
    assert "'@x" in text
    ((_, fields),) = parse("csv", text, COLUMNS)
    assert fields == {"question": "=1+1", "kind": "@x"}
