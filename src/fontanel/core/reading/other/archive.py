"""ZIP archives: their files as contained files, and a check before unpacking any."""

from __future__ import annotations

import io
import zipfile

from fontanel.core.reading.model import ContainedFile, ReadingBuilder, ReadingFailed

_MAX_UNPACKED = 256 * 1024 * 1024
_MAX_RATIO = 200
_MAX_FILES = 5_000
_DAMAGED = "The file is cut short or damaged. Add it again from a good copy."
#: What file managers and systems leave in archives, and no person put there.
_LITTER = ("__MACOSX/", ".DS_Store", "Thumbs.db", "desktop.ini")


def open_archive(data: bytes) -> zipfile.ZipFile:
    """The archive, if it would not unpack to far more than it weighs.

    Raises ReadingFailed: damaged, encrypted or too_large.
    """
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        entries = archive.infolist()
    except (zipfile.BadZipFile, ValueError, NotImplementedError, OSError) as error:
        raise ReadingFailed("damaged", _DAMAGED) from error
    unpacked = sum(entry.file_size for entry in entries)
    if unpacked > _MAX_UNPACKED or (unpacked > 10_000_000 and unpacked > len(data) * _MAX_RATIO):
        raise ReadingFailed(
            "too_large",
            f"The file unpacks to {unpacked // 1_000_000} MB, which is refused. Add it in smaller"
            " parts.",
        )
    if any(entry.flag_bits & 1 for entry in entries):
        raise ReadingFailed(
            "encrypted", "The file is encrypted. Add a copy that opens without a password."
        )
    return archive


def read_entry(archive: zipfile.ZipFile, name: str) -> bytes:
    """Return an entry's bytes, never more than its directory announces.

    Raises:
        ReadingFailed: damaged.
    """
    try:
        size = archive.getinfo(name).file_size
        with archive.open(name) as entry:
            data = entry.read(size + 1)
    except (
        KeyError,
        zipfile.BadZipFile,
        NotImplementedError,
        OSError,
        EOFError,
        ValueError,
    ) as error:
        raise ReadingFailed("damaged", _DAMAGED) from error
    except Exception as error:  # zlib, lzma and bz2 each have an error of their own
        raise ReadingFailed("damaged", _DAMAGED) from error
    if len(data) > size:
        raise ReadingFailed("damaged", _DAMAGED)
    return data


def read_archive(data: bytes) -> ReadingBuilder:
    """An archive reads as the list of its files; they are documents of their own."""
    archive = open_archive(data)
    names = _wanted(archive)
    if not names:
        raise ReadingFailed("no_text", "The archive contains no files.")
    builder = ReadingBuilder(container=True)
    if len(names) > _MAX_FILES:
        builder.warnings.append(f"Only the first {_MAX_FILES:,} of {len(names):,} files were added")
    builder.list([f"- {name}" for name in names[:_MAX_FILES]])
    return builder


def archive_files(data: bytes) -> list[ContainedFile]:
    """The files of an archive, in its order."""
    archive = open_archive(data)
    return [
        ContainedFile(name, read_entry(archive, name)) for name in _wanted(archive)[:_MAX_FILES]
    ]


def _wanted(archive: zipfile.ZipFile) -> list[str]:
    return [
        entry.filename
        for entry in archive.infolist()
        if entry.filename
        and not entry.filename.endswith("/")
        and entry.file_size
        and not any(part in entry.filename for part in _LITTER)
    ]
