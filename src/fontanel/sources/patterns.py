"""Filters for items of a source: path patterns, and kinds of files without text."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Annotated

import re2
from pydantic import AfterValidator, Field

from fontanel.errors import FontanelError
from fontanel.sources.protocol import SettingsModel

#: Files with video, sound, programs or other programs' data.
_WITHOUT_TEXT = frozenset(
    [
        "3gp",
        "7z",
        "a",
        "aac",
        "avi",
        "bak",
        "bin",
        "bz2",
        "class",
        "com",
        "crdownload",
        "dat",
        "db",
        "db-shm",
        "db-wal",
        "deb",
        "dll",
        "dmg",
        "dwg",
        "dylib",
        "eot",
        "exe",
        "flac",
        "gz",
        "ico",
        "iso",
        "jar",
        "ko",
        "lib",
        "lnk",
        "lock",
        "log1",
        "m4a",
        "m4v",
        "mkv",
        "mov",
        "mp3",
        "mp4",
        "mpeg",
        "mpg",
        "msi",
        "o",
        "obj",
        "ogg",
        "otf",
        "part",
        "pdb",
        "pyc",
        "pyo",
        "qcow2",
        "rar",
        "rpm",
        "so",
        "sqlite",
        "swp",
        "sys",
        "tar",
        "tgz",
        "tmp",
        "ttf",
        "vdi",
        "vmdk",
        "wasm",
        "wav",
        "webm",
        "wma",
        "wmv",
        "woff",
        "woff2",
        "xz",
        "zst",
    ]
)


MAX_PATTERN_LENGTH, MAX_WILDCARDS = 500, 16
_WILDCARDS = re.compile(r"\*+|\?+")


class PatternRefused(FontanelError, ValueError):
    """A pattern that is too long, or has too many wildcards."""


def check_pattern(pattern: str) -> str:
    """Return the pattern. Raises PatternRefused."""
    if len(pattern) > MAX_PATTERN_LENGTH:
        raise PatternRefused(
            f"The pattern {pattern[:40]!r}... is longer than {MAX_PATTERN_LENGTH} characters."
        )
    if len(_WILDCARDS.findall(pattern)) > MAX_WILDCARDS:
        raise PatternRefused(
            f"The pattern {pattern[:40]!r} has more than {MAX_WILDCARDS} wildcards."
        )
    if any(0xD800 <= ord(letter) < 0xE000 for letter in pattern):
        raise PatternRefused("A pattern has characters that are not valid Unicode.")
    return pattern


Pattern = Annotated[str, AfterValidator(check_pattern)]


class Patterns(SettingsModel):
    """Patterns of the paths to include and exclude."""

    include: list[Pattern] = Field(
        [],
        title="Take only",
        max_length=100,
        description=(
            "Patterns of paths, for instance `notices/**/*.pdf`. `*` stands for anything within a"
            " folder, `**` also across folders. Empty: everything."
        ),
    )
    exclude: list[Pattern] = Field(
        [],
        title="Leave out",
        max_length=100,
        description="Patterns of paths to skip, for instance `**/drafts/**`.",
    )
    hidden: bool = Field(
        default=False,
        title="Take hidden files",
        description="Files and folders whose names begin with a dot.",
    )


def pattern_regex(pattern: str) -> str:
    """Return a pattern as a regular expression.

    Without a slash it matches in any folder.
    """
    pattern = pattern.strip().lstrip("/")
    if "/" not in pattern:
        pattern = "**/" + pattern
    if pattern.endswith("/"):
        pattern += "**"
    out, i = "", 0
    while i < len(pattern):
        if pattern.startswith("**/", i):
            out, i = out + r"(?:.*/)?", i + 3
        elif pattern.startswith("**", i):
            out, i = out + ".*", i + 2
        elif pattern[i] == "*":
            out, i = out + "[^/]*", i + 1
        elif pattern[i] == "?":
            out, i = out + "[^/]", i + 1
        else:
            out, i = out + re2.escape(pattern[i]), i + 1
    return out


def matcher(patterns: Sequence[str]) -> Callable[[str], bool] | None:
    """Return whether a path matches any of the patterns; None without patterns.

    Patterns come from users and paths from strangers, and both meet within the service. RE2 takes
    linear time whatever the pattern, while a backtracking engine could be kept busy for years.

    Raises:
        PatternRefused: a pattern is not valid.
    """
    if not patterns:
        return None
    options = re2.Options()
    options.case_sensitive, options.dot_nl, options.log_errors = False, True, False
    compiled = re2.Set.FullMatchSet(options)
    for pattern in patterns:
        compiled.Add(pattern_regex(check_pattern(pattern)))
    compiled.Compile()

    def fits(path: str) -> bool:
        # Names that are not valid Unicode have no UTF-8 form, which RE2 works on.
        plain = path if path.isascii() else path.encode("utf-8", "replace").decode()
        return bool(compiled.Match(plain))

    return fits


def chooser(patterns: Patterns, *, files: bool = True) -> Callable[[str], str | None]:
    """Return a function from a path to the reason to skip it, None to include it.

    Args:
        files: The ending of a path shows its kind.
    """
    included, excluded = matcher(patterns.include), matcher(patterns.exclude)
    hidden, without_text = patterns.hidden, _WITHOUT_TEXT

    def reason(path: str) -> str | None:
        if not hidden and ("/." in path or path[:1] == "."):
            return "hidden"
        if excluded is not None and excluded(path):
            return "left out by a pattern"
        if included is not None and not included(path):
            return "matches no pattern to include"
        if "~" in path and (path[-1] == "~" or path.rpartition("/")[2].startswith("~$")):
            return "a program's scratch file"
        if files and (dot := path.rfind(".")) >= 0 and path[dot + 1 :].lower() in without_text:
            return "a kind of file without text"
        return None

    return reason
