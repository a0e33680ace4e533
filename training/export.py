"""Write what training changed into the package, as low-rank differences from the base weights.

    training/export.py BASE TRAINED src/fontanel/core/evidence/weights

Each matrix's change is cut to its largest singular values (Eckart and Young, 1936), in float16;
vectors are stored whole.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

import numpy as np
from safetensors.numpy import load_file, save_file

#: Bytes of a file at most.
_MAX_BYTES = 3_900_000


def changes_of(
    base: dict[str, np.ndarray[Any, Any]],
    trained: dict[str, np.ndarray[Any, Any]],
    rank: int,
    share: float = 1.0,
) -> dict[str, np.ndarray[Any, Any]]:
    """Return the stored form of the trained weights.

    Args:
        share: How much of the change is taken, 0-1 (Wortsman et al., "Robust fine-tuning of
            zero-shot models", 2022).
    """
    changes: dict[str, np.ndarray[Any, Any]] = {}
    for name, full in sorted(trained.items()):
        value = base[name] + share * (full - base[name]) if name in base else full
        if value.ndim == 2 and name in base and min(value.shape) > rank:
            left, sizes, right = np.linalg.svd(value - base[name], full_matrices=False)
            root = np.sqrt(sizes[:rank])
            changes[f"{name}.left"] = (left[:, :rank] * root).astype(np.float16)
            changes[f"{name}.right"] = (root[:, None] * right[:rank]).astype(np.float16)
        else:
            changes[name] = value.astype(np.float16)
    return changes


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("base", type=Path, help="the directory of the encoder's weights")
    parser.add_argument("trained", type=Path, help="the file that training wrote")
    parser.add_argument("--rank", type=int, default=64)
    parser.add_argument("target", type=Path, help="the directory of the stored changes")
    parser.add_argument("--share", type=float, default=1.0, help="how much of the change is taken")
    arguments = parser.parse_args()
    base = load_file(arguments.base / "model.safetensors")
    changes = changes_of(base, load_file(arguments.trained), arguments.rank, arguments.share)
    arguments.target.mkdir(parents=True, exist_ok=True)
    for old in arguments.target.glob("*.safetensors"):
        old.unlink()
    files: list[dict[str, np.ndarray[Any, Any]]] = [{}]
    for name in sorted(changes):
        if name.endswith(".right"):
            continue
        group = {
            n: changes[n] for n in (name, name.removesuffix(".left") + ".right") if n in changes
        }
        size = sum(value.nbytes for value in (*files[-1].values(), *group.values()))
        if size > _MAX_BYTES:
            files.append({})
        files[-1] |= group
    for number, content in enumerate(files, 1):
        path = arguments.target / f"changes-{number}.safetensors"
        save_file(content, path)
        print(path, path.stat().st_size)


if __name__ == "__main__":
    main()
