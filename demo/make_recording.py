"""Create the demo's spoken notice, and its transcript as WebVTT.

Needs espeak-ng from Debian. The results are committed. `python demo/make_recording.py`
"""

from __future__ import annotations

import io
import subprocess
from pathlib import Path

import av
import numpy as np
from av.container import InputContainer

HERE = Path(__file__).parent / "recordings"
RATE = 22_050
PAUSE = 0.35
TITLE = "Spoken notice on the visitors' pontoon"
SENTENCES = (
    "This is Skerrow harbour control with a spoken notice.",
    "Fresh water at the visitors' pontoon is cut off until Friday noon, because a pipe is"
    " repaired.",
    "Yachts fill their tanks at the fish quay instead.",
    "The hose there takes coins of two crowns.",
)


def spoken(sentence: str) -> np.ndarray:
    """Return the samples of a sentence."""
    command = ["espeak-ng", "-v", "en-gb", "-s", "165", "--stdout", sentence]
    done = subprocess.run(command, check=True, stdout=subprocess.PIPE)
    with av.open(io.BytesIO(done.stdout)) as container:
        assert isinstance(container, InputContainer)
        frames = [frame.to_ndarray()[0] for frame in container.decode(audio=0)]
    return np.concatenate(frames)


def stamp(seconds: float) -> str:
    return f"00:{int(seconds) // 60:02}:{seconds % 60:06.3f}"


def main() -> None:
    HERE.mkdir(exist_ok=True)
    parts, cues, at = [], ["WEBVTT"], 0.0
    for sentence in SENTENCES:
        samples = spoken(sentence)
        end = at + len(samples) / RATE
        cues.append(f"{stamp(at)} --> {stamp(end)}\n{sentence}")
        parts += [samples, np.zeros(int(PAUSE * RATE), dtype=np.int16)]
        at = end + PAUSE
    (HERE / "visitors-pontoon.vtt").write_text("\n\n".join(cues) + "\n")
    with av.open(HERE / "visitors-pontoon.mp3", "w", format="mp3") as out:
        out.metadata.update(title=TITLE)
        stream = out.add_stream("libmp3lame", rate=RATE, layout="mono")
        stream.bit_rate = 48_000
        whole = np.concatenate(parts)[np.newaxis]
        frame = av.AudioFrame.from_ndarray(whole, format="s16", layout="mono")
        frame.sample_rate, frame.pts = RATE, 0
        out.mux(stream.encode(frame))
        out.mux(stream.encode(None))


if __name__ == "__main__":
    main()
