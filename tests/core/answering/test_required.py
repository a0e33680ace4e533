"""What a question names exactly must be in the evidence."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.answering.question.required import missing_names

BASINS = "Speed in the basins. In basin 14 the limit is 4 knots. Berths 2 to 5 have no limit."
MANUAL = "work_mem sets the memory of a sort. The option --max-size takes megabytes. See SOP-014."


@pytest.mark.parametrize(
    ("question", "text", "missing"),
    [
        ("What is the speed limit in basin 21?", BASINS, ("basin 21",)),
        ("What is the speed limit in basin 14?", BASINS, ()),
        ("Which limit has berth 4?", BASINS, ()),
        ("Which limit has berth 7?", BASINS, ("berth 7",)),
        ("May a ship of 85 metres enter at 20 knots?", BASINS, ()),
        ("May I carry 3 bags?", BASINS, ()),
        ("Is the lock open on 5 March?", BASINS, ()),
        ("Are children under 12 allowed?", BASINS, ()),
        ("What is the default of work_mem?", MANUAL, ()),
        ("What is the default of WORK_MEM?", MANUAL, ()),
        ("What is the default of shared_buffers?", MANUAL, ("shared_buffers",)),
        ("What does --max-size take?", MANUAL, ()),
        ("What does --min-size take?", MANUAL, ("--min-size",)),
        ("Who signs SOP 014?", MANUAL, ()),
        ("Who signs SOP-015?", MANUAL, ("SOP-015",)),
        ("When does the 24-hour service begin on the 2nd floor?", MANUAL, ()),
    ],
)
def test_exact_names_are_looked_for(question: str, text: str, missing: tuple[str, ...]) -> None:
    assert missing_names(question, [text]) == missing


@given(st.text(max_size=200))
def test_a_text_contains_what_it_names_itself(text: str) -> None:
    assert missing_names(text, [text]) == ()
