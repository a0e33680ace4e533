"""Bytes of unknown encoding to text."""

from __future__ import annotations

import codecs

from fontanel.core.reading.model import ReadingFailed

_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


def decode(data: bytes) -> tuple[str, list[str]]:
    """Decode text as UTF-8, by a byte order mark, or the likeliest encoding.

    Raises:
        ReadingFailed: undecodable, when no encoding fits.
    """
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            text = data.decode(encoding, errors="replace")
            lost = text.count("\ufffd")
            return text, [f"{lost} characters could not be decoded"] if lost else []
    try:
        return data.decode("utf-8"), []
    except UnicodeDecodeError:
        pass
    # Loaded when it is needed: nearly everything is UTF-8.
    from charset_normalizer import from_bytes

    best = from_bytes(data[:200_000]).best()
    if best is None:
        raise ReadingFailed(
            "undecodable",
            "The text is in an encoding that is not known. Save it as UTF-8 and add it again.",
        )
    text = data.decode(best.encoding, errors="replace")
    warnings = [f"The encoding was not stated; read as {best.encoding}"]
    if lost := text.count("\ufffd"):
        warnings.append(f"{lost} characters could not be decoded")
    return text, warnings
