"""A simulated transcription server: it understands tones, each of which stands for a word.

A word is a tone of a second or more with a pitch of its own (`tones_of`), so that what is heard,
and when, does not depend on how a recording is cut. Sound without such tones is transcribed with a
script, if one is given. The requested model's name chooses how the server behaves.
"""

from __future__ import annotations

import asyncio
import io
from collections import Counter
from collections.abc import Sequence
from typing import Any

import av
import av.error
import numpy as np
import numpy.typing as npt
from av.container import InputContainer
from starlette.applications import Starlette
from starlette.datastructures import UploadFile
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from fontanel.core.reading.spoken.captions import captions
from fontanel.simulators.behaviours import TRANSCRIBERS
from fontanel.simulators.errors import error

RATE = 16_000
#: What tones mean, from the lowest: each is 40 Hz above the one before.
WORDS = (
    "the", "harbour", "is", "closed", "from", "noon", "until", "evening", "because", "of",
    "strong", "wind", "pilots", "board", "at", "buoy", "seven", "ferries", "leave", "every",
    "hour", "crane", "two", "will", "be", "repaired", "on", "monday", "please", "wait",
    "for", "the", "signal", "no", "swimming", "in", "basin", "nine", "today", "thanks",
)  # fmt: skip
_LOWEST, _STEP = 400, 40
#: The frame of a measurement, in samples.
_FRAME = RATE // 10
_LOUD = 0.02
#: Below this share of its energy at one pitch a frame is no tone.
_PURE = 0.5


def tones_of(words: Sequence[str], seconds: float = 1.0) -> npt.NDArray[np.int16]:
    """Return sound of words, each of some seconds with a short silence at its end."""
    parts = []
    for word in words:
        length, silence = round((seconds - 0.15) * RATE), round(0.15 * RATE)
        pitch = _LOWEST + _STEP * WORDS.index(word)
        tone = np.sin(2 * np.pi * pitch * np.arange(length) / RATE)
        parts += [tone, np.zeros(silence)]
    joined = np.concatenate(parts) if parts else np.zeros(0)
    result: npt.NDArray[np.int16] = (joined * 12_000).astype(np.int16)
    return result


def heard(sound: npt.NDArray[np.float32]) -> list[tuple[float, float, str]]:
    """Return what the tones in a sound mean: start and end in seconds, and the word."""
    results: list[tuple[float, float, str]] = []
    for at in range(0, len(sound) - _FRAME + 1, _FRAME):
        word, start = _word(sound[at : at + _FRAME]), at / RATE
        end = start + _FRAME / RATE
        if word is None:
            continue
        if results and results[-1][2] == word and start - results[-1][1] < 1e-6:
            results[-1] = (results[-1][0], end, word)
        else:
            results.append((start, end, word))
    return [one for one in results if one[1] - one[0] > 0.25]


def _word(frame: npt.NDArray[np.float32]) -> str | None:
    if float(np.sqrt(np.mean(frame**2))) < _LOUD:
        return None
    power = np.abs(np.fft.rfft(frame * np.hanning(len(frame)))) ** 2
    peak = int(power.argmax())
    if power[max(0, peak - 2) : peak + 3].sum() < _PURE * power.sum():
        return None
    number = round((peak * RATE / len(frame) - _LOWEST) / _STEP)
    return WORDS[number] if 0 <= number < len(WORDS) else None


def decoded(data: bytes) -> npt.NDArray[np.float32]:
    """Return the samples of a sound file, 16,000 a second. Raises ValueError."""
    resampler = av.AudioResampler(format="s16", layout="mono", rate=RATE)
    pieces = []
    try:
        with av.open(io.BytesIO(data)) as container:
            assert isinstance(container, InputContainer)
            for frame in (*container.decode(audio=0), None):
                pieces += [piece.to_ndarray()[0] for piece in resampler.resample(frame)]
    except (av.error.FFmpegError, IndexError) as failure:
        raise ValueError("This is not a sound file.") from failure
    joined = np.concatenate(pieces) if pieces else np.zeros(0, dtype=np.int16)
    return (joined / 32_768).astype(np.float32)


def ears_app(pause: float = 0.5, key: str = "", script: str = "", behaviour: str = "") -> Starlette:
    """Return the server.

    Args:
        pause: Seconds that the slow one takes.
        key: Required in every request.
        script: WebVTT, for sound in which there are no tones.
        behaviour: Used whichever model is requested.
    """
    calls: Counter[str] = Counter()

    async def transcribe(request: Request) -> Response:
        if key and request.headers.get("authorization") != f"Bearer {key}":
            return error(401, "The key is wrong.")
        form = await request.form()
        file = form.get("file")
        if not isinstance(file, UploadFile):
            return error(400, "The body needs a file.")
        kind = behaviour or str(form.get("model") or "tones")
        calls[kind] += 1
        if (failure := _failure(kind, calls[kind])) is not None:
            return failure
        if kind == "slow":
            await asyncio.sleep(pause)
        try:
            sound = decoded(await file.read())
        except ValueError as problem:
            return error(400, str(problem))
        language = str(form.get("language") or "en")
        return JSONResponse(_answer(sound, script, language, speakers=kind == "speakers"))

    route = Route("/v1/audio/transcriptions", transcribe, methods=["POST"])
    return Starlette(routes=[route])


def _answer(
    sound: npt.NDArray[np.float32], script: str, language: str, *, speakers: bool
) -> dict[str, Any]:
    """Return a transcript as the protocol's verbose JSON."""
    duration = len(sound) / RATE
    spans = heard(sound)
    if not spans and script:
        spans = [
            (cue.start, min(cue.end, duration), cue.text)
            for cue in captions(script)
            if cue.start < duration
        ]
    segments = [
        {"id": number, "start": round(start, 3), "end": round(end, 3), "text": f" {text}"}
        for number, (start, end, text) in enumerate(spans)
    ]
    if speakers:
        for segment in segments:
            segment["speaker"] = "Anna" if int(float(str(segment["start"]))) % 8 < 4 else "Bo"
    text = " ".join(text for _, _, text in spans)
    return {"language": language, "duration": duration, "text": text, "segments": segments}


def _failure(kind: str, call: int) -> Response | None:
    """Return the response of a server that does not transcribe this time."""
    if kind not in TRANSCRIBERS:
        return error(404, f"There is no model {kind}.")
    if kind == "failing":
        return error(500, "The listener fell over.")
    if kind == "busy" or (kind == "limited" and call % 3):
        return error(429, "Too many requests.", {"Retry-After": "600" if kind == "busy" else "0"})
    if kind == "malformed":
        return Response("not a transcript", media_type="text/plain")
    if kind == "refusing":
        return error(400, "The file is too large.")
    if kind == "text":
        return JSONResponse({"text": "the harbour is closed"})
    return None
