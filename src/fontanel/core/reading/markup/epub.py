"""EPUB (W3C EPUB 3).

The chapters of its spine, in order, each read as an HTML page.
"""

from __future__ import annotations

import posixpath
import zipfile
from collections.abc import Callable, Collection
from functools import partial
from urllib.parse import unquote

from fontanel.core.reading.markup.html import add_html, decode_html
from fontanel.core.reading.markup.xml import local_name, parse_xml
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed, collapse
from fontanel.core.reading.other.archive import open_archive, read_entry

_MAX_CHAPTERS = 5_000
_LINEAR = {"application/xhtml+xml", "text/html"}


def read_epub(data: bytes, progress: Callable[[int, int], None]) -> ReadingBuilder:
    """Raises ReadingFailed: damaged, encrypted or too_large."""
    archive = open_archive(data)
    names = set(archive.namelist())
    if "META-INF/rights.xml" in names:
        raise ReadingFailed("encrypted", "The book is protected. Add a copy without protection.")
    package_path = next(
        (
            element.get("full-path")
            for element in parse_xml(read_entry(archive, "META-INF/container.xml")).iter()
            if local_name(element) == "rootfile" and element.get("full-path")
        ),
        None,
    )
    if package_path is None:
        raise ReadingFailed(
            "damaged", "The book does not say where its content is. Add it from a good copy."
        )
    package = parse_xml(read_entry(archive, package_path))
    folder = posixpath.dirname(package_path)
    items: dict[str, tuple[str, str, str]] = {}
    spine: list[str] = []
    title = ""
    for element in package.iter():
        name = local_name(element)
        if name == "item":
            path = posixpath.normpath(posixpath.join(folder, unquote(element.get("href") or "")))
            items[element.get("id") or ""] = (
                path,
                element.get("media-type") or "",
                element.get("properties") or "",
            )
        elif name == "itemref":
            spine.append(element.get("idref") or "")
        elif name == "title" and not title:
            title = collapse("".join(str(part) for part in element.itertext()))
    builder = ReadingBuilder(title=title, unit="chapter")
    chapters = [
        items[ref]
        for ref in spine
        if ref in items and items[ref][1] in _LINEAR and "nav" not in items[ref][2].split()
    ]
    for number, (path, _, _) in enumerate(chapters[:_MAX_CHAPTERS], start=1):
        builder.unit_names.append(path)
        builder.here = {"page": number}
        if path not in names:
            builder.warnings.append(f"Chapter {number} is missing from the file")
            continue
        text, warnings = decode_html(read_entry(archive, path))
        builder.warnings += warnings
        if text.strip():
            add_html(builder, text, partial(_file, archive, names, posixpath.dirname(path)))
        progress(number, len(chapters))
    builder.pages = len(builder.unit_names)
    return builder


def _file(archive: zipfile.ZipFile, names: Collection[str], folder: str, reference: str) -> bytes:
    """Return the bytes of a file in the book that a chapter names; empty if there is none."""
    path = posixpath.normpath(posixpath.join(folder, unquote(reference.partition("#")[0])))
    return read_entry(archive, path) if path in names else b""
