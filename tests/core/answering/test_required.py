"""What a question names exactly must be in the evidence."""

from __future__ import annotations

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from fontanel.core.answering import AnswerSettings, Finished, Outcome, answer
from fontanel.core.answering.question.required import missing_names, nearest_name
from fontanel.core.embedding.encoder import OnnxEmbedder
from tests.conftest import EMBEDDER
from tests.core.documents import Documents

BASINS = "Speed in the basins. In basin 14 the limit is 4 knots. Berths 2 to 5 have no limit."
BASINS_PAGE = b"# Basins\n\n## Speed\n\nThe speed limit in basin 14 is 4 knots for every ship."
TRUCKS = "T3 lifts 9 m, T5, T6 and T8 to T10 lift 12. Dates are held for 16 days, 13\u201317 hours."
MANUAL = "work_mem sets the memory of a sort. The option --max-size takes megabytes. See SOP-014."


@pytest.mark.parametrize(
    ("question", "text", "missing"),
    [
        ("What is the speed limit in basin 21?", BASINS, ("basin 21",)),
        ("What is the speed limit in basin 14?", BASINS, ()),
        ("Which limit has berth 4?", BASINS, ()),
        ("Which limit has berth 7?", BASINS, ("berth 7",)),
        ("What is the speed limit in basin 21?", "The basin has a limit.", ("basin 21",)),
        ("What is the speed limit in dock 21?", "The basin has a limit.", ()),
        ("Is basin 21 closed?", "The basin is closed.", ()),
        ("What changed in the season 1998?", "The season is short.", ()),
        ("What is the limit in Wexcombe?", BASINS, ("Wexcombe",)),
        ("What is the limit in Wexcombe?", "Wexcombe's limit is 4 knots.", ()),
        ("What is the limit for Mrs. Kirk?", BASINS, ()),
        ("What is the limit in December?", BASINS, ()),
        ("Is my Linux of Europe on a map?", BASINS, ()),
        ("Gilt das in Basel?", BASINS, ()),
        (
            "Which berths are longer, 2 or those for barges? See rows 3 and 4.",
            "Row\tA\n3 and 4\tx",
            (),
        ),
        ("What does error 204 mean?", "Code\tMeaning\n203\tlow\n204\thigh", ()),
        (
            "What does error 205 mean?",
            "Code\tMeaning\n203 error\tlow\nerror 204\thigh",
            ("error 205",),
        ),
        ("What is the water of berth 15?", "Berth 5; Fresh water: 15 tonnes", ("berth 15",)),
        ("I live on stair 8.", "Laundry of the stair: staircases 7-9 on Friday.", ()),
        ("Does it know the year 69?", "The year is a number.", ()),
        ("May a ship of 85 metres enter at 20 knots?", BASINS, ()),
        ("May I carry 3 bags?", BASINS, ()),
        ("Is the lock open on 5 March?", BASINS, ()),
        ("Are children under 12 allowed?", BASINS, ()),
        ("How high does T3 lift?", TRUCKS, ()),
        ("How high does T6 lift?", TRUCKS, ()),
        ("How high does T9 lift?", TRUCKS, ()),
        ("How high does T16 lift?", TRUCKS, ("T16",)),
        ("How high does T1 lift?", TRUCKS, ("T1",)),
        ("Where is berth 16?", "Berth\tUse\n16\tferries\nThe outer berth 2", ()),
        ("Where is berth 16?", "Berth\tFor\n2\t16\nThe outer berth 2", ("berth 16",)),
        ("Does Sail 2.9 need it?", "Sail 3 does. Upgrade from 2.9 first.", ()),
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
@example("²_¼")
def test_a_text_contains_what_it_names_itself(text: str) -> None:
    assert missing_names(text, [text]) == ()


@pytest.mark.parametrize(
    ("name", "nearest"),
    [("basin 21", "basin 14"), ("berth 7", "Berths 2"), ("gate 3", ""), ("shared_buffers", "")],
)
def test_the_nearest_name_is_found(name: str, nearest: str) -> None:
    assert nearest_name(name, [BASINS]) == nearest


@pytest.mark.parametrize(
    ("basin", "outcome", "text"),
    [
        (14, Outcome.ANSWERED, "The speed limit in basin 14 is 4 knots for every ship."),
        (
            21,
            Outcome.DECLINED,
            "None of the closest passages mentions basin 21. The nearest is basin 14.",
        ),
    ],
)
def test_an_answer_names_what_no_passage_mentions(basin: int, outcome: Outcome, text: str) -> None:
    documents = Documents(OnnxEmbedder(EMBEDDER), basins=BASINS_PAGE)
    settings = AnswerSettings(evidence_needed=0.2)
    events = list(answer(f"What is the speed limit in basin {basin}?", [], documents, settings))
    finished = events[-1]
    assert isinstance(finished, Finished)
    assert (finished.answer.outcome, finished.answer.text) == (outcome, text)
