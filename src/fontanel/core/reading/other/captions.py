"""Subtitles and transcripts: WebVTT (W3C) and SubRip, joined into timed sentences."""

from __future__ import annotations

import html
import re

from fontanel.core.reading.decode import decode
from fontanel.core.reading.model import ReadingBuilder, collapse

_TIMES = re.compile(
    r"^\s*(?:(\d+):)?(\d{1,2}):(\d{2})[.,](\d{1,3})\s*-->\s*(?:(?:\d+):)?\d{1,2}:\d{2}[.,]\d{1,3}"
)
_VOICE = re.compile(r"<v(?:\.[\w.]+)?\s+([^>]{1,80})>", re.I)
_TAG = re.compile(r"</?[a-z0-9:.]*[^<>]{0,200}>", re.I)
_SENTENCE_END = re.compile(r"[.!?…][\"'’”)]?$")
#: Seconds after which a run of cues is cut although no sentence ends.
_MAX_SECONDS = 40.0


def read_captions(data: bytes) -> ReadingBuilder:
    text, warnings = decode(data)
    builder = ReadingBuilder(warnings=warnings)
    run: list[str] = []
    since, speaker = 0.0, ""
    for seconds, voice, words in _cues(text):
        new_voice = bool(voice) and voice != speaker
        if run and (new_voice or _SENTENCE_END.search(run[-1]) or seconds - since > _MAX_SECONDS):
            builder.cue(" ".join(run), since)
            run = []
        if not run:
            since = seconds
        if new_voice:
            speaker = voice
            words = f"{voice}: {words}"
        # Rolling captions say a line twice.
        if not run or run[-1] != words:
            run.append(words)
    builder.cue(" ".join(run), since)
    return builder


def _cues(text: str) -> list[tuple[float, str, str]]:
    cues: list[tuple[float, str, str]] = []
    for chunk in re.split(r"\n\s*\n", text.replace("\r\n", "\n").replace("\r", "\n")):
        lines = chunk.strip("\n").split("\n")
        for number, line in enumerate(lines[:2]):
            if match := _TIMES.match(line):
                hours, minutes, seconds, fraction = match.groups()
                start = (
                    int(hours or 0) * 3600
                    + int(minutes) * 60
                    + int(seconds)
                    + float(f"0.{fraction}")
                )
                body = "\n".join(lines[number + 1 :])
                voice = _VOICE.search(body)
                words = collapse(html.unescape(_TAG.sub("", body)))
                if words:
                    cues.append((start, collapse(voice.group(1)) if voice else "", words))
                break
    return cues


def looks_like_captions(head: str) -> bool:
    """Return whether a text begins with the WebVTT signature or a numbered, timed cue."""
    if head.lstrip("\ufeff").startswith("WEBVTT"):
        return True
    lines = [line for line in head.lstrip("\ufeff").splitlines() if line.strip()][:2]
    return len(lines) == 2 and lines[0].strip().isdigit() and bool(_TIMES.match(lines[1]))
