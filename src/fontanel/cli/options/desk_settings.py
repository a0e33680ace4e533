"""Options for the settings of a desk."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from fontanel.cli.context import UsageProblem


def add_settings(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--kb",
        action="append",
        metavar="KB[=USE]",
        help="answer from this knowledge base, optionally with its use; may be repeated",
    )
    parser.add_argument("--purpose")
    parser.add_argument("--instructions", metavar="TEXT|@FILE", help="instructions for the model")
    parser.add_argument("--greeting")
    parser.add_argument("--model", help="the model that writes; '' for the built-in composer")
    parser.add_argument("--length", choices=["short", "medium", "long"])
    parser.add_argument("--layout", choices=["auto", "prose", "steps", "list", "table"])
    parser.add_argument(
        "--evidence-needed",
        dest="evidence_needed",
        type=float,
        help="decline below this likelihood, 0 to 1",
    )
    parser.add_argument(
        "--approved-needed",
        dest="approved_needed",
        type=float,
        help="serve an approved answer from this likelihood on, 0 to 1",
    )
    parser.add_argument("--passages", type=int)
    parser.add_argument(
        "--unsupported",
        choices=["mark", "remove"],
        help="what happens to statements that their sources do not support",
    )
    parser.add_argument("--audience", choices=["members", "link"])
    add_any_setting(parser)


def add_any_setting(parser: argparse.ArgumentParser) -> None:
    """Add `--set`, for every setting by its name."""
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=JSON",
        help="any setting by its name, for instance context_tokens=800",
    )


def given_settings(options: argparse.Namespace) -> dict[str, Any]:
    """Return the settings that the options name. Raises UsageProblem."""
    plain = (
        "purpose",
        "greeting",
        "length",
        "layout",
        "evidence_needed",
        "approved_needed",
        "passages",
        "unsupported",
        "audience",
    )
    texts: dict[str, Any] = {
        name: getattr(options, name) for name in plain if getattr(options, name) is not None
    }
    if options.kb:
        parts = [text.partition("=") for text in options.kb]
        texts["kbs"] = [{"kb": kb, "use_for": use} for kb, _, use in parts]
    if options.model is not None:
        texts["model"] = options.model or None
    if options.instructions is not None:
        path = options.instructions.removeprefix("@")
        texts["instructions"] = (
            Path(path).read_text() if options.instructions.startswith("@") else path
        )
    return texts | any_settings(options)


def any_settings(options: argparse.Namespace) -> dict[str, Any]:
    """Return the settings of `--set`. Raises UsageProblem."""
    texts: dict[str, Any] = {}
    for item in options.set:
        name, sign, value = item.partition("=")
        if not sign:
            raise UsageProblem(
                f"{item!r} is not a setting. Write it as name=value, such as context_tokens=800."
            )
        try:
            texts[name] = json.loads(value)
        except ValueError:
            texts[name] = value
    return texts
