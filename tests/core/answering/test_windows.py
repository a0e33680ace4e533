"""Windows of passages: every statement in order, within the limit."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.answering.composing.statements import statements
from fontanel.core.answering.composing.windows import windows
from tests.core.documents import Documents

WORDS = st.lists(st.sampled_from(["gate", "tide", "opens", "at", "noon", "7"]), min_size=1)
BLOCKS = st.lists(WORDS.map(lambda words: " ".join(words).capitalize() + "."), min_size=1)


@given(paragraphs=st.lists(BLOCKS.map(" ".join), min_size=1, max_size=6), limit=st.integers(5, 60))
def test_windows_contain_every_statement_within_the_limit(
    paragraphs: list[str], limit: int
) -> None:
    text = "# Gates\n\n" + "\n\n".join(paragraphs)
    for passage in Documents(None, gates=text.encode()).passages:
        cut = windows(passage, limit)
        starts = [statement.start for window in cut for statement in window.statements]
        assert sorted(set(starts)) == [statement.start for statement in statements(passage)]
        for window in cut:
            assert window.header.startswith("Gates")
            lengths = [len(statement.text.split()) for statement in window.statements]
            assert len(lengths) == 1 or sum(lengths) <= limit


def test_a_list_has_its_lead_in_above_it() -> None:
    text = b"# Tugs\n\nA tug is needed by:\n\n- ships over 90 m\n- ships without a thruster\n"
    (passage,) = Documents(None, tugs=text).passages
    whole = windows(passage)
    assert whole[0].header == "Tugs"
    assert "over 90 m" in " ".join(s.text for s in whole[0].statements)
    short = windows(passage, 4)
    assert short[-1].header == "Tugs: A tug is needed by:"
    assert [s.text for s in short[-1].statements] == ["ships without a thruster"]
