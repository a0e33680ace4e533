"""Small encoders in directories, as others export them: a vector for each token."""

from __future__ import annotations

import hashlib
import json
import re
from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper
from tokenizers import Tokenizer, models, normalizers, pre_tokenizers

from fontanel.core.embedding.comparable import PAIRS

#: Every word's vector is random, and the same in every encoder.
_SIZE = 64
_MARKS = ("[PAD]", "[UNK]")


def make_encoder(
    directory: Path,
    words: str = "",
    inputs: tuple[str, ...] = (),
    dimensions: int = _SIZE,
    **settings: dict[str, Any],
) -> Path:
    """Write an encoder that looks its words up; return its directory.

    Args:
        words: Further text whose words it knows.
        inputs: What it takes besides ids and mask.
        settings: By the name of a file, what that says.
    """
    directory.mkdir(parents=True)
    known = re.findall(r"\w+", " ".join(part for pair in PAIRS for part in pair) + f" {words}")
    vocabulary = [*_MARKS, *dict.fromkeys(word.lower()[:4] for word in known)]
    tokenizer = Tokenizer(
        models.WordLevel({word: n for n, word in enumerate(vocabulary)}, unk_token="[UNK]")
    )
    # The beginning of a word stands for it.
    tokenizer.normalizer = normalizers.Sequence(
        [normalizers.Lowercase(), normalizers.Replace(_rest_of_words(), "")]
    )
    tokenizer.pre_tokenizer = pre_tokenizers.Whitespace()
    tokenizer.save(str(directory / "tokenizer.json"))
    rows = np.array([_vector(word, dimensions) for word in vocabulary], dtype=np.float32)
    names = ("input_ids", "attention_mask", *inputs)
    graph = helper.make_graph(
        [helper.make_node("Gather", ["table", "input_ids"], ["last_hidden_state"])],
        "encoder",
        [helper.make_tensor_value_info(name, TensorProto.INT64, ["n", "t"]) for name in names],
        [
            helper.make_tensor_value_info(
                "last_hidden_state", TensorProto.FLOAT, ["n", "t", dimensions]
            )
        ],
        [numpy_helper.from_array(rows, "table")],
    )
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=9)
    onnx.save(model, str(directory / "model.onnx"))
    for name, value in settings.items():
        (directory / f"{name}.json").write_text(json.dumps(value))
    return directory


def _rest_of_words() -> Any:
    from tokenizers import Regex

    return Regex(r"(?<=\w{4})\w+")


def _vector(word: str, dimensions: int) -> np.ndarray[Any, np.dtype[np.float64]]:
    seed = int.from_bytes(hashlib.sha256(word.encode()).digest()[:8], "big")
    return np.random.default_rng(seed).standard_normal(dimensions)
