"""The paragraphs and tables of rich text, with the properties that classify them.

Follows "Rich Text Format (RTF) Specification, Version 1.9.1" (2008): groups with their states,
destinations, characters in the code page of their font or by their Unicode number.
"""

from __future__ import annotations

import re
from collections import Counter
from copy import copy
from dataclasses import dataclass

from fontanel.core.reading.model import ReadingFailed
from fontanel.core.reading.word.flow import heading_rank
from fontanel.core.reading.word.rtf_model import RichParagraph, RichTable, RichText
from fontanel.core.reading.word.rtf_words import (
    CHARACTERS,
    CODE_PAGES,
    SHAPES,
    SKIPPED,
    STYLE_WORDS,
    SYMBOLS,
)

_TOKEN = re.compile(
    rb"\\([a-zA-Z]{1,32})(-?\d{1,9})? ?|\\'([0-9a-fA-F]{2})|\\([^a-zA-Z])|([{}])|([^\\{}\r\n]+)",
    re.DOTALL,
)
_DEEPEST = 500


@dataclass(slots=True)
class _Style:
    name: str = ""
    outline: int = 0
    based_on: int | None = None


@dataclass(slots=True)
class _State:
    """What a group inherits from the one around it."""

    sink: str = "body"
    encoding: str = "cp1252"
    fixed: bool = False
    hidden: bool = False
    bold: bool = False
    size: int = 24
    fallback: int = 1
    style: int = 0
    outline: int = 0
    numbered: bool = False
    depth: int = 0
    in_table: bool = False

    def apply(self, word: str, number: int | None) -> bool:
        """Apply a word that changes only this state; return whether it is one."""
        return self._apply_to_paragraph(word, number) or self._apply_to_characters(word, number)

    def _apply_to_paragraph(self, word: str, number: int | None) -> bool:
        on = number is None or number != 0
        match word:
            case "pard":
                self.style = self.outline = self.depth = 0
                self.numbered = self.in_table = False
            case "intbl":
                self.in_table = on
            case "s":
                self.style = number or 0
            case "outlinelevel":
                self.outline = (number or 0) + 1
            case "ls":
                self.numbered = on
            case "ilvl":
                self.depth = number or 0
            case _:
                return False
        return True

    def _apply_to_characters(self, word: str, number: int | None) -> bool:
        on = number is None or number != 0
        match word:
            case "v" | "deleted":
                self.hidden = on
            case "b":
                self.bold = on
            case "fs":
                self.size = number or 24
            case "uc":
                self.fallback = max(0, number if number is not None else 1)
            case "plain":
                self.hidden = self.bold = False
                self.size = 24
                # The font is the reader's to choose.
                return False
            case _:
                return False
        return True


def rich_text(data: bytes) -> RichText:
    """Return the paragraphs and tables of an RTF file.

    Raises:
        ReadingFailed: damaged, when it is not rich text or is nested without end.
    """
    if not data.lstrip().startswith(b"{\\rtf"):
        raise ReadingFailed(
            "damaged", "The rich text is damaged. Save it again, and add the new file."
        )
    return _Reader(data).read()


class _Reader:
    def __init__(self, data: bytes) -> None:
        self._data = data
        self._found = RichText()
        self._state = _State()
        self._around: list[_State] = []
        self._default = "cp1252"
        self._default_font = 0
        self._fonts: dict[int, tuple[str, bool]] = {}
        self._font = 0
        self._styles: dict[int, _Style] = {}
        self._style = _Style()
        self._style_number = 0
        self._bytes = bytearray()
        self._skip = 0
        self._ignorable = False
        self._runs: list[tuple[str, bool, int, bool]] = []
        self._texts: dict[str, list[str]] = {"note": [], "marker": [], "title": [], "style": []}
        self._notes: list[str] = []
        self._cells: list[str] = []
        self._rows: list[list[str]] = []
        self._heads: list[bool] = []
        self._head = False
        self._notes_of_rows = 0

    def read(self) -> RichText:
        place = 0
        while place < len(self._data):
            token = _TOKEN.match(self._data, place)
            if token is None:
                place += 1
                continue
            place = token.end()
            word, number, code, symbol, brace, text = token.groups()
            if text is not None:
                self._plain(text)
            elif code is not None:
                self._plain(bytes([int(code, 16)]))
            elif word is not None:
                self._flush()
                if word == b"bin":
                    place += max(0, int(number or 0))
                elif self._skip:
                    self._skip -= 1
                else:
                    self._word(word.decode(), int(number) if number else None)
            elif brace is not None:
                self._flush()
                self._skip = 0
                self._brace(opens=brace == b"{")
                if brace == b"}" and not self._around:
                    break
            else:
                self._flush()
                self._symbol(symbol.decode("latin-1"))
        self._flush()
        self._found.cut_short = bool(self._around)
        self._end_paragraph()
        self._end_table()
        self._found.title = _whole("".join(self._texts["title"])).strip()
        return self._found

    # Characters

    def _plain(self, raw: bytes) -> None:
        self._ignorable = False
        if self._skip:
            left = min(self._skip, len(raw))
            self._skip -= left
            raw = raw[left:]
        self._bytes += raw

    def _flush(self) -> None:
        if self._bytes:
            # Characters of several bytes may be written half as a code and half as they are.
            text = self._bytes.decode(self._state.encoding, errors="replace")
            self._bytes.clear()
            self._emit(text)

    def _emit(self, text: str) -> None:
        state = self._state
        if state.hidden or not text:
            return
        if state.sink == "body":
            self._runs.append((text, state.bold, state.size, state.fixed))
        elif state.sink in self._texts:
            self._texts[state.sink].append(text)

    def _symbol(self, symbol: str) -> None:
        if self._skip:
            self._skip -= 1
        elif symbol == "*":
            self._ignorable = True
        elif symbol in "\r\n":
            self._end_paragraph()
        else:
            self._emit(SYMBOLS.get(symbol, ""))

    # Groups and control words

    def _brace(self, *, opens: bool) -> None:
        self._ignorable = False
        if opens:
            if len(self._around) >= _DEEPEST:
                raise ReadingFailed(
                    "damaged",
                    "The rich text is nested too deeply to be read. Save it again, and add the new"
                    " file.",
                )
            self._around.append(self._state)
            self._state = copy(self._state)
            if self._state.sink == "stylesheet":
                self._state.sink, self._style, self._style_number = "style", _Style(), 0
            return
        ended = self._state
        self._state = self._around.pop() if self._around else _State()
        if ended.sink == "note" != self._state.sink:
            self._notes.append(_whole("".join(self._texts["note"])))
            self._texts["note"].clear()
        elif ended.sink == "style" != self._state.sink:
            self._style.name = "".join(self._texts["style"]).rstrip("; ")
            self._styles[self._style_number] = self._style
            self._texts["style"].clear()

    def _word(self, word: str, number: int | None) -> None:
        """Act on a control word, by the destination that it is read for."""
        state, ignorable = self._state, self._ignorable
        self._ignorable = False
        if state.sink == "left out":
            return
        if state.sink == "info":
            if word == "title":
                state.sink = "title"
            return
        if word in ("pict", "shppict") and state.sink == "body":
            self._found.pictures += 1
        if word in SKIPPED or (ignorable and word not in SHAPES):
            state.sink = "left out"
        elif not self._destination(word):
            self._content_word(word, number)

    def _destination(self, word: str) -> bool:
        """Begin a destination; return whether the word names one."""
        state = self._state
        if word in ("stylesheet", "fonttbl", "info"):
            state.sink = word
        elif word == "footnote" and state.sink == "body":
            state.sink = "note"
        elif word in ("listtext", "pntext"):
            state.sink = "marker"
            self._texts["marker"].clear()
        else:
            return False
        return True

    def _content_word(self, word: str, number: int | None) -> None:
        state = self._state
        if state.sink == "fonttbl":
            self._font_word(word, number)
        elif state.sink == "style" and word in STYLE_WORDS:
            self._style_word(word, number or 0)
        elif word in CHARACTERS:
            self._emit(CHARACTERS[word])
        elif word == "u":
            self._emit(chr((number or 0) % 65536))
            self._skip = state.fallback
        elif not state.apply(word, number):
            self._property(word, number)

    def _font_word(self, word: str, number: int | None) -> None:
        if word == "f":
            self._font = number or 0
            self._fonts[self._font] = (self._default, False)
        elif word == "fcharset":
            self._fonts[self._font] = (
                CODE_PAGES.get(number or 0, self._default),
                self._fonts.get(self._font, ("", False))[1],
            )
        elif word == "fmodern":
            self._fonts[self._font] = (self._fonts.get(self._font, (self._default, False))[0], True)

    def _style_word(self, word: str, number: int) -> None:
        if word == "outlinelevel":
            self._style.outline = number + 1
        elif word == "sbasedon":
            self._style.based_on = number
        else:
            # Styles of characters, sections and tables have numbers of their own.
            self._style_number = number if word == "s" else -1 - number

    def _property(self, word: str, number: int | None) -> None:
        """Apply a control word that changes more than the group's state."""
        match word:
            case "par" | "sect" | "page" | "column":
                self._end_paragraph()
            case "cell":
                self._end_cell()
            case "row":
                self._end_row()
            case "trowd" | "trhdr":
                self._head = word == "trhdr"
            case "plain":
                self._choose_font(self._default_font)
            case "f":
                self._choose_font(number or 0)
            case "deff":
                self._default_font = number or 0
            case "ansicpg" | "mac" | "pc" | "pca":
                self._choose_code_page(word, number)

    def _choose_font(self, number: int) -> None:
        self._state.encoding, self._state.fixed = self._fonts.get(number, (self._default, False))

    def _choose_code_page(self, word: str, number: int | None) -> None:
        name = {"mac": "mac_roman", "pc": "cp437", "pca": "cp850"}.get(word) or f"cp{number}"
        try:
            b"a".decode(name)
        except LookupError:
            return
        self._default = self._state.encoding = name

    # Paragraphs and tables

    def _end_paragraph(self) -> None:
        state = self._state
        if state.sink == "note":
            self._emit(" ")
            return
        if state.sink != "body":
            return
        if state.in_table or self._cells:
            # A paragraph's end within a cell.
            self._runs.append((" ", False, 0, False))
            return
        text, size, bold, fixed = self._taken()
        marker = (
            "".join(self._texts["marker"]).strip()
            if self._texts["marker"]
            else ""
            if state.numbered
            else None
        )
        self._texts["marker"].clear()
        if not text.strip():
            return
        self._end_table()
        outline, name = self._rank(state)
        if outline:
            marker = None
        notes, self._notes = self._notes, []
        self._found.parts.append(
            RichParagraph(
                text, outline, marker, min(state.depth, 6), size, bold, fixed, name, notes
            )
        )

    def _taken(self) -> tuple[str, int, bool, bool]:
        """Return the text since the last paragraph, and its prevailing style."""
        sizes: Counter[int] = Counter()
        length = bold = fixed = 0
        for text, heavy, size, mono in self._runs:
            count = len(text.strip())
            sizes[size] += count
            length, bold, fixed = length + count, bold + count * heavy, fixed + count * mono
        text = _whole("".join(run[0] for run in self._runs))
        self._runs.clear()
        size = sizes.most_common(1)[0][0] if sizes else 24
        return text, size, bold == length > 0, fixed == length > 0

    def _rank(self, state: _State) -> tuple[int, str]:
        """Return a paragraph's rank as a heading, and its style's name."""
        number: int | None = state.style
        name = self._styles[state.style].name.lower() if state.style in self._styles else ""
        for _ in range(10):
            style = self._styles.get(number) if number is not None else None
            if state.outline or style is None:
                break
            if rank := style.outline or heading_rank(style.name):
                return (rank if rank <= 9 else 0), name
            number = style.based_on
        return (state.outline if state.outline <= 9 else 0), name

    def _end_cell(self) -> None:
        if self._state.sink == "body":
            self._cells.append(self._taken()[0])

    def _end_row(self) -> None:
        if self._cells and self._state.sink == "body":
            self._rows.append(self._cells)
            self._heads.append(self._head)
            self._cells = []
            self._notes_of_rows = len(self._notes)

    def _end_table(self) -> None:
        if self._cells:
            self._rows.append(self._cells)
            self._heads.append(False)
            self._cells = []
        if self._rows:
            heads = 0
            while heads < len(self._heads) and self._heads[heads]:
                heads += 1
            notes, self._notes = (
                self._notes[: self._notes_of_rows],
                self._notes[self._notes_of_rows :],
            )
            self._found.parts.append(RichTable(self._rows, heads, notes))
            self._rows, self._heads = [], []


def _whole(text: str) -> str:
    """A text whose characters beyond the first plane were written in halves."""
    if any("\ud800" <= letter <= "\udfff" for letter in text):
        return text.encode("utf-16-le", "surrogatepass").decode("utf-16-le", "replace")
    return text
