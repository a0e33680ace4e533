"""Formatting the composer's statements as prose, lists, steps or a table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.settings import Layout

_LINED = ("item", "row", "code")


@dataclass(frozen=True, slots=True)
class ComposedPiece:
    """A piece of an answer's text.

    `group` are the statements that it quotes, none for text of the service; the quoted part begins
    at `start`.
    """

    text: str
    start: int
    group: Sequence[Statement] = ()


def groups(chosen: Sequence[Statement]) -> list[list[Statement]]:
    """Group adjacent statements of a passage, which share a citation."""
    results: list[list[Statement]] = []
    for statement in chosen:
        last = results[-1][-1] if results else None
        if last and last.passage is statement.passage and 0 <= statement.start - last.end <= 8:
            results[-1].append(statement)
        else:
            results.append([statement])
    return results


def lay_out(chosen: Sequence[Statement], layout: Layout) -> Iterator[ComposedPiece]:
    """Return the pieces of an answer made of these statements, in order.

    Statements of which none is a table's row become a list where a table is asked for.
    """
    grouped = groups(chosen)
    if layout == Layout.TABLE:
        if any(statement.kind == "row" and statement.columns for statement in chosen):
            yield from _table(grouped)
            return
        layout = Layout.LIST
    number = 0
    first, lined = True, False
    for group in grouped:
        if layout in (Layout.LIST, Layout.STEPS):
            text, number = _lines(group, layout, number)
            before = "" if first else "\n"
        elif layout == Layout.PROSE:
            text, before = _prose(group), "" if first else " "
        else:
            text = _as_it_stands(group)
            before = "" if first else "\n\n" if lined or group[0].kind in _LINED else " "
        yield ComposedPiece(before + text, len(before), group)
        first, lined = False, group[-1].kind in _LINED


def _as_it_stands(group: Sequence[Statement]) -> str:
    """Return statements as text: sentences joined, items and rows on their own lines."""
    text = ""
    previous: Statement | None = None
    for statement in group:
        if previous is not None:
            text += "\n" if statement.kind in _LINED or previous.kind in _LINED else " "
        single = len(group) == 1 and statement.kind == "item"
        text += (
            f"{_mark(statement)} {statement.text}"
            if statement.kind == "item" and not single
            else statement.text
        )
        previous = statement
    return text


def _lines(group: Sequence[Statement], layout: Layout, number: int) -> tuple[str, int]:
    lines = []
    for statement in group:
        if statement.text.endswith(":") and statement.kind == "sentence":
            lines.append(statement.text)
            continue
        number += 1
        lines.append(
            f"{number}. {statement.text}" if layout == Layout.STEPS else f"- {statement.text}"
        )
    return "\n".join(lines), number


def _prose(group: Sequence[Statement]) -> str:
    """Items and rows run on, with semicolons between them."""
    text = ""
    for position, statement in enumerate(group):
        if position:
            lined = statement.kind in _LINED and group[position - 1].kind in _LINED
            text = text.rstrip(".;") + "; " if lined else text + " "
        text += statement.text
    return text


def _table(grouped: Sequence[Sequence[Statement]]) -> Iterator[ComposedPiece]:
    """Return the rows of the table that the first row is of, below its columns."""
    rows = (statement for group in grouped for statement in group if statement.kind == "row")
    columns = next(row.columns for row in rows if row.columns)
    yield ComposedPiece(f"| {' | '.join(map(_cell, columns))} |\n|{' --- |' * len(columns)}", 0)
    for group in grouped:
        kept = [statement for statement in group if statement.columns == columns]
        if kept:
            lines = [f"| {' | '.join(map(_cell, row.cells))} |" for row in kept]
            yield ComposedPiece("\n" + "\n".join(lines), 1, kept)


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|")


def _mark(item: Statement) -> str:
    """The mark of a list item: its number where it has one."""
    before = item.passage.text[: item.start - item.passage.start].rsplit("\n", 1)[-1].strip()
    return before if before[:1].isdigit() else "-"
