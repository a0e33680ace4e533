"""Directives and roles of documentation generators, which docutils does not know.

An unknown directive yields its content, and its argument if that reads as a sentence. Nothing is
included from elsewhere or run.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from docutils import nodes, utils
from docutils.parsers.rst import Directive, directives, roles
from docutils.parsers.rst.languages import en

_USED = re.compile(r"^[ \t]*\.\.[ \t]+([A-Za-z][\w:+.-]*?)::(?=\s|$)", re.MULTILINE)
_ROLE = re.compile(r":([A-Za-z][\w:+.-]*):`|`:([A-Za-z][\w:+.-]*):")
#: A text displayed instead of its target.
_TITLED = re.compile(r"(.+?)\s*<[^<>]*>", re.DOTALL)
_CALLED = frozenset({"func", "meth", "c:func"})
#: Metadata about a document, or repetitions of what other documents say.
_SILENT = frozenset(
    [
        "toctree",
        "index",
        "highlight",
        "highlightlang",
        "tabularcolumns",
        "module",
        "currentmodule",
        "sectionauthor",
        "moduleauthor",
        "codeauthor",
        "default-domain",
        "program",
        "literalinclude",
        "automodule",
        "autoclass",
        "autofunction",
        "automethod",
        "autodata",
        "autoexception",
        "autosummary",
        "testsetup",
        "testcleanup",
        "graphviz",
        "digraph",
        "graph",
        "inheritance-diagram",
        "uml",
        "mermaid",
        "acks-end",
        "include-diff",
    ]
)
_CODE = frozenset(
    [
        "code-block",
        "sourcecode",
        "code",
        "doctest",
        "testcode",
        "testoutput",
        "productionlist",
        "prompt",
        "ipython",
        "console",
        "parsed-code",
    ]
)
#: What is described by its signature, in any language's domain: `py:function`, `c:macro`.
_DESCRIBED = frozenset(
    [
        "function",
        "method",
        "class",
        "classmethod",
        "staticmethod",
        "decorator",
        "decoratormethod",
        "data",
        "attribute",
        "exception",
        "property",
        "describe",
        "object",
        "option",
        "cmdoption",
        "envvar",
        "confval",
        "setting",
        "opcode",
        "pdbcommand",
        "2to3fixer",
        "member",
        "type",
        "macro",
        "struct",
        "union",
        "enum",
        "enumerator",
        "var",
        "func",
        "directive",
        "role",
        "program-option",
    ]
)
_VERSIONS = {
    "versionadded": "New in version {}",
    "versionchanged": "Changed in version {}",
    "deprecated": "Deprecated since version {}",
    "deprecated-removed": "Deprecated since version {}",
    "versionremoved": "Removed in version {}",
}


class _AnyOption(dict[str, Callable[[str | None], Any]]):
    """Takes every option as it is."""

    def __bool__(self) -> bool:
        return True

    def __getitem__(self, name: str) -> Callable[[str | None], Any]:
        return lambda value: value

    def __contains__(self, name: object) -> bool:
        return True


class _Lenient(Directive):  # type: ignore[misc]
    optional_arguments = 1
    final_argument_whitespace = True
    has_content = True
    option_spec = _AnyOption()

    def _said(self) -> str:
        return self.arguments[0].strip() if self.arguments else ""

    def _content(self) -> nodes.container:
        inner = nodes.container()
        self.state.nested_parse(self.content, self.content_offset, inner)
        return inner


class _Silent(_Lenient):
    def run(self) -> list[nodes.Node]:
        return []


class _Code(_Lenient):
    def run(self) -> list[nodes.Node]:
        text = "\n".join(self.content) or (self._said() if self.name == "productionlist" else "")
        return [nodes.literal_block(text, text)] if text.strip() else []


class _Described(_Lenient):
    def run(self) -> list[nodes.Node]:
        # Several signatures may follow each other; a backslash joins a line with the next.
        signatures = self._said().replace("\\\n", " ").split("\n")
        texts = [
            " ".join(signature.replace("\\", "").split())
            for signature in signatures
            if signature.strip()
        ]
        return [*(nodes.paragraph(text, text) for text in texts), self._content()]


class _Version(_Lenient):
    required_arguments = 1
    optional_arguments = 0

    def run(self) -> list[nodes.Node]:
        number, *more = self._said().split(None, 1)
        rest = more[0] if more else ""
        inner = self._content()
        text = _VERSIONS[self.name.lower()].format(number)
        first = inner.children[0] if inner.children else None
        if isinstance(first, nodes.paragraph) and not rest:
            rest = first.astext()
            inner.remove(first)
        text += f": {' '.join(rest.split())}" if rest.strip() else "."
        return [nodes.paragraph(text, text), inner]


class _Unknown(_Lenient):
    def run(self) -> list[nodes.Node]:
        text = " ".join(self._said().split())
        spoken = [nodes.paragraph(text, text)] if " " in text or text.endswith(".") else []
        return [*spoken, self._content()]


def _shown(
    name: str,
    raw: str,
    text: str,
    line: int,
    inliner: Any,
    options: Any = None,
    content: Any = None,
) -> tuple[list[nodes.Node], list[nodes.Node]]:
    """Return the visible text of a role: its title, or the last part of its target."""
    texts = utils.unescape(text)
    if titled := _TITLED.fullmatch(texts):
        texts = titled.group(1)
    elif texts.startswith("~"):
        texts = texts.rpartition(".")[2].lstrip("~")
    else:
        texts = texts.lstrip("!")
    last = name.lower().removeprefix("py:")
    if last in _CALLED and not titled and not texts.endswith(")"):
        texts += "()"
    return [nodes.inline(raw, texts)], []


def make_known(source: str) -> None:
    """Register a reader for each role and directive of a source that docutils lacks.

    Those of earlier sources are unregistered: the meaning of a name depends on the document.
    """
    directives._directives.clear()
    roles._roles.clear()
    for name in {(before or after).lower() for before, after in _ROLE.findall(source)}:
        if name not in roles._role_registry and name not in en.roles:
            roles.register_local_role(name, _shown)
    for name in {result.lower() for result in _USED.findall(source)}:
        last = name.rpartition(":")[2]
        if last in _SILENT:
            kind: type[_Lenient] = _Silent
        elif last in _CODE:
            kind = _Code
        elif last in _VERSIONS:
            kind = _Version
        elif (last in _DESCRIBED and name not in ("class", "role")) or (
            name == "class" and _describes_classes(source)
        ):
            kind = _Described
        elif name not in directives._directive_registry:
            kind = _Unknown
        else:
            continue
        directives.register_directive(name, kind)


def _describes_classes(source: str) -> bool:
    """Return whether `class` describes a class, rather than naming styles."""
    return (
        re.search(
            r"^[ \t]*\.\.[ \t]+(?:py:)?(?:module|method|function|attribute|currentmodule|class::"
            r" \w+\()",
            source,
            re.M,
        )
        is not None
    )
