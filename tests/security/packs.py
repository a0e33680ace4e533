"""Malicious packs: modified, with all checksums correct."""

from __future__ import annotations

import hashlib
import io
import json
import random
import zipfile
from collections.abc import Callable
from typing import Any

Entries = dict[str, bytes]


def entries_of(pack: bytes) -> Entries:
    with zipfile.ZipFile(io.BytesIO(pack)) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def sealed(entries: Entries) -> bytes:
    """A pack of these entries, its manifest stating their sha256."""
    manifest = json.loads(entries["manifest.json"])
    if isinstance(manifest, dict):
        manifest["entries"] = {
            name: hashlib.sha256(data).hexdigest()
            for name, data in entries.items()
            if name != "manifest.json"
        }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in {**entries, "manifest.json": json.dumps(manifest).encode()}.items():
            archive.writestr(name, data)
    return out.getvalue()


def with_lines(pack: bytes, name: str, change: Callable[[dict[str, Any]], None]) -> bytes:
    """A pack with the first line of an entry changed."""
    entries = entries_of(pack)
    lines = entries[name].split(b"\n")
    first = json.loads(lines[0])
    change(first)
    entries[name] = b"\n".join([json.dumps(first).encode(), *lines[1:]])
    return sealed(entries)


_ODD: list[Any] = [
    None,
    True,
    -1,
    0,
    2**31,
    2**70,
    1e400,
    float("nan"),
    "",
    "x" * 300,
    "../../secret.key",
    "\x00",
    "\ud800",
    [],
    {},
    [[]],
    {"a": {}},
    "9999-12-31T23:59:59-23:59",
    "2024-02-30",
    "é",
    [1] * 50,
]


def mutated(pack: bytes, draw: random.Random) -> bytes:
    """A pack with one or two random changes, mostly with correct checksums."""
    entries = entries_of(pack)
    for _ in range(draw.choice([1, 1, 2])):
        name = draw.choice(sorted(entries))
        kind = draw.random()
        if kind < 0.6 and name.endswith((".json", ".jsonl")):
            entries[name] = _changed_json(entries[name], draw)
        elif kind < 0.85:
            data = bytearray(entries[name])
            if data:
                data[draw.randrange(len(data))] = draw.randrange(256)
            entries[name] = bytes(data)
        elif kind < 0.9:
            entries[name] = entries[name][: draw.randrange(len(entries[name]) + 1)]
        elif name != "manifest.json":
            del entries[name]
    try:
        return sealed(entries) if draw.random() < 0.9 else _unsealed(entries)
    except ValueError:
        return _unsealed(entries)


def _unsealed(entries: Entries) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return out.getvalue()


def _changed_json(data: bytes, draw: random.Random) -> bytes:
    lines = [line for line in data.split(b"\n") if line]
    if not lines:
        return data
    at = draw.randrange(len(lines)) if data[:2] != b"{\n" else None
    try:
        value = json.loads(lines[at] if at is not None else data)
    except ValueError:
        return data
    holder, key = _somewhere(value, draw)
    if holder is not None:
        if draw.random() < 0.2 and isinstance(holder, dict):
            holder[draw.choice(["extra", "sha256", "__class__"])] = draw.choice(_ODD)
        else:
            holder[key] = draw.choice(_ODD)
    changed = json.dumps(value).encode()
    return changed if at is None else b"\n".join([*lines[:at], changed, *lines[at + 1 :]])


def _somewhere(value: Any, draw: random.Random) -> tuple[Any, Any]:
    """A random place in a JSON value: its container and its key."""
    holder, key = None, None
    while isinstance(value, dict | list) and value and (holder is None or draw.random() < 0.7):
        holder = value
        key = draw.choice(sorted(value)) if isinstance(value, dict) else draw.randrange(len(value))
        value = value[key]
    return holder, key
