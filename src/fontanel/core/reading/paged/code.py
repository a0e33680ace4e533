"""Which lines of pages are code, and their text with its blanks."""

from __future__ import annotations

import re
from statistics import median

from fontanel.core.reading.paged.lines import HYPHENS, WRAPPED, Line

_PROMPT = re.compile(r"(?:[$#%>]|>>>) \S")


def code_lines(lines: list[Line]) -> dict[int, bool]:
    """Return the lines of code (by identity), and whether each starts a block.

    Code is monospaced text on two or more consecutive lines, or one line after a prompt.
    """
    results: dict[int, bool] = {}
    run: list[Line] = []

    def end() -> None:
        if len(run) > 1 or (run and _PROMPT.match(run[0].text)):
            results.update((id(line), number == 0) for number, line in enumerate(run))
        run.clear()

    for line in lines:
        if not line.fixed or not (run and 0 < run[-1].baseline - line.baseline < 1.9 * line.size):
            end()
        if line.fixed:
            run.append(line)
    end()
    return results


def code_text(lines: list[Line]) -> tuple[str, list[tuple[int, int]]]:
    """Return lines of code with blanks by their positions, and the characters of each."""
    edge = min(line.left for line in lines)
    widths = [
        (cell.right - cell.left) / len(cell.text)
        for line in lines
        for cell in line.cells
        if len(cell.text) > 1
    ]
    width = median(widths) if widths else lines[0].size * 0.6
    text, spans = "", []
    wrapped = False
    for line in lines:
        texts = ""
        for cell in line.cells:
            column = round((cell.left - edge) / max(width, 0.1))
            texts = (
                texts.ljust(min(column, 200) if column > len(texts) else len(texts) + bool(texts))
                + cell.text
            )
        texts += "-" if line.broken else ""
        if wrapped:
            # The rest of a line that was too long for the page.
            texts = texts.lstrip()
            text += "" if text[-1:] in HYPHENS + "/" else " "
        else:
            text += "\n" if text else ""
        wrapped = WRAPPED.search(texts) is not None
        texts = WRAPPED.sub("", texts)
        spans.append((len(text), len(text) + len(texts)))
        text += texts
    return text, spans
