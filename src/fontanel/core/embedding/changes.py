"""What training changed in an encoder's weights, as files in the package."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from safetensors.numpy import load_file

from fontanel.core.arrays import Floats


def merged(base: Mapping[str, Floats], changes: Iterable[Mapping[str, Floats]]) -> dict[str, Any]:
    """Return an encoder's weights with changes applied.

    Args:
        changes: Weights that replace those of the base, by name; matrices `<name>.left` (rows,
            rank) and `<name>.right` (rank, columns), whose product is added to `<name>` (Hu et al.,
            "LoRA: Low-rank adaptation of large language models", 2021).
    """
    weights = dict(base)
    for change in changes:
        for name, value in change.items():
            full = value.astype(np.float32)
            if name.endswith(".left"):
                target = name.removesuffix(".left")
                right = change[f"{target}.right"].astype(np.float32)
                weights[target] = base[target] + full @ right
            elif not name.endswith(".right"):
                weights[name] = full
    return weights


def changed_weights(weights_directory: Path, changes: Path) -> dict[str, Any]:
    """Return the weights of `model.safetensors` with the changes of a directory applied.

    Raises:
        FileNotFoundError: the weights do not exist, or the directory has no `*.safetensors`.
    """
    files = sorted(changes.glob("*.safetensors"))
    if not files:
        raise FileNotFoundError(f"{changes} has no trained weights")
    return merged(load_file(weights_directory / "model.safetensors"), map(load_file, files))
