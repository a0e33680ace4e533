"""Build the embedder's model file: a BERT sentence encoder as an int8 ONNX graph.

Mean pooling and L2 normalisation follow Reimers and Gurevych, "Sentence-BERT" (2019). Weights and
vocabulary are read from a directory with `model.safetensors`, `config.json` and `tokenizer.json`;
what training for questions changed is in the package.
"""

from __future__ import annotations

import json
import shutil
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import helper

from fontanel.core.embedding.changes import changed_weights
from fontanel.core.embedding.graph import Graph, encoder, finish, ints, quantize

#: The trained changes, in files that are each less than 4 MB.
WEIGHTS = Path(__file__).parent / "weights"
#: The name of the embedder with these changes. Another name has every edition built again.
NAME = "minilm-l6-384-questions-1"


def build_graph(
    weights: dict[str, np.ndarray[Any, Any]], config: dict[str, Any]
) -> onnx.ModelProto:
    """Return the float32 sentence encoder as an ONNX graph.

    Inputs: `input_ids` and `attention_mask` (int64, batch x length). Output: `embedding` (float32,
    batch x hidden size, unit length).
    """
    graph = Graph(weights)
    x, mask = encoder(graph, config)
    column = graph.op("Unsqueeze", mask, graph.constant(ints(2)))
    axis = graph.constant(ints(1))
    total = graph.op("ReduceSum", graph.op("Mul", x, column), axis, keepdims=0)
    mean = graph.op("Div", total, graph.op("ReduceSum", column, axis, keepdims=0))
    norm = graph.op("ReduceL2", mean, axes=[1], keepdims=1)
    graph.nodes.append(helper.make_node("Div", [mean, norm], ["embedding"], name="embedding"))

    return finish(
        graph,
        "sentence_encoder",
        ["input_ids", "attention_mask"],
        {"embedding": ("batch", config["hidden_size"])},
    )


def prepare(weights_directory: Path, target: Path, changes: Path = WEIGHTS) -> None:
    """Write `model.onnx` (int8), `tokenizer.json` and `embedder.json`, all or nothing.

    Args:
        weights_directory: The encoder's `model.safetensors`, `config.json` and `tokenizer.json`.
        changes: The directory of the trained changes, `*.safetensors`.

    Raises:
        FileNotFoundError: a file that it needs does not exist.
    """
    config = json.loads((weights_directory / "config.json").read_text())
    weights = changed_weights(weights_directory, changes)
    target.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=target.parent) as scratch:
        work = Path(scratch) / "embedder"
        work.mkdir()
        plain = Path(scratch) / "float.onnx"
        onnx.save(build_graph(weights, config), str(plain))
        quantize(plain, work / "model.onnx")
        shutil.copy(weights_directory / "tokenizer.json", work / "tokenizer.json")
        about = {"name": NAME, "dimensions": config["hidden_size"], "max_tokens": 256}
        (work / "embedder.json").write_text(json.dumps(about, indent=2) + "\n")
        if target.exists():
            shutil.rmtree(target)
        work.rename(target)
