"""E-mail (RFC 5322): sender and recipients, the text, and attachments."""

from __future__ import annotations

from email import policy
from email.message import EmailMessage
from functools import partial

from fontanel.core.reading.markup.html import add_html
from fontanel.core.reading.model import ContainedFile, ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.other.mime import (
    DAMAGED,
    bytes_of,
    content_of,
    file_of,
    files_of,
    parse_message,
)
from fontanel.core.reading.other.plain import add_plain

_HEADERS = ("From", "To", "Cc", "Date", "Subject")
_MAX_ATTACHMENTS = 500


def read_mail(data: bytes) -> ReadingBuilder:
    """Read a message: its header fields as a list, then its body as laid out.

    Raises:
        ReadingFailed: damaged.
    """
    message = parse_message(data)
    builder = ReadingBuilder(title=_header(message, "Subject"))
    builder.list([f"- {name}: {value}" for name in _HEADERS if (value := _header(message, name))])
    try:
        body = message.get_body(preferencelist=("plain", "html"))
        files = files_of(message.walk())
    except Exception as error:  # a part whose own fields are malformed
        raise ReadingFailed("damaged", DAMAGED) from error
    if body is not None:
        text = content_of(body)
        if body.get_content_type() == "text/html":
            add_html(builder, text, partial(file_of, files, ""))
        else:
            add_plain(builder, text)
    if names := [member.name for member in mail_attachments(data)]:
        builder.heading("Attachments", 2)
        builder.list([f"- {name}" for name in names])
    return builder


_AS_IT_CAME = policy.default.clone(refold_source="none")


def mail_attachments(data: bytes) -> list[ContainedFile]:
    """Return the attachments; a message inside a message is one.

    Raises:
        ReadingFailed: damaged.
    """
    contained_files: list[ContainedFile] = []
    try:
        attachments = list(parse_message(data).iter_attachments())
    except Exception as error:  # a part whose own fields are malformed
        raise ReadingFailed("damaged", DAMAGED) from error
    for number, part in enumerate(attachments, start=1):
        if len(contained_files) == _MAX_ATTACHMENTS:
            break
        name = part.get_filename() or ""
        if part.get_content_type() == "message/rfc822":
            inner = part.get_payload(0) if part.is_multipart() else None
            # Header fields are kept unchanged: refolding malformed ones may never end.
            content = inner.as_bytes(policy=_AS_IT_CAME) if isinstance(inner, EmailMessage) else b""
            name = name or f"message {number}.eml"
        else:
            content = bytes_of(part)
        if content.strip():
            contained_files.append(ContainedFile(name or f"attachment {number}", content))
    return contained_files


def _header(message: EmailMessage, name: str) -> str:
    try:
        return collapse(str(message.get(name) or ""))
    except Exception:  # a malformed address or date: the rest of the message is as good
        return ""
