"""HTML: the main content as blocks, without navigation, scripts and styles."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Callable, Iterator

from lxml import etree

from fontanel.core.reading.decode import decode
from fontanel.core.reading.markup.html_elements import (
    BOILERPLATE,
    DROPPED,
    INLINE,
    Apart,
    closest,
    contains,
    first_id,
    has_text,
    is_dropped,
    is_footnote,
    is_hidden,
    is_loose,
    leads_elsewhere,
    mostly_links,
    only_pictures,
    parent_class,
    raw_text,
    tag_of,
    text_of,
)
from fontanel.core.reading.model import Picture, ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.picture_files import inline_data, picture_of

#: Returns the bytes of a file that a page names; empty if there is none.
FileNamed = Callable[[str], bytes]
_META_CHARSET = re.compile(rb"<meta[^>]+charset=[\"']?\s*([\w-]+)", re.I)
_XML_DECLARATION = re.compile(r"^\s*<\?xml[^>]*\?>")
#: Those of them that are only about looks. Links and spans may be anchors; pictures are counted.
_LOOKS = tuple(sorted(INLINE - {"a", "span", "img", "rp"}))
_KEPT = "kept"
_ONLY_CLASS = ["class"]
#: Control characters, and references to them, that text cannot contain.
_STRAY = bytes([*range(9), 11, 12, *range(14, 32)])
_STRAY_REFERENCE = re.compile(
    rb"&#0*(?:[0-8]|1[124-9]|2[0-9]|3[01]);?(?![0-9])|&#x0*(?:[0-8bcef]|1[0-9a-f]);", re.I
)
#: Relations of links that are not content.
_LEADING = frozenset(["next", "prev", "previous", "up", "index", "contents"])
#: Boxes with a word of warning, which old pages lay out as tables.
_ADMONITION = re.compile(r"\b(?:note|tip|warning|caution|important|admonition)\b", re.I)
_HEADINGS = {f"h{n}": n for n in range(1, 7)}
#: Deeper than any page that a person wrote; past it a document is an attack on the walker's stack.
_MAX_DEPTH = 200


def read_html(data: bytes) -> ReadingBuilder:
    """Raises ReadingFailed: empty or damaged."""
    text, warnings = decode_html(data)
    builder = ReadingBuilder(warnings=warnings)
    if not text or text.isspace():
        raise ReadingFailed("empty", "The page is empty. Add it again once it has content.")
    add_html(builder, text)
    return builder


def add_html(builder: ReadingBuilder, text: str, file: FileNamed | None = None) -> None:
    """Add a page's content to a reading, and its title where the reading has none.

    Args:
        file: Returns the bytes of a file that the page names; empty if there is none.

    Raises:
        ReadingFailed: damaged.
    """
    try:
        # The plain tree: lxml.html's richer classes cost a lookup per element.
        root = etree.fromstring(
            _without_stray(text),
            etree.HTMLParser(
                encoding="utf-8",
                huge_tree=False,
                recover=True,
                remove_comments=True,
                remove_pis=True,
            ),
        )
    except (etree.ParserError, etree.XMLSyntaxError, ValueError) as error:
        raise ReadingFailed("damaged", "The page contains no readable HTML.") from error
    if root is None:
        return  # nothing but comments
    title = next(root.iter("title"), None)
    named = builder.title
    builder.title = builder.title or (collapse(title.text or "") if title is not None else "")
    leading = _simplify(root)
    _Walker(builder, leading, file).walk(_main(root))
    heading = builder.first_heading
    if not named and len(heading) > 3 and builder.title.startswith(heading):
        # The rest is the name of the site or manual, the same on every page.
        builder.title = heading


def _without_stray(text: str) -> bytes:
    """Return a page in UTF-8, without characters that text cannot contain."""
    data = text.encode("utf-8", "ignore").translate(None, _STRAY)
    if b"\xef\xbf" in data:
        data = data.replace(b"\xef\xbf\xbe", b"").replace(b"\xef\xbf\xbf", b"")
    return _STRAY_REFERENCE.sub(b"", data) if b"&#" in data else data


def decode_html(data: bytes) -> tuple[str, list[str]]:
    """Decode a page by its declared encoding; return the text and warnings."""
    text, warnings = _decoded(data)
    return _XML_DECLARATION.sub("", text), warnings


def _decoded(data: bytes) -> tuple[str, list[str]]:
    if match := _META_CHARSET.search(data[:4096]):
        try:
            return data.decode(match.group(1).decode("ascii")), []
        except (LookupError, UnicodeDecodeError):
            pass
    return decode(data)


def _main(root: etree._Element) -> etree._Element:
    """Return the content element: <main>, the only <article>, role=main, or the body."""
    for main in root.iter("main", "div", "section", "article", "table"):
        if (main.tag == "main" or main.get("role") == "main") and has_text(main):
            return main
    articles = list(itertools.islice(root.iter("article"), 2))
    if len(articles) == 1 and has_text(articles[0]):
        return articles[0]
    body = root.find(".//body")
    return root if body is None else body


def _simplify(root: etree._Element) -> list[etree._Element]:
    """Remove what is never read, and replace pictures by their descriptions.

    These are whole passes in C, so that walking need not check again. Returns the links to the
    previous, next and parent page.
    """
    etree.strip_elements(root, *DROPPED, with_tail=False)
    hidden = [
        (element, element.tag)
        for element in root.iter(*_LOOKS)
        if (names := element.keys()) and names != _ONLY_CLASS and is_hidden(element)
    ]
    for element, _ in hidden:
        element.tag = _KEPT
    etree.strip_tags(root, *_LOOKS)
    for element, tag in hidden:
        element.tag = tag
    _strip_spans(root)
    for picture in root.iter("img"):
        # An attribute may contain characters that the tree's text cannot.
        text = collapse((picture.get("alt") or "").encode("utf-8", "ignore").decode())
        # "[Note]" is the text of an icon, and repeats the heading next to it.
        picture.text = "" if text.startswith("[") and text.endswith("]") else text
    leading = []
    for link in root.iter("a"):
        if link.get("rel") in _LEADING:
            leading.append(link)
        elif "headerlink" in (link.get("class") or ""):
            link.text = None
            for child in list(link):
                link.remove(child)
    return leading


def _strip_spans(root: etree._Element) -> None:
    """Remove spans that only colour text.

    Highlighted code has tens of thousands per page.
    """
    for code in root.iter("pre"):
        etree.strip_tags(code, "span")
    plain: dict[str, bool] = {}
    kept = []
    for span in root.iter("span"):
        text = span.items()
        if not text or (len(text) == 1 and text[0][0] == "class"):
            name = str(text[0][1]) if text else ""
            if name not in plain:
                plain[name] = not BOILERPLATE.search(name)
            if plain[name]:
                continue
        kept.append(span)
    for span in kept:
        span.tag = _KEPT
    etree.strip_tags(root, "span")
    for span in kept:
        span.tag = "span"


class _Walker:
    """Walks the tree and emits each run of inline content as a paragraph."""

    def __init__(
        self, builder: ReadingBuilder, leading: list[etree._Element], file: FileNamed | None
    ) -> None:
        self._builder = builder
        self._file = file
        #: Pictures in the text that is being collected; they follow it.
        self._later: list[tuple[Picture, bytes]] = []
        self._apart = Apart()
        self._blocks = Apart(br=False)
        self._leading = Counter(parent for link in leading for parent in link.iterancestors())
        self._inline: list[str] = []
        self._anchor: str | None = None
        self._too_deep = False
        self._noting = False

    def walk(self, root: etree._Element) -> None:
        self._element(root, 0)
        self._flush()

    def _flush(self) -> None:
        if self._inline:
            text = "".join(self._inline)
            self._inline.clear()
            if not text.isspace():
                self._paragraph(text)
        for picture, data in self._later:
            self._builder.figure("", (), picture, data, anchor=self._anchor)
            self._builder.figures -= 1  # counted where it stands
        self._later.clear()

    def _paragraph(self, text: str) -> None:
        if self._noting:
            self._builder.footnote(text, anchor=self._anchor)
        else:
            self._builder.paragraph(text, anchor=self._anchor)

    def _element(self, element: etree._Element, depth: int) -> None:
        tag = tag_of(element)
        if depth > _MAX_DEPTH:
            if not self._too_deep:
                self._builder.warnings.append(
                    f"Content nested deeper than {_MAX_DEPTH} elements was left out"
                )
                self._too_deep = True
            return
        if is_dropped(element, tag) or (
            self._leading[element] >= 2 and leads_elsewhere(element, tag)
        ):
            return
        if tag in INLINE and not len(element):
            self._builder.figures += tag == "img"
            self._inline.append(element.text or "")
            if tag == "img":
                self._picture(element)
        elif tag in INLINE and not contains(element, self._blocks):
            images = element.findall(".//img")
            self._builder.figures += len(images)
            self._inline.append(self._text_of(element))
            for image in images:
                self._picture(image)
        elif tag == "br":
            self._inline.append(" ")
        else:
            self._flush()
            self._anchor = element.get("id") or element.get("name") or self._anchor
            if not self._noting and is_footnote(element):
                self._noting = True
                self._block(element, tag, depth)
                self._flush()
                self._noting = False
            else:
                self._block(element, tag, depth)

    def _block(self, element: etree._Element, tag: str, depth: int) -> None:
        if tag in ("ul", "ol", "dl", "table") and is_loose(element):
            tag = "div"
        if tag in _HEADINGS:
            self._anchor = element.get("id") or first_id(element) or self._anchor
            self._builder.heading(self._heading_text(element), _HEADINGS[tag], anchor=self._anchor)
        elif tag in ("ul", "ol"):
            self._list(element, depth)
        elif tag == "dl":
            self._definitions(element, depth)
        elif tag == "table":
            self._table(element, depth)
        elif tag == "figure" and only_pictures(element):
            self._figure(element)
        elif tag == "pre":
            self._builder.code(raw_text(element), anchor=self._anchor)
        else:
            self._inner_blocks(element, depth)

    def _list(self, element: etree._Element, depth: int) -> None:
        if mostly_links(element):
            return
        if next(element.iterdescendants("pre", "table", "dl"), None) is not None:
            self._long_items(element, depth)
            return
        items = list(self._items(element, 0))
        if not self._noting:
            self._builder.list(items, anchor=self._anchor)
            return
        for item in items:
            self._builder.footnote(item, anchor=self._anchor)

    def _inner_blocks(self, element: etree._Element, depth: int) -> None:
        """Read what an element contains: text runs on until a block begins."""
        if element.text:
            self._inline.append(element.text)
        for child in element:
            self._element(child, depth + 1)
            tail = child.tail
            # Most of it is white space between two blocks.
            if tail and (self._inline or not tail.isspace()):
                self._inline.append(tail)
        self._flush()

    def _long_items(self, element: etree._Element, depth: int) -> None:
        """Add a list whose items contain code or tables.

        Each item's text, then its blocks.
        """
        for item, mark in _marked(element):
            self._inline.append(f"{mark} ")
            self._block(item, "div", depth + 1)

    def _figure(self, element: etree._Element) -> None:
        caption = element.find(".//figcaption")
        text = [self._text_of(caption)] if caption is not None else []
        text += [
            alt
            for image in element.iter("img")
            if (alt := collapse(image.get("alt") or "")) not in text
        ]
        found = [self._found(image) for image in element.iter("img")]
        picture, data = next((one for one in found if one[0] is not None), (None, b""))
        self._builder.figure(" ".join(text), (), picture, data, anchor=self._anchor)

    def _found(self, image: etree._Element) -> tuple[Picture | None, bytes]:
        """Return the picture of an image, None where its bytes are not in the document."""
        source = image.get("src") or ""
        data = inline_data(source) or (self._file(source) if self._file is not None else b"")
        return picture_of(data) if data else None, data

    def _picture(self, image: etree._Element) -> None:
        """Add a picture in running text after its paragraph."""
        picture, data = self._found(image)
        if picture is not None:
            self._later.append((picture, data))

    def _definitions(self, element: etree._Element, depth: int) -> None:
        """Add a definition list: short meanings as list items, longer ones as blocks."""
        terms: list[str] = []
        for child in itertools.chain.from_iterable(
            part if tag_of(part) == "div" else (part,) for part in element
        ):
            if tag_of(child) not in ("dt", "dd"):
                continue
            if tag_of(child) == "dt":
                terms.append(self._heading_text(child))
                self._anchor = child.get("id") or first_id(child) or self._anchor
                continue
            term = ", ".join(terms)
            terms = []
            if next(child.iterdescendants("ul", "ol", "dl", "table", "pre"), None) is not None:
                self._paragraph(term)
                self._block(child, "div", depth + 1)
            else:
                joint = " " if self._noting or term.endswith(":") else ": "
                self._paragraph(
                    f"{term}{joint}{self._text_of(child)}" if term else self._text_of(child)
                )
        if terms:
            self._paragraph(", ".join(terms))

    def _table(self, element: etree._Element, depth: int) -> None:
        rows = [row for row in element.iter("tr") if closest(row, "table") is element]
        cells = [[cell for cell in row if tag_of(cell) in ("td", "th")] for row in rows]
        nested = element.find(".//table") is not None
        if (
            nested
            or _ADMONITION.search(parent_class(element))
            or max((len(row) for row in cells), default=0) < 2
        ):
            # A table used for layout: its cells are read one after the other.
            for row in cells:
                for cell in row:
                    self._block(cell, "div", depth + 1)
            return
        if mostly_links(element):
            return
        for caption in element.findall("caption"):
            self._paragraph(self._text_of(caption))
        header = 0
        while header < len(rows) and (
            tag_of(rows[header].getparent()) == "thead"
            or all(tag_of(cell) == "th" for cell in cells[header])
        ):
            header += 1
        grid = [[self._text_of(cell) for cell in row] for row in cells]
        if header < len(grid):
            self._builder.table(grid, header, anchor=self._anchor)

    def _text_of(self, element: etree._Element) -> str:
        """Return the text of an element, with a blank around inner blocks."""
        if not len(element) or not contains(element, self._apart):
            return text_of(element)
        parts: list[str] = []

        def visit(node: etree._Element, depth: int) -> None:
            if depth > _MAX_DEPTH:
                return
            apart = node.tag not in INLINE
            if apart:
                parts.append(" ")
            if node.text:
                parts.append(node.text)
            for child in node:
                visit(child, depth + 1)
                if child.tail:
                    parts.append(child.tail)
            if apart:
                parts.append(" ")

        visit(element, 0)
        return collapse("".join(parts))

    def _heading_text(self, element: etree._Element) -> str:
        return self._text_of(element).rstrip("¶#").rstrip()

    def _items(self, element: etree._Element, depth: int) -> Iterator[str]:
        for item, mark in _marked(element):
            inner = [
                child for child in item.iterdescendants("ul", "ol") if closest(child, "li") is item
            ]
            for child in inner:
                # The nested list's items follow; text after it belongs to the outer item.
                parent = child.getparent()
                if parent is not None:
                    tail, child.tail = child.tail, None
                    index = parent.index(child)
                    parent.remove(child)
                    if tail:
                        if index:
                            parent[index - 1].tail = (parent[index - 1].tail or "") + " " + tail
                        else:
                            parent.text = (parent.text or "") + " " + tail
            text = self._text_of(item)
            if text:
                yield "  " * min(depth, 6) + f"{mark} {text}"
            if depth < _MAX_DEPTH:
                for child in inner:
                    yield from self._items(child, depth + 1)


def _marked(element: etree._Element) -> Iterator[tuple[etree._Element, str]]:
    """A list's items, each with its mark."""
    number = int(element.get("start") or 1) if (element.get("start") or "1").isdigit() else 1
    for item in element:
        if tag_of(item) == "li":
            yield item, f"{number}." if tag_of(element) == "ol" else "-"
            number += 1
