"""A folder on the service's own disk, below roots that the operator allows."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from pydantic import Field

from fontanel.sources.patterns import Patterns, chooser
from fontanel.sources.protocol import (
    Fetched,
    ItemFailed,
    Kind,
    Listed,
    NoCredentials,
    PreviousItems,
    SettingsRefused,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)

_CHUNK = 1024 * 1024
_FORMAT = 0o170000


class FolderSettings(Patterns):
    path: str = Field(
        title="Folder",
        min_length=1,
        max_length=1000,
        description="An absolute path on the machine that runs the service.",
    )
    watch: bool = Field(
        default=True,
        title="Watch for changes",
        description="Take up changes at once, by the system's file events.",
    )


class Folder(Source):
    """Files below a folder as items by path; links must lead to a place inside it."""

    def __init__(self, settings: FolderSettings, source_limits: SourceLimits) -> None:
        self._settings = settings
        self._root = allowed_folder(settings.path, source_limits, "path")
        self._most = source_limits.max_bytes
        self._reason = chooser(settings)

    def watched(self) -> Path | None:
        return self._root if self._settings.watch else None

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        if not self._root.is_dir():
            raise SourceUnavailable(f"The folder {self._settings.path} is not there.")
        # No recursion: folders may be nested deeper than Python's stack.
        todo: list[tuple[str, str]] = [(str(self._root), "")]
        while todo:
            directory, below = todo.pop()
            try:
                entries = self._entries(directory, below)
            except PermissionError:
                yield Skipped(below, "may not be read by the service", keep=True)
                continue
            for entry in entries:
                path = below + entry.name
                try:
                    if not entry.is_dir(follow_symlinks=False):
                        yield self._entry(entry, path)
                    elif self._reason(path + "/x") != "hidden":
                        todo.append((entry.path, path + "/"))
                except FileNotFoundError:
                    continue
                except OSError as error:
                    yield Skipped(path, f"cannot be looked at: {error.strerror}", keep=True)

    def _entries(self, directory: str, below: str) -> list[os.DirEntry[str]]:
        """Return the entries of a folder; none of one that was deleted in the meantime.

        Raises:
            PermissionError: a folder below the root may not be read.
            SourceUnavailable: the root cannot be listed, or a share disappeared, which must not
                look like an empty one.
        """
        shown = self._settings.path
        try:
            with os.scandir(directory) as entries:
                return list(entries)
        except PermissionError:
            if below:
                raise
            raise SourceUnavailable(f"The service may not read the folder {shown}.") from None
        except FileNotFoundError:
            if below:
                return []
            raise SourceUnavailable(f"The folder {shown} is not there.") from None
        except OSError as error:
            raise SourceUnavailable(
                f"The folder {directory} cannot be listed: {error.strerror}."
            ) from error

    def _entry(self, entry: os.DirEntry[str], path: str) -> Listed | Skipped:
        if entry.is_symlink():
            return self._link(entry, path)
        if (why := self._reason(path)) is not None:
            return Skipped(path, why)
        return self._file(path, entry.stat())

    def _link(self, entry: os.DirEntry[str], path: str) -> Listed | Skipped:
        if (why := self._reason(path)) is not None:
            return Skipped(path, why)
        target = Path(entry.path).resolve()
        if not target.is_relative_to(self._root):
            return Skipped(path, "a link that leads out of the folder")
        return self._file(path, target.stat())

    def _file(self, path: str, entry: os.stat_result) -> Listed | Skipped:
        size = entry.st_size
        if entry.st_mode & _FORMAT != stat.S_IFREG:
            return Skipped(path, "not a file")
        if size > self._most:
            return Skipped(path, f"larger than {self._most // 1_000_000} MB")
        if not path.isascii() and any(0xD800 <= ord(letter) < 0xE000 for letter in path):
            return Skipped(path.encode(errors="replace").decode(), "its name is not in UTF-8")
        mark = _mark(entry)
        return Listed(path, mark, path, entry.st_mtime, size, mark)

    def fetch(self, item: Listed) -> Fetched:
        # Resolve the path again: a file may have become a link.
        path = (self._root / item.id).resolve()
        if not path.is_relative_to(self._root):
            raise ItemFailed("It became a link that leads out of the folder.")
        try:
            descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
        except OSError as error:
            raise ItemFailed(f"The file cannot be opened: {error.strerror}.") from error
        # A folder on the way may have become a link between the look and the opening.
        if not Path(os.readlink(f"/proc/self/fd/{descriptor}")).is_relative_to(self._root):
            os.close(descriptor)
            raise ItemFailed("It became a link that leads out of the folder.")
        result = os.fstat(descriptor)
        if not stat.S_ISREG(result.st_mode):
            os.close(descriptor)
            raise ItemFailed("It is no longer a file.")
        # The mark is that of the bytes read now, which may be newer than those listed.
        return Fetched(_chunks(descriptor), mark=_mark(result), changed_at=result.st_mtime)


def _mark(entry: os.stat_result) -> str:
    return f"{entry.st_mtime_ns}.{entry.st_size}.{entry.st_ino}"


def _chunks(descriptor: int) -> Iterator[bytes]:
    with os.fdopen(descriptor, "rb") as file:
        while data := file.read(_CHUNK):
            yield data


def allowed_folder(path: str, source_limits: SourceLimits, field: str) -> Path:
    """Return the folder or file of a path, with links resolved.

    Raises:
        SettingsRefused: it is not below a root that the operator allows.
    """
    if not os.path.isabs(path) or "\0" in path:
        raise SettingsRefused(field, f"{path!r} is not an absolute path.")
    try:
        result = Path(path).resolve()
        # Access it once, so that a name that no file system accepts is rejected here.
        result.exists()
    except (OSError, ValueError, RuntimeError) as error:
        raise SettingsRefused(field, f"{path[:100]!r} cannot be a path: {error}.") from error
    if not any(result.is_relative_to(root.resolve()) for root in source_limits.roots):
        roots = ", ".join(str(root) for root in source_limits.roots)
        raise SettingsRefused(
            field,
            f"{path!r} is not below a folder that the operator allows ({roots or 'none is'}). "
            "The operator sets FONTANEL_SOURCE_ROOTS.",
        )
    return result


KIND = Kind(
    name="folder",
    title="Folder",
    description="Files in a folder on the service's disk, synced as soon as they change.",
    settings=FolderSettings,
    credentials=NoCredentials,
    open=lambda s, _, around: Folder(s, around),
    watchable=True,
)
