"""What the files beside an encoder say about how its texts are turned into vectors."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

#: How the vectors of tokens become one: their mean, the first, the last, or the model does it.
Pooling = Literal["mean", "first", "last"]

_MAX_FILE = 200_000
_DEFAULT_TOKENS, _MAX_TOKENS = 256, 8192
#: Names of settings, in the order in which they decide.
_LENGTHS = ("max_tokens", "max_seq_length", "model_max_length", "max_position_embeddings")
_POOLINGS: dict[str, Pooling] = {
    "pooling_mode_cls_token": "first",
    "pooling_mode_lasttoken": "last",
    "pooling_mode_mean_tokens": "mean",
}
_QUESTION_PROMPTS = ("query", "question", "search_query")
_PASSAGE_PROMPTS = ("passage", "document", "search_document", "corpus")


@dataclass(frozen=True, slots=True)
class DirectoryFacts:
    """How an encoder is used, as far as its files say; prefixes are written before texts."""

    name: str
    max_tokens: int
    pooling: Pooling
    question_prefix: str
    passage_prefix: str


def directory_facts(directory: Path) -> DirectoryFacts:
    """Read the settings in a directory's JSON files, whatever these are called."""
    found: dict[str, Any] = {}
    for settings in _settings(directory):
        for name, value in settings.items():
            found.setdefault(name, value)
    prompts = found.get("prompts")
    named = prompts if isinstance(prompts, dict) else {}
    return DirectoryFacts(
        name=str(found.get("name") or directory.name),
        max_tokens=_max_tokens(found),
        pooling=next((kind for key, kind in _POOLINGS.items() if found.get(key) is True), "mean"),
        question_prefix=_prompt(named, _QUESTION_PROMPTS),
        passage_prefix=_prompt(named, _PASSAGE_PROMPTS),
    )


def _settings(directory: Path) -> Iterator[dict[str, Any]]:
    """Yield the JSON objects in a directory and those below it, our own first."""
    files = [*directory.glob("*.json"), *directory.glob("*/*.json")]
    for file in sorted(files, key=lambda path: (path.name != "embedder.json", str(path))):
        if file.name == "tokenizer.json" or file.stat().st_size > _MAX_FILE:
            continue
        try:
            value = json.loads(file.read_text())
        except (ValueError, OSError):
            continue
        if isinstance(value, dict):
            yield value


def _max_tokens(found: dict[str, Any]) -> int:
    for name in _LENGTHS:
        value = found.get(name)
        # Libraries write an enormous number where there is no limit.
        if isinstance(value, int | float) and 0 < value <= _MAX_TOKENS:
            return int(value)
    return _DEFAULT_TOKENS


def _prompt(prompts: dict[str, Any], names: tuple[str, ...]) -> str:
    return next((str(prompts[name]) for name in names if name in prompts), "")
