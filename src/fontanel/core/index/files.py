"""Segment files: named arrays in one file with a SHA-256 checksum, memory-mapped unless small.

Layout: magic, length of the header (8 bytes, little-endian), header as JSON, then the arrays, each
aligned to 64 bytes.
"""

from __future__ import annotations

import hashlib
import json
import math
import mmap
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.errors import FontanelError

#: Increased whenever the meaning of the arrays changes; older segments are rebuilt.
_MAGIC = b"FONTSEG4"
_ALIGN = 64

#: Bytes up to which a file is read rather than mapped: each mapped one takes a file descriptor.
_SMALL = 64 * 1024

Array = npt.NDArray[Any]


class SegmentDamaged(FontanelError):
    """A segment file is truncated, altered, or of another version."""


def write_arrays(
    path: Path,
    arrays: Mapping[str, Array],
    about: Mapping[str, Any],
    sync: Callable[[int], None] = os.fsync,
) -> None:
    """Write arrays under a temporary name, flush, then rename: all or nothing."""
    layout: dict[str, Any] = {}
    offset = 0
    digest = hashlib.sha256()
    for name, array in arrays.items():
        data = np.ascontiguousarray(array)
        layout[name] = {"dtype": data.dtype.str, "shape": list(data.shape), "offset": offset}
        digest.update(_bytes(data))
        offset = _aligned(offset + data.nbytes)
    header = json.dumps(
        {"about": dict(about), "arrays": layout, "sha256": digest.hexdigest()}
    ).encode()
    scratch = path.with_name(path.name + ".part")
    with scratch.open("wb") as file:
        file.write(_MAGIC + len(header).to_bytes(8, "little") + header)
        base = _aligned(file.tell())
        for name, array in arrays.items():
            file.seek(base + layout[name]["offset"])
            file.write(_bytes(np.ascontiguousarray(array)))
        file.truncate(base + offset)
        file.flush()
        sync(file.fileno())
    scratch.rename(path)
    directory = os.open(path.parent, os.O_RDONLY)
    try:
        sync(directory)
    finally:
        os.close(directory)


def open_arrays(path: Path) -> tuple[dict[str, Array], dict[str, Any]]:
    """Return the arrays (read-only views of the file) and the `about` values.

    Raises:
        SegmentDamaged: the file is not a whole segment.
    """
    header, base, mapped = _open(path)
    arrays: dict[str, Array] = {}
    for name, place in header["arrays"].items():
        count = int(np.prod(place["shape"], dtype=np.int64))
        dtype = np.dtype(place["dtype"])
        if base + place["offset"] + count * dtype.itemsize > len(mapped):
            raise SegmentDamaged(f"{path} is cut short")
        flat = np.frombuffer(mapped, dtype=dtype, count=count, offset=base + place["offset"])
        arrays[name] = flat.reshape(place["shape"])
    return arrays, header["about"]


def let_go(array: Array) -> None:
    """Release the pages of the mapped file behind an array.

    Later reads load them from the system's cache or the disk; readers in other threads are not
    affected.
    """
    base: Any = array
    while isinstance(base, np.ndarray):
        base = base.base
    mapped = base.obj if isinstance(base, memoryview) else base
    if isinstance(mapped, mmap.mmap) and hasattr(mmap, "MADV_DONTNEED"):
        mapped.madvise(mmap.MADV_DONTNEED)


def verify(path: Path) -> None:
    """Read the whole file and compare its checksum.

    It is read rather than mapped, because mapped pages count as the process's memory.

    Raises:
        SegmentDamaged: the checksum differs.
    """
    header, base, _ = _open(path)
    digest = hashlib.sha256()
    with path.open("rb") as file:
        for layout in header["arrays"].values():
            file.seek(base + layout["offset"])
            left = np.dtype(layout["dtype"]).itemsize * math.prod(layout["shape"])
            while left:
                part = file.read(min(left, 1 << 20))
                if not part:
                    raise SegmentDamaged(f"{path} is cut short")
                digest.update(part)
                left -= len(part)
    if digest.hexdigest() != header["sha256"]:
        raise SegmentDamaged(f"{path} has changed since it was written")


def _open(path: Path) -> tuple[dict[str, Any], int, mmap.mmap | bytes]:
    mapped: mmap.mmap | bytes
    try:
        with path.open("rb") as file:
            if os.fstat(file.fileno()).st_size <= _SMALL:
                mapped = file.read()
            else:
                mapped = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
    except (OSError, ValueError) as error:
        raise SegmentDamaged(f"{path} cannot be opened: {error}") from error
    if mapped[:8] != _MAGIC:
        raise SegmentDamaged(f"{path} is not a segment file")
    length = int.from_bytes(mapped[8:16], "little")
    try:
        header = json.loads(mapped[16 : 16 + length])
    except ValueError as error:
        raise SegmentDamaged(f"{path} has a damaged header") from error
    return header, _aligned(16 + length), mapped


def _bytes(array: Array) -> memoryview:
    """An array's bytes where they are: segments are too large to copy."""
    return array.reshape(-1).view(np.uint8).data


def _aligned(offset: int) -> int:
    return (offset + _ALIGN - 1) // _ALIGN * _ALIGN
