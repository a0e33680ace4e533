"""Files with sound or film: how they are opened, their facts, and the subtitles inside."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import IO

import av
import av.error
from av.container import InputContainer
from av.subtitles.stream import SubtitleStream
from av.subtitles.subtitle import AssSubtitle

from fontanel.core.reading import detect
from fontanel.core.reading.model import ReadingFailed, collapse
from fontanel.core.reading.spoken.captions import spoken
from fontanel.core.reading.spoken.cues import Chapter, Cue

#: The only format that a type is opened as: others, such as playlists, name further files.
_FORMATS = {
    detect.WAV: "wav",
    detect.MP3: "mp3",
    detect.OGG: "ogg",
    detect.FLAC: "flac",
    detect.M4A: "mov",
    detect.MP4: "mov",
    detect.WEBM: "matroska",
}
_DAMAGED = "The recording is damaged or cut short. Add it again from a good copy."
_MAX_DESCRIPTION = 4000
_DESCRIPTIONS = ("description", "synopsis", "comment", "lyrics")
_TEXT_CODECS = frozenset({"mov_text", "webvtt", "subrip", "srt", "ass", "ssa", "text"})
#: An Advanced SubStation line break, and its other codes.
_ASS_BREAK, _ASS_CODE = re.compile(r"\\[Nnh]"), re.compile(r"\{[^}]*\}")


@dataclass(frozen=True, slots=True)
class Recording:
    """The facts of a recording.

    Attributes:
        seconds: Its duration; None if the file does not record it.
        subtitles: Whether it has subtitles that are text.
    """

    seconds: float | None
    title: str
    description: str
    chapters: tuple[Chapter, ...]
    has_sound: bool
    subtitles: bool


@contextmanager
def opened(stream: IO[bytes], media_type: str) -> Iterator[InputContainer]:
    """Open a recording.

    Raises:
        ReadingFailed: damaged, also while it is used.
    """
    try:
        with av.open(stream, format=_FORMATS[media_type], metadata_errors="replace") as container:
            assert isinstance(container, InputContainer)
            yield container
    except (av.error.FFmpegError, ValueError, IndexError) as error:
        raise ReadingFailed("damaged", _DAMAGED) from error


def facts_of(container: InputContainer) -> Recording:
    """Return the facts of an opened recording."""
    # Ogg has its tags on the stream.
    tags = {
        key.lower(): value
        for one in (*(stream.metadata for stream in container.streams), container.metadata)
        for key, value in one.items()
    }
    about = [collapse(tags[name]) for name in _DESCRIPTIONS if tags.get(name)]
    seconds = None if container.duration is None else container.duration / av.time_base
    chapters = [
        Chapter(float(chapter["start"] * chapter["time_base"]), title)
        for chapter in container.chapters()
        if chapter["time_base"] and (title := collapse(chapter["metadata"].get("title", "")))
    ]
    return Recording(
        seconds=None if seconds is None or seconds <= 0 else round(seconds, 3),
        title=collapse(tags.get("title", "")),
        description="\n".join(dict.fromkeys(about))[:_MAX_DESCRIPTION],
        chapters=tuple(chapters),
        has_sound=bool(container.streams.audio),
        subtitles=_subtitle_stream(container) is not None,
    )


def _subtitle_stream(container: InputContainer) -> SubtitleStream | None:
    """Return the subtitles that are text, those that are shown by default first."""
    texts = [
        stream
        for stream in container.streams.subtitles
        if stream.codec_context is not None and stream.codec_context.name in _TEXT_CODECS
    ]
    return min(texts, key=lambda stream: not stream.disposition & 1) if texts else None


def subtitles_of(container: InputContainer) -> list[Cue]:
    """Return the subtitles of an opened recording."""
    stream = _subtitle_stream(container)
    cues: list[Cue] = []
    if stream is None:
        return cues
    for packet in container.demux(stream):
        if packet.pts is None or packet.time_base is None:
            continue
        start = float(packet.pts * packet.time_base)
        end = start + float((packet.duration or 0) * packet.time_base)
        for subtitle in packet.decode() or ():
            if isinstance(subtitle, AssSubtitle):
                text = _plain(subtitle.dialogue or subtitle.ass)
                cue = spoken(text.decode("utf-8", "replace"), start, end)
                cues += [cue] if cue.text else []
    return cues


def _plain(text: bytes) -> bytes:
    return _ASS_CODE.sub("", _ASS_BREAK.sub("\n", text.decode("utf-8", "replace"))).encode()
