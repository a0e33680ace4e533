"""`fontanel kb`: knowledge bases."""

from __future__ import annotations

import argparse
from typing import Any

from fontanel.cli.context import Context
from fontanel.cli.format import moment, money, number
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.documents import splitting_of, splitting_options
from fontanel.facts import OutdatedRanking
from fontanel.schemas import DescribingOut, KbOut

_RANKED = {
    OutdatedRanking.LOWER: "ranked lower",
    OutdatedRanking.EQUAL: "ranked like any other",
    OutdatedRanking.EXCLUDE: "excluded from searches and answers",
}


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    listing = verb(group, "list", list_kbs, "list the team's knowledge bases", common)
    listing.add_argument(
        "--all", action="store_true", help="also the temporary ones, of files that were tried"
    )
    create = verb(group, "create", create_kb, "create a knowledge base", common)
    create.add_argument("name")
    create.add_argument("--description", default="", help="one line about its content")
    create.add_argument(
        "--describer", metavar="MODEL", help="the model that describes its documents"
    )
    create.add_argument(
        "--embedder", metavar="NAME", help="the embedder (default: the service's own)"
    )
    splitting_options(create)
    create.add_argument(
        "--transcriber", metavar="NAME", help="what transcribes its recordings (default: nothing)"
    )
    show = verb(group, "show", show_kb, "show a knowledge base", common)
    show.add_argument("kb", help="its short name or id")
    feed = verb(group, "feed", print_feed, "print its changed documents as an Atom feed", common)
    feed.add_argument("kb", help="its short name or id")
    rename = verb(group, "rename", rename_kb, "rename a knowledge base", common)
    rename.add_argument("kb", help="its short name or id")
    rename.add_argument("name", help="the new name")
    change = verb(
        group,
        "change",
        change_kb,
        "change a knowledge base's description, and how its documents are described and ranked",
        common,
    )
    change.add_argument("kb", help="its short name or id")
    change.add_argument("--description", help="one line about its content")
    change.add_argument(
        "--describer",
        metavar="MODEL",
        help="the model that describes its documents, or 'built-in'",
    )
    change.add_argument(
        "--outdated",
        choices=[ranking.value for ranking in OutdatedRanking],
        help="rank documents that are not in force lower, equally, or exclude them",
    )
    change.add_argument(
        "--propose-questions",
        choices=["yes", "no"],
        help="whether the questions that its documents answer are proposed for approval",
    )
    change.add_argument(
        "--accept-proposed-documents",
        choices=["yes", "no"],
        help="whether programs may propose documents, for editors to accept",
    )
    change.add_argument(
        "--proposer",
        metavar="MODEL",
        help="the model that proposes questions, or 'built-in' for rules",
    )
    for parser, none in ((create, ""), (change, ", or 'built-in' for none")):
        parser.add_argument(
            "--viewer", metavar="MODEL", help=f"the model that describes its pictures{none}"
        )
        parser.add_argument(
            "--max-pictures",
            type=int,
            metavar="N",
            help="how many pictures of each document it describes (default 20)",
        )
    change.add_argument(
        "--transcriber", metavar="NAME", help="what transcribes its recordings, or 'none'"
    )
    change.add_argument(
        "--spoken",
        metavar="LANGUAGE",
        help="the language of its recordings, such as en; 'any' to have the transcriber find out",
    )
    change.add_argument(
        "--trial-set",
        metavar="SET",
        help="the question set that another edition has to pass before it is activated;"
        " 'none' for no set",
    )
    change.add_argument(
        "--max-losses",
        type=int,
        metavar="N",
        help="how many of its questions that edition may lose",
    )
    pictures = verb(
        group,
        "pictures",
        estimate_pictures,
        "estimate what it takes to have a model describe the pictures",
        common,
    )
    pictures.add_argument("kb", help="its short name or id")
    pictures.add_argument("--model", required=True, help="a model that takes pictures")
    delete = verb(group, "delete", delete_kb, "delete a knowledge base with its documents", common)
    delete.add_argument("kb", help="its short name or id")
    ask_first(delete, "Delete {kb} with its documents?")


def list_kbs(context: Context, options: argparse.Namespace) -> None:
    kbs = [kb for kb in context.client.list_kbs() if options.all or kb.expires_at is None]
    rows = [
        (
            kb.slug,
            kb.name,
            number(kb.documents),
            number(kb.passages),
            state_of(kb),
            moment(kb.changed_at),
        )
        for kb in kbs
    ]
    table = context.table(
        rows,
        KB="left",
        name="left",
        documents="right",
        passages="right",
        state="left",
        changed="left",
    )
    context.show(
        kbs, table if kbs else "No knowledge base yet. Make one with 'fontanel kb create NAME'."
    )


def state_of(kb: KbOut) -> str:
    parts = []
    if kb.pending:
        parts.append(f"{kb.pending} pending")
    if kb.failed:
        parts.append(f"{kb.failed} failed")
    if kb.untranscribed:
        parts.append(f"{kb.untranscribed} need a transcript")
    return ", ".join(parts) or ("ready" if kb.documents else "empty")


def create_kb(context: Context, options: argparse.Namespace) -> None:
    kb = context.client.create_kb(
        options.name,
        options.description,
        splitting=splitting_of(options),
        describer=options.describer,
        embedder=options.embedder,
        transcriber=options.transcriber,
        viewer=options.viewer,
        max_pictures=options.max_pictures or 20,
    )
    context.show(
        kb, f"Created {kb.slug}. Add files with 'fontanel document add --kb {kb.slug} FILE...'."
    )


def show_kb(context: Context, options: argparse.Namespace) -> None:
    kb = context.client.show_kb(options.kb)
    rows = [
        ("name", kb.name),
        ("short name", kb.slug),
        ("id", kb.id),
        ("description", kb.description or "-"),
        ("documents", number(kb.documents)),
        ("passages", number(kb.passages)),
        ("state", state_of(kb)),
        ("splitting", _splitting(kb)),
        ("described by", _describing(kb)),
        ("not in force", f"{number(kb.outdated_documents)}, {_RANKED[kb.outdated]}"),
        ("pictures", _viewing(kb)),
        ("recordings", _transcribing(kb)),
        ("questions", _proposing(kb)),
        ("proposed documents", _proposed(kb)),
        ("other editions", _gate(kb)),
        ("embedder", _embedder(kb)),
        ("changed", moment(kb.changed_at)),
    ]
    context.show(kb, context.table(rows, KB="left", **{" ": "left"}))


def _splitting(kb: KbOut) -> str:
    cut = kb.splitting
    overlap = f", {cut.overlap_tokens} repeated" if cut.overlap_tokens else ""
    return f"{cut.target_tokens} tokens a passage{overlap}, table rows {cut.table_mode}"


def _describing(kb: KbOut) -> str:
    return "the documents' own words" if kb.describing is None else _progress(kb.describing)


def _viewing(kb: KbOut) -> str:
    if kb.viewing is None:
        return "not described"
    return f"{_progress(kb.viewing)}; at most {kb.max_pictures} of a document"


def _progress(message: DescribingOut) -> str:
    parts = [f"{number(message.described)} described"]
    if message.waiting:
        parts.append(f"{number(message.waiting)} waiting")
    if message.failed:
        parts.append(f"{number(message.failed)} failed")
    return f"{message.model}: {', '.join(parts)}" + (f" ({message.error})" if message.error else "")


def _embedder(kb: KbOut) -> str:
    if kb.embedder is None:
        return "none: keyword search only"
    away = f": {kb.embedder_error}; searches use keywords only" if kb.embedder_error else ""
    return f"{kb.embedder}{away}"


def _transcribing(kb: KbOut) -> str:
    language = f", in {kb.spoken}" if kb.spoken else ""
    return "not transcribed" if kb.transcriber is None else f"by {kb.transcriber}{language}"


def _proposing(kb: KbOut) -> str:
    made_by = "" if kb.proposer is None else f" by {kb.proposer}"
    return f"proposed{made_by}" if kb.proposes_questions else "not proposed"


def _proposed(kb: KbOut) -> str:
    waiting = f"{number(kb.proposed_documents)} waiting" if kb.proposed_documents else ""
    accepted = "" if kb.accepts_proposed_documents else "not accepted"
    return "; ".join(filter(None, (accepted, waiting))) or "accepted, none waiting"


def _gate(kb: KbOut) -> str:
    if kb.trial_set is None:
        return "activated without a trial"
    return f"activated if they lose at most {kb.max_losses} questions of {kb.trial_set}"


def _yes(chosen: str | None) -> bool | None:
    return None if chosen is None else chosen == "yes"


def change_kb(context: Context, options: argparse.Namespace) -> None:
    kb = context.client.change_kb(
        options.kb,
        description=options.description,
        describer=options.describer,
        outdated=options.outdated,
        proposes_questions=_yes(options.propose_questions),
        accepts_proposed_documents=_yes(options.accept_proposed_documents),
        proposer=options.proposer,
        trial_set="" if options.trial_set == "none" else options.trial_set,
        max_losses=options.max_losses,
        transcriber="" if options.transcriber == "none" else options.transcriber,
        spoken="" if options.spoken == "any" else options.spoken,
        viewer=options.viewer,
        max_pictures=options.max_pictures,
    )
    context.show(
        kb,
        f"{kb.slug}: {kb.description or 'no description'}. Documents are described by"
        f" {_describing(kb)}. Documents that are not in force are {_RANKED[kb.outdated]}.",
    )


def estimate_pictures(context: Context, options: argparse.Namespace) -> None:
    found = context.client.estimate_pictures(options.kb, options.model)
    cost = money(found.cost)
    context.show(
        found,
        f"{number(found.pictures)} pictures in {number(found.documents)} documents are not"
        f" described by {found.model}: about {number(found.tokens)} tokens,"
        f" {cost} {found.currency}.",
    )


def print_feed(context: Context, options: argparse.Namespace) -> None:
    print(context.client.kb_feed(options.kb).decode())


def rename_kb(context: Context, options: argparse.Namespace) -> None:
    kb = context.client.change_kb(options.kb, name=options.name)
    context.show(kb, f"{kb.slug} is now named {kb.name}.")


def delete_kb(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_kb(options.kb)
    context.show([], f"Deleted {options.kb}.")
