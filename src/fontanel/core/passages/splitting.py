"""Splitting: a reading becomes passages, the units of retrieval.

A passage is a run of whole blocks below one heading where they fit the target size; a longer
paragraph is cut between
sentences, a list between items (its lead-in repeated as context), a table between rows (its header
repeated as context).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from fontanel.core.embedding.encoder import TokenCounter
from fontanel.core.reading.model import CELL_SEPARATOR, Block, BlockKind, Reading, Unit
from fontanel.core.text.sentences import sentence_spans
from fontanel.facts import SplitSettings

#: How tables are split: rows packed up to the target size, or one row per passage.


#: The maximum number of characters per token; prose has four or five.
_MAX_CHARACTERS = 40


@dataclass(frozen=True, slots=True)
class Locator:
    """The location of a piece, for people.

    `page` counts units (pages, slides, sheets, chapters) from 1, None where a format has none;
    `label` is the unit's own name. `rows` are the first and last row of a sheet, from 1; `seconds`
    is when it is spoken. `picture` is the hash of the picture that it is about, and `described_by`
    the model whose words these are.
    """

    heading_path: tuple[str, ...] = ()
    page: int | None = None
    anchor: str | None = None
    unit: Unit = "page"
    label: str | None = None
    rows: tuple[int, int] | None = None
    seconds: float | None = None
    picture: str | None = None
    described_by: str | None = None

    def to_dict(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Locator:
        rows = data.get("rows")
        return cls(
            tuple(data["heading_path"]),
            data["page"],
            data["anchor"],
            data.get("unit", "page"),
            data.get("label"),
            (rows[0], rows[1]) if rows else None,
            data.get("seconds"),
            data.get("picture"),
            data.get("described_by"),
        )


@dataclass(frozen=True, slots=True)
class PassagePart:
    """A block of a passage, or part of one.

    Characters [start, end) of the reading's text.

    `level` is a heading's; `page` and `label` are set where they differ from the passage's;
    `seconds` is when it is spoken, `picture` and `described_by` are as in `Block`.
    """

    kind: BlockKind
    start: int
    end: int
    header_rows: int = 0
    level: int = 0
    page: int | None = None
    label: str | None = None
    seconds: float | None = None
    picture: str | None = None
    described_by: str | None = None


@dataclass(frozen=True, slots=True)
class Passage:
    """The characters [start, end) of a reading's text.

    `context` is text from elsewhere that the passage needs to be understood, such as a table's
    header or a list's lead-in. It is indexed with the passage but not part of it.
    """

    start: int
    end: int
    text: str
    locator: Locator
    tokens: int
    context: str = ""
    parts: tuple[PassagePart, ...] = ()


def locator_at(
    locator: Locator, parts: Sequence[PassagePart], text: str, start: int, position: int
) -> Locator:
    """Return the location of a character of a passage.

    It may be below a later heading or on a later page than the passage's start.

    Args:
        text: The passage's text.
        start: The offset of its first character.
    """
    path, page, label = list(locator.heading_path), locator.page, locator.label
    seconds, picture, described_by = locator.seconds, None, None
    begun = False
    for part in parts:
        if part.start > position:
            break
        if part.page is not None:
            page, label = part.page, part.label
        seconds = seconds if part.seconds is None else part.seconds
        picture, described_by = part.picture, part.described_by
        if part.kind != "heading":
            begun = True
        elif begun:
            # The path is the first text's; a later heading replaces those of its level and below.
            heading = " ".join(text[part.start - start : part.end - start].split())
            path = [*path[: max(part.level - 1, 0)], heading]
    return replace(
        locator,
        heading_path=tuple(path),
        page=page,
        label=label,
        seconds=seconds,
        picture=picture,
        described_by=described_by,
    )


@dataclass(frozen=True, slots=True)
class _Piece:
    """The smallest unit of splitting: a block, or part of one that was too long."""

    start: int
    end: int
    block: Block
    path: tuple[str, ...]
    anchor: str | None
    context: str
    tokens: int
    row: int | None = None


def split(reading: Reading, settings: SplitSettings, count_tokens: TokenCounter) -> list[Passage]:
    """Split a reading into passages in reading order.

    They cover all text except headings without content and blocks that are left out. A document
    that only lists the files inside it has none.
    """
    if reading.container:
        return []
    count_tokens = _at_least(count_tokens)
    pieces = _pieces(reading, settings, count_tokens)
    passages: list[Passage] = []
    run: list[_Piece] = []
    size = 0
    for piece in pieces:
        apart = run and reading.unit != "page" and run[-1].block.page != piece.block.page
        if run and (apart or _starts_new(run, size, piece, settings)):
            stored = _trailing_headings(run)
            _close(passages, reading, run[: len(run) - stored])
            before = run[-1]
            run = run[len(run) - stored :]
            if (
                not run
                and settings.overlap_tokens
                and (again := _overlap(reading, before, piece, settings, count_tokens))
            ):
                run.append(again)
            size = sum(held_piece.tokens for held_piece in run)
        run.append(piece)
        size += piece.tokens
    _close(passages, reading, run)
    return passages


def _at_least(count_tokens: TokenCounter) -> TokenCounter:
    """Return a token count of at least one per a few characters.

    Encoders count a word without end as a single unknown token.
    """

    def count(texts: Sequence[str]) -> list[int]:
        return [
            max(tokens, len(text) // _MAX_CHARACTERS)
            for text, tokens in zip(texts, count_tokens(texts), strict=True)
        ]

    return count


def _overlap(
    reading: Reading,
    before: _Piece,
    piece: _Piece,
    settings: SplitSettings,
    count_tokens: TokenCounter,
) -> _Piece | None:
    """Return the last sentences of the piece before, if prose continues."""
    if (
        before.block.kind != "paragraph"
        or piece.block.kind != "paragraph"
        or before.path != piece.path
    ):
        return None
    text = reading.text[before.start : before.end]
    spans = sentence_spans(text)
    sizes = count_tokens([text[start:end] for start, end in spans])
    taken = start = 0
    for (sentence, _), size in zip(reversed(spans), reversed(sizes), strict=True):
        if taken + size > settings.overlap_tokens:
            break
        taken, start = taken + size, sentence
    return replace(before, start=before.start + start, tokens=taken, context="") if taken else None


def _starts_new(run: list[_Piece], size: int, piece: _Piece, settings: SplitSettings) -> bool:
    if all(part.block.kind == "heading" for part in run):
        return False
    if piece.block.kind == "heading" and (
        size >= settings.min_tokens or piece.block.level <= run[0].block.level
    ):
        return True
    if piece.context and piece.context != run[-1].context and size >= settings.min_tokens:
        return True
    if settings.table_mode == "single" and "table" in (piece.block.kind, run[-1].block.kind):
        return True
    return size + piece.tokens > settings.target_tokens and not (
        # A lead-in stays with its first items even when the passage grows a little.
        size < settings.min_tokens and size + piece.tokens <= settings.target_tokens * 1.25
    )


def _trailing_headings(run: list[_Piece]) -> int:
    """Return how many headings end the run; they introduce what follows."""
    count = 0
    while count < len(run) and run[len(run) - 1 - count].block.kind == "heading":
        count += 1
    return count


def _close(passages: list[Passage], reading: Reading, run: list[_Piece]) -> None:
    if not run or (all(piece.block.kind == "heading" for piece in run) and passages):
        return
    first_text = next((piece for piece in run if piece.block.kind != "heading"), run[0])
    start, end = run[0].start, run[-1].end
    page = first_text.block.page
    named = page is not None and page <= len(reading.unit_names)
    locator = Locator(
        first_text.path,
        page,
        first_text.anchor,
        reading.unit,
        reading.unit_names[page - 1] if named and page else None,
        _rows(reading, run),
        next((piece.block.seconds for piece in run if piece.block.seconds is not None), None),
    )
    context = next((piece.context for piece in run if piece.context), "")
    parts = tuple(_part(reading, piece, page) for piece in run)
    tokens = sum(piece.tokens for piece in run)
    passages.append(Passage(start, end, reading.text[start:end], locator, tokens, context, parts))


def _part(reading: Reading, piece: _Piece, page: int | None) -> PassagePart:
    block = piece.block
    own = block.page if block.page != page else None
    label = (
        reading.unit_names[own - 1] if own is not None and own <= len(reading.unit_names) else None
    )
    header_rows = block.header_rows if piece.start == block.start else 0
    level = block.level if block.kind == "heading" else 0
    return PassagePart(
        block.kind,
        piece.start,
        piece.end,
        header_rows,
        level,
        own,
        label,
        block.seconds,
        block.picture,
        block.described_by,
    )


def _rows(reading: Reading, run: list[_Piece]) -> tuple[int, int] | None:
    """Return the rows of a sheet that the pieces cover."""
    tables = [piece for piece in run if piece.row is not None]
    if not tables:
        return None
    last = tables[-1]
    assert tables[0].row is not None
    assert last.row is not None
    return tables[0].row, last.row + reading.text.count("\n", last.start, last.end)


def _pieces(reading: Reading, settings: SplitSettings, count_tokens: TokenCounter) -> list[_Piece]:
    headed = [item for item in reading.headed_blocks() if not item[0].left_out]
    sizes = count_tokens([reading.text[block.start : block.end] for block, _ in headed])
    pieces: list[_Piece] = []
    anchor: str | None = None
    for index, ((block, path), tokens) in enumerate(zip(headed, sizes, strict=True)):
        anchor = block.anchor if block.kind == "heading" else block.anchor or anchor
        single = settings.table_mode == "single" and block.kind == "table"
        if (tokens <= settings.target_tokens and not single) or block.kind == "heading":
            pieces.append(
                _Piece(block.start, block.end, block, path, anchor, "", tokens, block.row)
            )
            continue
        context = _context(reading, headed, index)
        spans = _part_spans(reading, block, settings, count_tokens)
        part_sizes = count_tokens([reading.text[start:end] for start, end in spans])
        row, counted = block.row, block.start
        for number, ((start, end), size) in enumerate(zip(spans, part_sizes, strict=True)):
            if row is not None:
                row, counted = row + reading.text.count("\n", counted, start), start
            pieces.append(
                _Piece(start, end, block, path, anchor, context if number else "", size, row)
            )
    return pieces


def _context(reading: Reading, headed: list[tuple[Block, tuple[str, ...]]], index: int) -> str:
    block = headed[index][0]
    if block.kind == "table" and block.header_rows:
        lines = reading.text[block.start : block.end].split("\n")[: block.header_rows]
        return "\n".join(line.replace(CELL_SEPARATOR, " | ") for line in lines)
    if block.kind == "list" and index and headed[index - 1][0].kind == "paragraph":
        before = headed[index - 1][0]
        text = reading.text[before.start : before.end]
        if text.rstrip().endswith(":"):
            start, end = sentence_spans(text)[-1]
            return text[start:end]
    return ""


def _part_spans(
    reading: Reading, block: Block, settings: SplitSettings, count_tokens: TokenCounter
) -> list[tuple[int, int]]:
    """Split a long block at sentences, items, rows or lines, near the target size."""
    text = reading.text[block.start : block.end]
    if block.kind in ("paragraph", "footnote"):
        units = sentence_spans(text)
    else:
        units, position = [], 0
        for line in text.split("\n"):
            if line.strip():
                units.append((position, position + len(line)))
            position += len(line) + 1
    # A row is only split when it is too long for anybody to read.
    longest = settings.target_tokens * _MAX_CHARACTERS
    if block.kind != "table" or any(end - start > longest for start, end in units):
        units = _cut_long_units(text, units, count_tokens, settings.target_tokens)
    sizes = count_tokens([text[start:end] for start, end in units])
    single = settings.table_mode == "single" and block.kind == "table"
    parts: list[tuple[int, int]] = []
    start, previous_end = units[0]
    size = 0
    for number, ((unit_start, unit_end), unit_size) in enumerate(zip(units, sizes, strict=True)):
        alone = single and number > block.header_rows
        if alone or (size and size + unit_size > settings.target_tokens):
            parts.append((start, previous_end))
            start, size = unit_start, 0
        size += unit_size
        previous_end = unit_end
    parts.append((start, previous_end))
    return [(block.start + a, block.start + b) for a, b in parts]


def _cut_long_units(
    text: str, units: list[tuple[int, int]], count_tokens: TokenCounter, target: int
) -> list[tuple[int, int]]:
    """Split a sentence or line far beyond the target between words.

    The encoder would otherwise truncate it.
    """
    sizes = count_tokens([text[start:end] for start, end in units])
    out: list[tuple[int, int]] = []
    for (start, end), size in zip(units, sizes, strict=True):
        if size <= target * 1.2:
            out.append((start, end))
            continue
        step = max(20, int((end - start) * target / size * 0.9))
        while end - start > step:
            cut = text.rfind(" ", start + 1, start + step)
            cut = cut if cut > start else start + step
            out.append((start, cut))
            start = cut + 1 if text[cut : cut + 1] == " " else cut
        if end > start:
            out.append((start, end))
    return out
