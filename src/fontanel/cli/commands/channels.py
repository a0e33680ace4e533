"""`fontanel channel`: ways to ask a desk from a chat or by e-mail."""

from __future__ import annotations

import argparse
from itertools import islice
from typing import Any, get_args

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, number
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.sources import (
    add_settings,
    credentials_of,
    kind_rows,
    settings_of,
)
from fontanel.schemas import (
    ChannelChange,
    ChannelIn,
    ChannelKindOut,
    ChannelMessageOut,
    ChannelOut,
    ChannelSaved,
    MessageStateName,
)


def add_commands(group: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    verb(group, "kinds", list_kinds, "list the kinds of channels, with their settings", common)
    add = verb(group, "add", add_channel, "add a channel to a desk", common)
    add.add_argument("name")
    add.add_argument("--desk", required=True, help="the desk that answers")
    add.add_argument("--kind", required=True, help="see 'fontanel channel kinds'")
    add_settings(add)
    listed = verb(group, "list", list_channels, "list the channels", common)
    listed.add_argument("--desk", help="only those of this desk")
    show = verb(group, "show", show_channel, "show a channel with its settings", common)
    show.add_argument("channel")
    change = verb(group, "change", change_channel, "change a channel, or pause it", common)
    change.add_argument("channel")
    change.add_argument("--name")
    change.add_argument("--pause", action="store_true", help="stop receiving and sending")
    change.add_argument("--resume", action="store_true", help="receive and send again")
    change.add_argument("--new-secret", action="store_true", help="make a new secret")
    add_settings(change)
    test = verb(group, "test", test_channel, "send a test message", common)
    test.add_argument("channel")
    test.add_argument("--room", default="", help="a room or an address at the other side")
    test.add_argument("--text", help="the message")
    messages = verb(group, "messages", list_messages, "list the last messages", common)
    messages.add_argument("channel")
    messages.add_argument("--state", choices=get_args(MessageStateName), help="only these")
    messages.add_argument("--limit", type=int, default=20, help="how many (default 20)")
    message = verb(group, "message", show_message, "show a message with its reply", common)
    message.add_argument("channel")
    message.add_argument("message", metavar="MESSAGE")
    retry = verb(group, "retry", retry_message, "send a failed reply again", common)
    retry.add_argument("channel")
    retry.add_argument("message", metavar="MESSAGE")
    delete = verb(group, "delete", delete_channel, "delete a channel with its messages", common)
    delete.add_argument("channel")
    ask_first(delete, "Delete the channel {channel} with its messages?")


def list_kinds(context: Context, options: argparse.Namespace) -> None:
    kinds = context.client.channel_kinds()
    context.show(kinds, context.table(kind_rows(kinds), kind="left", setting="left", about="left"))


def _kind_of(context: Context, name: str) -> ChannelKindOut:
    kinds = {kind.name: kind for kind in context.client.channel_kinds()}
    if name not in kinds:
        raise UsageProblem(f"There is no kind {name!r}. There are: {', '.join(kinds)}.")
    return kinds[name]


def add_channel(context: Context, options: argparse.Namespace) -> None:
    kind = _kind_of(context, options.kind)
    saved = context.client.create_channel(
        ChannelIn(
            name=options.name,
            desk=options.desk,
            kind=kind.name,
            settings=settings_of(kind, options.set),
            credentials=credentials_of(kind, options.credential),
        )
    )
    context.show(saved, f"Added the channel {saved.name}.")
    _print_set_up(context, saved)


def _print_set_up(context: Context, saved: ChannelSaved) -> None:
    if context.json:
        return
    if saved.address is not None:
        context.say(f"Post messages to {saved.address}", markup=False)
    if saved.secret is not None:
        context.say(f"Sign them with {saved.secret} (shown once).", markup=False)


def list_channels(context: Context, options: argparse.Namespace) -> None:
    channels = context.client.list_channels(options.desk)
    rows = [
        (
            one.name,
            one.kind,
            one.desk,
            _state(one),
            number(one.waiting),
            number(one.failed),
            moment(one.last_message_at) if one.last_message_at else None,
        )
        for one in channels
    ]
    table = context.table(
        rows,
        channel="left",
        kind="left",
        desk="left",
        state="left",
        waiting="right",
        failed="right",
        last_message="left",
    )
    nothing = "No channels. Add one with 'fontanel channel add NAME --desk DESK --kind KIND'."
    context.show(channels, table if channels else nothing)


def _state(channel: ChannelOut) -> str:
    if channel.paused:
        return "paused"
    if channel.failing is not None:
        return f"failing: {channel.failing}"
    return "works" if channel.connected_at is not None else "new"


def show_channel(context: Context, options: argparse.Namespace) -> None:
    channel = context.client.show_channel(options.channel)
    rows: list[tuple[str, Any]] = [
        ("kind", channel.kind),
        ("desk", channel.desk),
        ("state", _state(channel)),
        ("address", channel.address),
        ("waiting", number(channel.waiting)),
        ("failed", number(channel.failed)),
        ("credentials", ", ".join(channel.credential_names) or None),
    ]
    rows += [
        (name, ", ".join(map(str, value)) if isinstance(value, list) else str(value))
        for name, value in channel.settings.items()
        if value not in ("", [], None)
    ]
    context.show(channel, context.table(rows, what="left", value="left"))


def change_channel(context: Context, options: argparse.Namespace) -> None:
    client = context.client
    channel = client.show_channel(options.channel)
    kind = _kind_of(context, channel.kind)
    values: dict[str, Any] = {}
    if options.set:
        values["settings"] = {**channel.settings, **settings_of(kind, options.set)}
    credentials = credentials_of(kind, options.credential)
    if credentials is not None or options.new_secret:
        values["credentials"] = credentials or {}
    if options.name:
        values["name"] = options.name
    if options.pause or options.resume:
        values["paused"] = bool(options.pause)
    if not values:
        raise UsageProblem("Say what to change; see 'fontanel channel change --help'.")
    saved = client.change_channel(channel.id, ChannelChange(**values), channel.version)
    context.show(saved, f"Changed {saved.name}.")
    if saved.secret is not None:
        _print_set_up(context, saved)


def test_channel(context: Context, options: argparse.Namespace) -> int:
    message = context.client.test_channel(options.channel, options.room, options.text)
    if message.state == "sent":
        context.show(message, "The message was sent.")
        return 0
    context.show(message, f"The message was not sent: {message.reason}")
    return 1


def list_messages(context: Context, options: argparse.Namespace) -> None:
    found = context.client.list_channel_messages(options.channel, options.state)
    messages = list(islice(found, max(options.limit, 0)))
    rows = [
        (
            one.id,
            moment(one.received_at),
            one.sender_name or one.sender or None,
            one.kind,
            one.state,
            _short(one.text or one.reply),
            one.reason or None,
        )
        for one in messages
    ]
    table = context.table(
        rows,
        message="left",
        received="left",
        sender="left",
        kind="left",
        state="left",
        text="left",
        reason="left",
    )
    context.show(messages, table if messages else "No messages.")


def _short(text: str) -> str:
    line = " ".join(text.split())
    return line if len(line) <= 60 else f"{line[:57]}..."


def show_message(context: Context, options: argparse.Namespace) -> None:
    message = context.client.show_channel_message(options.channel, options.message)
    context.show(message)
    if not context.json:
        _print_message(context, message)


def _print_message(context: Context, message: ChannelMessageOut) -> None:
    where = f" in {message.room}" if message.room else ""
    who = message.sender_name or message.sender or "Fontanel"
    context.say(f"{moment(message.received_at)}  {who}{where}: {message.text}", markup=False)
    state = f"{message.state}: {message.reason}" if message.reason else message.state
    context.say(f"({message.kind}, {state})", markup=False)
    if message.reply:
        context.say(f"\n{message.reply}", markup=False)
    for source in message.sources:
        where = f", {source.place}" if source.place else ""
        context.say(f"[{source.number}] {source.title}{where}  {source.url}", markup=False)


def retry_message(context: Context, options: argparse.Namespace) -> None:
    message = context.client.retry_channel_message(options.channel, options.message)
    context.show(message, "The reply will be sent again.")


def delete_channel(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_channel(options.channel)
    context.say(f"Deleted the channel {options.channel}.")
