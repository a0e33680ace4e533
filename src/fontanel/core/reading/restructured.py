"""reStructuredText, through docutils: its headings, paragraphs, lists, tables and code. Nothing is included or run."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from docutils import nodes
from docutils.core import publish_doctree
from docutils.utils import SystemMessage

from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed

#: Roles and directives of documentation generators, which docutils does not know: their text is what counts.
_ROLE = re.compile(r":[a-z][\w:+.-]*:`(?:[!~])?([^`<]+?)(?:\s*<[^>`]*>)?`", re.I)
_UNKNOWN_DIRECTIVE = re.compile(r"^(\s*)\.\.\s+(?:[a-z]+:)?(?:toctree|index|highlight|seealso|versionadded|versionchanged|"
                                r"deprecated|function|method|class|data|attribute|exception|module|currentmodule|option|"
                                r"program|glossary|only|tabularcolumns|cmdoption|envvar|describe|automodule|autoclass)::.*$",
                                re.M)  # fmt: skip
_SETTINGS: dict[str, Any] = {
    "file_insertion_enabled": False, "raw_enabled": False, "report_level": 5, "halt_level": 5, "_disable_config": True,
    "input_encoding": "unicode", "line_length_limit": 100_000, "syntax_highlight": "none", "smart_quotes": False,
}  # fmt: skip


def read_restructured(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    source = _UNKNOWN_DIRECTIVE.sub(r"\1.. comment", _ROLE.sub(r"\1", text))
    try:
        tree = publish_doctree(source, settings_overrides=_SETTINGS)
    except (SystemMessage, ValueError, IndexError, AttributeError, AssertionError) as error:
        raise ReadingFailed("damaged", "The reStructuredText cannot be parsed. Look at its markup.") from error
    if title := tree.get("title"):
        builder.title = str(title)
    _walk(builder, tree, 1)
    return builder


def _walk(builder: ReadingBuilder, parent: Any, level: int) -> None:
    for node in parent.children:
        if isinstance(node, (nodes.title, nodes.subtitle, nodes.rubric)):
            anchor = next(iter(parent.get("ids", [])), None)
            builder.heading(node.astext(), level if isinstance(node, nodes.title) else level + 1, anchor=anchor)
        elif isinstance(node, nodes.section):
            _walk(builder, node, level if isinstance(parent, nodes.document) and not _titled(parent) else level + 1)
        elif isinstance(node, nodes.paragraph):
            builder.paragraph(node.astext())
        elif isinstance(node, (nodes.bullet_list, nodes.enumerated_list)):
            builder.list(list(_items(node, 0)))
        elif isinstance(node, nodes.definition_list):
            for item in node.children:
                term = " ".join(part.astext() for part in item.children if isinstance(part, nodes.term))
                body = " ".join(part.astext() for part in item.children if isinstance(part, nodes.definition))
                builder.paragraph(f"{term}: {body}")
        elif isinstance(node, nodes.field_list):
            builder.list([f"- {': '.join(part.astext() for part in field.children)}" for field in node.children])
        elif isinstance(node, (nodes.literal_block, nodes.doctest_block)):
            builder.code(node.astext())
        elif isinstance(node, nodes.table):
            _table(builder, node)
        elif isinstance(node, (nodes.image, nodes.figure)):
            builder.figure(str(node.get("alt") or node.astext()))
        elif isinstance(node, (nodes.comment, nodes.system_message, nodes.substitution_definition, nodes.target)):
            continue
        elif isinstance(node, nodes.Element):
            _walk(builder, node, level)


def _titled(document: Any) -> bool:
    return any(isinstance(child, nodes.title) for child in document.children)


def _items(element: Any, depth: int) -> Iterator[str]:
    for number, item in enumerate(element.children, start=int(element.get("start", 1))):
        mark = f"{number}." if isinstance(element, nodes.enumerated_list) else "-"
        own = [c for c in item.children if not isinstance(c, (nodes.bullet_list, nodes.enumerated_list))]
        yield "  " * min(depth, 6) + f"{mark} " + " ".join(child.astext() for child in own)
        for child in item.children:
            if child not in own:
                yield from _items(child, depth + 1)


def _table(builder: ReadingBuilder, node: Any) -> None:
    rows: list[list[str]] = []
    header = 0
    for group in node.findall(nodes.row):
        if isinstance(group.parent, nodes.thead):
            header += 1
        rows.append([entry.astext() for entry in group.children])
    builder.table(rows, header)
