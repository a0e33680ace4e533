"""Build the embedder's model file: a BERT sentence encoder as an int8 ONNX graph.

The graph follows Devlin et al., "BERT: Pre-training of Deep Bidirectional Transformers" (2019),
with the mean pooling and L2 normalisation of Reimers and Gurevych, "Sentence-BERT" (2019). Weights
and vocabulary are read from a directory with `model.safetensors`, `config.json` and
`tokenizer.json`.
"""

from __future__ import annotations

import json
import shutil
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper
from safetensors.numpy import load_file

_OPSET = 17


class _Graph:
    """Collects nodes and weights.

    Each method adds an operation and returns its output.
    """

    def __init__(self, weights: dict[str, np.ndarray[Any, Any]]) -> None:
        self.nodes: list[Any] = []
        self.initializers: list[Any] = []
        self._weights = weights
        self._count = 0

    def op(self, kind: str, *inputs: str, **attributes: Any) -> str:
        self._count += 1
        output = f"{kind.lower()}_{self._count}"
        self.nodes.append(helper.make_node(kind, list(inputs), [output], name=output, **attributes))
        return output

    def constant(self, value: np.ndarray[Any, Any], name: str | None = None) -> str:
        self._count += 1
        name = name or f"constant_{self._count}"
        self.initializers.append(numpy_helper.from_array(np.ascontiguousarray(value), name))
        return name

    def weight(self, name: str, *, transpose: bool = False) -> str:
        value = self._weights[name]
        return self.constant(value.T if transpose else value, name)

    def linear(self, x: str, layer: str) -> str:
        product = self.op("MatMul", x, self.weight(f"{layer}.weight", transpose=True))
        return self.op("Add", product, self.weight(f"{layer}.bias"))

    def layer_norm(self, x: str, layer: str, epsilon: float) -> str:
        scale, bias = self.weight(f"{layer}.weight"), self.weight(f"{layer}.bias")
        return self.op("LayerNormalization", x, scale, bias, axis=-1, epsilon=epsilon)


def _ints(*values: int) -> np.ndarray[Any, Any]:
    return np.array(values, dtype=np.int64)


def _attention(graph: _Graph, x: str, mask: str, prefix: str, heads: int, size: int) -> str:
    shape = graph.constant(_ints(0, 0, heads, size // heads))

    def split(name: str, order: list[int]) -> str:
        projected = graph.linear(x, f"{prefix}.attention.self.{name}")
        return graph.op("Transpose", graph.op("Reshape", projected, shape), perm=order)

    query = split("query", [0, 2, 1, 3])
    key = split("key", [0, 2, 3, 1])
    value = split("value", [0, 2, 1, 3])
    scale = graph.constant(np.array((size // heads) ** 0.5, dtype=np.float32))
    scores = graph.op("Add", graph.op("Div", graph.op("MatMul", query, key), scale), mask)
    mixed = graph.op("MatMul", graph.op("Softmax", scores, axis=-1), value)
    joined = graph.op("Transpose", mixed, perm=[0, 2, 1, 3])
    return graph.op("Reshape", joined, graph.constant(_ints(0, 0, size)))


def _gelu(graph: _Graph, x: str) -> str:
    root = graph.constant(np.array(2.0**0.5, dtype=np.float32))
    erf = graph.op("Erf", graph.op("Div", x, root))
    one = graph.constant(np.array(1.0, dtype=np.float32))
    half = graph.constant(np.array(0.5, dtype=np.float32))
    return graph.op("Mul", graph.op("Mul", x, graph.op("Add", erf, one)), half)


def build_graph(
    weights: dict[str, np.ndarray[Any, Any]], config: dict[str, Any]
) -> onnx.ModelProto:
    """Return the float32 sentence encoder as an ONNX graph.

    Inputs: `input_ids` and `attention_mask` (int64, batch x length). Output: `embedding` (float32,
    batch x hidden size, unit length).
    """
    graph = _Graph(weights)
    size, heads, epsilon = (
        config["hidden_size"],
        config["num_attention_heads"],
        config["layer_norm_eps"],
    )
    # Slicing by Shape(start, end) keeps the position embedding in a form that can be fused.
    length = graph.op("Shape", "input_ids", start=1, end=2)
    positions = graph.op(
        "Slice",
        graph.constant(np.arange(config["max_position_embeddings"], dtype=np.int64)),
        graph.constant(_ints(0)),
        length,
    )
    words = graph.op("Gather", graph.weight("embeddings.word_embeddings.weight"), "input_ids")
    places = graph.op("Gather", graph.weight("embeddings.position_embeddings.weight"), positions)
    kind = graph.constant(weights["embeddings.token_type_embeddings.weight"][0])
    x = graph.op("Add", graph.op("Add", words, places), kind)
    x = graph.layer_norm(x, "embeddings.LayerNorm", epsilon)

    mask = graph.op("Cast", "attention_mask", to=TensorProto.FLOAT)
    wide = graph.op("Unsqueeze", mask, graph.constant(_ints(1, 2)))
    one = graph.constant(np.array(1.0, dtype=np.float32))
    hidden_out = graph.constant(np.array(-10000.0, dtype=np.float32))
    attention_mask = graph.op("Mul", graph.op("Sub", one, wide), hidden_out)

    for layer in range(config["num_hidden_layers"]):
        prefix = f"encoder.layer.{layer}"
        attended = graph.linear(
            _attention(graph, x, attention_mask, prefix, heads, size),
            f"{prefix}.attention.output.dense",
        )
        x = graph.layer_norm(
            graph.op("Add", attended, x), f"{prefix}.attention.output.LayerNorm", epsilon
        )
        inner = _gelu(graph, graph.linear(x, f"{prefix}.intermediate.dense"))
        x = graph.layer_norm(
            graph.op("Add", graph.linear(inner, f"{prefix}.output.dense"), x),
            f"{prefix}.output.LayerNorm",
            epsilon,
        )

    column = graph.op("Unsqueeze", mask, graph.constant(_ints(2)))
    axis = graph.constant(_ints(1))
    total = graph.op("ReduceSum", graph.op("Mul", x, column), axis, keepdims=0)
    mean = graph.op("Div", total, graph.op("ReduceSum", column, axis, keepdims=0))
    norm = graph.op("ReduceL2", mean, axes=[1], keepdims=1)
    graph.nodes.append(helper.make_node("Div", [mean, norm], ["embedding"], name="embedding"))

    def ids(name: str) -> Any:
        return helper.make_tensor_value_info(name, TensorProto.INT64, ["batch", "length"])

    output = helper.make_tensor_value_info("embedding", TensorProto.FLOAT, ["batch", size])
    body = helper.make_graph(
        graph.nodes,
        "sentence_encoder",
        [ids("input_ids"), ids("attention_mask")],
        [output],
        graph.initializers,
    )
    model = helper.make_model(body, opset_imports=[helper.make_opsetid("", _OPSET)])
    model.ir_version = 8
    onnx.checker.check_model(model)
    return model


def prepare(weights_directory: Path, target: Path, name: str) -> None:
    """Write `model.onnx` (int8), `tokenizer.json` and `embedder.json`, all or nothing.

    Raises:
        FileNotFoundError: `weights_directory` lacks one of the three files it needs.
    """
    from onnxruntime.quantization import QuantType, quantize_dynamic

    config = json.loads((weights_directory / "config.json").read_text())
    weights = load_file(weights_directory / "model.safetensors")
    target.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=target.parent) as scratch:
        work = Path(scratch) / "embedder"
        work.mkdir()
        plain = Path(scratch) / "float.onnx"
        onnx.save(build_graph(weights, config), str(plain))
        # A scale per output channel keeps vectors within 0.99 of the float32 ones; one scale per
        # matrix, 0.95.
        quantize_dynamic(
            str(plain), str(work / "model.onnx"), weight_type=QuantType.QInt8, per_channel=True
        )
        shutil.copy(weights_directory / "tokenizer.json", work / "tokenizer.json")
        about = {"name": name, "dimensions": config["hidden_size"], "max_tokens": 256}
        (work / "embedder.json").write_text(json.dumps(about, indent=2) + "\n")
        if target.exists():
            shutil.rmtree(target)
        work.rename(target)
