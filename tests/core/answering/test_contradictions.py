"""Statements whose words are all in the cited place, but that contradict it."""

from __future__ import annotations

import pytest

from fontanel.core.answering import Verdict
from fontanel.core.answering.writing.verify import check
from fontanel.core.embedding.encoder import OnnxEmbedder
from tests.conftest import EMBEDDER
from tests.core.documents import Documents

LOCK = b"""# Tangle Lock

The lock opens two hours before high water and closes three hours after high water. Vessels above 60 m pass first;
vessels below 20 m may wait inside the basin. Booking is not required at weekends, but it is required on weekdays.

| Berth | Length | Depth |
| --- | --- | --- |
| Berth 4 | 120 m | 6.8 m |
| Berth 5 | 60 m | 4.2 m |
| Ferry ramp | 85 m | 5.5 m |
"""  # noqa: E501


PILOTS = b"""# Pilots

The pilot boards at the buoy before the ship enters the channel. A ship may anchor if the pilot boat is not available.
A passenger ship takes one pilot within 40 minutes; a tanker takes two pilots within 90 minutes. The battery is changed
after five years and is tested after one. Ships that carry explosives must wait until the harbour master has replied.
"""  # noqa: E501


@pytest.fixture(scope="module")
def pilots() -> Documents:
    return Documents(OnnxEmbedder(EMBEDDER), pilots=PILOTS)


@pytest.fixture(scope="module")
def lock() -> Documents:
    return Documents(OnnxEmbedder(EMBEDDER), lock=LOCK)


@pytest.mark.parametrize(
    "statement",
    [
        "The lock opens two hours before high water.",
        "It closes three hours after high water.",
        "The lock opens 2 hours before and closes 3 hours after high water.",
        "Berth 4 is 120 m long and 6.8 m deep.",
        "Berth 4 (120 m) is longer than Berth 5 (60 m).",
        "The ferry ramp has a depth of 5.5 m, Berth 5 one of 4.2 m.",
        "The 60 m berth is Berth 5.",
        "Vessels above 60 m pass first.",
        "Booking is required on weekdays.",
    ],
)
def test_what_the_place_says_is_carried(lock: Documents, statement: str) -> None:
    result = check(statement, lock.passages, "When does the lock open?", lock)
    assert result.verdict == Verdict.SUPPORTED, result.reason


@pytest.mark.parametrize(
    ("statement", "reason"),
    [
        ("The lock opens two hours after high water.", "opposite"),
        ("It closes three hours before high water.", "opposite"),
        ("Vessels below 60 m pass first.", "opposite"),
        ("Berth 4 is 60 m long.", "60 for Berth 5"),
        ("Berth 5 is 4.2 m deep and 120 m long.", "120 for Berth 4"),
        ("The ferry ramp has a depth of 6.8 m.", "6.8 for Berth 4"),
        ("Berth 4 is 60 m long and Berth 5 is 120 m long.", "gives"),
        ("The lock opens four hours before high water.", "4 of the unit hour"),
    ],
)
def test_what_it_says_otherwise_is_marked_with_the_reason(
    lock: Documents, statement: str, reason: str
) -> None:
    result = check(statement, lock.passages, "When does the lock open?", lock)
    assert result.verdict == Verdict.WEAK
    assert reason in result.reason


@pytest.mark.parametrize(
    "statement",
    [
        "Before the ship enters the channel, the pilot boards at the buoy.",
        "A ship may anchor if there is no pilot boat available.",
        "A tanker takes two pilots within 90 minutes.",
        "The battery is tested after one year and changed after five years.",
        "Ships that carry explosives must wait for the reply of the harbour master.",
    ],
)
def test_other_words_for_the_same_are_carried(pilots: Documents, statement: str) -> None:
    result = check(statement, pilots.passages, "What must ships do?", pilots)
    assert result.verdict == Verdict.SUPPORTED, result.reason


@pytest.mark.parametrize(
    ("statement", "reason"),
    [
        ("The ship enters the channel before the pilot boards at the buoy.", "other order"),
        ("A ship may anchor if the pilot boat is available.", "denies it"),
        ("A passenger ship takes one pilot within 90 minutes.", "40"),
        ("The battery is not changed after five years.", "not deny"),
        (
            "Ships that do not carry explosives must wait until the harbour master has replied.",
            "deny",
        ),
        (
            "Ships that carry explosives must wait until the harbour master has not replied.",
            "not deny",
        ),
    ],
)
def test_clauses_figures_and_order_are_compared(
    pilots: Documents, statement: str, reason: str
) -> None:
    result = check(statement, pilots.passages, "What must ships do?", pilots)
    assert result.verdict == Verdict.WEAK
    assert reason in result.reason
