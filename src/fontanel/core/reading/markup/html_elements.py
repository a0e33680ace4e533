"""What an HTML element is: left out, hidden, a footnote, a list of links."""

from __future__ import annotations

import itertools
import re

from lxml import etree

from fontanel.core.reading.model import collapse


def text_of(element: etree._Element) -> str:
    return collapse(raw_text(element))


def raw_text(element: etree._Element) -> str:
    if not len(element):
        return element.text or ""
    # As "".join(element.itertext()), five times as fast.
    return etree.tostring(element, method="text", encoding="unicode", with_tail=False)


def has_text(element: etree._Element, least: int = 100) -> bool:
    """Return whether an element contains more than a few words."""
    length = 0
    for part in element.itertext():
        length += len(part.strip())
        if length > least:
            return True
    return False


def tag_of(element: etree._Element | None) -> str:
    return element.tag if element is not None and isinstance(element.tag, str) else ""


def is_dropped(element: etree._Element, tag: str) -> bool:
    if not tag or tag in DROPPED:
        return True
    if tag not in ("aside", "header") and not element.keys():
        return False
    if is_hidden(element):
        return True
    if tag in ("body", "html", "main", "article"):
        return False
    if tag == "aside":
        # Beside the content it is about something else; within the content it is a note to it.
        return (
            not is_footnote(element)
            and closest(element, "main") is None
            and closest(element, "article") is None
        )
    if tag == "header":
        return not element.findall(".//h1")
    names = f"{element.get('class') or ''} {element.get('id') or ''}"
    # A heading or anchor with such a name is content: a section about cookies has the id "cookies".
    return tag in ("div", "ul", "ol", "table", "section", "p", "span", "a", "details") and bool(
        BOILERPLATE.search(names)
    )


def is_hidden(element: etree._Element) -> bool:
    """Return whether an element is hidden, or not content by its role."""
    return (
        element.get("hidden") is not None
        or element.get("aria-hidden") == "true"
        or element.get("role") in _DROPPED_ROLES
    )


def leads_elsewhere(element: etree._Element, tag: str) -> bool:
    """Return whether an element with several such links is a navigation bar."""
    return (
        tag in ("div", "p", "table")
        and len(text_of(element)) < 400
        and element.find(".//h1") is None
    )


def is_loose(element: etree._Element) -> bool:
    """Return whether a list or table has stray content.

    It is broken, and read as it comes.
    """
    if element.tag == "table":
        parts = element.iter("table", "thead", "tbody", "tfoot", "tr")
    elif element.tag == "dl":
        parts = itertools.chain((element,), element.iterchildren("div"))
    else:
        # Lists within its items are read along with it.
        parts = element.iter("ul", "ol")
    for part in parts:
        if part.text and part.text.strip():
            return True
        inside = _INSIDE[tag_of(part)]
        if any(
            (child.tail and child.tail.strip()) or tag_of(child) not in inside for child in part
        ):
            return True
    return False


def is_footnote(element: etree._Element) -> bool:
    if not element.keys():
        return False
    names = (
        f"{element.get('class') or ''} {element.get('role') or ''} {element.get(_EPUB_TYPE) or ''}"
    )
    return bool(_FOOTNOTE.search(names))


def contains(element: etree._Element, apart: Apart) -> bool:
    # The parser builds no tree deeper than 256 elements.
    return any(apart[child.tag] or (len(child) and contains(child, apart)) for child in element)


def parent_class(element: etree._Element) -> str:
    parent = element.getparent()
    return (parent.get("class") or "") if parent is not None else ""


def closest(element: etree._Element, tag: str) -> etree._Element | None:
    return next((parent for parent in element.iterancestors() if tag_of(parent) == tag), None)


def mostly_links(element: etree._Element) -> bool:
    """Return whether a list or table is navigation.

    Nearly all of its text is in links.
    """
    links = list(element.iter("a"))
    if len(links) <= 3:
        return False
    whole = len(text_of(element))
    linked = sum(len(raw_text(link).strip()) for link in links if link.get("href"))
    return whole > 0 and linked / whole > 0.85


def first_id(element: etree._Element) -> str | None:
    return next(
        (
            child.get("id") or child.get("name")
            for child in element.iter("a", "span")
            if child.get("id") or child.get("name")
        ),
        None,
    )


def only_pictures(figure: etree._Element) -> bool:
    """Return whether a figure contains neither tables nor code."""
    return figure.find(".//table") is None and figure.find(".//pre") is None


DROPPED = frozenset(
    [
        "script",
        "style",
        "noscript",
        "template",
        "svg",
        "math",
        "iframe",
        "object",
        "embed",
        "form",
        "button",
        "input",
        "select",
        "textarea",
        "nav",
        "footer",
        "canvas",
        "audio",
        "video",
        "dialog",
        "head",
    ]
)


_DROPPED_ROLES = frozenset(
    ["navigation", "banner", "contentinfo", "search", "complementary", "dialog", "menu", "menubar"]
)


BOILERPLATE = re.compile(
    r"(?:^|[\s_-])(?:nav|navbar|navheader|navfooter|navigation|menu|sidebar|breadcrumbs?|cookie|footer|toc|skip-?link|"
    r"sphinxsidebar|related|headerlink|share|social)(?:$|[\s_-])",
    re.I,
)


#: What may be directly inside a list, a table and their parts, except what is never read.
_INSIDE = {
    "ul": frozenset(["li"]),
    "ol": frozenset(["li"]),
    "dl": frozenset(["dt", "dd", "div"]),
    "div": frozenset(["dt", "dd"]),
    "table": frozenset(["tr", "thead", "tbody", "tfoot", "caption", "colgroup", "col"]),
    **dict.fromkeys(("thead", "tbody", "tfoot"), frozenset(["tr"])),
    "tr": frozenset(["td", "th"]),
}


#: Notes by their class, their role (DPUB-ARIA) or their EPUB type; a reference to one is none.
_FOOTNOTE = re.compile(r"(?:^|[\s-])(?:foot|end|rear)notes?(?:$|\s)")


_EPUB_TYPE = "epub:type"


class Apart(dict[object, bool]):
    """Which tags separate their content from the text around them.

    Broken markup creates tags that no filter knows; their content is part of the text around them.
    """

    def __missing__(self, tag: object) -> bool:
        apart = isinstance(tag, str) and tag not in INLINE and _TAG_NAME.match(tag) is not None
        self[tag] = apart
        return apart


INLINE = frozenset(
    [
        "a",
        "abbr",
        "acronym",
        "b",
        "bdi",
        "bdo",
        "big",
        "cite",
        "code",
        "data",
        "del",
        "dfn",
        "em",
        "font",
        "i",
        "ins",
        "kbd",
        "label",
        "mark",
        "q",
        "s",
        "samp",
        "small",
        "span",
        "strike",
        "strong",
        "sub",
        "sup",
        "time",
        "tt",
        "u",
        "var",
        "wbr",
        "ruby",
        "rt",
        "rp",
        "img",
    ]
)


_TAG_NAME = re.compile(r"[a-z][a-z0-9-]*$", re.I)
