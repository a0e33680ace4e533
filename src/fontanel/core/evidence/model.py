"""Score questions with windows of text, in ONNX Runtime.

A cross-encoder (Nogueira and Cho, "Passage re-ranking with BERT", 2019) with a relevance head and
an evidence head. `training/README.md` describes how it was trained, and its limits.
"""

from __future__ import annotations

import json
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats
from fontanel.errors import FontanelError

#: Tokens of a question, of a header and of a whole sequence; `training/train.py` has the same.
MAX_QUESTION, MAX_HEADER, MAX_TOKENS = 48, 40, 192
#: Sequences that run together.
_BATCH = 8
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
class _Sequence:
    """Token ids, how many are the question's, and where each statement's tokens are."""

    ids: list[int]
    question: int
    spans: list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class Batch:
    """Padded sequences: the model's inputs, their windows, and the spans of statements."""

    inputs: dict[str, npt.NDArray[np.int64]]
    windows: list[int]
    spans: list[list[tuple[int, int]]]


class EvidenceModel:
    """An evidence model in a directory with `model.onnx`, `tokenizer.json` and `evidence.json`.

    Args:
        threads: The number of CPU threads of one call.
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
        options.intra_op_num_threads = threads
        options.inter_op_num_threads = 1
        options.enable_cpu_mem_arena = False
        options.log_severity_level = 3
        options.add_session_config_entry("session.intra_op.allow_spinning", "0")
        self._session = onnxruntime.InferenceSession(
            str(files[0]), options, providers=["CPUExecutionProvider"]
        )
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
        scores: dict[int, WindowScore] = {}
        for batch in self.batches(question, windows):
            relevance, tokens = self.logits(batch)
            for row, number in enumerate(batch.windows):
                statements = tuple(
                    float(tokens[row, begin:end].mean()) if end > begin else UNSEEN
                    for begin, end in batch.spans[row]
                )
                scores[number] = WindowScore(float(relevance[row]), statements)
        return [scores[number] for number in range(len(windows))]

    def batches(self, question: str, windows: Sequence[WindowText]) -> list[Batch]:
        """Return the batches in which windows are scored."""
        sequences = self._sequences(question, windows)
        # Batches of similar lengths waste the least on padding.
        order = sorted(range(len(windows)), key=lambda n: len(sequences[n].ids))
        results = []
        for start in range(0, len(order), _BATCH):
            chosen = order[start : start + _BATCH]
            shape = (len(chosen), len(sequences[chosen[-1]].ids))
            ids, kinds, mask = (np.zeros(shape, dtype=np.int64) for _ in range(3))
            for row, number in enumerate(chosen):
                sequence = sequences[number]
                ids[row, : len(sequence.ids)] = sequence.ids
                kinds[row, sequence.question : len(sequence.ids)] = 1
                mask[row, : len(sequence.ids)] = 1
            inputs = {"input_ids": ids, "token_type_ids": kinds, "attention_mask": mask}
            results.append(Batch(inputs, chosen, [sequences[number].spans for number in chosen]))
        return results

    def logits(self, batch: Batch) -> tuple[Floats, Floats]:
        """Return relevance (n,) and the evidence of each token (n, length)."""
        relevance, tokens = self._session.run(None, batch.inputs)
        return relevance, tokens

    def _sequences(self, question: str, windows: Sequence[WindowText]) -> list[_Sequence]:
        texts = [question]
        for window in windows:
            texts += [window.header, *window.statements]
        encoded = iter(self._tokenizer.encode_batch_fast(texts, add_special_tokens=False))
        asked = next(encoded).ids[:MAX_QUESTION]
        results = []
        for window in windows:
            ids = [self._first, *asked, self._separator]
            length = len(ids)
            ids += [*next(encoded).ids[-MAX_HEADER:], self._separator]
            spans = []
            for _ in window.statements:
                begin = len(ids)
                ids += next(encoded).ids
                spans.append((min(begin, MAX_TOKENS - 1), min(len(ids), MAX_TOKENS - 1)))
            results.append(_Sequence([*ids[: MAX_TOKENS - 1], self._separator], length, spans))
        return results
