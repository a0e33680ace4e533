"""Servers that transcribe speech over HTTP, with the transcription protocol.

A request is a POST of a form with `file`, `model` and `response_format` to `/audio/transcriptions`;
the answer has `segments` with `start` and `end` in seconds and the `text`, and a `speaker` from
servers that tell speakers apart.
"""

from __future__ import annotations

import math
from dataclasses import KW_ONLY, dataclass

from pydantic import BaseModel, ValidationError

from fontanel.core.reading.spoken.cues import Cue
from fontanel.llm import http

_MAX_BYTES = 20_000_000
#: Speech of a second is shorter.
_MAX_CHARACTERS = 60
_MAX_SPEAKER = 80


@dataclass(frozen=True, slots=True)
class TranscriptionEndpoint:
    """Where a transcriber is reached, and how.

    Args:
        remote: Its name at the server.
        seconds: The timeout of a request. tries: Attempts for each.
    """

    name: str
    url: str
    remote: str
    _: KW_ONLY
    secret: str | None = None
    seconds: float = 300.0
    tries: int = 3


@dataclass(frozen=True, slots=True)
class Transcribed:
    """What was said, with times from the beginning of the sound, and in which language."""

    cues: list[Cue]
    language: str


class _Segment(BaseModel):
    start: float
    end: float
    text: str
    speaker: str | int | None = None


class _Answer(BaseModel):
    text: str = ""
    language: str | None = None
    segments: list[_Segment] | None = None


class TranscriptionClient:
    """Calls servers that transcribe; may be used from several threads."""

    def __init__(self, caller: http.Caller) -> None:
        self._caller = caller

    def transcribe(
        self, endpoint: TranscriptionEndpoint, sound: bytes, seconds: float, language: str | None
    ) -> Transcribed:
        """Return what is said in a sound file.

        Args:
            sound: A FLAC file.
            seconds: Its length.
            language: What is spoken, such as "en"; None has the server find out.

        Raises:
            CallFailed: the server does not transcribe it, also after other attempts.
        """
        form: dict[str, str | list[str]] = {
            "model": endpoint.remote,
            "response_format": "verbose_json",
            "timestamp_granularities[]": ["segment"],
        }
        if language is not None:
            form["language"] = language
        content = self._caller.post(
            endpoint,
            "/audio/transcriptions",
            _MAX_BYTES,
            data=form,
            files={"file": ("sound.flac", sound, "audio/flac")},
        )
        return _read(content, seconds)


def _read(content: bytes, seconds: float) -> Transcribed:
    try:
        answer = _Answer.model_validate_json(content)
    except ValidationError:
        raise http.CallFailed("its answer cannot be read") from None
    if answer.segments is None:
        if answer.text.strip():
            raise http.CallFailed("it gives no times, only a text")
        return Transcribed([], answer.language or "")
    if len(answer.text) > _MAX_CHARACTERS * (seconds + 10):
        raise http.CallFailed("its transcript is longer than anybody can speak")
    cues: list[Cue] = []
    for segment in answer.segments:
        start, end = segment.start, segment.end
        if not (math.isfinite(start) and math.isfinite(end)):
            raise http.CallFailed("its times are not numbers")
        start = min(max(start, 0.0), seconds)
        end = min(max(end, start), seconds)
        speaker = "" if segment.speaker is None else str(segment.speaker)[:_MAX_SPEAKER]
        if text := " ".join(segment.text.split()):
            cues.append(Cue(start, end, text, " ".join(speaker.split())))
    if sum(len(cue.text) for cue in cues) > _MAX_CHARACTERS * (seconds + 10):
        raise http.CallFailed("its transcript is longer than anybody can speak")
    cues.sort(key=lambda cue: cue.start)
    return Transcribed(cues, answer.language or "")
