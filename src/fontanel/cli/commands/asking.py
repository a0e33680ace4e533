"""`fontanel search`, `fontanel ask` and `fontanel conversation`."""

from __future__ import annotations

import argparse
import hashlib
import re
import sys
from collections.abc import Iterator, Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import Any

from rich.console import Console, Group
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fontanel.cli.commands.conversations import (
    delete_conversation,
    export_conversation,
    list_conversations,
    print_approval,
    print_sources,
    rename_conversation,
    show_conversation,
)
from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import percent
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.documents import filter_options, parse_tags
from fontanel.facts import DOUBTFUL
from fontanel.schemas import (
    AnswerOut,
    CheckEvent,
    CitationEvent,
    Event,
    ExplanationOut,
    FinishEvent,
    HitOut,
    PieceEvent,
    RestartEvent,
    SpanOut,
    StartEvent,
)
from fontanel.schemas.display import outdated_text, place


def add_commands(
    commands: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    ask = verb(
        commands,
        "ask",
        ask_question,
        "ask a question and get a cited answer",
        common,
        kb,
    )
    ask.add_argument("question")
    ask.add_argument(
        "--file",
        type=Path,
        help="ask this file, in a temporary knowledge base",
    )
    ask.add_argument("--desk", help="ask this desk instead of a knowledge base (FONTANEL_DESK)")
    ask.add_argument("--draft", action="store_true", help="ask the desk's draft")
    ask.add_argument("--version", type=int, metavar="NUMBER", help="ask this version of the desk")
    ask.add_argument("--conversation", metavar="ID", help="continue this conversation")
    filter_options(ask)
    search = verb(
        commands, "search", search_kb, "search a knowledge base and see the scores", common, kb
    )
    search.add_argument("question")
    search.add_argument(
        "--mode",
        choices=["hybrid", "lexical", "vector"],
        default="hybrid",
        help="keyword (lexical), semantic (vector) or both (default: hybrid)",
    )
    search.add_argument(
        "--deep",
        action="store_true",
        help="also rank the best passages by the evidence model",
    )
    search.add_argument("--limit", type=int, default=10, help="number of passages (default 10)")
    search.add_argument(
        "--per-document", type=int, default=3, help="maximum passages per document (default 3)"
    )
    filter_options(search)
    search.add_argument(
        "--plain",
        action="store_true",
        help='ignore the operators "a phrase", +required, -excluded and prefix*',
    )
    search.add_argument(
        "--keyword-weight",
        type=float,
        metavar="SHARE",
        help="the share of keywords in the score, 0 to 1",
    )
    search.add_argument("--newer", action="store_true", help="prefer recently changed documents")
    search.add_argument(
        "--boost",
        action="append",
        default=[],
        metavar="KEY=VALUE:FACTOR",
        help="multiply the scores of documents with a tag",
    )
    search.add_argument(
        "--edition",
        type=int,
        metavar="NUMBER",
        help="search this edition instead of the active one",
    )
    search.add_argument("--join", action="store_true", help="show adjacent passages as one")
    search.add_argument("--explain", action="store_true", help="show how each score is computed")


def add_conversation_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    result = verb(group, "list", list_conversations, "list your conversations", common, kb)
    result.add_argument("--text", metavar="TEXT", help="only conversations that contain this")
    show = verb(group, "show", show_conversation, "show the turns of a conversation", common, kb)
    rename = verb(group, "rename", rename_conversation, "rename a conversation", common, kb)
    export = verb(group, "export", export_conversation, "export a conversation", common, kb)
    delete = verb(group, "delete", delete_conversation, "delete a conversation", common, kb)
    ask_first(delete, "Delete the conversation {conversation}?")
    for one in (show, rename, export, delete):
        one.add_argument("conversation", metavar="ID")
    for one in (result, show, rename, export, delete):
        one.add_argument("--desk", metavar="DESK", help="at this desk instead of a knowledge base")
    rename.add_argument("title", metavar="TITLE")
    export.add_argument(
        "--form",
        choices=("markdown", "json"),
        default="markdown",
        help="Markdown with footnotes, or JSON",
    )


def search_kb(context: Context, options: argparse.Namespace) -> None:
    result = context.client.search(
        context.kb(),
        options.question,
        options.mode,
        options.limit,
        options.per_document,
        parse_tags(options.tag),
        options.document,
        depth="deep" if options.deep else "fast",
        operators=not options.plain,
        keyword_weight=options.keyword_weight,
        prefer_newer=options.newer,
        boost=dict(map(_boost, options.boost)),
        join_neighbours=options.join,
        edition=options.edition,
        explain=options.explain,
    )
    if context.json:
        context.show(result)
        return
    if result.keyword_only:
        print("fontanel: there is no embedder; used keyword search only", file=sys.stderr)
    if options.deep and result.depth == "fast":
        print("fontanel: there is no evidence model for this language", file=sys.stderr)
    for word, near in result.corrected.items():
        print(
            f"fontanel: no passage has {word!r}; searched for {' or '.join(near)}", file=sys.stderr
        )
    if result.unmatched:
        context.say(f"No document matches {', '.join(result.unmatched)}.", markup=False)
    elif not result.hits:
        context.say("Nothing found. Try other words, or --mode vector.")
    for number, hit in enumerate(result.hits, start=1):
        _print_hit(context, number, hit, options.mode)


def _print_hit(context: Context, number: int, hit: HitOut, mode: str) -> None:
    """Print a hit with its place, its scores, and its passage."""
    context.say(
        Text.assemble(
            (f"{number:>2}  ", "dim"),
            (f"{percent(hit.match):>5}  ", "bold"),
            (hit.title, "bold"),
            (f"  {place(hit.title, hit.locator)}", "dim"),
        )
    )
    scores = f"keywords {hit.lexical:.2f}"
    if mode != "lexical":
        cosine = hit.similarity
        scores += ", no vector yet" if cosine is None else f", cosine {cosine:.2f}"
    if hit.relevance is not None:
        scores += f", evidence {hit.relevance:.2f}"
    context.say(Text(f"           {scores}", "dim"))
    context.say(excerpt(hit.text, hit.highlights))
    for neighbour in hit.neighbours:
        side = "before it" if neighbour.start < hit.start else "after it"
        start = " ".join(neighbour.text.split())[:90]
        context.say(Text(f"           {side}: {start} …", "dim"))
    if hit.outdated:
        context.say(Text(f"           not in force: {outdated_text(hit.outdated)}", "yellow"))
    if hit.also:
        context.say(
            Text(f"           also in {', '.join(other.title for other in hit.also)}", "dim")
        )
    if hit.explanation:
        context.say(_explanation(hit.explanation))
    context.say()


def _boost(text: str) -> tuple[str, float]:
    tag, _, factor = text.rpartition(":")
    try:
        if "=" not in tag:
            raise ValueError(tag)
        return tag, float(factor)
    except ValueError as error:
        raise UsageProblem(
            f"{text!r} is not a boost. Write it as key=value:factor, such as kind=rule:1.3."
        ) from error


def _explanation(explanation: ExplanationOut) -> Padding:
    """Return how a score was computed, as a small table."""
    summed = f"keywords {explanation.keyword_part:.3f} + semantic {explanation.semantic_part:.3f}"
    if explanation.window is not None:
        summed += f" (nearest window {explanation.window:.2f})"
    if explanation.document_part:
        summed += f" + document {explanation.document_part:.3f}"
    if explanation.boost != 1:
        summed = f"({summed}) x boost {explanation.boost:.2f}"
    table = Table(
        "term",
        "weight",
        "score",
        "title",
        "heading",
        "body",
        "about",
        box=None,
        padding=(0, 2, 0, 0),
    )
    for term in explanation.terms:
        values = term.idf, term.score, term.title, term.heading, term.body, term.about
        table.add_row(
            term.term, *(f"{value:.2f}" if value else "-" for value in values), style="dim"
        )
    return Padding(Group(Text(summed, "dim"), table), (0, 0, 0, 11), expand=False)


def excerpt(passage: str, highlights: Sequence[SpanOut]) -> Padding:
    """Return the part of a passage around its first matching terms, the terms marked."""
    text = Text(passage)
    for span in highlights:
        text.stylize("bold underline", span.start, span.end)
    first = highlights[0].start if highlights else 0
    sentence = passage.rfind(". ", 0, first)
    start = sentence + 2 if first > 160 and sentence >= 0 else 0
    shown = Text("  ").join(text[start : start + 400].split("\t"))
    lines = [line for line in shown.split("\n") if line.plain.strip()]
    return Padding(Text("\n").join(lines), (0, 0, 0, 11), expand=False)


def ask_question(context: Context, options: argparse.Namespace) -> int:
    if options.file is not None:
        return _ask_file(context, options)
    desk = context.setting("desk")
    if desk is not None and not context.passed("kb"):
        return _ask_desk(context, desk, options)
    return _ask(context, context.kb(), options)


def _ask_desk(context: Context, desk: str, options: argparse.Namespace) -> int:
    if options.tag or options.document:
        raise UsageProblem(
            "--tag and --document narrow a knowledge base; a desk's own settings narrow a desk."
        )
    version: dict[str, Any] = {"draft": options.draft, "version": options.version}
    if context.json:
        context.show(
            context.client.ask_desk(desk, options.question, options.conversation, **version)
        )
        return 0
    return _print_events(
        context,
        context.client.stream_desk_answer(desk, options.question, options.conversation, **version),
        f"--desk {desk}" if context.passed("desk") else "",
    )


def _ask_file(context: Context, options: argparse.Namespace) -> int:
    path: Path = options.file
    if not path.is_file():
        raise UsageProblem(f"There is no file {path}.")
    client = context.client
    digest = hashlib.sha256(path.read_bytes()).hexdigest()[:12]
    name = f"Try {path.name[:60]} {digest}"
    # The same file was perhaps tried before; temporary knowledge bases are kept for a day.
    existing = (kb for kb in client.list_kbs() if kb.name == name and kb.expires_at is not None)
    kb = next(existing, None) or client.create_kb(name, temporary=True)
    with context.err.status(f"reading {path.name}") if context.lively else nullcontext():
        document = client.add_document(kb.id, path, wait=True).document
    if document.state == "failed":
        print(f"fontanel: {document.name}: {document.error}", file=sys.stderr)
        return 1
    return _ask(context, kb.slug, options, f"--kb {kb.slug}")


def _ask(context: Context, kb: str, options: argparse.Namespace, place: str = "") -> int:
    narrowed: dict[str, Any] = {"tags": parse_tags(options.tag), "documents": options.document}
    if context.json:
        context.show(context.client.ask(kb, options.question, options.conversation, **narrowed))
        return 0
    return _print_events(
        context,
        context.client.stream_answer(kb, options.question, options.conversation, **narrowed),
        place or (f"--kb {kb}" if context.passed("kb") else ""),
    )


def _print_events(context: Context, events: Iterator[Event], place: str) -> int:
    """Print an answer as it comes, then its sources, and how to ask a follow-up.

    Args:
        context: How to print.
        events: The answer's events.
        place: The options that name what was asked, for a follow-up.
    """
    finished: AnswerOut | None = None
    flow = _Flow(context.out)
    for event in events:
        if isinstance(event, StartEvent) and event.standalone != event.question:
            context.say(Text(f"Understood as: {event.standalone}\n", "dim"))
        elif isinstance(event, FinishEvent):
            finished = event.answer
        else:
            flow.write(*_as_text(event))
    context.say()
    if finished is not None:
        _print_doubts(context, finished)
        print_approval(context, finished)
        print_sources(context, finished)
        if finished.outcome != "small_talk":
            options = f"{place} --conversation {finished.conversation_id}".lstrip()
            context.say(Text(f"\nAsk a follow-up with {options}", "dim"))
    return 0


def _as_text(event: Event) -> tuple[str, str]:
    """Return what an event adds to the text, and its style."""
    if isinstance(event, PieceEvent):
        return event.text.replace("\t", "  "), ""
    if isinstance(event, CitationEvent):
        return f" [{event.citation.number}]", "cyan"
    if isinstance(event, CheckEvent) and event.statement.removed:
        return " (a statement was left out)", "yellow"
    if isinstance(event, CheckEvent) and event.statement.verdict in DOUBTFUL:
        return " (?)", "yellow"
    return ("\n\n" if isinstance(event, RestartEvent) else ""), ""


def _print_doubts(context: Context, answer: AnswerOut) -> None:
    """Print the answer's note, and the statements that their sources do not support."""
    if answer.note:
        context.say(Text(f"\n{answer.note}", "yellow"))
    for statement in answer.statements:
        if statement.verdict in DOUBTFUL and statement.reason:
            text = statement.removed or answer.text[statement.start : statement.end]
            context.say(Text(f"\n(?) {text}\n    {statement.reason}", "yellow"))
    for link in answer.links:
        context.say(Text(f"\n{link.title}: {link.url}", "dim"))


class _Flow:
    """Prints text as it comes, breaking lines between words."""

    def __init__(self, out: Console) -> None:
        self._out = out
        self._column = 0

    def write(self, text: str, style: str = "") -> None:
        for word in re.findall(r"\n|[^\S\n]*[^\s]+|[^\S\n]+", text):
            if word == "\n":
                self._column = 0
            elif self._column and self._column + len(word) > self._out.width:
                self._out.print()
                word = word.lstrip()
                self._column = len(word)
            else:
                self._column += len(word)
            self._out.print(Text(word, style), end="", soft_wrap=True)
