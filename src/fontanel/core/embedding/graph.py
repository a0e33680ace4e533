"""BERT encoders as ONNX graphs.

The graph follows Devlin et al., "BERT: Pre-training of Deep Bidirectional Transformers" (2019).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

_OPSET = 17


class Graph:
    """Collects nodes and weights.

    Each method adds an operation and returns its output.
    """

    def __init__(self, weights: dict[str, np.ndarray[Any, Any]]) -> None:
        self.nodes: list[Any] = []
        self.initializers: list[Any] = []
        self.weights = weights
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
        value = self.weights[name]
        return self.constant(value.T if transpose else value, name)

    def linear(self, x: str, layer: str) -> str:
        product = self.op("MatMul", x, self.weight(f"{layer}.weight", transpose=True))
        return self.op("Add", product, self.weight(f"{layer}.bias"))

    def layer_norm(self, x: str, layer: str, epsilon: float) -> str:
        scale, bias = self.weight(f"{layer}.weight"), self.weight(f"{layer}.bias")
        return self.op("LayerNormalization", x, scale, bias, axis=-1, epsilon=epsilon)


def ints(*values: int) -> np.ndarray[Any, Any]:
    return np.array(values, dtype=np.int64)


def _attention(graph: Graph, x: str, mask: str, prefix: str, heads: int, size: int) -> str:
    shape = graph.constant(ints(0, 0, heads, size // heads))

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
    return graph.op("Reshape", joined, graph.constant(ints(0, 0, size)))


def _gelu(graph: Graph, x: str) -> str:
    root = graph.constant(np.array(2.0**0.5, dtype=np.float32))
    erf = graph.op("Erf", graph.op("Div", x, root))
    one = graph.constant(np.array(1.0, dtype=np.float32))
    half = graph.constant(np.array(0.5, dtype=np.float32))
    return graph.op("Mul", graph.op("Mul", x, graph.op("Add", erf, one)), half)


def encoder(graph: Graph, config: Mapping[str, Any], *, kinds: bool = False) -> tuple[str, str]:
    """Add a BERT encoder to a graph.

    Its inputs are `input_ids` and `attention_mask`, int64 (batch, length).

    Args:
        config: The sizes, by their names in `config.json`.
        kinds: `token_type_ids` are a third input; otherwise all tokens are of kind 0.

    Returns:
        The names of the hidden states (batch, length, size) and of the mask as float32.
    """
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
        graph.constant(ints(0)),
        length,
    )
    words = graph.op("Gather", graph.weight("embeddings.word_embeddings.weight"), "input_ids")
    places = graph.op("Gather", graph.weight("embeddings.position_embeddings.weight"), positions)
    if kinds:
        kind = graph.op(
            "Gather", graph.weight("embeddings.token_type_embeddings.weight"), "token_type_ids"
        )
    else:
        kind = graph.constant(graph.weights["embeddings.token_type_embeddings.weight"][0])
    x = graph.op("Add", graph.op("Add", words, places), kind)
    x = graph.layer_norm(x, "embeddings.LayerNorm", epsilon)

    mask = graph.op("Cast", "attention_mask", to=TensorProto.FLOAT)
    wide = graph.op("Unsqueeze", mask, graph.constant(ints(1, 2)))
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
    return x, mask


def finish(
    graph: Graph, name: str, inputs: Sequence[str], outputs: Mapping[str, Sequence[Any]]
) -> Any:
    """Return a graph as a checked model.

    Args:
        inputs: The names of its int64 inputs, each (batch, length).
        outputs: The shapes of its float32 outputs, by name.
    """
    body = helper.make_graph(
        graph.nodes,
        name,
        [
            helper.make_tensor_value_info(one, TensorProto.INT64, ["batch", "length"])
            for one in inputs
        ],
        [
            helper.make_tensor_value_info(one, TensorProto.FLOAT, list(shape))
            for one, shape in outputs.items()
        ],
        graph.initializers,
    )
    model = helper.make_model(body, opset_imports=[helper.make_opsetid("", _OPSET)])
    model.ir_version = 8
    onnx.checker.check_model(model)
    return model


def quantize(plain: Path, target: Path) -> None:
    """Write a float32 model with int8 weights.

    A scale per output channel keeps vectors within 0.99 of the float32 ones; one scale per matrix,
    0.95.
    """
    from onnxruntime.quantization import QuantType, quantize_dynamic

    quantize_dynamic(str(plain), str(target), weight_type=QuantType.QInt8, per_channel=True)
