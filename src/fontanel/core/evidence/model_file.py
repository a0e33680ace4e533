"""Build the evidence model's file from the encoder's weights and what training changed."""

from __future__ import annotations

import json
import shutil
import tempfile
from pathlib import Path
from typing import Any

import onnx
from onnx import helper

from fontanel.core.embedding.changes import changed_weights
from fontanel.core.embedding.graph import Graph, encoder, finish, ints, quantize

#: The trained changes, in files that are each less than 4 MB.
WEIGHTS = Path(__file__).parent / "weights"
NAME = "evidence-2"


def build_graph(weights: dict[str, Any], config: dict[str, Any]) -> Any:
    """Return the float32 evidence model as an ONNX graph.

    Inputs: `input_ids`, `token_type_ids` and `attention_mask` (int64, batch x length). Outputs:
    `relevance` (float32, batch) and `evidence` (float32, batch x length), logits.
    """
    graph = Graph(weights)
    x, _ = encoder(graph, config, kinds=True)
    first = graph.op("Gather", x, graph.constant(ints(0)), axis=1)
    for head, hidden, axes in (("relevance", first, ints(1, 2)), ("evidence", x, ints(2))):
        # Not a product of matrices, which would be stored as int8.
        scaled = graph.op("Mul", hidden, graph.constant(graph.weights[f"{head}.weight"][0]))
        total = graph.op("ReduceSum", scaled, graph.constant(axes), keepdims=0)
        bias = graph.weight(f"{head}.bias")
        graph.nodes.append(helper.make_node("Add", [total, bias], [head], name=head))
    return finish(
        graph,
        "evidence_model",
        ["input_ids", "token_type_ids", "attention_mask"],
        {"relevance": ("batch",), "evidence": ("batch", "length")},
    )


def prepare(weights_directory: Path, target: Path, changes: Path = WEIGHTS) -> None:
    """Write `model.onnx` (int8), `tokenizer.json` and `evidence.json`, all or nothing.

    Args:
        weights_directory: The encoder's `model.safetensors`, `config.json` and `tokenizer.json`.
        changes: The directory of the trained changes, `*.safetensors`.

    Raises:
        FileNotFoundError: a file that it needs does not exist.
    """
    weights = changed_weights(weights_directory, changes)
    config = json.loads((weights_directory / "config.json").read_text())
    target.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=target.parent) as scratch:
        work = Path(scratch) / "evidence"
        work.mkdir()
        plain = Path(scratch) / "float.onnx"
        onnx.save(build_graph(weights, config), str(plain))
        quantize(plain, work / "model.onnx")
        shutil.copy(weights_directory / "tokenizer.json", work / "tokenizer.json")
        (work / "evidence.json").write_text(json.dumps({"name": NAME}, indent=2) + "\n")
        if target.exists():
            shutil.rmtree(target)
        work.rename(target)
