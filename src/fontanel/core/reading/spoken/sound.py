"""Cuts parts out of a recording, as sound that transcription servers take."""

from __future__ import annotations

import io
from typing import IO

import av
import numpy as np
from av.audio.resampler import AudioResampler

from fontanel.core.reading.model import ReadingFailed
from fontanel.core.reading.spoken.container import opened

#: Speech needs no more, and one channel.
RATE = 16_000


def cut_sound(
    stream: IO[bytes], media_type: str, start: float, seconds: float
) -> tuple[bytes, float, bool]:
    """Return a part of a recording as FLAC, mono, with 16,000 samples a second.

    Args:
        start: Where it begins, in seconds.
        seconds: The maximum length.

    Returns:
        The file, empty if there is no sound from `start` on; the second where the part ends; and
        whether that is the end of the recording.

    Raises:
        ReadingFailed: damaged.
    """
    target = io.BytesIO()
    wanted, skip, written = round(seconds * RATE), 0, 0
    ended = True
    with opened(stream, media_type) as source, av.open(target, "w", format="flac") as out:
        if not source.streams.audio:
            raise ReadingFailed("no_text", "The recording has no sound.")
        sound = source.streams.audio[0]
        encoder = out.add_stream("flac", rate=RATE, layout="mono")
        resampler = AudioResampler(format="s16", layout="mono", rate=RATE)
        if start > 0:
            # The frame before: what comes too early is skipped.
            source.seek(int(max(0.0, start - 1.0) * av.time_base))
        first = True
        for frame in source.decode(sound):
            if first and frame.time is not None:
                skip = round((start - frame.time) * RATE)
                first = False
            for piece in resampler.resample(frame):
                samples = piece.to_ndarray()
                if skip > 0:
                    samples, skip = samples[:, skip:], max(0, skip - samples.shape[1])
                samples = samples[:, : wanted - written]
                if samples.shape[1]:
                    made = av.AudioFrame.from_ndarray(samples.copy(), format="s16", layout="mono")
                    made.sample_rate, made.pts = RATE, written
                    written += samples.shape[1]
                    out.mux(encoder.encode(made))
            if written >= wanted:
                ended = False
                break
        out.mux(encoder.encode(None))
    return target.getvalue() if written else b"", start + written / RATE, ended


def short_sound() -> tuple[bytes, float]:
    """Return a second of a quiet tone as FLAC, to try a server with, and its length."""
    target = io.BytesIO()
    tone = np.sin(2 * np.pi * 200 * np.arange(RATE) / RATE) * 1000
    with av.open(target, "w", format="flac") as out:
        encoder = out.add_stream("flac", rate=RATE, layout="mono")
        frame = av.AudioFrame.from_ndarray(
            tone.astype(np.int16)[np.newaxis], format="s16", layout="mono"
        )
        frame.sample_rate, frame.pts = RATE, 0
        out.mux(encoder.encode(frame))
        out.mux(encoder.encode(None))
    return target.getvalue(), 1.0
