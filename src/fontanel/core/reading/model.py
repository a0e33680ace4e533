"""The result of reading: the text, its blocks, and what went wrong."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, field, fields
from typing import Any, Literal, NamedTuple

import numpy as np

from fontanel.errors import FontanelError

BlockKind = Literal["heading", "paragraph", "list", "table", "code", "figure", "cue", "footnote"]
#: What the `page` of a block and of a locator counts.
Unit = Literal["page", "slide", "sheet", "chapter"]
FailureCode = Literal[
    "empty",
    "encrypted",
    "damaged",
    "unsupported",
    "undecodable",
    "too_large",
    "no_text",
    "needs_transcript",
]

#: The separator of a table row's cells in a reading's text; cells never contain it.
CELL_SEPARATOR = "\t"

_CONTROL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff\ufffe\uffff]")
#: A longer heading is a paragraph: it would precede every passage below it.
_LONGEST_HEADING = 1000


class ReadingFailed(FontanelError):
    """A document cannot be read; `code` is stable, the message says what to do."""

    def __init__(self, code: FailureCode, message: str) -> None:
        super().__init__(message)
        self.code: FailureCode = code


class NeedsTranscript(ReadingFailed):
    """A recording has no subtitles; `seconds` is its duration, None if it is not known."""

    def __init__(self, media_type: str, seconds: float | None) -> None:
        super().__init__(
            "needs_transcript",
            "The recording has no subtitles: it has to be transcribed first.",
        )
        self.media_type = media_type
        self.seconds = seconds


#: The text of a picture's place until `with_pictures` has replaced it.
PICTURE_HERE = "\ufffc"


@dataclass(frozen=True, slots=True)
class Picture:
    """A picture in a document, which is more than an ornament; its size is in pixels."""

    sha256: str
    width: int
    height: int


@dataclass(frozen=True, slots=True)
class Block:
    """A piece of structure over the characters [start, end) of the reading's text.

    A list has one item per line, a table one row per line with its cells separated by
    `CELL_SEPARATOR`; the first `header_rows` lines of a table name its columns. `level` is a
    heading's rank from 1; `page` counts the reading's units from 1; `anchor` is the fragment of the
    block in the original; `row` is the sheet's row of a table's first line, from 1; `seconds` is
    when a cue is spoken; `confidence`, 0-1, is that of text recognition, None for other text. A
    block that is `left_out` repeats on other pages of its source and is not indexed. `picture` is
    the hash of a figure's picture, and `described_by` the model whose words about it these are.
    """

    kind: BlockKind
    start: int
    end: int
    level: int = 0
    page: int | None = None
    anchor: str | None = None
    header_rows: int = 0
    row: int | None = None
    seconds: float | None = None
    confidence: float | None = None
    left_out: bool = False
    picture: str | None = None
    described_by: str | None = None


class Place(NamedTuple):
    """The box of characters [start, end), in shares of the page's size."""

    start: int
    end: int
    page: int
    left: float
    top: float
    right: float
    bottom: float


@dataclass(frozen=True, slots=True)
class ContainedFile:
    """A file inside a file, such as an archive's entry or an attachment."""

    name: str
    data: bytes
    tags: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Reading:
    """The text of one revision with its structure.

    `pages` counts its units (pages, slides, sheets, chapters; see `unit`), None for formats without
    any; `unit_names` are their names, where the format has them. `figures` counts pictures.
    `places` are the boxes of lines on their pages, for formats with a fixed layout; `shape` is a
    slide's width over its height. A `container` only lists the files inside it. `duration` is that
    of a recording, in seconds. `pictures` are those that can be described.
    """

    title: str
    text: str
    blocks: tuple[Block, ...]
    language: str = "en"
    pages: int | None = None
    warnings: tuple[str, ...] = ()
    unit: Unit = "page"
    unit_names: tuple[str, ...] = ()
    figures: int = 0
    places: tuple[Place, ...] = ()
    shape: float | None = None
    container: bool = False
    duration: float | None = None
    pictures: tuple[Picture, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """Return the reading as JSON values; places as rows of numbers, as there are many."""
        return {
            **{name.name: getattr(self, name.name) for name in fields(self)},
            "blocks": [asdict(block) for block in self.blocks],
            "places": [list(place) for place in self.places],
            "pictures": [asdict(picture) for picture in self.pictures],
        }

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Reading:
        existing = {name.name for name in fields(cls)}
        return cls(
            **{
                # Fields that earlier versions stored are ignored.
                **{name: value for name, value in data.items() if name in existing},
                "blocks": tuple(Block(**block) for block in data["blocks"]),
                "warnings": tuple(data["warnings"]),
                "unit_names": tuple(data.get("unit_names", ())),
                "places": tuple(Place(*place) for place in data.get("places", ())),
                "pictures": tuple(Picture(**one) for one in data.get("pictures", ())),
            }
        )

    def headed_blocks(self) -> Iterator[tuple[Block, tuple[str, ...]]]:
        """Yield each block with the path of headings above it.

        A heading ends its own path.
        """
        path: list[tuple[int, str]] = []
        for block in self.blocks:
            if block.kind == "heading":
                while path and path[-1][0] >= block.level:
                    path.pop()
                path.append((block.level, self.text[block.start : block.end]))
            yield block, tuple(text for _, text in path)


def collapse(text: str) -> str:
    """Collapse white space, strip the ends, and remove control characters."""
    text = " ".join(text.split())
    return text if text.isprintable() else _CONTROL.sub("", text)


class LineBox(NamedTuple):
    """Characters [start, end) of a block being added, with their box."""

    start: int
    end: int
    page: int
    box: tuple[float, float, float, float]


@dataclass(slots=True)
class ReadingBuilder:
    """Builds a reading block by block, in reading order, skipping blocks without text.

    `where` is the location of a block: `page`, `anchor`, `row`, `seconds`, `confidence`. The values
    of `here` apply to every block that does not override them.
    """

    title: str = ""
    pages: int | None = None
    warnings: list[str] = field(default_factory=list)
    unit: Unit = "page"
    unit_names: list[str] = field(default_factory=list)
    figures: int = 0
    shape: float | None = None
    container: bool = False
    duration: float | None = None
    picture_data: dict[str, bytes] = field(default_factory=dict)
    here: dict[str, Any] = field(default_factory=dict)
    _parts: list[str] = field(default_factory=list)
    _blocks: list[Block] = field(default_factory=list)
    _places: list[tuple[float, ...]] = field(default_factory=list)
    _length: int = 0
    _pictures: dict[str, Picture] = field(default_factory=dict)

    def _add(self, kind: BlockKind, text: str, lines: Sequence[LineBox] = (), **about: Any) -> None:
        if not text.strip():
            return
        if self._parts:
            self._length += 2
        start = self._length
        self._length += len(text)
        self._parts.append(text)
        self._blocks.append(Block(kind, start, self._length, **{**self.here, **about}))
        for first, last, page, box in lines:
            # A line without characters of its own represents the whole block.
            where = (start + first, start + last) if last > first else (start, self._length)
            self._places.append((*where, page, *box))

    def heading(self, text: str, level: int, lines: Sequence[LineBox] = (), **where: Any) -> None:
        text = collapse(text)
        if len(text) > _LONGEST_HEADING:
            self._add("paragraph", text, lines, **where)
        else:
            self._add("heading", text, lines, level=max(1, level), **where)

    def paragraph(self, text: str, lines: Sequence[LineBox] = (), **where: Any) -> None:
        self._add("paragraph", collapse(text), lines, **where)

    def figure(
        self,
        text: str,
        lines: Sequence[LineBox] = (),
        picture: Picture | None = None,
        data: bytes = b"",
        **where: Any,
    ) -> None:
        """Add a picture with its caption, and mark where it is if it can be described.

        Args:
            data: The picture's bytes, if it is in a file format.
        """
        self.figures += 1
        if picture is None:
            self._add("figure", collapse(text), lines, **where)
            return
        self._pictures[picture.sha256] = picture
        self.picture_data[picture.sha256] = data
        caption = collapse(text) or PICTURE_HERE
        self._add("figure", caption, lines, picture=picture.sha256, **where)

    def footnote(self, text: str, lines: Sequence[LineBox] = (), **where: Any) -> None:
        """A note to the text before it, with its mark in front."""
        self._add("footnote", collapse(text), lines, **where)

    def cue(self, text: str, seconds: float, **where: Any) -> None:
        self._add("cue", collapse(text), seconds=round(seconds, 3), **where)

    def list(self, items: Sequence[str], lines: Sequence[LineBox] = (), **where: Any) -> None:
        """Add a list whose items have their marks, indented two blanks a level."""
        texts = []
        for item in items:
            depth = (len(item) - len(item.lstrip(" "))) // 2
            if text := collapse(item):
                texts.append("  " * depth + text)
        self._add("list", "\n".join(texts), lines, **where)

    def table(
        self,
        rows: Sequence[Sequence[str]],
        header_rows: int,
        lines: Sequence[LineBox] = (),
        **where: Any,
    ) -> None:
        cells = [[collapse(cell) for cell in row] for row in rows]
        kept = [index for index, row in enumerate(cells) if any(row)]
        header = sum(1 for index in kept if index < header_rows)
        text = "\n".join(CELL_SEPARATOR.join(cells[index]) for index in kept)
        self._add("table", text, lines, header_rows=header, **where)

    def code(self, text: str, lines: Sequence[LineBox] = (), **where: Any) -> None:
        self._add("code", _CONTROL.sub("", text).strip("\n").rstrip(), lines, **where)

    @property
    def empty(self) -> bool:
        return not self._blocks

    def build(self, language: str) -> Reading:
        return Reading(
            title=collapse(self.title)[:_LONGEST_HEADING],
            text=self.text,
            blocks=tuple(self._blocks),
            language=language,
            pages=self.pages,
            warnings=tuple(self.warnings),
            unit=self.unit,
            unit_names=tuple(collapse(name) for name in self.unit_names),
            figures=self.figures,
            places=self._rounded_places(),
            shape=self.shape,
            container=self.container,
            duration=self.duration,
            pictures=tuple(self._pictures.values()),
        )

    def _rounded_places(self) -> tuple[Place, ...]:
        """Return all places, clipped to their pages and rounded."""
        if not self._places:
            return ()
        places = np.array(self._places)
        ranges = places[:, :3].astype(np.int64).tolist()
        boxes = np.clip(places[:, 3:], 0.0, 1.0).round(4).tolist()
        return tuple([Place(*where, *box) for where, box in zip(ranges, boxes, strict=True)])

    @property
    def text(self) -> str:
        return "\n\n".join(self._parts)

    @property
    def first_heading(self) -> str:
        for block, part in zip(self._blocks, self._parts, strict=True):
            if block.kind == "heading":
                return part
        return ""
