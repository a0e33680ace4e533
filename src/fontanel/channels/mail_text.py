"""What a person wrote in an e-mail: without quoted text, signature and markup."""

from __future__ import annotations

import re
from email.message import EmailMessage
from email.utils import getaddresses
from html.parser import HTMLParser

#: The maximum characters of a body that are looked at.
_MAX_BODY = 100_000
#: Lines after which an earlier message is quoted.
_QUOTED = re.compile(
    r"-{2,} ?(?:Original Message|Forwarded message|Ursprüngliche Nachricht|Message d'origine)"
    r"|_{20,}$"
    r"|(?:On|Am|Le|El|Il) .{4,200}(?:wrote|schrieb.{0,100}|a écrit|escribió|ha scritto) ?:$"
    r"|(?:From|Von|De|Da): .{1,200}@",
    re.IGNORECASE,
)
_ROBOTS = ("mailer-daemon", "postmaster", "no-reply", "noreply", "do-not-reply", "donotreply")
_BLOCKS = frozenset(("p", "div", "br", "li", "tr", "h1", "h2", "h3", "blockquote", "table"))
_HIDDEN = frozenset(("script", "style", "head", "title", "blockquote"))


def written_text(message: EmailMessage) -> str:
    """Return the text that the sender of a message wrote in it."""
    part = message.get_body(("plain", "html"))
    if part is None:
        return ""
    try:
        content = str(part.get_content())[:_MAX_BODY]
    except Exception:  # an unknown charset, or damaged text: its bytes are read as they are
        payload = part.get_payload(decode=True)
        content = (
            payload.decode("utf-8", "replace")[:_MAX_BODY] if isinstance(payload, bytes) else ""
        )
    if part.get_content_subtype() == "html":
        content = _html_text(content)
    return _own_lines(content)


def _own_lines(text: str) -> str:
    """Return the lines before a quoted message or a signature (RFC 3676, section 4.3)."""
    kept: list[str] = []
    for line in text.splitlines():
        plain = line.strip()
        if line.rstrip("\r\n") in ("-- ", "--") or _QUOTED.match(plain[:400]):
            break
        if not plain.startswith(">"):
            kept.append(line.rstrip())
    return re.sub(r"\n{3,}", "\n\n", "\n".join(kept)).strip()


def automatic(message: EmailMessage, own: str) -> str:
    """Return why a message must not be answered; an empty string if a person sent it.

    See RFC 3834, section 2, and RFC 2919.

    Args:
        own: The address of the channel.
    """
    sender = sender_of(message)[1].lower()
    if not sender:
        return "It has no sender."
    if sender == own.lower():
        return "It comes from the channel's own address."
    if sender.partition("@")[0] in _ROBOTS or header(message, "Return-Path").strip() == "<>":
        return "It was sent automatically."
    if header(message, "Auto-Submitted").partition(";")[0].strip().lower() not in ("", "no"):
        return "It was sent automatically."
    if message.get_content_type() == "multipart/report":
        return "It was sent automatically."
    if header(message, "Precedence").strip().lower() in ("bulk", "junk", "list"):
        return "It was sent to many."
    if header(message, "List-Id") or header(message, "List-Unsubscribe"):
        return "It comes from a mailing list."
    return ""


def authenticated(message: EmailMessage, server: str) -> bool:
    """Return whether a mail server attests that the sender is who they say (RFC 8601, DMARC).

    Args:
        server: The server whose results are trusted; it removes others that claim its name.
    """
    for text in message.get_all("Authentication-Results", []):
        name, _, results = str(text).partition(";")
        if name.split() and name.split()[0].lower() == server.lower():
            return re.search(r"\bdmarc\s*=\s*pass\b", results, re.IGNORECASE) is not None
    return False


def sender_of(message: EmailMessage) -> tuple[str, str]:
    """Return name and address of the sender; empty if there is none, or more than one."""
    addresses = getaddresses([header(message, "From")])
    if len(addresses) != 1 or addresses[0][1].count("@") != 1:
        return "", ""
    return addresses[0]


def header(message: EmailMessage, name: str) -> str:
    """Return a header as one line, empty if it is missing or damaged."""
    try:
        value = message.get(name)
    except Exception:  # the parser of headers raises what it stumbles over
        return ""
    return " ".join(str(value or "").split())


def references(message: EmailMessage) -> list[str]:
    """Return the ids of the messages before this one in its thread, the oldest first."""
    named = re.findall(r"<[^<>\s]{3,300}>", header(message, "References"))
    return named or re.findall(r"<[^<>\s]{3,300}>", header(message, "In-Reply-To"))


class _Text(HTMLParser):
    """Collects the visible text of HTML."""

    def __init__(self) -> None:
        super().__init__()
        self.parts: list[str] = []
        self._hidden = 0

    def handle_starttag(self, tag: str, attrs: object) -> None:
        self._hidden += tag in _HIDDEN
        if tag in _BLOCKS:
            self.parts.append("\n")

    def handle_endtag(self, tag: str) -> None:
        self._hidden = max(0, self._hidden - (tag in _HIDDEN))
        if tag in _BLOCKS:
            self.parts.append("\n")

    def handle_data(self, data: str) -> None:
        if not self._hidden:
            self.parts.append(" ".join(data.split(" ")))


def _html_text(html: str) -> str:
    parser = _Text()
    parser.feed(html)
    lines = (" ".join(line.split()) for line in "".join(parser.parts).splitlines())
    return "\n".join(lines)
