"""`fontanel embedder`: embedders that operators register, and what teams may use."""

from __future__ import annotations

import argparse
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.servers import server_options, server_values, switch_options
from fontanel.schemas import EmbedderChange, EmbedderIn, EmbedderOut

#: Fields that only embedders have, and those that cannot be changed afterwards.
_CHANGEABLE = ("batch", "at_once", "price")
_FIXED = ("remote", "directory", "dimensions", "question_prefix", "passage_prefix")


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    verb(group, "list", list_embedders, "list the registered embedders, for operators", common)
    verb(group, "usable", list_usable, "list the embedders that the team may use", common)
    add = verb(
        group,
        "register",
        register_embedder,
        "register a server with the embeddings protocol; it is checked first",
        common,
    )
    change = verb(
        group, "change", change_embedder, "change an embedder's address, limits or price", common
    )
    check = verb(
        group, "check", check_embedder, "embed a few questions and texts with an embedder", common
    )
    remove = verb(group, "delete", delete_embedder, "remove an embedder that is not used", common)
    ask_first(remove, "Delete the embedder {name}?")
    for parser in (add, change, check, remove):
        parser.add_argument("name", metavar="NAME")
    for parser in (add, change):
        server_options(parser, "/embeddings", required=False)
        parser.add_argument("--price", type=float, help="per million tokens")
        parser.add_argument("--batch", type=int, metavar="TEXTS", help="texts of a request")
        parser.add_argument(
            "--at-once", type=int, metavar="REQUESTS", help="maximum number of requests at once"
        )
    add.add_argument("--remote", help="the embedder's name at its server")
    add.add_argument(
        "--directory",
        metavar="PATH",
        help="a directory of the service's machine with model.onnx and tokenizer.json, instead of"
        " an address",
    )
    add.add_argument("--dimensions", type=int, help="keep only the first dimensions of its vectors")
    add.add_argument("--question-prefix", metavar="TEXT", help="written before questions")
    add.add_argument("--passage-prefix", metavar="TEXT", help="written before passages")
    switch_options(change)


def list_embedders(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_embedders()
    rows = [
        (
            one.name,
            one.url or one.directory,
            one.remote,
            str(one.dimensions) if one.uncut is None else f"{one.dimensions} of {one.uncut}",
            "on" if one.enabled else "off",
            "all" if one.teams is None else ", ".join(one.teams),
            f"{one.price:g} {one.currency}",
            one.used_by,
            one.error or "",
        )
        for one in result
    ]
    table = context.table(
        rows,
        embedder="left",
        address="left",
        remote="left",
        dimensions="right",
        state="left",
        teams="left",
        price="left",
        kbs="right",
        error="left",
    )
    none = (
        "No embedders are registered. Register one with"
        " 'fontanel embedder register NAME --address URL --remote NAME'."
    )
    context.show(result, table if result else none)


def list_usable(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_usable_embedders()
    rows = [
        (
            one.name,
            "built in" if one.own else f"{one.price:g} {one.currency}",
            one.dimensions,
            one.error or "",
        )
        for one in result
    ]
    table = context.table(rows, embedder="left", price="left", dimensions="right", error="left")
    context.show(result, table if result else "None: searches use keywords only.")


def register_embedder(context: Context, options: argparse.Namespace) -> None:
    values = server_values(options, (*_CHANGEABLE, *_FIXED))
    made = context.client.register_embedder(EmbedderIn(name=options.name, **values))
    context.show(
        made,
        f"{made.name} is registered, with {made.dimensions} dimensions. Build an edition with"
        f" 'fontanel edition build --embedder {made.name}'.",
    )


def change_embedder(context: Context, options: argparse.Namespace) -> None:
    values = server_values(options, _CHANGEABLE)
    if not values:
        raise UsageProblem("Say what to change; see --help.")
    changed: EmbedderOut = context.client.change_embedder(options.name, EmbedderChange(**values))
    context.show(changed, f"{changed.name} is changed.")


def check_embedder(context: Context, options: argparse.Namespace) -> int:
    result = context.client.check_embedder(options.name)
    context.show(
        result,
        f"It gives vectors, in {result.seconds:.2f} s."
        if result.works
        else f"It gives no vectors: {result.error}.",
    )
    return 0 if result.works else 1


def delete_embedder(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_embedder(options.name)
    context.show([], "Removed.")
