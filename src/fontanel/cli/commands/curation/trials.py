"""`fontanel trial`: trials of question sets, and their comparison."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from typing import Any, Literal

from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn
from rich.text import Text

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, number, percent
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.desk_settings import add_any_setting, any_settings
from fontanel.schemas import (
    ComparedAnswer,
    ShareOut,
    TrialComparison,
    TrialOut,
    TrialResultOut,
)

_RESULTS = (
    "right",
    "wrong",
    "declined",
    "declined_rightly",
    "not_declined",
    "unjudged",
    "failed",
)
_Version = int | Literal["draft"] | None
#: Probability below which a difference is called one.
_CHANCE = 0.05


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    run = verb(group, "run", run_trial, "ask the questions of a set and judge the answers", common)
    run.add_argument("question_set", metavar="SET")
    target = run.add_mutually_exclusive_group(required=True)
    target.add_argument("--desk", help="ask this desk")
    target.add_argument("--kb", help="ask this knowledge base")
    run.add_argument(
        "--version",
        type=_version,
        help="the desk's version, or 'draft'; default: what is published",
    )
    run.add_argument("--edition", type=int, help="an edition of the knowledge base")
    run.add_argument(
        "--against",
        type=_version,
        metavar="VERSION",
        help="ask another version of the desk first, or 'draft', and compare both",
    )
    run.add_argument(
        "--compare-with", metavar="TRIAL", help="compare it with this trial when it is done"
    )
    run.add_argument("--max-tokens", type=int, help="pause when it used as many tokens of a model")
    run.add_argument("--no-wait", action="store_true", help="do not wait until it is done")
    add_any_setting(run)

    listed = verb(group, "list", list_trials, "list trials, newest first", common)
    listed.add_argument("--set", help="only of this question set")
    listed.add_argument("--desk", help="only of this desk")

    show = verb(group, "show", show_trial, "show the figures and results of a trial", common)
    show.add_argument("--result", choices=_RESULTS, help="only answers with this result")
    show.add_argument("--all", action="store_true", help="also the answers that are right")
    compare = verb(group, "compare", compare_trials, "compare two trials", common)
    compare.add_argument("before", metavar="BEFORE")
    compare.add_argument("after", metavar="AFTER")
    stop = verb(group, "stop", stop_trial, "stop a trial", common)
    resume = verb(group, "resume", resume_trial, "resume a stopped or paused trial", common)
    resume.add_argument("--max-tokens", type=int, help="a new budget of tokens")
    resume.add_argument("--no-wait", action="store_true", help="do not wait until it is done")
    export = verb(group, "export", export_trial, "print the results as JSON Lines", common)
    delete = verb(group, "delete", delete_trial, "delete a trial and its records", common)
    ask_first(delete, "Delete {trial} and the records of its answers?")
    for parser in (show, stop, resume, export, delete):
        parser.add_argument("trial", metavar="ID")


def _version(text: str) -> _Version:
    if text == "draft":
        return "draft"
    try:
        return int(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is neither a version nor 'draft'") from None


def run_trial(context: Context, options: argparse.Namespace) -> int:
    if options.kb is not None and (options.version or options.against) is not None:
        raise UsageProblem("Only a desk has versions.")
    settings = any_settings(options)
    before = options.compare_with

    def begin(version: _Version, changed: dict[str, Any], pair: str | None) -> TrialOut:
        return context.client.begin_trial(
            options.question_set,
            desk=options.desk,
            version=version,
            kb=options.kb,
            edition=options.edition,
            settings=changed,
            max_tokens=options.max_tokens,
            compare_with=pair,
        )

    if options.against is not None:
        before = begin(options.against, {}, None).id
    trial = begin(options.version, settings, before)
    if options.no_wait:
        context.show(trial, f"Started {trial.id}: {trial.label}.")
        return 0
    if options.against is not None:
        _follow(context, before)
    trial = _follow(context, trial.id)
    if before is None or trial.state != "done":
        _print(context, trial, context.client.list_trial_results(trial.id))
    else:
        _print_comparison(context, context.client.compare_trials(before, trial.id))
    return 0 if trial.state == "done" else 1


def _follow(context: Context, trial_id: str) -> TrialOut:
    """Show the progress of a trial until it is done, paused or stopped."""
    columns = (
        TextColumn("{task.description}"),
        BarColumn(30),
        TextColumn("{task.completed}/{task.total}"),
        TimeElapsedColumn(),
    )
    with Progress(*columns, console=context.err, disable=not context.lively) as progress:
        task = progress.add_task("waiting", total=None)

        def update(trial: TrialOut) -> None:
            right = trial.figures.right
            note = f"{right.count} of {right.of} right" if trial.asked else trial.state
            progress.update(task, description=note, total=trial.total, completed=trial.asked)

        return context.client.wait_for_trial(trial_id, progress=update)


def list_trials(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_trials(question_set=options.set, desk=options.desk)
    table = context.table(
        [
            (
                one.id,
                one.question_set,
                one.label,
                f"{one.state} {one.asked}/{one.total}" if one.state != "done" else "done",
                _share(one.figures.right),
                number(one.figures.tokens),
                moment(one.created_at),
            )
            for one in result
        ],
        id="left",
        set="left",
        asked="left",
        state="left",
        right="right",
        tokens="right",
        begun="left",
    )
    context.show(result, table if result else "No trials. Begin one with 'fontanel trial run'.")


def show_trial(context: Context, options: argparse.Namespace) -> None:
    trial = context.client.show_trial(options.trial)
    results = context.client.list_trial_results(options.trial, options.result)
    if options.result is None and not options.all and not context.json:
        results = [one for one in results if one.result not in ("right", "declined_rightly")]
    _print(context, trial, results)


def _print(context: Context, trial: TrialOut, results: Sequence[TrialResultOut]) -> None:
    if context.json:
        context.show([trial, *results])
        return
    figures = trial.figures
    context.say(Text.assemble((trial.label, "bold"), f"  {trial.set_name}, {trial.state}"))
    if trial.note:
        context.say(Text(trial.note, "yellow"))
    rows = [
        ("right", figures.right),
        ("answers that cite what was expected", figures.cited),
        ("declined rightly", figures.declined_rightly),
        ("declined wrongly", figures.declined_wrongly),
        *((f"right of {group.name or 'no kind'}", group.right) for group in figures.kinds),
    ]
    table = context.table(
        [(name, _share(share), _interval(share)) for name, share in rows if share.of],
        figure="left",
        share="right",
        interval="left",
    )
    context.say(table)
    facts = [f"{trial.asked} of {trial.total} asked"]
    if figures.median_seconds is not None and figures.p95_seconds is not None:
        facts.append(
            f"{figures.median_seconds:.2f} s in the median, {figures.p95_seconds:.2f} s at p95"
        )
    facts.append(f"{number(figures.tokens)} tokens")
    if figures.doubtful:
        facts.append(f"{figures.doubtful} statements not supported")
    context.say(Text(", ".join(facts), "dim"))
    for one in results:
        if one.result is not None:
            context.say(Text.assemble((f"{_word(one.result):>16}  ", "cyan"), one.question))
            context.say(Text(f"{'':18}{one.reason} {one.answer_id or ''}".rstrip(), "dim"))


def compare_trials(context: Context, options: argparse.Namespace) -> None:
    _print_comparison(context, context.client.compare_trials(options.before, options.after))


def _print_comparison(context: Context, comparison: TrialComparison) -> None:
    if context.json:
        context.show(comparison)
        return
    before, after = comparison.before, comparison.after
    for name, trial in (("before", before), ("after", after)):
        right = trial.figures.right
        context.say(f"{name:>7}  {_share(right):>14}  {_interval(right)}  {trial.label}")
    context.say(
        Text(
            f"{comparison.won} won, {comparison.lost} lost, {comparison.changed} changed,"
            f" {comparison.same} the same",
            "bold",
        )
    )
    if comparison.won + comparison.lost:
        chance = "may be chance" if comparison.probability > _CHANCE else "is hardly chance"
        context.say(
            Text(f"The difference {chance} (sign test, p = {comparison.probability:.3f}).", "dim")
        )
    for one in comparison.answers:
        if one.change != "same":
            _print_change(context, one)


def _print_change(context: Context, one: ComparedAnswer) -> None:
    context.say(Text.assemble((f"{one.change:>8}  ", "cyan"), one.question))
    for name, result in (("before", one.before), ("after", one.after)):
        text = " ".join(result.text.split())[:160]
        context.say(Text(f"{name:>18}  {_word(result.result or '')}: {text}", "dim"))


def stop_trial(context: Context, options: argparse.Namespace) -> None:
    trial = context.client.stop_trial(options.trial)
    context.show(trial, f"Stopped after {trial.asked} of {trial.total} questions.")


def resume_trial(context: Context, options: argparse.Namespace) -> int:
    trial = context.client.resume_trial(options.trial, options.max_tokens)
    if options.no_wait:
        context.show(trial, f"{trial.id} goes on.")
        return 0
    trial = _follow(context, trial.id)
    _print(context, trial, context.client.list_trial_results(trial.id))
    return 0 if trial.state == "done" else 1


def delete_trial(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_trial(options.trial)
    context.show([], "Deleted.")


def export_trial(context: Context, options: argparse.Namespace) -> None:
    """To standard output, as it is."""
    sys.stdout.write(context.client.export_trial(options.trial))


def _share(share: ShareOut) -> str:
    if not share.of:
        return "-"
    return f"{percent(share.count / share.of)} ({share.count}/{share.of})"


def _interval(share: ShareOut) -> str:
    return f"{percent(share.low)} to {percent(share.high)}" if share.of else ""


def _word(result: str) -> str:
    return result.replace("_", " ")
