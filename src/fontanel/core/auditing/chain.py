"""The hash chain of an audit log.

The hash of an entry covers its fields and the hash of the one before it (Schneier and Kelsey 1999,
"Secure Audit Logs to Support Computer Forensics", section 4). Changing, removing, inserting or
reordering entries breaks the chain from there on.

An entry's `who` (name, address) is personal data that may have to be erased. The entry therefore
covers a salted hash of it: when `who` and its salt are erased, the chain stays valid and reveals
nothing.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

#: The hash before the first entry of a log.
START = "0" * 64
#: The fields that an entry's hash covers.
_COVERED = (
    "log",
    "number",
    "at",
    "actor_kind",
    "actor_id",
    "action",
    "target",
    "changes",
    "outcome",
    "problem",
    "count",
    "request_id",
    "who_hash",
    "previous",
)


@dataclass(frozen=True, slots=True)
class Broken:
    """Where a chain is broken, and how."""

    log: str
    number: int
    what: str


def entry_hash(entry: Mapping[str, Any]) -> str:
    """Return the hash of an entry: SHA-256 of its fields as JSON with sorted keys.

    Raises:
        KeyError: the entry has not all fields that are covered.
    """
    return _digest({name: entry[name] for name in _COVERED})


def who_hash(who: Mapping[str, Any], salt: str) -> str:
    """Return the salted hash of an entry's personal data."""
    return _digest({"who": dict(who), "salt": salt})


def verify(
    entries: Iterable[Mapping[str, Any]], *, number: int | None = None, previous: str | None = None
) -> Broken | None:
    """Return the first fault in the entries of one log; None if the chain is whole.

    Args:
        entries: The entries in the order of their numbers.
        number: The number of the first entry; None accepts any, for a part of a log.
        previous: The hash before the first entry; None accepts any.
    """
    for entry in entries:
        log, own = str(entry.get("log")), entry.get("number")
        if not isinstance(own, int):
            return Broken(log, number or 0, "the entry has no number")
        if number is not None and own != number:
            missing = f"entry {number} is missing" if own > number else "the order is wrong"
            return Broken(log, own, missing)
        if previous is not None and entry.get("previous") != previous:
            return Broken(log, own, "it does not continue the entry before it")
        try:
            expected = entry_hash(entry)
        except KeyError as error:
            return Broken(log, own, f"the field {error.args[0]!r} is missing")
        if entry.get("hash") != expected:
            return Broken(log, own, "it was changed")
        who = entry.get("who")
        if who is not None and who_hash(who, str(entry.get("salt"))) != entry["who_hash"]:
            return Broken(log, own, "the name or address in it was changed")
        number, previous = own + 1, expected
    return None


def _digest(value: Mapping[str, Any]) -> str:
    text = json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=True)
    return hashlib.sha256(text.encode("ascii")).hexdigest()
