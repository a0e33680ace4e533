"""Fetching a few items at a time.

Each is returned once, and a failure stops the rest.
"""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fontanel.engine.sync.fetching import BATCH, Fetching, Taken
from fontanel.sources import Listed


def listed(number: int) -> Listed:
    return Listed(f"{number}.md", "mark", f"{number}.md")


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 300), st.integers(1, 8), st.sets(st.integers(0, 299)))
def test_every_item_comes_out_once_in_batches(count: int, at_once: int, failing: set[int]) -> None:
    def fetch(item: Listed) -> Taken:
        number = int(item.id.removesuffix(".md"))
        return (
            Taken(item, error="away")
            if number in failing
            else Taken(item, sha256=f"{number:064}", size=number)
        )

    batches: list[list[Taken]] = []
    with ThreadPoolExecutor(at_once) as pool:
        fetching = Fetching(pool, fetch, at_once * 2)
        for number in range(count):
            batches += fetching.add(listed(number))
        batches += fetching.rest()
    assert all(len(batch) <= BATCH for batch in batches)
    taken = [one for batch in batches for one in batch]
    assert sorted(one.item.id for one in taken) == sorted(
        listed(number).id for number in range(count)
    )
    assert {one.item.id for one in taken if one.error} == {
        listed(number).id for number in failing if number < count
    }


def test_no_more_are_open_than_said() -> None:
    running = threading.Semaphore(4)
    over = []

    def fetch(item: Listed) -> Taken:
        if not running.acquire(blocking=False):
            over.append(item.id)
        else:
            running.release()
        return Taken(item)

    with ThreadPoolExecutor(4) as pool:
        fetching = Fetching(pool, fetch, 4)
        out = [
            one for number in range(100) for batch in fetching.add(listed(number)) for one in batch
        ]
        out += [one for batch in fetching.rest() for one in batch]
    assert (len(out), over) == (100, [])


def test_what_breaks_is_raised_and_what_has_not_begun_is_given_up() -> None:
    begun: list[str] = []
    going = threading.Event()

    def fetch(item: Listed) -> Taken:
        begun.append(item.id)
        if item.id == "0.md":
            raise RuntimeError("broken")
        going.wait(30)
        return Taken(item)

    with ThreadPoolExecutor(1) as pool:
        fetching = Fetching(pool, fetch, 50)

        def fetch_all() -> None:
            for number in range(20):
                list(fetching.add(listed(number)))
            list(fetching.rest())

        with pytest.raises(RuntimeError, match="broken"):
            fetch_all()
        fetching.give_up()
        going.set()
    assert len(begun) <= 2
