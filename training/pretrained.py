"""The encoder that the service ships, as both trainings begin with it, and what they write."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import torch
from safetensors.torch import load_file, save_file
from torch import nn
from transformers import BertConfig, BertModel

ROOT = Path(__file__).parent.parent
WORK = ROOT / "var" / "training"


def load_encoder(base: Path, frozen_layers: int) -> BertModel:
    """Return the encoder without dropout; its embeddings and lowest layers are not trained.

    Args:
        base: The directory of its weights.
    """
    config = BertConfig.from_json_file(base / "config.json")
    config.attention_probs_dropout_prob = config.hidden_dropout_prob = 0.0
    # Twice as fast in bfloat16 on a CPU as the fused attention.
    config._attn_implementation = "eager"
    bert = BertModel(config, add_pooling_layer=False)
    weights = {k: v for k, v in load_file(base / "model.safetensors").items() if "pooler" not in k}
    missing, _ = bert.load_state_dict(weights, strict=False)
    assert not [name for name in missing if "position_ids" not in name], missing
    for part in (bert.embeddings, *bert.encoder.layer[:frozen_layers]):
        for parameter in part.parameters():
            parameter.requires_grad = False
    return bert


def load_examples() -> tuple[list[Any], list[dict[str, Any]]]:
    """Return the windows of each passage, and the questions, that `prepare.py` wrote."""
    lines = (WORK / "questions.jsonl").read_text().splitlines()
    return json.loads((WORK / "windows.json").read_text()), [json.loads(line) for line in lines]


def load_items() -> list[dict[str, Any]]:
    """Return the items that questions refer to by their number."""
    lines = (ROOT / "training" / "items.jsonl").read_text().splitlines()
    return [json.loads(line) for line in lines]


def load_neighbours() -> list[list[list[int]]]:
    """Return what `neighbours.py` wrote: for each item, the items nearest to its questions."""
    result: list[list[list[int]]] = json.loads((WORK / "neighbours.json").read_text())
    return result


def load_trained(model: nn.Module, path: Path) -> None:
    """Load what `save_trained` wrote."""
    saved = load_file(path)
    with torch.no_grad():
        for name, parameter in model.named_parameters():
            if parameter.requires_grad:
                parameter.copy_(saved[name.removeprefix("bert.")])


def save_trained(model: nn.Module, path: Path) -> None:
    """Write all weights of a model but the frozen ones."""
    kept = {
        name.removeprefix("bert."): parameter.detach().contiguous()
        for name, parameter in model.named_parameters()
        if parameter.requires_grad
    }
    save_file(kept, path)
