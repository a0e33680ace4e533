"""Recordings whose words are tones, so that a simulated listener can tell what is said when."""

from __future__ import annotations

import io
from collections.abc import Sequence
from fractions import Fraction

import av
import numpy as np

from fontanel.simulators.ears import RATE, tones_of

#: Container -> the format and codec that PyAV writes it with.
_WRITTEN = {
    "wav": ("wav", "pcm_s16le"),
    "mp3": ("mp3", "libmp3lame"),
    "ogg": ("ogg", "libopus"),
    "flac": ("flac", "flac"),
    "m4a": ("ipod", "aac"),
    "mp4": ("mp4", "aac"),
    "webm": ("webm", "libopus"),
}


def recording(words: Sequence[str], kind: str = "wav", seconds: float = 1.0, **tags: str) -> bytes:
    """Return a recording in which each word takes some seconds."""
    target = io.BytesIO()
    container, codec = _WRITTEN[kind]
    samples = tones_of(words, seconds)
    with av.open(target, "w", format=container) as out:
        out.metadata.update(tags)
        stream = out.add_stream(codec, rate=48_000 if codec == "libopus" else RATE, layout="mono")
        frame = av.AudioFrame.from_ndarray(samples[np.newaxis], format="s16", layout="mono")
        frame.sample_rate, frame.pts, frame.time_base = RATE, 0, Fraction(1, RATE)
        assert isinstance(stream, av.AudioStream)
        if out.format.name == "mp4":
            _add_picture(out)
        out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    return target.getvalue()


def silent_film() -> bytes:
    """Return a film without sound."""
    target = io.BytesIO()
    with av.open(target, "w", format="mp4") as out:
        _add_picture(out)
    return target.getvalue()


def _add_picture(out: av.container.OutputContainer) -> None:
    """Make it a film, of one black picture."""
    film = out.add_stream("mpeg4", rate=1)
    film.width, film.height, film.pix_fmt = 64, 64, "yuv420p"
    black = av.VideoFrame.from_ndarray(np.zeros((64, 64, 3), dtype=np.uint8), format="rgb24")
    out.mux(film.encode(black))
    out.mux(film.encode(None))
