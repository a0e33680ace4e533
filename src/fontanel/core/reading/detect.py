"""Detect the type of a document from its bytes.

Names only distinguish kinds of text.
"""

from __future__ import annotations

import io
import json
import re
import zipfile
from pathlib import PurePosixPath

from fontanel.core.reading.data.delimited import looks_delimited
from fontanel.core.reading.model import ReadingFailed
from fontanel.core.reading.spoken.captions import looks_like_captions

PDF = "application/pdf"
DOCX = "application/vnd.openxmlformats-officedocument.wordprocessingml.document"
PPTX = "application/vnd.openxmlformats-officedocument.presentationml.presentation"
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
XLS = "application/vnd.ms-excel"
ODT = "application/vnd.oasis.opendocument.text"
ODS = "application/vnd.oasis.opendocument.spreadsheet"
EPUB = "application/epub+zip"
RTF = "application/rtf"
ZIP = "application/zip"
EML = "message/rfc822"
HTML = "text/html"
MHTML = "multipart/related"
MARKDOWN = "text/markdown"
RST = "text/x-rst"
CSV = "text/csv"
JSON = "application/json"
VTT = "text/vtt"
PNG, JPEG, TIFF, WEBP = "image/png", "image/jpeg", "image/tiff", "image/webp"
WAV, MP3, OGG, FLAC = "audio/wav", "audio/mpeg", "audio/ogg", "audio/flac"
M4A, MP4, WEBM = "audio/mp4", "video/mp4", "video/webm"
PLAIN = "text/plain"

#: Media type -> the word that people use for it.
MEDIA_TYPES = {
    PDF: "PDF",
    DOCX: "Word document",
    PPTX: "slides (PPTX)",
    XLSX: "workbook (XLSX)",
    XLS: "old workbook (XLS)",
    ODT: "OpenDocument text",
    ODS: "OpenDocument sheet",
    EPUB: "EPUB book",
    RTF: "rich text",
    EML: "e-mail",
    HTML: "HTML page",
    MHTML: "saved web page (MHTML)",
    MARKDOWN: "Markdown",
    RST: "reStructuredText",
    CSV: "CSV table",
    JSON: "JSON",
    VTT: "subtitles",
    PNG: "PNG picture",
    JPEG: "JPEG picture",
    TIFF: "TIFF picture",
    WEBP: "WebP picture",
    WAV: "WAV sound",
    MP3: "MP3 sound",
    OGG: "Ogg sound",
    FLAC: "FLAC sound",
    M4A: "M4A sound",
    MP4: "MP4 film",
    WEBM: "WebM film",
    ZIP: "ZIP archive",
    PLAIN: "plain text",
}

#: Types whose pages can be drawn as pictures.
DRAWN = frozenset({PDF, PNG, JPEG, TIFF, WEBP})

#: Types with sound, which are read from subtitles or a transcript.
RECORDINGS = frozenset({WAV, MP3, OGG, FLAC, M4A, MP4, WEBM})

_HTML_START = re.compile(
    rb"^\s*(?:\xef\xbb\xbf)?(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:!doctype"
    rb" html|html|head|body)\b",
    re.I | re.S,
)
#: Header fields of which one is the address of a page (RFC 2557); messages have none above.
_SAVED_PAGE = re.compile(
    rb"^(?:[!-9;-~]+:[^\r\n]*\r?\n(?:[ \t][^\r\n]*\r?\n)*)*?"
    rb"(?:Snapshot-)?Content-Location:[^\r\n]*\r?\n",
    re.I,
)
_MAIL_FIELD = re.compile(
    r"^(From|To|Subject|Date|Received|Return-Path|Message-ID|MIME-Version|Delivered-To): ",
    re.M | re.I,
)
_BY_NAME = {
    ".md": MARKDOWN,
    ".markdown": MARKDOWN,
    ".mkd": MARKDOWN,
    ".html": HTML,
    ".htm": HTML,
    ".xhtml": HTML,
    ".rst": RST,
    ".csv": CSV,
    ".tsv": CSV,
    ".tab": CSV,
    ".json": JSON,
    ".jsonl": JSON,
    ".ndjson": JSON,
    ".geojson": JSON,
    ".vtt": VTT,
    ".srt": VTT,
    ".eml": EML,
    ".mhtml": MHTML,
    ".mht": MHTML,
}
_BY_BYTES = (
    (b"\x89PNG\r\n", PNG),
    (b"\xff\xd8\xff", JPEG),
    (b"II*\0", TIFF),
    (b"MM\0*", TIFF),
    (b"{\\rtf", RTF),
    (b"fLaC", FLAC),
    (b"OggS\0", OGG),
    (b"ID3", MP3),
    (b"\x1aE\xdf\xa3", WEBM),
)
_IN_RIFF = {b"WEBP": WEBP, b"WAVE": WAV}
_PICTURE_BRANDS = frozenset({b"heic", b"heix", b"mif1", b"msf1", b"avif", b"avis"})
_BY_ENTRY = (
    ("word/document.xml", DOCX),
    ("ppt/presentation.xml", PPTX),
    ("xl/workbook.xml", XLSX),
    ("xl/workbook.bin", XLSX),
)
_BY_MIMETYPE = {ODT.encode(): ODT, ODS.encode(): ODS, EPUB.encode(): EPUB}
_KNOWN_BINARY = {
    b"GIF8": "a GIF picture",
    b"BM": "a BMP picture",
    b"\x7fELF": "a program",
    b"MZ": "a program",
    b"\x1f\x8b": "a gzip archive",
    b"BZh": "a bzip2 archive",
    b"7z\xbc\xaf": "a 7z archive",
    b"Rar!": "a RAR archive",
    b"\xfd7zXZ": "an xz archive",
    b"SQLite format 3": "a database",
}


#: What files with these endings are; a file that is something else was misnamed or damaged.
_EXPECTED = {
    ".pdf": PDF,
    ".docx": DOCX,
    ".pptx": PPTX,
    ".xlsx": XLSX,
    ".odt": ODT,
    ".ods": ODS,
    ".epub": EPUB,
    ".rtf": RTF,
    ".png": PNG,
    ".jpg": JPEG,
    ".jpeg": JPEG,
    ".tif": TIFF,
    ".tiff": TIFF,
    ".webp": WEBP,
    ".zip": ZIP,
    ".wav": WAV,
    ".mp3": MP3,
    ".ogg": OGG,
    ".oga": OGG,
    ".opus": OGG,
    ".flac": FLAC,
    ".m4a": M4A,
    ".mp4": MP4,
    ".webm": WEBM,
}


def misnamed(media_type: str, name: str) -> str:
    """Return a warning when a file's ending promises another type, '' otherwise."""
    suffix = PurePosixPath(name.lower()).suffix
    expected = _EXPECTED.get(suffix)
    if expected is None or expected == media_type:
        return ""
    return (
        f"The name ends in {suffix}, but the content is {MEDIA_TYPES[media_type]}: the file may be"
        " damaged or misnamed"
    )


def detect_media_type(data: bytes, name: str) -> str:
    """Return the media type of a document.

    Raises:
        ReadingFailed: unsupported.
    """
    head = data[:4096]
    if b"%PDF-" in head[:1024]:
        return PDF
    if head.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        return _zip_media_type(data)
    if head.startswith(b"\xd0\xcf\x11\xe0"):
        return _compound_media_type(data)
    for magic, media_type in _BY_BYTES:
        if head.startswith(magic):
            return media_type
    if (framed := _framed_media_type(head)) is not None:
        return framed
    suffix = PurePosixPath(name.lower()).suffix
    nulls = head.count(b"\0") > len(head) // 20 and not head.startswith((b"\xff\xfe", b"\xfe\xff"))
    for magic, what in _KNOWN_BINARY.items():
        if head.startswith(magic) and (nulls or len(magic) > 3 or not magic.isascii()):
            raise ReadingFailed(
                "unsupported", f"This is {what}, which cannot be read. {_readable()}"
            )
    if nulls:
        raise ReadingFailed(
            "unsupported", f"These bytes are not text nor any known type of document. {_readable()}"
        )
    return _text_media_type(data, head, suffix)


def _framed_media_type(head: bytes) -> str | None:
    """Return the type of a file whose type is not at its very beginning, None for others."""
    if head.startswith(b"RIFF"):
        return _IN_RIFF.get(head[8:12])
    if head[4:8] == b"ftyp":
        return _base_media_type(head[8:12])
    return MP3 if _is_mp3_frame(head) else None


def _base_media_type(brand: bytes) -> str:
    """Return the type of a file in the ISO base media format, by its brand."""
    if brand in _PICTURE_BRANDS:
        raise ReadingFailed(
            "unsupported", f"This is a HEIF picture, which cannot be read. {_readable()}"
        )
    return M4A if brand in (b"M4A ", b"M4B ") else MP4


def _is_mp3_frame(head: bytes) -> bool:
    """Return whether an MP3 frame begins here (layer III, with a bit rate and a sample rate)."""
    if len(head) < 4 or head[0] != 0xFF or head[1] & 0xE6 != 0xE2:
        return False
    return head[2] & 0xF0 not in (0x00, 0xF0) and head[2] & 0x0C != 0x0C


def _text_media_type(data: bytes, head: bytes, suffix: str) -> str:
    if _HTML_START.match(head):
        return HTML
    if _SAVED_PAGE.match(head):
        return MHTML
    if suffix in _BY_NAME:
        return _BY_NAME[suffix]
    text = head.decode("utf-8", "ignore")
    if looks_like_captions(text):
        return VTT
    if suffix in ("", ".txt", ".text", ".dat", ".log"):
        start = text.split("\n\n", 1)[0]
        if (
            len(
                {field.lower() for field in _MAIL_FIELD.findall(start)}
                & {"from", "date", "subject", "received"}
            )
            >= 3
        ):
            return EML
        if text.lstrip()[:1] in ("{", "[") and len(data) < 50_000_000 and _is_json(data):
            return JSON
        if looks_delimited(text.rsplit("\n", 1)[0] if len(data) > len(head) else text):
            return CSV
    return PLAIN


def _is_json(data: bytes) -> bool:
    try:
        json.loads(data)
    except (ValueError, RecursionError):
        return False
    return True


def _zip_media_type(data: bytes) -> str:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = set(archive.namelist())
            for entry, media_type in _BY_ENTRY:
                if entry in names:
                    return media_type
            if "mimetype" in names and archive.getinfo("mimetype").file_size < 200:
                stated = archive.read("mimetype").strip()
                if stated in _BY_MIMETYPE:
                    return _BY_MIMETYPE[stated]
    except (
        zipfile.BadZipFile,
        ValueError,
        NotImplementedError,
        OSError,
        RuntimeError,
        EOFError,
    ) as error:
        raise ReadingFailed(
            "damaged", "The file is cut short or damaged. Add it again from a good copy."
        ) from error
    except Exception as error:  # a damaged stream of the entry named mimetype
        raise ReadingFailed(
            "damaged", "The file is cut short or damaged. Add it again from a good copy."
        ) from error
    return ZIP


def _compound_media_type(data: bytes) -> str:
    """Return the type of an OLE compound file.

    A workbook, an encrypted or an old document.
    """
    if "EncryptedPackage".encode("utf-16-le") in data:
        raise ReadingFailed(
            "encrypted", "The file is encrypted. Add a copy that opens without a password."
        )
    if "Workbook".encode("utf-16-le") in data or "Book".encode("utf-16-le") in data:
        return XLS
    raise ReadingFailed(
        "unsupported",
        f"This is an old Office document. Save it as DOCX, PPTX or PDF. {_readable()}",
    )


def _readable() -> str:
    return "Add it as one of: " + ", ".join(MEDIA_TYPES.values()) + "."
