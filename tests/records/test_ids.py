"""Ids and secrets: of the right letters, and as random as they look."""

from __future__ import annotations

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.records.ids import (
    hash_password,
    hash_secret,
    new_id,
    new_password,
    new_secret,
    password_matches,
    slug_of,
)

LETTERS = set("23456789abcdefghjkmnpqrstuvwxyz")


def test_ids_begin_with_their_kind_and_none_comes_twice() -> None:
    made = [new_id("kb") for _ in range(2000)]
    assert len(set(made)) == 2000
    for one in made:
        kind, rest = one.split("_")
        assert (kind, len(rest)) == ("kb", 16)
        assert set(rest) <= LETTERS


@pytest.mark.parametrize("length", [1, 16, 40, 100])
def test_secrets_are_as_long_as_asked_for(length: int) -> None:
    kind, rest = new_secret("fk", length).split("_")
    assert (kind, len(rest)) == ("fk", length)


def test_every_letter_is_as_likely_as_any_other_at_every_place() -> None:
    made = [new_secret("x", 40).removeprefix("x_") for _ in range(3000)]
    for place in (0, 1, 20, 38, 39):
        counts = Counter(one[place] for one in made)
        assert set(counts) == LETTERS
        # 97 of each are expected; five standard deviations more or less do not happen.
        assert all(48 < count < 146 for count in counts.values())


def test_a_password_can_be_read_aloud() -> None:
    groups = new_password().split("-")
    assert [len(group) for group in groups] == [4, 4, 4, 4]
    assert set("".join(groups)) <= LETTERS


def test_only_the_right_password_matches() -> None:
    stored = hash_password("tide-gate-lamp-rope")
    assert password_matches(stored, "tide-gate-lamp-rope")
    assert not password_matches(stored, "tide-gate-lamp-ropes")
    assert not password_matches(None, "tide-gate-lamp-rope")
    assert not password_matches("no hash at all", "tide-gate-lamp-rope")
    assert stored != hash_password("tide-gate-lamp-rope")


def test_a_secret_s_hash_tells_nothing_of_it() -> None:
    secret = new_secret("fk")
    assert hash_secret(secret) == hash_secret(secret) != hash_secret(secret + "x")
    assert secret[3:] not in hash_secret(secret)


@given(st.text(max_size=200))
def test_a_short_name_is_fit_for_an_address(name: str) -> None:
    slug = slug_of(name)
    assert 1 <= len(slug) <= 60
    assert slug.isascii()
    assert slug == slug.strip("-").lower()
    assert all(letter.isalnum() or letter == "-" for letter in slug)
    assert slug_of(slug) == slug
