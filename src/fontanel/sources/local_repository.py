"""Reading a git repository in a folder, without leaving the folder.

Git follows what a repository refers to: a `.git` file, symbolic links, `objects/info/alternates`, a
`commondir`. Whoever may write to an allowed folder could have it read a repository elsewhere. So
what is needed is copied first, file by file, and git reads the copy, which refers to nothing.
"""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from fontanel.sources.protocol import SourceUnavailable

#: The content of a repository. Its configuration, hooks, alternates and worktrees are left out.
_FOLDERS = ("objects", "refs")
_FILES = ("HEAD", "packed-refs")
_LEFT_OUT = frozenset({"alternates", "http-alternates"})


def take_over(repository: Path, target: Path, stopping: Callable[[], bool]) -> None:
    """Copy a repository's content from a folder to a bare `target`.

    Existing objects are left alone: they never change.

    Raises:
        SourceUnavailable: it cannot be read, or is not a repository.
    """
    with _opened(repository) as root:
        try:
            inner = os.open(".git", os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=root)
        except FileNotFoundError:
            inner = os.dup(root)
        except OSError as error:
            raise SourceUnavailable(
                f"{repository} has a .git that is a link or a file and leads elsewhere. Name the"
                " repository itself.",
                again=False,
            ) from error
        try:
            _copy(inner, target, stopping)
        finally:
            os.close(inner)
    if not (target / "HEAD").is_file():
        raise SourceUnavailable(f"{repository} is not a git repository.", again=False)


@contextmanager
def _opened(path: Path) -> Iterator[int]:
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    except OSError as error:
        raise SourceUnavailable(f"The folder {path} cannot be opened: {error.strerror}.") from error
    try:
        # A folder above it may have become a link since the path was checked.
        if os.readlink(f"/proc/self/fd/{descriptor}") != str(path):
            raise SourceUnavailable(
                f"The folder {path} has become a link to another place.", again=False
            )
        yield descriptor
    finally:
        os.close(descriptor)


def _copy(inner: int, target: Path, stopping: Callable[[], bool]) -> None:
    """Copy what git reads of a repository, and delete references that are gone."""
    target.mkdir(parents=True, exist_ok=True)
    copied: set[str] = set()
    for folder in _FOLDERS:
        # Checked before: a walk of a missing folder fails only once it begins.
        if _is_folder(folder, inner):
            copied |= _copy_folder(inner, folder, target, stopping)
    copied |= {name for name in _FILES if _take(name, inner, target / name, changes=True)}
    for old in [*(target / "refs").rglob("*"), target / "packed-refs"]:
        if old.is_file() and str(old.relative_to(target)) not in copied:
            old.unlink()
    (target / "refs").mkdir(parents=True, exist_ok=True)
    (target / "objects").mkdir(parents=True, exist_ok=True)


def _copy_folder(inner: int, folder: str, target: Path, stopping: Callable[[], bool]) -> set[str]:
    """Copy a folder without following links; return the paths of the files copied."""
    copied: set[str] = set()
    for below, folders, files, descriptor in os.fwalk(folder, follow_symlinks=False, dir_fd=inner):
        if stopping():
            raise SourceUnavailable("The run was ended.")
        (target / below).mkdir(parents=True, exist_ok=True)
        folders[:] = [name for name in folders if not _is_link(name, descriptor)]
        for name in files:
            path = f"{below}/{name}"
            changes = folder == "refs"
            if name not in _LEFT_OUT and _take(name, descriptor, target / path, changes=changes):
                copied.add(path)
    return copied


def _is_folder(name: str, descriptor: int) -> bool:
    try:
        return stat.S_ISDIR(os.stat(name, dir_fd=descriptor, follow_symlinks=False).st_mode)
    except FileNotFoundError:
        return False


def _is_link(name: str, descriptor: int) -> bool:
    return stat.S_ISLNK(os.stat(name, dir_fd=descriptor, follow_symlinks=False).st_mode)


def _take(name: str, folder: int, target: Path, *, changes: bool) -> bool:
    """Copy a regular file; return whether there is one.

    Immutable ones are copied once.
    """
    try:
        source = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=folder)
    except OSError:
        return False  # a link, or gone meanwhile
    with os.fdopen(source, "rb") as file:
        result = os.fstat(file.fileno())
        if not stat.S_ISREG(result.st_mode):
            return False
        if not changes and target.is_file() and target.stat().st_size == result.st_size:
            return True
        scratch = target.with_name(target.name + ".part")
        with scratch.open("wb") as copy:
            shutil.copyfileobj(file, copy, 1 << 20)
        scratch.rename(target)
        with suppress(OSError):
            target.chmod(0o600)
    return True
