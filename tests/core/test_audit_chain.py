"""The hash chain of an audit log finds every change."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.auditing import START, entry_hash, verify, who_hash

_texts = st.text(max_size=12)
_bodies = st.fixed_dictionaries(
    {
        "actor_kind": st.sampled_from(["person", "key"]),
        "actor_id": _texts,
        "action": _texts,
        "target": _texts,
        "changes": st.lists(st.fixed_dictionaries({"kind": _texts, "id": st.none() | _texts})),
        "outcome": st.sampled_from(["done", "refused"]),
        "problem": st.none() | _texts,
        "count": st.integers(1, 9),
        "request_id": st.none() | _texts,
        "who": st.fixed_dictionaries({"name": _texts}),
        "salt": st.text("0123456789abcdef", min_size=4, max_size=8),
    }
)
_chains = st.lists(_bodies, min_size=2, max_size=6)


def chain(bodies: list[dict[str, Any]]) -> list[dict[str, Any]]:
    entries, previous = [], START
    for number, body in enumerate(bodies, 1):
        entry = {
            **body,
            "log": "team_a",
            "number": number,
            "at": "2026-11-02T08:00:00.000000+00:00",
        }
        entry["who_hash"] = who_hash(entry["who"], entry["salt"])
        entry["previous"] = previous
        previous = entry["hash"] = entry_hash(entry)
        entries.append(entry)
    return entries


@given(_chains)
def test_a_chain_is_whole_also_without_who(bodies: list[dict[str, Any]]) -> None:
    entries = chain(bodies)
    assert verify(entries, number=1, previous=START) is None
    erased = [{**entry, "who": None, "salt": None} for entry in entries]
    assert verify(erased, number=1, previous=START) is None
    assert verify(entries[1:]) is None


@given(_chains, st.data())
def test_any_changed_field_is_found(bodies: list[dict[str, Any]], data: st.DataObject) -> None:
    entries = chain(bodies)
    which = data.draw(st.integers(0, len(entries) - 1))
    name = data.draw(st.sampled_from(sorted(set(entries[which]) - {"salt"})))
    old = entries[which][name]
    new = {"name": "somebody"} if name == "who" else f"other than {old}"
    if name == "who" and new == old:
        return
    entries[which] = {**entries[which], name: new}
    broken = verify(entries, number=1, previous=START)
    assert broken is not None
    # A changed hash is found where it is, any other field too.
    assert name == "number" or broken.number == which + 1


@given(_chains, st.data())
def test_a_removed_or_moved_entry_is_found(
    bodies: list[dict[str, Any]], data: st.DataObject
) -> None:
    entries = chain(bodies)
    which = data.draw(st.integers(0, len(entries) - 2))
    assert verify(entries[:which] + entries[which + 1 :], number=1, previous=START) is not None
    swapped = entries[:]
    swapped[which], swapped[which + 1] = swapped[which + 1], swapped[which]
    assert verify(swapped, number=1, previous=START) is not None


@given(_chains)
def test_an_entry_that_was_changed_with_its_hash_breaks_the_next(
    bodies: list[dict[str, Any]],
) -> None:
    entries = chain(bodies)
    forged = {**entries[0], "action": "nothing of note"}
    forged["hash"] = entry_hash(forged)
    broken = verify([forged, *entries[1:]], number=1, previous=START)
    assert (broken is None) == (forged["hash"] == entries[0]["hash"])
