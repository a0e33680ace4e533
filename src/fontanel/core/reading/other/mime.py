"""Messages of several parts (MIME, RFC 2045): the parts, their contents and addresses."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from email import policy
from email.message import EmailMessage, MIMEPart
from email.parser import BytesParser
from urllib.parse import unquote, urljoin

from fontanel.core.reading.model import ReadingFailed

DAMAGED = "The message is damaged. Save it again, and add the new file."


def parse_message(data: bytes) -> EmailMessage:
    """Return the parts of a message. Raises ReadingFailed: damaged."""
    try:
        message = BytesParser(policy=policy.default).parsebytes(data)
    except Exception as error:  # the parser of headers raises what it stumbles over
        raise ReadingFailed("damaged", DAMAGED) from error
    assert isinstance(message, EmailMessage)
    return message


def content_of(part: MIMEPart) -> str:
    """Return the text of a part, in its own charset where that is known."""
    data = bytes_of(part)
    try:
        return data.decode(part.get_content_charset() or "utf-8", errors="replace")
    except (LookupError, ValueError):
        return data.decode("utf-8", errors="replace")


def files_of(parts: Iterable[MIMEPart], base: str = "") -> dict[str, MIMEPart]:
    """Return the parts that have an address (RFC 2557) or an id (RFC 2392), by it."""
    files: dict[str, MIMEPart] = {}
    for part in parts:
        if identity := str(part.get("Content-ID", "")).strip("<> "):
            files.setdefault(f"cid:{identity}", part)
        if location := str(part.get("Content-Location") or ""):
            files.setdefault(_address_of(base, location), part)
    return files


def _address_of(base: str, reference: str) -> str:
    """Return the whole address of what a page refers to."""
    reference = reference.strip()
    if reference.lower().startswith("cid:"):
        return f"cid:{unquote(reference[4:])}"
    try:
        return urljoin(base, reference)
    except ValueError:
        return reference


def bytes_of(part: MIMEPart) -> bytes:
    """Return the content of a part."""
    payload = part.get_payload(decode=True)
    return payload if isinstance(payload, bytes) else b""


def file_of(files: Mapping[str, MIMEPart], base: str, reference: str) -> bytes:
    """Return the content of the part that a page refers to; empty if there is none."""
    part = files.get(_address_of(base, reference))
    return b"" if part is None else bytes_of(part)
