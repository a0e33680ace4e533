"""Options that several commands about documents share."""

from __future__ import annotations

import argparse
from pathlib import Path

from fontanel.cli.context import UsageProblem
from fontanel.schemas import Columns, Splitting


def splitting_options(parser: argparse.ArgumentParser) -> None:
    """How documents are cut into passages, sizes in the embedder's tokens."""
    parser.add_argument(
        "--target", type=int, metavar="TOKENS", help="target size of a passage (default: 300)"
    )
    parser.add_argument(
        "--min-tokens",
        type=int,
        metavar="TOKENS",
        help="merge smaller passages with a neighbour (default: 120)",
    )
    parser.add_argument(
        "--overlap-tokens",
        type=int,
        metavar="TOKENS",
        help="sentences repeated from the passage before (default: 0)",
    )
    parser.add_argument(
        "--table-mode",
        choices=["packed", "single"],
        help="several rows per passage, or one (default: packed)",
    )
    parser.add_argument(
        "--windows",
        action=argparse.BooleanOptionalAction,
        help="also embed every few sentences (default: yes)",
    )
    parser.add_argument(
        "--compact",
        action=argparse.BooleanOptionalAction,
        help="store vectors as bytes, a quarter of the size (default: no)",
    )


def splitting_of(options: argparse.Namespace) -> Splitting | None:
    """Return the splitting settings that were passed, None without any.

    Raises:
        UsageProblem: the settings contradict each other.
    """
    values = {
        "target_tokens": options.target,
        "min_tokens": options.min_tokens,
        "overlap_tokens": options.overlap_tokens,
        "table_mode": options.table_mode,
        "windows": options.windows,
        "compact": options.compact,
    }
    chosen = {name: value for name, value in values.items() if value is not None}
    try:
        return Splitting.model_validate(chosen) if chosen else None
    except ValueError as error:
        raise UsageProblem(f"These sizes do not fit each other: {error}") from error


def column_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--text-column",
        action="append",
        default=[],
        metavar="NAME",
        help="make documents of a table's rows, with the text of this column; may be repeated",
    )
    parser.add_argument("--title-column", metavar="NAME", help="the column that names a row")
    parser.add_argument(
        "--tag-column",
        action="append",
        default=[],
        metavar="NAME",
        help="a column that becomes a tag",
    )


def columns_of(options: argparse.Namespace) -> Columns | None:
    """Return the meaning of the columns, None when no option was passed.

    Raises:
        UsageProblem: an option is incomplete.
    """
    if not options.text_column:
        if options.title_column or options.tag_column:
            raise UsageProblem("Name the columns with text with --text-column.")
        return None
    return Columns(text=options.text_column, title=options.title_column, tags=options.tag_column)


def filter_options(parser: argparse.ArgumentParser) -> None:
    """Restrict a search or a question to some documents."""
    tag_option(parser, "only documents with this tag")
    parser.add_argument(
        "--document", action="append", metavar="NAME", help="only this document; may be repeated"
    )


def tag_option(parser: argparse.ArgumentParser, purpose: str) -> None:
    """Add `--tag KEY=VALUE`, whose values `parse_tags` reads."""
    parser.add_argument(
        "--tag",
        action="append",
        default=[],
        metavar="KEY=VALUE",
        help=f"{purpose}; may be repeated",
    )


def parse_tags(pairs: list[str]) -> dict[str, str]:
    tags = {}
    for pair in pairs:
        key, mark, value = pair.partition("=")
        if not mark or not key or not value:
            raise UsageProblem(f"{pair!r} is not a tag. Write key=value.")
        tags[key] = value
    return tags


def files_below(paths: list[str]) -> list[tuple[Path, str]]:
    """Return each file with its document name: its file name, or its path in the folder."""
    results: list[tuple[Path, str]] = []
    for name in paths:
        path = Path(name)
        if path.is_dir():
            inside = sorted(
                p
                for p in path.rglob("*")
                if p.is_file()
                and not any(part.startswith(".") for part in p.relative_to(path).parts)
            )
            results += [(p, p.relative_to(path).as_posix()) for p in inside]
        elif path.is_file():
            results.append((path, path.name))
        else:
            raise UsageProblem(f"There is no file {name}.")
    if not results:
        raise UsageProblem("There are no files in these paths.")
    return results
