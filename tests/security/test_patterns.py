"""Regular expressions over untrusted text take linear time.

None of these tests measures time: a backtracking engine would take years.
"""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from fontanel import schemas as s
from fontanel.client import Client, Invalid
from fontanel.core.answering.composing.quantities import quantities
from fontanel.core.text.sentences import sentence_spans
from fontanel.sources.links import page_links
from fontanel.sources.patterns import MAX_WILDCARDS, PatternRefused, matcher
from tests.conftest import Service, new_team, until


def fits(pattern: str, path: str) -> bool:
    """The meaning of a pattern, written down as simply as can be."""
    pattern = pattern.strip().lstrip("/")
    if "/" not in pattern:
        pattern = "**/" + pattern
    if pattern.endswith("/"):
        pattern += "**"

    @lru_cache(None)
    def at(p: int, i: int) -> bool:
        if p == len(pattern):
            return i == len(path)
        if pattern.startswith("**/", p):
            return at(p + 3, i) or any(
                path[k - 1] == "/" and at(p + 3, k) for k in range(i + 1, len(path) + 1)
            )
        if pattern.startswith("**", p):
            return any(at(p + 2, k) for k in range(i, len(path) + 1))
        if pattern[p] == "*":
            end = path.find("/", i)
            return any(at(p + 1, k) for k in range(i, (len(path) if end < 0 else end) + 1))
        if i == len(path):
            return False
        if pattern[p] == "?":
            return path[i] != "/" and at(p + 1, i + 1)
        return pattern[p].lower() == path[i].lower() and at(p + 1, i + 1)

    return at(0, 0)


@given(st.text("ab/*?.", min_size=1, max_size=12), st.text("ab/.", min_size=1, max_size=14))
@example("**/a*b", "x/aab")
@example("a**b", "a/x/b")
@example("*.[a]", "x.[a]")
def test_a_pattern_means_what_it_says(pattern: str, path: str) -> None:
    result = matcher([pattern])
    assert result is not None
    assert result(path) == fits(pattern, path)


@pytest.mark.parametrize(
    "pattern", ["*" * 16 + "z", "**a" * 16 + "z", "*a" * 16, "(a+)+$" * 20, "a?" * 16 + "z"]
)
def test_no_pattern_hangs(pattern: str) -> None:
    result = matcher([pattern] * 100)
    assert result is not None
    assert not result("a/" * 2000 + "b")


def test_names_that_are_not_unicode_are_matched() -> None:
    result = matcher(["*.md"])
    assert result is not None
    assert result("caf\udce9.md")


@pytest.mark.parametrize("pattern", ["*a" * (MAX_WILDCARDS + 1), "x" * 501, "\ud800"])
def test_patterns_are_bounded(pattern: str) -> None:
    with pytest.raises(PatternRefused):
        matcher([pattern])


@pytest.mark.parametrize("pattern", ["*a" * 40, "x" * 501])
def test_a_source_with_such_a_pattern_is_refused(service: Service, pattern: str) -> None:
    client = new_team(service).client
    kb = client.create_kb("Rules").slug
    site: dict[str, Any] = {"starts": ["https://pilots.skerrow.example/"], "include": [pattern]}
    with pytest.raises(Invalid, match="pattern"):
        client.check_source(kb, s.CheckIn(kind="site", settings=site))
    rule = s.TagRule.model_construct(pattern=pattern[:300], tags={"a": "b"})
    source = s.SourceIn.model_construct(name="Pushed", kind="push", settings={}, tag_rules=[rule])
    if len(pattern) <= 300:
        with pytest.raises(Invalid, match="wildcards"):
            client.connect_source(kb, source)


def test_the_pattern_that_hung_the_service_does_not(tmp_path: Path) -> None:
    (tmp_path / "share").mkdir()
    (tmp_path / "share" / ("a" * 200 + ".md")).write_text("# A\n\nThe gate is shut.")
    running = Service(tmp_path / "data", {"FONTANEL_SOURCE_ROOTS": str(tmp_path)}).start()
    try:
        team = new_team(running)
        client = team.client
        kb = client.create_kb("Rules").slug
        settings: dict[str, Any] = {"path": str(tmp_path / "share"), "exclude": ["*" * 20 + "z"]}
        assert client.check_source(kb, s.CheckIn(kind="folder", settings=settings)).taken == 1
        client.connect_source(kb, s.SourceIn(name="Share", kind="folder", settings=settings))
        running.kill()
        running.start()
        with Client(running.url, team.key, team.slug) as again:
            until(lambda: again.show_kb(kb).documents == 1)
    finally:
        running.stop()


@pytest.mark.parametrize(
    "unit", [".", "a", '!"', " ", "1", "1.", "[1", "<a ", '<a x="', "<a a", "a='", "-", "\n"]
)
def test_text_of_one_kind_is_gone_through_once(unit: str) -> None:
    text = unit * (600_000 // len(unit)) + "x"
    assert sum(1 for _ in sentence_spans(text)) > 0
    quantities(text)
    assert page_links(f"<html>{text}<a {text}>".encode(), "https://a.example/", None).links == ()
