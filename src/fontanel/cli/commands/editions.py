"""`fontanel edition`: several indexes of a knowledge base."""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import duration, moment, money, number, percent
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.documents import splitting_of, splitting_options
from fontanel.schemas import ComparedOut, EditionOut

_PAUSE = 0.5


def add_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    verb(group, "list", list_editions, "list a knowledge base's editions", common, kb)
    build = verb(
        group,
        "build",
        build_edition,
        "build a standby edition with other settings",
        common,
        kb,
    )
    splitting_options(build)
    estimated = verb(
        group,
        "estimate",
        estimate_edition,
        "estimate the tokens, cost and time of building an edition",
        common,
        kb,
    )
    for parser in (build, estimated):
        parser.add_argument(
            "--embedder",
            metavar="NAME",
            help="the embedder (default: that of the active edition; 'built-in': the service's)",
        )
    build.add_argument(
        "--budget", type=float, metavar="COST", help="pause when embedding has cost this much"
    )
    build.add_argument(
        "--no-wait",
        action="store_true",
        help="return immediately; 'edition list' shows the progress",
    )
    paused = verb(group, "pause", pause_edition, "pause the build of an edition", common, kb)
    paused.add_argument("edition", type=int, metavar="NUMBER")
    resumed = verb(group, "resume", resume_edition, "resume the build of an edition", common, kb)
    resumed.add_argument("edition", type=int, metavar="NUMBER")
    resumed.add_argument("--budget", type=float, metavar="COST", help="a new maximum cost")
    serve = verb(
        group, "activate", activate_edition, "switch searches and answers to an edition", common, kb
    )
    serve.add_argument("edition", type=int, metavar="NUMBER")
    compare = verb(group, "compare", compare_editions, "compare what two editions find", common, kb)
    compare.add_argument("first", type=int, metavar="NUMBER")
    compare.add_argument("second", type=int, metavar="NUMBER")
    compare.add_argument("questions", nargs="*", metavar="QUESTION")
    compare.add_argument(
        "--file",
        type=Path,
        help="questions, one per line, or JSON Lines with 'question' and optionally 'document'",
    )
    export = verb(
        group,
        "export",
        export_edition,
        "write an edition with its documents as one file",
        common,
        kb,
    )
    export.add_argument("edition", type=int, metavar="NUMBER")
    export.add_argument("file", type=Path, help="the file to write")
    take = verb(
        group,
        "import",
        import_pack,
        "create a knowledge base from an exported edition, without embedding",
        common,
    )
    take.add_argument("file", type=Path, help="a file that 'edition export' wrote")
    take.add_argument("--name", help="the new knowledge base's name (default: as exported)")
    drop = verb(group, "drop", drop_edition, "delete a standby edition", common, kb)
    ask_first(drop, "Delete edition {edition}?")
    drop.add_argument("edition", type=int, metavar="NUMBER")


def _row(edition: EditionOut) -> tuple[str, ...]:
    splitting = edition.splitting
    cuts = (
        f"{splitting.target_tokens} tokens, {splitting.overlap_tokens} repeated, rows"
        f" {splitting.table_mode}"
    )
    vectors = "windows" if splitting.windows else "no windows"
    if splitting.compact:
        vectors += ", compact"
    state: str = "active" if edition.active else edition.state
    if edition.state != "ready":
        state = f"{edition.state}, {edition.done} of {edition.total}"
        if edition.paused_by == "budget":
            state += ", budget used up"
        if edition.seconds_left is not None:
            state += f", about {edition.seconds_left:.0f} s left"
    if edition.replaces_active:
        state += ", then replaces the active one"
    if edition.outdated:
        state += ", outdated"
    if edition.failed:
        state += f", {edition.failed} failed"
    return (
        str(edition.number),
        state,
        cuts,
        vectors,
        number(edition.passages),
        edition.embedder or "none",
        _cost(edition),
        "all" if edition.recall is None else f"{edition.recall:.1%} of the nearest",
        moment(edition.created_at),
    )


def _cost(edition: EditionOut) -> str:
    """Return what embedding cost so far, and the budget."""
    if not edition.cost and edition.budget is None:
        return ""
    limit = "" if edition.budget is None else f" of {money(edition.budget)}"
    return f"{money(edition.cost)}{limit} {edition.currency}"


def list_editions(context: Context, options: argparse.Namespace) -> None:
    editions = context.client.list_editions(context.kb())
    table = context.table(
        [_row(edition) for edition in editions],
        edition="right",
        state="left",
        splitting="left",
        vectors="left",
        passages="right",
        embedder="left",
        cost="right",
        compared="left",
        made="left",
    )
    context.show(editions, table)


def build_edition(context: Context, options: argparse.Namespace) -> int:
    kb = context.kb()
    splitting = splitting_of(options)
    if splitting is None and options.embedder is None:
        raise UsageProblem(
            "Name a setting to change: --target, --min-tokens, --overlap-tokens, --table-mode,"
            " --windows, --compact or --embedder."
        )
    if splitting is None:
        splitting = context.client.show_kb(kb).splitting
    edition = context.client.build_edition(
        kb, splitting, embedder=options.embedder, budget=options.budget
    )
    requested = edition.number
    while edition.state == "building" and not options.no_wait:
        if context.lively:
            left = (
                "" if edition.seconds_left is None else f", about {edition.seconds_left:.0f} s left"
            )
            print(f"\r{edition.done} of {edition.total} documents{left}   ", end="", flush=True)
        time.sleep(_PAUSE)
        edition = next(
            item for item in context.client.list_editions(kb) if item.number == requested
        )
    if context.lively and not options.no_wait:
        print("\r", end="")
    if edition.state == "paused":
        context.show(edition, _paused(edition))
        return 1
    context.show(
        edition,
        f"Edition {requested} is {edition.state}. Switch to it with 'fontanel edition activate"
        f" {requested}'.",
    )
    return 1 if edition.failed else 0


def _paused(edition: EditionOut) -> str:
    why, option = "", ""
    if edition.paused_by == "budget":
        why, option = f" Its budget is used up ({_cost(edition)}).", " --budget COST"
    return (
        f"Edition {edition.number} is paused, {edition.done} of {edition.total} documents are"
        f" built.{why} Go on with 'fontanel edition resume {edition.number}{option}'."
    )


def pause_edition(context: Context, options: argparse.Namespace) -> None:
    edition = context.client.pause_edition(context.kb(), options.edition)
    context.show(edition, _paused(edition))


def resume_edition(context: Context, options: argparse.Namespace) -> None:
    edition = context.client.resume_edition(context.kb(), options.edition, budget=options.budget)
    context.show(
        edition,
        f"Edition {edition.number} is being built, {edition.done} of {edition.total} documents are"
        " done.",
    )


def estimate_edition(context: Context, options: argparse.Namespace) -> None:
    result = context.client.estimate_edition(context.kb(), options.embedder)
    cost = money(result.cost)
    about = "" if result.seconds is None else f", about {duration(result.seconds)}"
    context.show(
        result,
        f"{result.embedder or 'no embedder'}: {number(result.texts)} texts of"
        f" {number(result.passages)} passages, about {number(result.tokens)} tokens,"
        f" {cost} {result.currency}{about}.",
    )


def activate_edition(context: Context, options: argparse.Namespace) -> None:
    edition = context.client.activate_edition(context.kb(), options.edition)
    context.show(edition, f"Edition {edition.number} is active now.")


def drop_edition(context: Context, options: argparse.Namespace) -> None:
    context.client.drop_edition(context.kb(), options.edition)
    context.show([], f"Edition {options.edition} is dropped.")


def export_edition(context: Context, options: argparse.Namespace) -> None:
    if options.file.exists():
        raise UsageProblem(f"{options.file} is there already. Name another file.")
    context.client.export_edition(context.kb(), options.edition, options.file)
    context.show([], f"Wrote {options.file} ({options.file.stat().st_size / 1e6:.1f} MB).")


def import_pack(context: Context, options: argparse.Namespace) -> None:
    if not options.file.is_file():
        raise UsageProblem(f"There is no file {options.file}.")
    kb = context.client.import_pack(options.file, options.name)
    context.show(
        kb, f"Imported {kb.slug}: {number(kb.documents)} documents, {number(kb.passages)} passages."
    )


def compare_editions(context: Context, options: argparse.Namespace) -> None:
    questions: list[str | tuple[str, str]] = [*options.questions, *_questions(options.file)]
    if not questions:
        raise UsageProblem("Give questions to compare on, or --file.")
    result = context.client.compare_editions(context.kb(), options.first, options.second, questions)
    rows = [
        (item.question, *(_best(item, second=second) for second in (False, True)))
        for item in result.questions
    ]
    table = context.table(
        rows,
        question="left",
        **{f"edition {result.first}": "left", f"edition {result.second}": "left"},
    )
    context.show(result, table)
    if not context.json:
        same = f"The same document is best for {percent(result.same_best)} of the questions."
        if result.first_mrr is not None and result.second_mrr is not None:
            same += (
                f" Mean reciprocal rank of the expected: {result.first_mrr:.3f} and"
                f" {result.second_mrr:.3f}."
            )
        context.say(same)


def _best(item: ComparedOut, *, second: bool) -> str:
    names, rank = (item.second, item.second_rank) if second else (item.first, item.first_rank)
    best = names[0] if names else "nothing"
    return best if item.document is None else f"{best} (expected: {rank or 'not found'})"


def _questions(path: Path | None) -> list[str | tuple[str, str]]:
    if path is None:
        return []
    if not path.is_file():
        raise UsageProblem(f"There is no file {path}.")
    out: list[str | tuple[str, str]] = []
    for line in filter(str.strip, path.read_text().splitlines()):
        if not line.startswith("{"):
            out.append(line.strip())
            continue
        try:
            item = json.loads(line)
            question = item.pop("question")
        except (ValueError, KeyError) as error:
            raise UsageProblem(f"{path}: no question in the line {line[:60]!r}.") from error
        document = item.pop("document", None)
        if item:
            raise UsageProblem(
                f"{path}: {', '.join(sorted(item))} mean nothing here. A line has 'question' and"
                " optionally 'document', the name of the expected document."
            )
        out.append((question, document) if document else question)
    return out
