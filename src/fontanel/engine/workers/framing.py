"""How the service and its worker processes exchange messages.

A message is a length (4 bytes, big-endian) and then JSON with a `type` tag. Bytes that belong to a
message (pictures, contained files, vectors) follow it; the message has their sizes.
"""

from __future__ import annotations

import json
from typing import IO, Any, TypeVar

import msgspec

_LENGTH_BYTES = 4


class Message(msgspec.Struct, kw_only=True, tag=True):
    """A message; its class is its tag."""


class Failed(Message):
    """What was asked for cannot be done. `cause` is for the log."""

    code: str
    error: str
    cause: str = ""


M = TypeVar("M")


def message_bytes(message: msgspec.Struct) -> bytes:
    """Return a message as `receive` reads it."""
    data = json.dumps(msgspec.to_builtins(message)).encode()
    return len(data).to_bytes(_LENGTH_BYTES, "big") + data


def send(stream: IO[bytes], message: msgspec.Struct) -> None:
    """Write a message."""
    rest = memoryview(message_bytes(message))
    while rest:
        rest = rest[stream.write(rest) :]
    stream.flush()


def receive(stream: IO[bytes], kind: type[M] | Any) -> M | None:
    """Read a message of a type, or of a union of types; None at the end of the stream.

    Raises:
        ValueError: the message is of another type.
    """
    head = read_exactly(stream, _LENGTH_BYTES)
    if head is None:
        return None
    body = read_exactly(stream, int.from_bytes(head, "big"))
    if body is None:
        return None
    message: M = msgspec.convert(json.loads(body), kind)
    return message


def read_exactly(stream: IO[bytes], count: int) -> bytes | None:
    """Read an exact number of bytes; None if the stream ends before."""
    parts: list[bytes] = []
    while count:
        part = stream.read(count)
        if not part:
            return None
        parts.append(part)
        count -= len(part)
    return b"".join(parts)
