"""reStructuredText through docutils: nothing is included from elsewhere or run."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from docutils import nodes
from docutils.core import publish_doctree
from docutils.utils import SystemMessage

from fontanel.core.reading.decode import decode
from fontanel.core.reading.markup.directives import make_known
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed

_LISTS = (
    nodes.bullet_list,
    nodes.enumerated_list,
    nodes.definition_list,
    nodes.option_list,
    nodes.docinfo,
    nodes.field_list,
)
_LEFT_OUT = (nodes.comment, nodes.system_message, nodes.substitution_definition, nodes.target)
#: What is always a block of its own.
_BLOCKS = (nodes.literal_block, nodes.doctest_block, nodes.table, nodes.image, nodes.figure)
_SETTINGS: dict[str, Any] = {
    "file_insertion_enabled": False,
    "raw_enabled": False,
    "report_level": 5,
    "halt_level": 5,
    "_disable_config": True,
    "input_encoding": "unicode",
    "line_length_limit": 100_000,
    "syntax_highlight": "none",
    "smart_quotes": False,
}


def read_restructured(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    make_known(text)
    try:
        tree = publish_doctree(text, settings_overrides=_SETTINGS)
    except (SystemMessage, ValueError, IndexError, AttributeError, AssertionError) as error:
        raise ReadingFailed(
            "damaged", "The reStructuredText cannot be parsed. Look at its markup."
        ) from error
    if title := tree.get("title"):
        builder.title = str(title)
    _walk(builder, tree, 1)
    return builder


def _walk(builder: ReadingBuilder, parent: Any, level: int) -> None:
    """Add the blocks of a node's children."""
    for node in parent.children:
        if not isinstance(node, nodes.Element):
            continue
        if isinstance(node, (nodes.title, nodes.subtitle, nodes.rubric)):
            anchor = next(iter(parent.get("ids", [])), None)
            rank = level if isinstance(node, nodes.title) else level + 1
            builder.heading(node.astext(), rank, anchor=anchor)
        elif isinstance(node, nodes.section):
            untitled = isinstance(parent, nodes.document) and not _titled(parent)
            _walk(builder, node, level if untitled else level + 1)
        elif isinstance(node, _LISTS):
            _any_list(builder, node, level)
        elif isinstance(node, _LEFT_OUT) or "contents" in node.get("classes", ()):
            continue
        elif not _leaf(builder, node):
            _walk(builder, node, level)


def _leaf(builder: ReadingBuilder, node: Any) -> bool:
    """Add a node that is one block; return whether it is."""
    if isinstance(node, (nodes.paragraph, nodes.line_block, nodes.math_block, nodes.attribution)):
        builder.paragraph(node.astext())
    elif isinstance(node, (nodes.literal_block, nodes.doctest_block)):
        builder.code(node.astext())
    elif isinstance(node, nodes.table):
        _table(builder, node)
    elif isinstance(node, (nodes.image, nodes.figure)):
        builder.figure(str(node.get("alt") or node.astext()))
    else:
        return False
    return True


def _any_list(builder: ReadingBuilder, node: Any, level: int) -> None:
    """Add a list of any kind."""
    if isinstance(node, nodes.definition_list):
        for item in node.children:
            _definition(builder, item, level)
    elif isinstance(node, nodes.option_list):
        builder.list(
            [f"- {': '.join(part.astext() for part in item.children)}" for item in node.children]
        )
    elif isinstance(node, (nodes.docinfo, nodes.field_list)):
        builder.list([f"- {_named(field)}" for field in node.children])
    else:
        _list(builder, node, level)


def _titled(document: Any) -> bool:
    return any(isinstance(child, nodes.title) for child in document.children)


def _named(field: Any) -> str:
    """Add a field's name and value.

    Some in a document's head have node types of their own.
    """
    if isinstance(field, nodes.field):
        return ": ".join(part.astext() for part in field.children)
    return f"{field.tagname}: {field.astext()}"


def _list(builder: ReadingBuilder, element: Any, level: int) -> None:
    """Add a list, which an item with code or a table interrupts."""
    waiting: list[str] = []
    for number, item in enumerate(element.children, start=int(element.get("start", 1))):
        first = next(
            (n for n, child in enumerate(item.children) if isinstance(child, _BLOCKS)), None
        )
        if first is None:
            waiting += _item(element, number, item, 0)
            continue
        waiting += _item(
            element,
            number,
            nodes.list_item("", *[child.deepcopy() for child in item.children[:first]]),
            0,
        )
        builder.list(waiting)
        waiting = []
        _walk(
            builder,
            nodes.container("", *[child.deepcopy() for child in item.children[first:]]),
            level,
        )
    builder.list(waiting)


def _item(element: Any, number: int, item: Any, depth: int) -> Iterator[str]:
    mark = f"{number}." if isinstance(element, nodes.enumerated_list) else "-"
    own = [
        c for c in item.children if not isinstance(c, (nodes.bullet_list, nodes.enumerated_list))
    ]
    yield "  " * min(depth, 6) + f"{mark} " + " ".join(child.astext() for child in own)
    for child in item.children:
        if child not in own:
            for below, inner in enumerate(child.children, start=int(child.get("start", 1))):
                yield from _item(child, below, inner, depth + 1)


def _definition(builder: ReadingBuilder, item: Any, level: int) -> None:
    """Add a term and the first paragraph of its meaning; the rest is read as usual."""
    term = " ".join(part.astext() for part in item.children if isinstance(part, nodes.term)).rstrip(
        ":"
    )
    meaning = [
        child
        for part in item.children
        if isinstance(part, nodes.definition)
        for child in part.children
    ]
    first = meaning.pop(0).astext() if meaning and isinstance(meaning[0], nodes.paragraph) else ""
    builder.paragraph(f"{term}: {first}" if first else term)
    _walk(builder, nodes.container("", *[child.deepcopy() for child in meaning]), level)


def _table(builder: ReadingBuilder, node: Any) -> None:
    rows: list[list[str]] = []
    header = 0
    for group in node.findall(nodes.row):
        if isinstance(group.parent, nodes.thead):
            header += 1
        rows.append([entry.astext() for entry in group.children])
    for title in node.children:
        if isinstance(title, nodes.title):
            builder.paragraph(title.astext())
    builder.table(rows, header)
