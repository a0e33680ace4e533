"""A simulated model that sees, with the chat-completions protocol: deterministic.

It names the colours of a picture and how much of it they cover. A folder of pictures, each beside a
text of the same name, has it say what that text says about a picture that looks the same. The
requested model's name chooses how it behaves.
"""

from __future__ import annotations

import asyncio
import base64
import io
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from PIL import Image, UnidentifiedImageError
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from fontanel.simulators.behaviours import VIEWERS
from fontanel.simulators.errors import error

_COLOURS = {
    "black": (0, 0, 0),
    "white": (255, 255, 255),
    "grey": (128, 128, 128),
    "red": (210, 40, 40),
    "orange": (240, 150, 40),
    "yellow": (240, 220, 60),
    "green": (50, 150, 70),
    "blue": (50, 90, 190),
    "purple": (130, 60, 150),
    "brown": (120, 80, 50),
}
#: A picture is known again if few of the bits of its fingerprint differ.
_NEAR = 6
_MIN_SHARE = 0.05


def fingerprint(image: Image.Image) -> npt.NDArray[np.bool_]:
    """Return which of 64 fields of a picture are brighter than their mean."""
    small = np.asarray(image.convert("L").resize((8, 8), Image.Resampling.LANCZOS), dtype=float)
    result: npt.NDArray[np.bool_] = (small > small.mean()).ravel()
    return result


def colours_of(image: Image.Image) -> str:
    """Return a sentence about the colours of a picture."""
    pixels = np.asarray(image.convert("RGB").resize((32, 32)), dtype=float).reshape(-1, 3)
    names = list(_COLOURS)
    known = np.array([_COLOURS[name] for name in names], dtype=float)
    nearest = np.linalg.norm(pixels[:, None] - known[None], axis=2).argmin(axis=1)
    counts = Counter(names[index] for index in nearest)
    parts = [
        f"{name} on {100 * count / len(pixels):.0f} percent"
        for name, count in counts.most_common(3)
        if count / len(pixels) >= _MIN_SHARE
    ]
    shape = "wide" if image.width > image.height else "tall" if image.height > image.width else ""
    return f"A {shape + ' ' if shape else ''}picture: {', '.join(parts)} of it."


def eyes_app(
    pause: float = 0.5, key: str = "", pictures: Path | None = None, behaviour: str = ""
) -> Starlette:
    """Return the server.

    Args:
        pause: Seconds that the slow one takes.
        key: Required in every request.
        pictures: A folder of pictures that it knows, each with a text.
        behaviour: Used whichever model is requested.
    """
    known = _known(pictures) if pictures is not None else []
    calls: Counter[str] = Counter()

    async def complete(request: Request) -> Response:
        if key and request.headers.get("authorization") != f"Bearer {key}":
            return error(401, "The key is wrong.")
        body = await request.json()
        kind = behaviour or str(body.get("model") or "colours")
        calls[kind] += 1
        if (failure := _failure(kind, calls[kind])) is not None:
            return failure
        if kind == "slow":
            await asyncio.sleep(pause)
        try:
            image = _picture(body)
        except (ValueError, KeyError, TypeError, UnidentifiedImageError):
            return error(400, "There is no picture in the request.")
        return JSONResponse(_answer(kind, image, known))

    async def models(request: Request) -> Response:
        return JSONResponse({"object": "list", "data": [{"id": name} for name in VIEWERS]})

    return Starlette(
        routes=[
            Route("/v1/chat/completions", complete, methods=["POST"]),
            Route("/v1/models", models),
        ]
    )


def _known(folder: Path) -> list[tuple[npt.NDArray[np.bool_], str]]:
    results = []
    for path in sorted(folder.iterdir()):
        text = path.with_suffix(".txt")
        if path.suffix in (".png", ".jpg", ".jpeg", ".webp") and text.is_file():
            with Image.open(path) as image:
                results.append((fingerprint(image), text.read_text().strip()))
    return results


def _picture(body: dict[str, Any]) -> Image.Image:
    for message in body["messages"]:
        for part in message["content"] if isinstance(message["content"], list) else ():
            if part["type"] == "image_url":
                _, _, encoded = part["image_url"]["url"].partition("base64,")
                return Image.open(io.BytesIO(base64.b64decode(encoded))).convert("RGB")
    raise ValueError("no picture")


def _answer(
    kind: str, image: Image.Image, known: list[tuple[npt.NDArray[np.bool_], str]]
) -> dict[str, Any]:
    """Return a completion in one piece, with the tokens of the picture."""
    mine = fingerprint(image)
    found = next((text for print_, text in known if int((print_ != mine).sum()) <= _NEAR), "")
    text = found or f"Description: {colours_of(image)}\nText: none"
    if kind == "malformed":
        text = "I see something."
    tokens = 190 + image.width * image.height // 750
    usage = {"prompt_tokens": tokens, "completion_tokens": len(text.split())}
    message = {"role": "assistant", "content": text}
    return {
        "object": "chat.completion",
        "model": kind,
        "choices": [{"index": 0, "message": message, "finish_reason": "stop"}],
        "usage": usage,
    }


def _failure(kind: str, call: int) -> Response | None:
    """Return the response of a server that says nothing this time."""
    if kind not in VIEWERS:
        return error(404, f"There is no model {kind}.")
    if kind == "failing":
        return error(500, "The viewer fell over.")
    if kind == "busy" or (kind == "limited" and call % 3):
        return error(429, "Too many requests.", {"Retry-After": "600" if kind == "busy" else "0"})
    if kind == "blind":
        return error(400, "This model does not take pictures.")
    return None
