"""Results as text, for models that do not read structured content."""

from __future__ import annotations

from collections.abc import Sequence

from fontanel.tools.schemas import (
    AskResult,
    Citation,
    KbList,
    Passage,
    ProposeResult,
    ReadResult,
    SearchResult,
)

Result = SearchResult | AskResult | ReadResult | KbList | ProposeResult


def as_text(result: Result) -> str:
    """Return a result as plain text."""
    if isinstance(result, SearchResult):
        return _search_text(result)
    if isinstance(result, AskResult):
        return _answer_text(result)
    if isinstance(result, ReadResult):
        end = "" if result.end == result.length else f" of {result.length}"
        head = f"{result.title}, characters {result.start} to {result.end}{end}"
        return f"{head}\n\n{result.text}"
    if isinstance(result, ProposeResult):
        what = "another text for" if result.changes_document else "the document"
        return f"Proposed {what} {result.name} in {result.kb}. An editor decides about it."
    lines = [
        f"{one.kb}: {one.name}, {one.documents} documents. {one.description}".rstrip()
        for one in result.knowledge_bases
    ]
    lines += [f"desk {one.desk}: {one.name}. {one.description}".rstrip() for one in result.desks]
    return "\n".join(lines) or "There are no knowledge bases."


def _search_text(result: SearchResult) -> str:
    parts = [*result.notices]
    for number, one in enumerate(result.passages, 1):
        parts.append(f"[{number}] {_place(one)}, match {one.match:.2f}\n{one.text}")
    return "\n\n".join(parts) or "Nothing was found."


def _answer_text(result: AskResult) -> str:
    parts = [result.answer]
    if result.note:
        parts.append(result.note)
    if result.meant:
        parts.append("Perhaps this was meant: " + " / ".join(result.meant))
    parts += _citations("Sources", result.citations)
    parts += _citations("Nearest passages", result.nearest)
    return "\n\n".join(parts)


def _citations(heading: str, citations: Sequence[Citation]) -> list[str]:
    if not citations:
        return []
    lines = [f"[{one.number}] {_place(one)}: \u201c{one.quote}\u201d" for one in citations]
    return [f"{heading}:\n" + "\n".join(lines)]


def _place(one: Passage | Citation) -> str:
    """Return where a text is, and why it is not in force."""
    place = f"{one.title}, {one.place}" if one.place else one.title
    return f"{place} (not in force: {one.not_in_force})" if one.not_in_force else place
