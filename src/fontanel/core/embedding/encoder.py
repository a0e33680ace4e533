"""Texts to vectors with a sentence encoder in ONNX Runtime."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.arrays import Floats
from fontanel.core.embedding.directory import Pooling, directory_facts
from fontanel.errors import FontanelError

#: What the models of encoders take.
_INPUTS = frozenset({"input_ids", "attention_mask", "token_type_ids"})
TokenCounter = Callable[[Sequence[str]], list[int]]

_WORD = re.compile(r"\w+|[^\w\s]")
#: How far the length of a unit vector may be from 1.
_NORM_TOLERANCE = 0.01


class EmbedderMissing(FontanelError):
    """The directory has no usable embedder; the message names the bad file."""


def text_key(embedder: str, text: str) -> bytes:
    """The vector cache's key: sha256 over the embedder's name and the text."""
    return hashlib.sha256(f"{embedder}\0{text}".encode()).digest()


def check_unit_vectors(vectors: npt.NDArray[Any], dimensions: int | None = None) -> None:
    """Raise ValueError unless all rows are finite unit vectors.

    `vectors` has the shape (texts, dimensions); with `dimensions` the second must be that number.
    """
    if vectors.ndim != 2 or vectors.dtype != np.float32:
        raise ValueError("the vectors are not rows of float32")
    if dimensions is not None and vectors.shape[1] != dimensions:
        raise ValueError(f"the vectors have {vectors.shape[1]} dimensions instead of {dimensions}")
    with np.errstate(over="ignore", invalid="ignore"):
        norms = np.linalg.norm(vectors, axis=1)
    if not np.all(np.abs(norms - 1.0) < _NORM_TOLERANCE):  # also refuses NaN
        raise ValueError("the vectors are not finite and of length 1")


def estimate_tokens(texts: Sequence[str]) -> list[int]:
    """Estimate token counts without a tokenizer: words and marks, plus a third."""
    return [round(len(_WORD.findall(text)) * 1.3) for text in texts]


def estimate_read_tokens(texts: Sequence[str]) -> list[int]:
    """Estimate the tokens that an encoder reads, with the two that mark a text's ends."""
    return [round(len(_WORD.findall(text)) * 1.05) + 2 for text in texts]


class OnnxEmbedder:
    """An embedder in a directory with `model.onnx` and `tokenizer.json`.

    How its texts become vectors is read from the settings beside them, see `directory_facts`. A
    model that gives a vector for each token has them pooled.

    Args:
        threads: Texts that are embedded at the same time, each by one CPU thread.

    Texts are embedded one by one: the scale of int8 activations is that of everything in a batch,
    so a vector would depend on what else is embedded. It also saves the work on padding.
    """

    def __init__(self, directory: Path, threads: int = 1) -> None:
        import onnxruntime
        from tokenizers import Tokenizer

        model, tokenizer = directory / "model.onnx", directory / "tokenizer.json"
        for file in (model, tokenizer):
            if not file.is_file():
                raise EmbedderMissing(f"{file} does not exist")
        facts = directory_facts(directory)
        self._tokenizer = Tokenizer.from_file(str(tokenizer))
        self._tokenizer.no_padding()
        self._tokenizer.enable_truncation(facts.max_tokens)
        self._tokenizer_file = tokenizer
        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads = 1
        options.inter_op_num_threads = 1
        # The arena keeps the longest text's memory for good; a service at rest should not.
        options.enable_cpu_mem_arena = False
        options.log_severity_level = 3
        self._session = onnxruntime.InferenceSession(
            str(model), options, providers=["CPUExecutionProvider"]
        )
        self._threads = ThreadPoolExecutor(threads, thread_name_prefix="embed")
        self._pooling = facts.pooling
        self._inputs = {one.name for one in self._session.get_inputs()}
        if not {"input_ids", "attention_mask"} <= self._inputs <= _INPUTS:
            raise EmbedderMissing(
                f"{model} takes {', '.join(sorted(self._inputs))} instead of input_ids and"
                " attention_mask"
            )
        outputs = self._session.get_outputs()
        # One vector for each text, if the model has such an output.
        output = min(outputs, key=lambda one: len(one.shape))
        if len(output.shape) not in (2, 3):
            raise EmbedderMissing(f"{model} gives no vectors of texts or tokens")
        self._output: str = output.name
        size = output.shape[-1]
        self.dimensions: int = size if isinstance(size, int) else self._probe()
        self.name: str = facts.name

    def _probe(self) -> int:
        """Return the dimensions of a vector."""
        return int(self._run([1]).size)

    @cached_property
    def _counter(self) -> Any:
        """Load the tokenizer that counts without cutting; embedding does not need it."""
        from tokenizers import Tokenizer

        counter = Tokenizer.from_file(str(self._tokenizer_file))
        counter.no_padding()
        counter.no_truncation()
        return counter

    def count_tokens(self, texts: Sequence[str]) -> list[int]:
        """Tokens of each text, without the two marks that the encoder adds around it."""
        return [
            len(item.ids)
            for item in self._counter.encode_batch_fast(list(texts), add_special_tokens=False)
        ]

    def embed(self, texts: Sequence[str]) -> Floats:
        """Return a unit vector per text, float32 (len(texts), dimensions).

        Texts are truncated to the encoder's limit.
        """
        encoded = [item.ids for item in self._tokenizer.encode_batch_fast(list(texts))]
        out = np.empty((len(texts), self.dimensions), dtype=np.float32)
        for row, vector in enumerate(self._threads.map(self._run, encoded)):
            out[row] = vector
        return out

    def _run(self, ids: Sequence[int]) -> Floats:
        """Return the unit vector of an encoded text."""
        row = np.array([ids or [0]], dtype=np.int64)
        feed = {
            "input_ids": row,
            "attention_mask": np.ones_like(row),
            "token_type_ids": np.zeros_like(row),
        }
        inputs = {name: value for name, value in feed.items() if name in self._inputs}
        vector: Floats = self._session.run([self._output], inputs)[0][0].astype(np.float32)
        if vector.ndim == 2:
            vector = _pooled(vector, self._pooling)
        result: Floats = (vector / max(float(np.linalg.norm(vector)), 1e-12)).astype(np.float32)
        return result


def _pooled(tokens: Floats, pooling: Pooling) -> Floats:
    """Return the vector of a text from those of its tokens, (tokens, dimensions)."""
    chosen = {"first": tokens[:1], "last": tokens[-1:]}.get(pooling, tokens)
    mean: Floats = chosen.mean(axis=0)
    return mean
