"""The links of a web page, and addresses in canonical form.

Tags are found in one pass in linear time, whatever the page contains: pages are untrusted, and this
runs within the service.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from urllib.parse import parse_qsl, quote, unquote, urlencode, urljoin, urlsplit, urlunsplit

_TAG = re.compile(r"<(a|area|base|img|link|meta)\s", re.IGNORECASE)
#: The rest of a tag after its name. It never backtracks, so it reads each character once.
_REST = re.compile(r"((?:[^>\"']++|\"[^\"]*+\"|'[^']*+')*+)>")
_LONGEST_TAG = 20_000
_ATTRIBUTE = re.compile(
    r"(?<![a-z-])([a-z-]++)\s*+=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s\"'>]+))", re.IGNORECASE
)
_HIDDEN = (
    ("<!--", "-->"),
    ("<script", "</script"),
    ("<style", "</style"),
    ("<template", "</template"),
)
_FOLLOWED_BY = re.compile(r"charset=[\"']?([\w-]+)", re.IGNORECASE)
#: Parameters about where a visitor came from, not about the page.
_TRACKING = re.compile(
    r"^(utm_\w+|fbclid|gclid|mc_[ce]id|phpsessid|jsessionid|sid)$", re.IGNORECASE
)
_MAX_LINKS = 5000
_MAX_PICTURES = 30
#: A picture that is said to be narrower or lower than this in pixels is an ornament.
_MIN_SIDE = 64
_LONGEST = 1000


@dataclass(frozen=True, slots=True)
class PageLinks:
    """A page's metadata for crawling.

    `canonical` is the address that it wants to be known by; `taken` and `followed` are False when
    it asks robots not to index it or follow its links. `pictures` are the addresses of pictures
    as the page writes them, made whole with `base`.
    """

    links: tuple[str, ...]
    canonical: str | None
    taken: bool
    followed: bool
    base: str
    pictures: tuple[str, ...]


def page_links(data: bytes, address: str, charset: str | None) -> PageLinks:
    """The links of an HTML page, in order, as whole addresses in one form."""
    text = _visible(_text(data, charset))
    base = address
    links: dict[str, None] = {}
    pictures: dict[str, None] = {}
    canonical = None
    taken = followed = True
    for name, attributes in _tags(text):
        values = {
            m.group(1).lower(): html.unescape(next(filter(None, m.groups()[1:]), ""))
            for m in _ATTRIBUTE.finditer(attributes)
        }
        if name == "base" and values.get("href"):
            base = _joined(address, values["href"]) or address
        elif (
            name == "link"
            and "canonical" in values.get("rel", "").lower().split()
            and values.get("href")
        ):
            canonical = normal_address(_joined(base, values["href"]))
        elif name == "meta" and values.get("name", "").lower() in ("robots", "fontanel"):
            wishes = {part.strip() for part in values.get("content", "").lower().split(",")}
            taken = taken and not wishes & {"noindex", "none"}
            followed = followed and not wishes & {"nofollow", "none"}
        elif name == "img":
            picture = _joined(base, values.get("src", ""))
            if picture and len(pictures) < _MAX_PICTURES and not _is_ornament(values):
                pictures.setdefault(picture)
        elif (
            name in ("a", "area")
            and values.get("href")
            and "nofollow" not in values.get("rel", "").lower().split()
        ):
            result = normal_address(_joined(base, values["href"]))
            if result is not None and len(links) < _MAX_LINKS:
                links.setdefault(result)
    return PageLinks(tuple(links), canonical, taken, followed, base, tuple(pictures))


def _is_ornament(values: Mapping[str, str]) -> bool:
    """Return whether a picture is said to be small, or is part of the page's address."""
    sides = [values.get(name, "").removesuffix("px") for name in ("width", "height")]
    small = any(side.isdecimal() and int(side[:9]) < _MIN_SIDE for side in sides)
    return small or not values.get("src", "").strip() or values["src"].startswith("data:")


def _tags(text: str) -> Iterator[tuple[str, str]]:
    """Yield the relevant tags with their attributes; an unterminated tag is skipped."""
    position = 0
    while (match := _TAG.search(text, position)) is not None:
        limit = match.end() + _LONGEST_TAG
        rest = _REST.match(text, match.end(), limit)
        position = rest.end() if rest else limit
        if rest:
            yield match.group(1).lower(), rest.group(1)


def normal_address(address: str | None) -> str | None:
    """Return an http(s) address in canonical form, None for other addresses.

    Without fragment, tracking parameters and default port, and with a uniformly encoded path.
    """
    if address is None:
        return None
    try:
        parts = urlsplit(address.strip())
        port = parts.port
    except ValueError:
        return None
    if (
        parts.scheme.lower() not in ("http", "https")
        or not parts.hostname
        or len(address) > _LONGEST
        or parts.username
    ):
        return None
    scheme = parts.scheme.lower()
    host = parts.hostname.lower().rstrip(".")
    if port is not None and port != (443 if scheme == "https" else 80):
        host += f":{port}"
    path = quote(unquote(_without_dots(parts.path or "/")), safe="/:@!$&'()*+,;=~-._")
    pairs = [
        (k, v) for k, v in parse_qsl(parts.query, keep_blank_values=True) if not _TRACKING.match(k)
    ]
    return urlunsplit((scheme, host, path, urlencode(pairs), ""))


def _joined(base: str, reference: str) -> str | None:
    try:
        return urljoin(base, reference.strip())
    except ValueError:
        return None


def _without_dots(path: str) -> str:
    out: list[str] = []
    parts = path.split("/")
    for part in parts:
        if part == "..":
            if len(out) > 1:
                out.pop()
        elif part != ".":
            out.append(part)
    if parts[-1] in (".", ".."):
        out.append("")
    return "/".join(out) or "/"


def _text(data: bytes, charset: str | None) -> str:
    if charset is None:
        match = _FOLLOWED_BY.search(data[:2048].decode("ascii", "replace"))
        charset = match.group(1) if match else "utf-8"
    try:
        return data.decode(charset, "replace")
    except LookupError:
        return data.decode("utf-8", "replace")


def _visible(text: str) -> str:
    """A page without comments, scripts and styles."""
    for opening, closing in _HIDDEN:
        lower = text.lower()
        if len(lower) != len(text):
            lower = text  # a letter whose lower case is longer: rare, and only then case counts
        parts, position = [], 0
        while (start := lower.find(opening, position)) >= 0:
            parts.append(text[position:start])
            end = lower.find(closing, start + len(opening))
            if end < 0:
                position = len(text)
                break
            position = end + len(closing)
        parts.append(text[position:])
        text = "".join(parts)
    return text
