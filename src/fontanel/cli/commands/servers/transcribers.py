"""`fontanel transcriber`: servers that turn recordings into text, and what teams may use."""

from __future__ import annotations

import argparse
from typing import Any

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.servers import server_options, server_values, switch_options
from fontanel.schemas import TranscriberChange, TranscriberIn

#: Fields that only transcribers have.
_FIELDS = ("remote", "price", "part_seconds")


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    verb(
        group, "list", list_transcribers, "list the registered transcribers, for operators", common
    )
    verb(group, "usable", list_usable, "list the transcribers that the team may use", common)
    add = verb(
        group,
        "register",
        register_transcriber,
        "register a server with the transcription protocol; it is checked first",
        common,
    )
    change = verb(
        group,
        "change",
        change_transcriber,
        "change a transcriber's address, limits or price",
        common,
    )
    check = verb(
        group, "check", check_transcriber, "send a second of sound to a transcriber", common
    )
    remove = verb(
        group, "delete", delete_transcriber, "remove a transcriber that is not used", common
    )
    ask_first(remove, "Delete the transcriber {name}?")
    for parser in (add, change, check, remove):
        parser.add_argument("name", metavar="NAME")
    for parser in (add, change):
        server_options(parser, "/audio/transcriptions", required=parser is add)
        parser.add_argument(
            "--remote", required=parser is add, help="the transcriber's name at its server"
        )
        parser.add_argument("--price", type=float, help="per minute of a recording")
        parser.add_argument(
            "--part-seconds",
            type=float,
            metavar="SECONDS",
            help="the length of the parts in which recordings are sent (default 300)",
        )
    switch_options(change)


def list_transcribers(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_transcribers()
    rows = [
        (
            one.name,
            one.url,
            one.remote,
            "on" if one.enabled else "off",
            "all" if one.teams is None else ", ".join(one.teams),
            f"{one.price:g} {one.currency} a minute",
            one.used_by,
            one.error or "",
        )
        for one in result
    ]
    table = context.table(
        rows,
        transcriber="left",
        address="left",
        remote="left",
        state="left",
        teams="left",
        price="left",
        kbs="right",
        error="left",
    )
    none = (
        "No transcribers are registered. Register one with"
        " 'fontanel transcriber register NAME --address URL --remote NAME'."
    )
    context.show(result, table if result else none)


def list_usable(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_usable_transcribers()
    rows = [(one.name, f"{one.price:g} {one.currency} a minute", one.error or "") for one in result]
    table = context.table(rows, transcriber="left", price="left", error="left")
    context.show(result, table if result else "None: recordings without subtitles wait for one.")


def register_transcriber(context: Context, options: argparse.Namespace) -> None:
    values = server_values(options, _FIELDS)
    made = context.client.register_transcriber(TranscriberIn(name=options.name, **values))
    context.show(
        made,
        f"{made.name} is registered. Have a knowledge base use it with"
        f" 'fontanel kb change KB --transcriber {made.name}'.",
    )


def change_transcriber(context: Context, options: argparse.Namespace) -> None:
    values = server_values(options, _FIELDS)
    if not values:
        raise UsageProblem("Say what to change; see --help.")
    changed = context.client.change_transcriber(options.name, TranscriberChange(**values))
    context.show(changed, f"{changed.name} is changed.")


def check_transcriber(context: Context, options: argparse.Namespace) -> int:
    result = context.client.check_transcriber(options.name)
    context.show(
        result,
        f"It transcribes; a second of sound took {result.seconds:.2f} s."
        if result.works
        else f"It does not transcribe: {result.error}.",
    )
    return 0 if result.works else 1


def delete_transcriber(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_transcriber(options.name)
    context.show([], "Removed.")
