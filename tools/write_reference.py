"""Write the reference pages docs/{cli,settings,problems}.md: `make reference`."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from fontanel.cli.main import EXIT_CODES
from fontanel.cli.parser import build_parser
from fontanel.service.problems import PROBLEMS
from fontanel.settings import Settings

DOCS = Path(__file__).parent.parent / "docs"


def cli() -> str:
    """Every command's help, as argparse gives it at 100 columns."""
    os.environ["COLUMNS"] = "100"
    out = [
        "# Command line",
        "",
        "Made from the commands themselves by `make reference`; a test fails when it lags behind.",
        "",
    ]
    out += [
        "| exit code | meaning |",
        "| --- | --- |",
        *(f"| {code} | {meaning} |" for code, meaning in EXIT_CODES.items()),
    ]

    def visit(parser: argparse.ArgumentParser) -> None:
        subparsers = [
            action for action in parser._actions if isinstance(action, argparse._SubParsersAction)
        ]
        out.extend(["", f"## {parser.prog}", "", "```text", parser.format_help().rstrip(), "```"])
        for action in subparsers:
            for child in action.choices.values():
                visit(child)

    visit(build_parser())
    return "\n".join(out) + "\n"


def settings() -> str:
    out = ["# Settings", "", "Environment variables of the service. Made by `make reference`.", ""]
    out += ["| variable | default | meaning |", "| --- | --- | --- |"]
    for name, field in Settings.model_fields.items():
        default = "" if field.default is None else field.default
        out.append(f"| `FONTANEL_{name.upper()}` | {default} | {field.description} |")
    return "\n".join(out) + "\n"


def problems() -> str:
    out = [
        "# Problems",
        "",
        (
            "Every error is a problem detail (RFC 9457) of one of these types. Made by `make"
            " reference`."
        ),
        "",
    ]
    out += ["| type | status | title |", "| --- | --- | --- |"]
    out += [
        f"| `urn:fontanel:problem:{kind}` | {status} | {title} |"
        for kind, (status, title) in PROBLEMS.items()
    ]
    return "\n".join(out) + "\n"


PAGES = {"cli.md": cli, "settings.md": settings, "problems.md": problems}

if __name__ == "__main__":
    for name, make in PAGES.items():
        (DOCS / name).write_text(make())
