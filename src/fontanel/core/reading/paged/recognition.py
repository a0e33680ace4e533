"""Text in pictures, by the networks of the rapidocr package."""

from __future__ import annotations

import logging
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.reading.paged.lines import Cell, Line, joined

Picture = npt.NDArray[np.uint8]

#: Below this confidence a result is more likely a stain than a word.
_MIN_CONFIDENCE = 0.5
#: A page with less confidence is tried rotated, too.
_UPRIGHT = 0.85


class Recogniser:
    """Detects and recognises lines of text.

    Loads the networks (some 30 MB, a second); not thread-safe.
    """

    def __init__(self, threads: int = 2) -> None:
        from rapidocr import RapidOCR

        logging.getLogger("RapidOCR").setLevel(logging.ERROR)
        self._engine: Any = RapidOCR(
            params={
                "Global.log_level": "error",
                # The classifier of upside-down lines sometimes turns upright ones: `recognise`
                # checks the whole page.
                "Global.use_cls": False,
                "Det.limit_type": "max",
                "Det.limit_side_len": 960,
                # One line at a time: a batch is padded to its longest, which costs more than it
                # saves.
                "Rec.rec_batch_num": 1,
                "EngineConfig.onnxruntime.intra_op_num_threads": threads,
                "EngineConfig.onnxruntime.inter_op_num_threads": 1,
                "EngineConfig.onnxruntime.enable_cpu_mem_arena": False,
            }
        )

    def lines(self, picture: Picture) -> list[tuple[npt.NDArray[np.float32], str, float]]:
        """Return the corners (4 x 2 pixels), text and confidence of each line."""
        result = self._engine(picture)
        if result.boxes is None:
            return []
        return [
            (np.asarray(box, dtype=np.float32), text, float(score))
            for box, text, score in zip(result.boxes, result.txts, result.scores, strict=True)
            if score >= _MIN_CONFIDENCE and text.strip()
        ]


def recognise(
    recogniser: Recogniser, picture: Picture, page: int, width: float, height: float
) -> list[Line]:
    """Return the lines of a page's picture, from top to bottom.

    A slight slant is corrected; a page that is rotated is read upright.
    """
    result = recogniser.lines(picture)
    if turns := _turns(result):
        tried = [(quarter, recogniser.lines(np.rot90(picture, quarter))) for quarter in turns]
        # Vertical lines are recognised as they are, but in no order.
        best, turned = max(tried, key=lambda one: _confidence(one[1]))
        if best % 2 or _confidence(turned) > _confidence(result):
            result, picture = turned, np.rot90(picture, best)
            width, height = (height, width) if best % 2 else (width, height)
    if not result:
        return []
    rows, columns = picture.shape[:2]
    slant = float(np.median([_slant(box) for box, _, _ in result]))
    scale_x, scale_y = width / columns, height / rows
    lines: list[Line] = []
    for box, text, score in result:
        flat = box.copy()
        flat[:, 1] -= slant * flat[:, 0]
        left, right = float(flat[:, 0].min()) * scale_x, float(flat[:, 0].max()) * scale_x
        top = height - float((flat[0, 1] + flat[1, 1]) / 2) * scale_y
        bottom = height - float((flat[2, 1] + flat[3, 1]) / 2) * scale_y
        lines.append(
            Line(
                page=page,
                cells=[Cell(left, right, text.strip())],
                baseline=bottom + 0.2 * (top - bottom),
                bottom=bottom,
                top=top,
                # What is found is a letter's height with some air around it.
                size=max(4.0, round((top - bottom) * 0.75 * 2) / 2),
                confidence=round(score, 3),
            )
        )
    lines.sort(key=lambda line: (-line.baseline, line.left))
    return joined(_in_rows(lines))


_Found = list[tuple[npt.NDArray[np.float32], str, float]]


def _confidence(boxes: _Found) -> float:
    """The mean confidence over the letters found."""
    letters = sum(len(text) for _, text, _ in boxes)
    return sum(len(text) * score for _, text, score in boxes) / letters if letters else 0.0


def _turns(boxes: _Found) -> tuple[int, ...]:
    """By which quarter turns the page might read better: none when it reads well."""
    upright = sum(1 for box, _, _ in boxes if np.ptp(box[:, 0]) >= np.ptp(box[:, 1]))
    if upright < len(boxes) / 2:
        return 1, 3
    return (2,) if boxes and _confidence(boxes) < _UPRIGHT else ()


def _slant(box: npt.NDArray[np.float32]) -> float:
    run = float(box[1, 0] - box[0, 0])
    return float(box[1, 1] - box[0, 1]) / run if abs(run) > 20 else 0.0


def _in_rows(lines: list[Line]) -> list[Line]:
    """Order lines in rows, by baselines within half a line's height."""
    out: list[Line] = []
    row: list[Line] = []
    for line in lines:
        if row and row[0].baseline - line.baseline > 0.5 * line.size:
            out += sorted(row, key=lambda item: item.left)
            row = []
        row.append(line)
    out += sorted(row, key=lambda item: item.left)
    return out
