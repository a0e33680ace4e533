"""Subtitles and transcripts: WebVTT (W3C) and SubRip, joined into timed sentences."""

from __future__ import annotations

import html
import re

from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder, collapse
from fontanel.core.reading.spoken.cues import Cue, add_cues

_TIME = r"(?:(\d+):)?(\d{1,2}):(\d{2})[.,](\d{1,3})"
_TIMES = re.compile(rf"^\s*{_TIME}\s*-->\s*{_TIME}")
_VOICE = re.compile(r"<v(?:\.[\w.]+)?\s+([^>]{1,80})>", re.I)
_TAG = re.compile(r"</?[a-z0-9:.]*[^<>]{0,200}>", re.I)


def read_captions(data: bytes) -> ReadingBuilder:
    """Read a file of subtitles."""
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    add_cues(builder, captions(text))
    return builder


def captions(text: str) -> list[Cue]:
    """Return the cues of a text in WebVTT or SubRip."""
    cues: list[Cue] = []
    for chunk in re.split(r"\n\s*\n", text.replace("\r\n", "\n").replace("\r", "\n")):
        lines = chunk.strip("\n").split("\n")
        for number, line in enumerate(lines[:2]):
            if match := _TIMES.match(line):
                parts = match.groups()
                start, end = _seconds(*parts[:4]), _seconds(*parts[4:])
                cue = spoken("\n".join(lines[number + 1 :]), start, end)
                cues += [cue] if cue.text else []
                break
    return cues


def spoken(body: str, start: float, end: float) -> Cue:
    """Return a cue of a text with tags, such as the name of its speaker."""
    voice = _VOICE.search(body)
    text = collapse(html.unescape(_TAG.sub("", body)))
    return Cue(start, end, text, collapse(voice.group(1)) if voice else "")


def _seconds(hours: str | None, minutes: str, seconds: str, fraction: str) -> float:
    return int(hours or 0) * 3600 + int(minutes) * 60 + int(seconds) + float(f"0.{fraction}")


def looks_like_captions(head: str) -> bool:
    """Return whether a text begins with the WebVTT signature or a numbered, timed cue."""
    if head.lstrip("\ufeff").startswith("WEBVTT"):
        return True
    lines = [line for line in head.lstrip("\ufeff").splitlines() if line.strip()][:2]
    return len(lines) == 2 and lines[0].strip().isdigit() and bool(_TIMES.match(lines[1]))
