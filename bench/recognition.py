"""Character error rate of text recognition on pages drawn from known text.

Clean, slanted by two degrees, and noisy, at 150 and 300 dpi. Run by `bench/reading.py --only
recognition`.
"""

from __future__ import annotations

import io
import time
from pathlib import Path

import numpy as np
import reportlab
from PIL import Image, ImageDraw, ImageFont

from collection import ROOT  # isort: skip
from fontanel.core.reading import read

FONTS = Path(reportlab.__file__).parent / "fonts"


def _paragraphs() -> list[str]:
    text = (
        (ROOT / "demo" / "text" / "marine-operations" / "crane-safety.md")
        .read_text()
        .split("---\n", 2)[2]
    )
    return [
        " ".join(part.split())
        for part in text.split("\n\n")
        if len(part) > 60 and part[0].isalpha()
    ]


def page(
    paragraphs: list[str], dpi: int, slant: float = 0.0, noise: float = 0.0, seed: int = 7
) -> tuple[bytes, str]:
    """An A4 page of 11-point text as a PNG, and the text that stands on it."""
    width, height = round(8.27 * dpi), round(11.69 * dpi)
    image = Image.new("L", (width, height), 255)
    pen = ImageDraw.Draw(image)
    font = ImageFont.truetype(str(FONTS / "Vera.ttf"), round(11 * dpi / 72))
    left, y, pitch = dpi, dpi, round(15 * dpi / 72)
    drawn: list[str] = []
    for paragraph in paragraphs:
        line = ""
        for word in [*paragraph.split(), ""]:
            if word and pen.textlength(f"{line} {word}".strip(), font=font) < width - 2 * left:
                line = f"{line} {word}".strip()
                continue
            if y > height - dpi:
                break
            pen.text((left, y), line, font=font, fill=0)
            drawn.append(line)
            y, line = y + pitch, word
        y += pitch
    if slant:
        image = image.rotate(slant, Image.Resampling.BICUBIC, fillcolor=255)
    pixels = np.asarray(image).astype(np.float32)
    if noise:
        rng = np.random.default_rng(seed)
        pixels = pixels + rng.normal(0, 255 * noise, pixels.shape).astype(np.float32)
        pixels[rng.random(pixels.shape) < noise / 20] = 0
    out = io.BytesIO()
    Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)).save(out, "PNG")
    return out.getvalue(), " ".join(drawn)


def errors(wanted: str, found: str) -> float:
    """Return the Levenshtein distance without white space, per expected character."""
    a, b = "".join(wanted.split()), "".join(found.split())
    before = np.arange(len(b) + 1)
    codes = np.frombuffer(b.encode("utf-32-le"), dtype=np.uint32)
    for i, letter in enumerate(a, start=1):
        now = np.empty_like(before)
        now[0] = i
        best = np.minimum(before[1:] + 1, before[:-1] + (codes != ord(letter)))
        # What is inserted from the left adds one a place.
        now[1:] = np.minimum.accumulate(np.concatenate([[i], best]) - np.arange(len(b) + 1))[
            1:
        ] + np.arange(1, len(b) + 1)
        before = now
    return float(before[-1]) / max(1, len(a))


def recognition() -> None:
    paragraphs = _paragraphs()
    print(f"{'page':28} {'errors':>8}  {'wanted':>8}  {'seconds':>8}")
    for dpi in (150, 300):
        for name, slant, noise, most in (
            ("clean", 0.0, 0.0, 0.03),
            ("slanted by 2 degrees", 2.0, 0.0, 0.03),
            ("noisy", 0.0, 0.12, 0.08),
            ("noisy and slanted", 2.0, 0.12, 0.08),
        ):
            data, text = page(paragraphs, dpi, slant, noise)
            started = time.perf_counter()
            reading = read(data, "page.png")
            seconds = time.perf_counter() - started
            print(
                f"{dpi} dpi, {name:19} {errors(text, reading.text):8.2%}  {most:8.0%} "
                f" {seconds:8.1f}"
            )
