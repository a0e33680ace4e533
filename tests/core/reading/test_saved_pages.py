"""Saved web pages: which file is one, which part is the page, and what damages it."""

from __future__ import annotations

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel.core.reading import MHTML, ReadingFailed, detect_media_type, read
from fontanel.sources.web_archive import write_web_archive
from tests.core.reading.test_pictures import picture

ADDRESS = "https://a.example/x/crane"


def archive(*parts: str, boundary: str = "sea", more: str = "") -> bytes:
    body = "".join(f"--{boundary}\r\n{part}\r\n" for part in parts)
    return (
        f"From: <Saved>\r\nMIME-Version: 1.0\r\nContent-Type: multipart/related;"
        f' boundary="{boundary}"{more}\r\nSnapshot-Content-Location: {ADDRESS}\r\n\r\n'
        f"{body}--{boundary}--\r\n"
    ).encode()


FRAME = "Content-Type: text/html\r\nContent-ID: <frame>\r\n\r\n<p>An advertisement.</p>"
PAGE = "Content-Type: text/html\r\nContent-ID: <page>\r\n\r\n<p>The crane stops.</p>"


@pytest.mark.parametrize("name", ["crane.mhtml", "crane.MHT", "crane", "crane.html", "crane.txt"])
def test_a_saved_page_is_known_by_what_is_in_it(name: str) -> None:
    assert detect_media_type(archive(PAGE), name) == MHTML


def test_a_message_is_not_a_saved_page() -> None:
    message = (
        b"From: a@b.example\r\nDate: Mon, 2 Mar 2026 10:00:00 +0000\r\nSubject: Crane\r\n\r\nx"
    )
    assert detect_media_type(message + b"\r\nContent-Location: x", "crane.txt") == "message/rfc822"


def test_the_page_is_the_part_that_is_named_or_the_first() -> None:
    assert read(archive(FRAME, PAGE), "a.mhtml").text == "An advertisement."
    assert read(archive(FRAME, PAGE, more='; start="<page>"'), "a.mhtml").text == "The crane stops."


@pytest.mark.parametrize(
    ("data", "code"),
    [
        (archive(), "damaged"),
        (archive("Content-Type: image/png\r\n\r\nx"), "damaged"),
        (archive("Content-Type: text/html\r\n\r\n"), "empty"),
        (archive("Content-Type: text/html; charset=utf-99\r\n\r\n"), "empty"),
    ],
)
def test_what_contains_no_page_says_so(data: bytes, code: str) -> None:
    with pytest.raises(ReadingFailed) as failed:
        read(data, "crane.mhtml")
    assert failed.value.code == code


@given(st.text(st.characters(categories=["L", "N", "P", "Zs"]), min_size=1), st.text(max_size=200))
def test_what_is_written_is_read_again(words: str, path: str) -> None:
    page = f"<h1>Crane</h1><p>The crane {words} stops.</p>".encode()
    where = f"https://a.example/{path.encode().hex()}.png"
    made = [
        write_web_archive(
            page, "text/html; charset=utf-8", ADDRESS, {where: ("image/png", picture("red"))}
        )
        for _ in range(2)
    ]
    assert made[0] == made[1]
    assert detect_media_type(made[0], "crane.html") == MHTML
    assert read(made[0], "crane.html").text == read(page, "crane.html").text


@given(st.binary(max_size=300), st.integers(0, 400))
def test_damaged_ones_fail_with_a_reason(noise: bytes, place: int) -> None:
    data = archive(FRAME, PAGE)
    with suppress(ReadingFailed):
        read(data[:place] + noise + data[place:], "crane.mhtml")
