"""Score questions with windows of text, in ONNX Runtime.

A cross-encoder (Nogueira and Cho, "Passage re-ranking with BERT", 2019) with a relevance head and
an evidence head. `training/README.md` describes how it was trained, and its limits.
"""

from __future__ import annotations

import json
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats
from fontanel.errors import FontanelError

#: Tokens of a question, of a header and of a whole sequence; `training/train.py` has the same.
MAX_QUESTION, MAX_HEADER, MAX_TOKENS = 48, 40, 192
#: Scores that are cached in memory, by question and window.
_MAX_CACHED = 20_000
#: The evidence of a statement that lies behind the end of a sequence.
UNSEEN = -10.0


class EvidenceMissing(FontanelError):
    """The directory has no usable evidence model; the message names the bad file."""


@dataclass(frozen=True, slots=True)
class WindowText:
    """A window of text: what stands above it, and its statements."""

    header: str
    statements: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class WindowScore:
    """Logits of a window for a question: that it answers, and that each statement does."""

    relevance: float
    statements: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class EncodedWindow:
    """A question with a window: the model's inputs, and the tokens of each statement."""

    inputs: dict[str, npt.NDArray[np.int64]]
    spans: list[tuple[int, int]]


class EvidenceModel:
    """An evidence model in a directory with `model.onnx`, `tokenizer.json` and `evidence.json`.

    Args:
        threads: Windows that are scored at the same time, each by one CPU thread.

    Windows are scored one by one: the scale of int8 activations is that of everything in a batch,
    so a score would depend on what else is scored.
    """

    def __init__(self, directory: Path, threads: int = 2) -> None:
        import onnxruntime
        from tokenizers import Tokenizer

        files = [directory / name for name in ("model.onnx", "tokenizer.json", "evidence.json")]
        for file in files:
            if not file.is_file():
                raise EvidenceMissing(f"{file} does not exist")
        about: dict[str, Any] = json.loads(files[2].read_text())
        self.name: str = about["name"]
        self._tokenizer = Tokenizer.from_file(str(files[1]))
        self._tokenizer.no_padding()
        self._tokenizer.no_truncation()
        self._first: int = self._tokenizer.token_to_id("[CLS]")  # type: ignore[assignment]
        self._separator: int = self._tokenizer.token_to_id("[SEP]")  # type: ignore[assignment]
        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads = 1
        options.inter_op_num_threads = 1
        options.enable_cpu_mem_arena = False
        options.log_severity_level = 3
        self._session = onnxruntime.InferenceSession(
            str(files[0]), options, providers=["CPUExecutionProvider"]
        )
        self._threads = ThreadPoolExecutor(threads, thread_name_prefix="evidence")
        self._cache: OrderedDict[tuple[str, WindowText], WindowScore] = OrderedDict()

    def score(self, question: str, windows: Sequence[WindowText]) -> list[WindowScore]:
        """Return the scores of windows for a question; those already known are cached."""
        missing = [w for w in dict.fromkeys(windows) if (question, w) not in self._cache]
        results = dict(zip(missing, self._run(question, missing), strict=True))
        for window in dict.fromkeys(windows):
            if window not in results:
                results[window] = self._cache[question, window]
        for window, score in results.items():
            self._cache[question, window] = score
            self._cache.move_to_end((question, window))
        while len(self._cache) > _MAX_CACHED:
            self._cache.popitem(last=False)
        return [results[window] for window in windows]

    def _run(self, question: str, windows: Sequence[WindowText]) -> list[WindowScore]:
        encoded = self.encode(question, windows)
        return [
            WindowScore(
                float(relevance[0]),
                tuple(
                    float(tokens[0, begin:end].mean()) if end > begin else UNSEEN
                    for begin, end in window.spans
                ),
            )
            for window, (relevance, tokens) in zip(encoded, self.logits(encoded), strict=True)
        ]

    def logits(self, windows: Sequence[EncodedWindow]) -> Iterator[tuple[Floats, Floats]]:
        """Yield the relevance (1,) and the evidence of each token (1, length) of windows."""
        return self._threads.map(lambda window: self._session.run(None, window.inputs), windows)

    def encode(self, question: str, windows: Sequence[WindowText]) -> list[EncodedWindow]:
        """Return the tokens of a question with each of the windows."""
        texts = [question]
        for window in windows:
            texts += [window.header, *window.statements]
        tokens = iter(self._tokenizer.encode_batch_fast(texts, add_special_tokens=False))
        asked = next(tokens).ids[:MAX_QUESTION]
        results = []
        for window in windows:
            ids = [self._first, *asked, self._separator]
            length = len(ids)
            ids += [*next(tokens).ids[-MAX_HEADER:], self._separator]
            spans = []
            for _ in window.statements:
                begin = len(ids)
                ids += next(tokens).ids
                spans.append((min(begin, MAX_TOKENS - 1), min(len(ids), MAX_TOKENS - 1)))
            ids = [*ids[: MAX_TOKENS - 1], self._separator]
            row = np.array([ids], dtype=np.int64)
            kinds = np.zeros_like(row)
            kinds[:, length:] = 1
            inputs = {
                "input_ids": row,
                "token_type_ids": kinds,
                "attention_mask": np.ones_like(row),
            }
            results.append(EncodedWindow(inputs, spans))
        return results
