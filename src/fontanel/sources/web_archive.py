"""Write web pages with their pictures as one file (MHTML, RFC 2557)."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from email.message import MIMEPart
from email.policy import SMTP

#: Long addresses are not broken into lines.
_UNFOLDED = SMTP.clone(max_line_length=0)


def write_web_archive(
    page: bytes, content_type: str, address: str, pictures: Mapping[str, tuple[str, bytes]]
) -> bytes:
    """Return a page with its pictures as one file; the same content always makes the same bytes.

    Args:
        page: The HTML.
        content_type: Its media type, with its charset if it has one.
        address: What its references are relative to.
        pictures: Address -> media type and bytes.
    """
    message = MIMEPart(policy=SMTP)
    message["MIME-Version"] = "1.0"
    message["Content-Type"] = 'multipart/related; type="text/html"'
    message["Content-Location"] = address
    message.attach(_part(page, content_type, address))
    for where, (media_type, data) in pictures.items():
        message.attach(_part(data, media_type, where))
    message.set_boundary(f"part-{hashlib.sha256(page).hexdigest()[:32]}")
    return message.as_bytes(policy=_UNFOLDED)


def _part(data: bytes, content_type: str, address: str) -> MIMEPart:
    media_type, _, parameters = content_type.partition(";")
    kind, _, subtype = media_type.strip().lower().partition("/")
    part = MIMEPart(policy=SMTP)
    part.set_content(data, kind, subtype or "octet-stream")
    charset = parameters.rpartition("charset=")[2].strip(" \"'")
    if "charset=" in parameters and charset.isascii() and charset.isprintable():
        part.set_param("charset", charset)
    part["Content-Location"] = address
    del part["Content-Disposition"]
    return part
