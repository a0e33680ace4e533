"""Commands that delete something ask first, unless `--yes` is passed."""

from __future__ import annotations

import argparse

from fontanel.cli.context import Context


def ask_first(parser: argparse.ArgumentParser, question: str) -> None:
    """Make a command ask before it runs.

    Args:
        parser: The command's parser.
        question: What to ask; names of arguments in braces are replaced by their values.
    """
    yes_option(parser)
    parser.set_defaults(asks_first=question)


def yes_option(parser: argparse.ArgumentParser) -> None:
    """Add `--yes`, for a command that asks its own question."""
    parser.add_argument("--yes", action="store_true", help="do not ask")


def confirmed(context: Context, options: argparse.Namespace) -> bool:
    """Return whether a command may run: a person agreed, or there was nothing to ask."""
    question: str | None = getattr(options, "asks_first", None)
    if question is None or options.yes:
        return True
    return context.confirm(question.format(**vars(options)))
