"""Which module reads which media type: bytes and a name become a reading."""

from __future__ import annotations

import io
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import PurePosixPath
from typing import IO, Any

from fontanel.core.reading import detect
from fontanel.core.reading.model import (
    ContainedFile,
    Picture,
    Reading,
    ReadingBuilder,
    ReadingFailed,
)
from fontanel.core.reading.pictures import ONLY_PICTURES, PictureText, with_pictures
from fontanel.core.reading.spoken.cues import Cue
from fontanel.core.text.language import detect_language
from fontanel.core.text.sentences import capitalised

Progress = Callable[[int, int], None]

#: Media type -> module and function that read it. They are imported on first use: a service that
#: only passes files to its workers needs no parsers.
_PAGED = {
    detect.PDF: "paged.pdf.read_pdf",
    detect.EPUB: "markup.epub.read_epub",
    **dict.fromkeys(
        (detect.PNG, detect.JPEG, detect.TIFF, detect.WEBP), "paged.picture.read_picture"
    ),
}
_WHOLE = {
    detect.DOCX: "word.docx.read_docx",
    detect.PPTX: "other.pptx.read_pptx",
    **dict.fromkeys((detect.XLSX, detect.XLS, detect.ODS), "data.sheets.read_workbook"),
    detect.ODT: "word.odt.read_odt",
    detect.RTF: "word.rtf.read_rtf",
    detect.EML: "other.mail.read_mail",
    detect.MHTML: "other.web_archive.read_web_archive",
    detect.ZIP: "other.archive.read_archive",
    detect.HTML: "markup.html.read_html",
    detect.MARKDOWN: "markup.markdown.read_markdown",
    detect.RST: "markup.restructured.read_restructured",
    detect.CSV: "data.delimited.read_delimited",
    detect.JSON: "data.json_data.read_json",
    detect.VTT: "spoken.captions.read_captions",
    detect.PLAIN: "other.plain.read_plain",
}
#: How the pictures of a document are taken, where it need not be read for them.
_TAKEN = {
    detect.PDF: "paged.pdf_pictures.take_pictures",
    **dict.fromkeys(
        (detect.PNG, detect.JPEG, detect.TIFF, detect.WEBP), "paged.picture.take_pictures"
    ),
}
_MEMBERS = {detect.ZIP: "other.archive.archive_files", detect.EML: "other.mail.mail_attachments"}


def _reader(named: str) -> Callable[..., Any]:
    module, _, function = named.rpartition(".")
    result: Callable[..., Any] = getattr(import_module(f"fontanel.core.reading.{module}"), function)
    return result


def _ignore_progress(done: int, total: int) -> None:
    del done, total


def read(
    data: bytes,
    name: str,
    media_type: str | None = None,
    progress: Progress = _ignore_progress,
    pictures: Mapping[str, PictureText] | None = None,
) -> Reading:
    """Read a document.

    Args:
        progress: Called with (pages done, pages in all) by formats that have pages.
        pictures: Descriptions of its pictures, by their hashes.

    Raises:
        PicturesAlone: there is no text, but pictures that can be described.
        ReadingFailed: nothing could be read; `code` says why.
    """
    if not data.strip(b"\0 \t\r\n"):
        raise ReadingFailed("empty", "The file is empty. Add it again once it has content.")
    media_type = media_type or detect.detect_media_type(data, name)
    if media_type in detect.RECORDINGS:
        return read_spoken(io.BytesIO(data), name, media_type)
    return _finished(_built(data, media_type, progress), name, media_type, pictures)


def _built(data: bytes, media_type: str, progress: Progress) -> ReadingBuilder:
    named = _PAGED.get(media_type)
    builder: ReadingBuilder = (
        _reader(_WHOLE[media_type])(data) if named is None else _reader(named)(data, progress)
    )
    return builder


def take_pictures(data: bytes, media_type: str, wanted: Collection[str]) -> dict[str, bytes]:
    """Return pictures of a document as JPEG, by their hashes; without those that are damaged.

    Args:
        wanted: Hashes from `Reading.pictures`.

    Raises:
        ReadingFailed: the document cannot be read.
    """
    if media_type in _TAKEN:
        results: dict[str, bytes] = _reader(_TAKEN[media_type])(data, wanted)
        return results
    shown = _reader("picture_files.shown_file")
    found = _built(data, media_type, _ignore_progress).picture_data
    taken: dict[str, bytes] = {}
    for sha256 in wanted:
        if sha256 in found:
            with suppress(ReadingFailed):
                taken[sha256] = shown(found[sha256])
    return taken


def read_spoken(
    stream: IO[bytes], name: str, media_type: str, transcript: Sequence[Cue] | None = None
) -> Reading:
    """Read a recording from the subtitles inside it, or from a transcript.

    Raises:
        NeedsTranscript: it has no subtitles, and no transcript was given.
        ReadingFailed: nothing could be read; `code` says why.
    """
    builder = _reader("spoken.recording.read_recording")(stream, media_type, transcript)
    return _finished(builder, name, media_type)


class PicturesAlone(ReadingFailed):
    """A document has no text, but pictures that can be described."""

    def __init__(self, media_type: str, pictures: Sequence[Picture]) -> None:
        super().__init__(
            "no_text",
            ONLY_PICTURES,
        )
        self.media_type = media_type
        self.pictures = pictures


def _finished(
    builder: ReadingBuilder,
    name: str,
    media_type: str,
    pictures: Mapping[str, PictureText] | None = None,
) -> Reading:
    if builder.empty:
        raise ReadingFailed(
            "no_text", "No text was found in the file. Look whether it opens as it should."
        )
    if warning := detect.misnamed(media_type, name):
        builder.warnings.append(warning)
    # A workbook is not named by the first of its sheets.
    heading = "" if builder.unit == "sheet" else builder.first_heading
    builder.title = builder.title or heading or _title_from_name(name)
    reading = with_pictures(builder.build(detect_language(builder.text)), pictures or {})
    if not reading.blocks:
        raise PicturesAlone(media_type, reading.pictures)
    return reading


def contained_files(data: bytes, media_type: str) -> list[ContainedFile]:
    """Return the files inside a file: entries of an archive, attachments of a message.

    Raises:
        ReadingFailed: damaged.
    """
    results: list[ContainedFile] = (
        _reader(_MEMBERS[media_type])(data) if media_type in _MEMBERS else []
    )
    return results


def _title_from_name(name: str) -> str:
    stem = PurePosixPath(name).stem.replace("_", " ").replace("-", " ").strip()
    return capitalised(stem) if stem else name
