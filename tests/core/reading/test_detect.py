"""Detecting file types by bytes, whatever the name or damage."""

from __future__ import annotations

import io
import json
import zipfile

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.reading import ReadingFailed, detect_media_type, read
from fontanel.core.reading import detect as types
from tests.core import samples
from tests.core.reading.paged.test_notes_and_links import drawn

PAGE = b"<!doctype html><html><body><p>The lock opens at six.</p></body></html>"
MAIL = samples.message()
CUES = b"WEBVTT\n\n00:01.000 --> 00:04.000\nThe lock opens at six.\n"
NUMBERED = b"1\n00:00:01,000 --> 00:00:04,000\nThe lock opens at six.\n"

BY_BYTES = [
    (drawn(lambda page: page.drawString(60, 700, "Tide")), types.PDF),
    (samples.deck(), types.PPTX),
    (samples.workbook(), types.XLSX),
    (samples.odt("<text:p>Two</text:p>"), types.ODT),
    (samples.epub({"one.xhtml": "<h1>One</h1><p>First.</p>"}), types.EPUB),
    (rb"{\rtf1\ansi The fee is 12.\par}", types.RTF),
    (PAGE, types.HTML),
    (b"\xef\xbb\xbf<!-- saved --> <html><p>x</p></html>", types.HTML),
    (b'<?xml version="1.0"?>\n<!DOCTYPE html><html><p>x</p></html>', types.HTML),
    (b"\x89PNG\r\n\x1a\n", types.PNG),
    (b"\xff\xd8\xff\xe0", types.JPEG),
    (b"II*\0", types.TIFF),
    (b"MM\0*", types.TIFF),
    (b"RIFF\x10\0\0\0WEBPVP8 ", types.WEBP),
]


@pytest.mark.parametrize("name", ["paper", "paper.txt", "paper.docx", "paper.csv", "paper.md"])
@pytest.mark.parametrize(
    ("data", "expected"),
    BY_BYTES,
    ids=[f"{kind.split('/')[-1]}-{n}" for n, (_, kind) in enumerate(BY_BYTES)],
)
def test_the_bytes_decide_whatever_the_file_is_called(
    data: bytes, expected: str, name: str
) -> None:
    assert detect_media_type(data, name) == expected


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("a.md", types.MARKDOWN),
        ("A.MARKDOWN", types.MARKDOWN),
        ("a.rst", types.RST),
        ("a.csv", types.CSV),
        ("a.tsv", types.CSV),
        ("a.json", types.JSON),
        ("a.jsonl", types.JSON),
        ("a.srt", types.VTT),
        ("a.eml", types.EML),
        ("a.htm", types.HTML),
        ("a.txt", types.PLAIN),
        ("a", types.PLAIN),
        ("a.conf", types.PLAIN),
        ("folder.md/notes", types.PLAIN),
    ],
)
def test_plain_text_is_told_apart_by_its_name(name: str, expected: str) -> None:
    assert (
        detect_media_type(b"The lock opens at six. The keeper closes it at nine.", name) == expected
    )


@pytest.mark.parametrize("name", ["a", "a.txt", "a.log"])
@pytest.mark.parametrize(
    ("data", "expected"),
    [
        (CUES, types.VTT),
        (NUMBERED, types.VTT),
        (MAIL, types.EML),
        (json.dumps({"berth": [{"name": "North", "depth": 7}]}).encode(), types.JSON),
        (b"Berth\tDepth\nNorth\t7\nSouth\t4\nEast\t9\n", types.CSV),
    ],
)
def test_text_without_a_telling_name_is_told_by_how_it_is_written(
    data: bytes, expected: str, name: str
) -> None:
    assert detect_media_type(data, name) == expected


@pytest.mark.parametrize(
    "data",
    [
        b"From: the keeper\n\nA letter that only begins like a message.",
        b"[Note] The lock opens at six.",
        b"The lock, which is old, opens at six.\nThe gate, too.\n",
        b"1\nThe first of three notes, with no times in it.\n",
    ],
)
def test_text_that_only_looks_like_something_is_text(data: bytes) -> None:
    assert detect_media_type(data, "a.txt") == types.PLAIN


@pytest.mark.parametrize(
    ("data", "what"),
    [
        (b"GIF89a\x01\0\x01\0\0\0", "GIF"),
        (b"\x7fELF\x02\x01\x01\0\0\0\0\0", "a program"),
        (b"MZ\x90\0\x03\0\0\0\x04\0\0\0", "a program"),
        (b"\x1f\x8b\x08\0\0\0\0\0", "gzip"),
        (b"7z\xbc\xaf\x27\x1c", "7z"),
        (b"Rar!\x1a\x07\0", "RAR"),
        (b"\0\0\0\x18ftypheic\0\0", "HEIF"),
        (b"SQLite format 3\0", "database"),
        (b"\0" * 400, "not text"),
    ],
)
def test_what_cannot_be_read_is_named_with_what_can(data: bytes, what: str) -> None:
    with pytest.raises(ReadingFailed, match=what) as failed:
        detect_media_type(data, "thing.bin")
    assert failed.value.code == "unsupported"
    assert "PDF" in str(failed.value)


def archive(entries: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        for name, data in entries.items():
            made.writestr(name, data)
    return out.getvalue()


def test_an_archive_is_what_it_holds() -> None:
    assert detect_media_type(archive({"a.txt": b"x"}), "a.docx") == types.ZIP
    assert detect_media_type(archive({"word/document.xml": b"<x/>"}), "a.zip") == types.DOCX
    assert (
        detect_media_type(archive({"mimetype": b"application/epub+zip", "a": b"x"}), "a.zip")
        == types.EPUB
    )
    assert detect_media_type(archive({"mimetype": b"x" * 5000}), "a.zip") == types.ZIP


def test_an_archive_that_is_cut_short_is_damaged() -> None:
    whole = archive({"a.txt": b"The lock opens at six." * 50})
    for end in (10, len(whole) // 2, len(whole) - 5):
        with pytest.raises(ReadingFailed, match=r"damaged|cut short"):
            detect_media_type(whole[:end], "a.zip")


@pytest.mark.parametrize(
    ("marker", "code"),
    [
        ("EncryptedPackage", "encrypted"),
        ("WordDocument", "unsupported"),
        ("PowerPoint Document", "unsupported"),
    ],
)
def test_old_office_files_are_told_by_their_streams(marker: str, code: str) -> None:
    data = (
        b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + b"\0" * 500 + marker.encode("utf-16-le") + b"\0" * 100
    )
    with pytest.raises(ReadingFailed) as failed:
        detect_media_type(data, "a.doc")
    assert failed.value.code == code


@given(
    st.binary(max_size=400),
    st.sampled_from(["a", "a.pdf", "a.zip", "a.html", "a.csv", "a.eml", "a.json", "a.srt"]),
)
def test_any_bytes_have_a_type_or_one_reason(data: bytes, name: str) -> None:
    try:
        result = detect_media_type(data, name)
    except ReadingFailed as failed:
        result = failed.code
    assert result in {*types.MEDIA_TYPES, "unsupported", "damaged", "encrypted"}


@given(st.binary(max_size=300))
def test_any_bytes_are_read_or_refused_with_one_reason(data: bytes) -> None:
    try:
        reading = read(data, "thing")
    except ReadingFailed:
        return
    assert reading.text.strip()
    assert all(0 <= block.start < block.end <= len(reading.text) for block in reading.blocks)


def test_a_file_that_is_not_what_its_name_says_is_read_with_a_warning() -> None:
    reading = read(b"The lock opens at six.\n", "fake.docx")
    assert "The lock opens at six." in reading.text
    assert reading.warnings == (
        "The name ends in .docx, but the content is plain text: the file may be damaged or"
        " misnamed",
    )
    assert read(b"The lock opens at six.\n", "notes.txt").warnings == ()
    assert read(b"The lock opens at six.\n", "notes").warnings == ()
