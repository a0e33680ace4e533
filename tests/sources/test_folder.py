"""A folder on disk at its edges, and patterns of paths."""

from __future__ import annotations

import os
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.sources import ItemFailed, SettingsRefused, SourceUnavailable
from fontanel.sources.patterns import Patterns, chooser, matcher, pattern_regex
from tests.servers import content, look, opened

paths = st.lists(st.text(alphabet="ab.-_ ", min_size=1, max_size=5), min_size=1, max_size=4).map(
    "/".join
)


@given(paths)
def test_a_path_is_its_own_pattern(path: str) -> None:
    fits = matcher(["/" + path])
    assert fits is not None
    assert fits(path) or path.startswith("/") or path != path.strip()


@given(paths, paths)
def test_a_star_stays_within_a_folder_and_two_do_not(folder: str, name: str) -> None:
    one = re.compile(pattern_regex(re.escape(folder).replace("\\", "") + "/*"))
    assert (
        ("/" in name)
        or one.fullmatch(f"{folder}/{name}")
        or folder != folder.strip()
        or folder.startswith("/")
    )
    both = re.compile(pattern_regex("**"))
    assert both.fullmatch(f"{folder}/{name}")


@pytest.mark.parametrize(
    ("pattern", "path", "fits"),
    [
        ("*.md", "a.md", True),
        ("*.md", "x/y/a.md", True),
        ("*.md", "a.mdx", False),
        ("notices/*.md", "notices/a.md", True),
        ("notices/*.md", "notices/x/a.md", False),
        ("notices/**/*.md", "notices/a.md", True),
        ("notices/**", "notices/x/y", True),
        ("**/drafts/**", "a/drafts/b", True),
        ("**/drafts/**", "drafts/b", True),
        ("drafts/", "drafts/b", True),
        ("A?.TXT", "ab.txt", True),
        ("a[1].md", "a[1].md", True),
        ("a+b.md", "a+b.md", True),
        ("a+b.md", "aab.md", False),
    ],
)
def test_patterns(pattern: str, path: str, fits: bool) -> None:
    result = matcher([pattern])
    assert result is not None
    assert result(path) is fits


@pytest.mark.parametrize(
    ("path", "reason"),
    [
        ("a.md", None),
        ("x/.git/config", "hidden"),
        (".a", "hidden"),
        ("a.MP4", "a kind of file without text"),
        ("mp4", None),
        ("x.mp4/readme", None),
        ("~$plan.docx", "a program's scratch file"),
        ("x/~$plan.docx", "a program's scratch file"),
        ("plan.txt~", "a program's scratch file"),
        ("a~$b.md", None),
    ],
)
def test_what_is_left_out_without_patterns(path: str, reason: str | None) -> None:
    assert chooser(Patterns())(path) == reason


def test_hidden_files_are_taken_when_asked_for() -> None:
    assert chooser(Patterns(hidden=True))("x/.env.md") is None


def test_odd_names_links_and_loops(tmp_path: Path) -> None:
    (tmp_path / "Ümläut & more.md").write_text("# A")
    (tmp_path / "line\nbreak.md").write_text("# B")
    (tmp_path / "inner").mkdir()
    (tmp_path / "inner" / "loop").symlink_to(tmp_path)
    (tmp_path / "broken.md").symlink_to(tmp_path / "nowhere")
    os.mkfifo(tmp_path / "pipe.md")
    with open(os.fsencode(tmp_path) + b"/\xff\xfe.md", "w") as file:
        file.write("# C")
    with opened("folder", {"path": str(tmp_path)}, roots=(tmp_path,)) as source:
        result = look(source)
        assert set(result.items) == {"Ümläut & more.md", "line\nbreak.md"}
        assert set(result.skipped.values()) == {"not a file", "its name is not in UTF-8"}
        assert content(source, result.items["line\nbreak.md"]) == b"# B"


def test_a_file_that_becomes_a_link_outwards_is_not_read(tmp_path: Path) -> None:
    root = tmp_path / "root"
    root.mkdir()
    (tmp_path / "secret.md").write_text("secret")
    (root / "a.md").write_text("# A")
    with opened("folder", {"path": str(root)}, roots=(root,)) as source:
        result = look(source)
        (root / "a.md").unlink()
        (root / "a.md").symlink_to(tmp_path / "secret.md")
        with pytest.raises(ItemFailed, match="leads out"):
            source.fetch(result.items["a.md"])
        (root / "a.md").unlink()
        with pytest.raises(ItemFailed, match="cannot be opened"):
            source.fetch(result.items["a.md"])


def test_a_mark_changes_with_content_and_survives_a_rename(tmp_path: Path) -> None:
    (tmp_path / "a.md").write_text("one")
    with opened("folder", {"path": str(tmp_path)}, roots=(tmp_path,)) as source:
        before = look(source).items["a.md"]
        (tmp_path / "a.md").rename(tmp_path / "b.md")
        assert look(source).items["b.md"].same_as == before.same_as
        (tmp_path / "b.md").write_text("other")
        assert look(source).items["b.md"].mark != before.mark


def test_a_folder_that_is_not_there_or_not_allowed(tmp_path: Path) -> None:
    with (
        opened("folder", {"path": str(tmp_path / "gone")}, roots=(tmp_path,)) as source,
        pytest.raises(SourceUnavailable, match="not there"),
    ):
        look(source)
    (tmp_path / "out").symlink_to("/")
    for path in (
        "/",
        "relative",
        str(tmp_path / ".."),
        str(tmp_path / "out"),
        str(tmp_path / "out" / "etc"),
    ):
        with pytest.raises(SettingsRefused):
            opened("folder", {"path": path}, roots=(tmp_path,))
    with pytest.raises(SettingsRefused, match="none is"):
        opened("folder", {"path": str(tmp_path)})


def test_what_is_too_large_is_skipped(tmp_path: Path) -> None:
    (tmp_path / "a.md").write_bytes(b"x" * 2_000_001)
    with opened(
        "folder", {"path": str(tmp_path)}, roots=(tmp_path,), max_bytes=2_000_000
    ) as source:
        assert look(source).skipped == {"a.md": "larger than 2 MB"}
