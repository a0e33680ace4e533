"""The addresses of resources: documents and their revisions."""

from __future__ import annotations

import re
from dataclasses import dataclass
from urllib.parse import quote, unquote

#: RFC 6570 templates of the addresses.
DOCUMENT = "fontanel://kbs/{kb}/documents/{document}"
REVISION = "fontanel://kbs/{kb}/documents/{document}/revisions/{revision}"

_ADDRESS = re.compile(
    r"fontanel://kbs/(?P<kb>[^/?#]+)/documents/(?P<document>[^/?#]+)"
    r"(?:/revisions/(?P<revision>[^/?#]+))?"
)


@dataclass(frozen=True, slots=True)
class Address:
    """A document of a knowledge base; `revision` is None for the newest one."""

    kb: str
    document: str
    revision: str | None = None

    @property
    def uri(self) -> str:
        """The address as a URI."""
        base = f"fontanel://kbs/{quote(self.kb, '')}/documents/{quote(self.document, '')}"
        return base if self.revision is None else f"{base}/revisions/{quote(self.revision, '')}"


def parse_uri(uri: str) -> Address:
    """Return the parts of an address.

    Raises:
        ValueError: it is none of ours.
    """
    match = _ADDRESS.fullmatch(uri)
    if match is None:
        raise ValueError(f"{uri!r} is not the address of a document: they look like {DOCUMENT}.")
    kb, document, revision = match.groups()
    return Address(unquote(kb), unquote(document), revision and unquote(revision))
