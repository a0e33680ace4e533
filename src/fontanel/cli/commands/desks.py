"""`fontanel desk`, `fontanel model` and `fontanel usage`."""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence
from typing import Any

from rich.text import Text

from fontanel.cli.commands.curation import second
from fontanel.cli.commands.servers.models import (
    change_model,
    check_model,
    create_model,
    delete_model,
    list_models,
    list_usable,
)
from fontanel.cli.commands.usage import show_team_usage, show_usage
from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.desk_settings import add_settings, given_settings
from fontanel.cli.options.servers import server_options, switch_options
from fontanel.schemas import (
    DeskComparison,
    DeskOut,
    DeskSettings,
    FeedbackOut,
)


def add_commands(noun: Any, verb: Any, common: argparse.ArgumentParser) -> None:
    desks = noun("desk", "what chat users ask")
    verb(desks, "list", list_desks, "list the team's desks", common)
    create = verb(desks, "create", create_desk, "create a desk, as a draft", common)
    create.add_argument("name")
    show = verb(desks, "show", show_desk, "show a desk's draft", common)
    change = verb(desks, "change", change_desk, "change a desk's draft", common)
    change.add_argument("--name", help="its new name")
    publish = verb(desks, "publish", publish_desk, "publish the draft", common)
    publish.add_argument("--note", default="", help="a description of the changes")
    versions = verb(desks, "versions", list_versions, "list the published versions", common)
    second.add_command(desks, verb, common)
    activate = verb(
        desks, "activate", activate_version, "publish an earlier or later version again", common
    )
    for parser in (publish, activate):
        parser.add_argument(
            "--close-links",
            action="store_true",
            help="publish a version for members even if links of guests stop working",
        )
    compare = verb(
        desks, "compare", compare_versions, "show the differences between two versions", common
    )
    answers = verb(desks, "answers", list_answers, "list a desk's questions and answers", common)
    answers.add_argument("--outcome", choices=["answered", "declined", "small_talk", "unfinished"])
    answers.add_argument(
        "--unhelpful", action="store_true", help="only answers that were marked unhelpful"
    )
    answers.add_argument("--text", help="only those that contain this")
    links = verb(desks, "links", list_links, "list the links to a desk", common)
    link = verb(desks, "link", make_link, "create a link by which anyone may ask", common)
    unlink = verb(desks, "unlink", revoke_link, "revoke a link", common)
    key = verb(
        desks, "visitor-key", make_visitor_key, "make the key that visitors are signed with", common
    )
    key.add_argument("--delete", action="store_true", help="delete the key")
    delete = verb(desks, "delete", delete_desk, "delete a desk with its conversations", common)
    for parser in (
        show,
        change,
        publish,
        versions,
        activate,
        compare,
        answers,
        links,
        link,
        unlink,
        key,
        delete,
    ):
        parser.add_argument("desk", metavar="DESK")
    for parser in (create, change):
        add_settings(parser)
    activate.add_argument("number", type=int, metavar="NUMBER")
    compare.add_argument(
        "before", type=int, nargs="?", help="a version; by default the published one"
    )
    compare.add_argument("after", type=int, nargs="?", help="a version; by default the draft")
    link.add_argument("name", help="the link's name")
    link.add_argument(
        "--per-minute",
        type=int,
        default=10,
        help="questions per minute for each guest (default 10)",
    )
    link.add_argument("--days", type=int, help="days until it expires (default: never)")
    unlink.add_argument("link", metavar="LINK")
    ask_first(delete, "Delete {desk} with all its conversations?")
    ask_first(unlink, "Revoke the link {link}?")

    models = noun("model", "text-generating models, for operators")
    verb(models, "list", list_models, "list the models", common)
    verb(models, "usable", list_usable, "list the models that the team's desks may use", common)
    make = verb(
        models, "create", create_model, "set up a model with a chat-completions address", common
    )
    alter = verb(
        models,
        "change",
        change_model,
        "change a model's settings; desks use the new ones",
        common,
    )
    check = verb(models, "check", check_model, "ask a model one short question", common)
    remove = verb(models, "delete", delete_model, "remove a model", common)
    ask_first(remove, "Delete the model {name}? Desks that use it compose answers without it.")
    for parser in (make, alter, check, remove):
        parser.add_argument("name", metavar="NAME")
    for parser in (make, alter):
        server_options(parser, "/chat/completions", required=parser is make)
        parser.add_argument("--remote", help="the model's name at its server")
        parser.add_argument("--price-read", type=float, help="per million input tokens")
        parser.add_argument("--price-written", type=float, help="per million output tokens")
    switch_options(alter)

    usage = noun("usage", "questions, tokens and costs")
    shown = verb(
        usage,
        "show",
        show_usage,
        "questions, outcomes, tokens, cost and times of the last thirty days",
        common,
    )
    shown.add_argument(
        "--by", choices=["day", "desk", "kb", "member", "model", "source"], default="day"
    )
    shown.add_argument("--desk", help="only this desk")
    shown.add_argument("--csv", action="store_true", help="as CSV")
    teams = verb(usage, "teams", show_team_usage, "the same for each team; operators only", common)
    teams.add_argument("--csv", action="store_true", help="as CSV")


def list_desks(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_desks()
    rows = [
        (
            d.slug,
            d.name,
            _version(d),
            d.draft.model or "built-in",
            len(d.draft.kbs),
            d.links,
            d.flagged,
            moment(d.changed_at),
        )
        for d in result
    ]
    table = context.table(
        rows,
        desk="left",
        name="left",
        published="left",
        model="left",
        kbs="right",
        links="right",
        flagged="right",
        changed="left",
    )
    context.show(
        result,
        table if result else "No desks yet. Make one with 'fontanel desk create NAME --kb KB'.",
    )


def _version(desk: DeskOut) -> str:
    if desk.published is None:
        return "draft only"
    return f"version {desk.published.number}" + (", draft differs" if desk.changed else "")


def create_desk(context: Context, options: argparse.Namespace) -> None:
    desk = context.client.create_desk(
        options.name, DeskSettings.model_validate(given_settings(options))
    )
    context.show(
        desk,
        f"{desk.slug} is a draft. Try it with 'fontanel ask --desk {desk.slug} --draft QUESTION';"
        " then publish it.",
    )


def show_desk(context: Context, options: argparse.Namespace) -> None:
    desk = context.client.show_desk(options.desk)
    names = {kb.id: kb.slug for kb in context.client.list_kbs()}
    rows: list[tuple[str, Any]] = [("name", desk.name), ("published", _version(desk))]
    for name, value in desk.draft.model_dump().items():
        if name == "kbs":
            shown = "; ".join(
                names.get(part["kb"], part["kb"])
                + (f": {part['use_for']}" if part["use_for"] else "")
                for part in value
            )
        else:
            shown = "; ".join(map(str, value)) if isinstance(value, list) else value
        rows.append((name.replace("_", " "), "-" if shown in (None, "") else shown))
    context.show(desk, context.table(rows, setting="left", value="left"))


def change_desk(context: Context, options: argparse.Namespace) -> None:
    settings = given_settings(options)
    if not settings and not options.name:
        raise UsageProblem("Name what to change; see --help.")
    version = context.client.show_desk(options.desk).version
    desk = context.client.change_desk(options.desk, settings or None, options.name, version=version)
    context.show(
        desk,
        f"The draft of {desk.slug} is changed. 'fontanel desk compare {desk.slug}' shows how it"
        " differs.",
    )


def publish_desk(context: Context, options: argparse.Namespace) -> None:
    version = context.client.publish_desk(
        options.desk, options.note, close_links=options.close_links
    )
    context.show(version, f"Version {version.number} is published.")


def list_versions(context: Context, options: argparse.Namespace) -> None:
    desk = context.client.show_desk(options.desk)
    result = context.client.list_desk_versions(options.desk)
    published = desk.published.number if desk.published else None
    rows = [
        (
            v.number,
            "published" if v.number == published else "",
            v.author,
            moment(v.created_at),
            v.note,
        )
        for v in result
    ]
    table = context.table(
        rows, version="right", state="left", author="left", published="left", note="left"
    )
    context.show(result, table if result else "Nothing is published yet.")


def activate_version(context: Context, options: argparse.Namespace) -> None:
    desk = context.client.activate_desk_version(
        options.desk, options.number, close_links=options.close_links
    )
    context.show(desk, f"Version {options.number} is published.")


def compare_versions(context: Context, options: argparse.Namespace) -> None:
    before = options.before
    if before is None:
        published = context.client.show_desk(options.desk).published
        before = published.number if published else None
    result = context.client.compare_desk_versions(options.desk, before, options.after)
    if context.json:
        context.show(result)
        return
    _print_comparison(context, result)


def _print_comparison(context: Context, comparison: DeskComparison) -> None:
    if not comparison.differences:
        context.say("The versions are identical.")
    for item in comparison.differences:
        context.say(Text(item.setting.replace("_", " "), "bold"))
        lines = item.lines or [
            ("-", json.dumps(item.before, ensure_ascii=False)),
            ("+", json.dumps(item.after, ensure_ascii=False)),
        ]
        for sign, line in lines:
            context.say(Text(f"  {sign} {line}", {"-": "red", "+": "green"}.get(sign, "dim")))


def _feedback(given: Sequence[FeedbackOut]) -> str:
    """Return how many found an answer helpful and how many did not."""
    helpful = sum(one.helpful for one in given)
    counts = ((helpful, "helpful"), (len(given) - helpful, "unhelpful"))
    return ", ".join(f"{count} {word}" for count, word in counts if count)


def list_answers(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_desk_answers(
        options.desk,
        options.outcome,
        helpful=False if options.unhelpful else None,
        text=options.text,
    )
    rows = [
        (
            row.id,
            moment(row.created_at),
            row.outcome if row.state == "done" else row.state.replace("_", " "),
            row.weak or "",
            _feedback(row.feedback),
            row.question[:70],
        )
        for row in result
    ]
    table = context.table(
        rows,
        answer="left",
        asked="left",
        outcome="left",
        doubts="right",
        feedback="left",
        question="left",
    )
    context.show(result, table if result else "Nothing was asked yet.")


#: State of a link -> why guests cannot use it.
_CLOSED = {
    "not_published": "the desk is not published",
    "members_only": "the published version is for members only (audience 'members')",
    "revoked": "it was revoked",
    "expired": "it has expired",
}


def list_links(context: Context, options: argparse.Namespace) -> None:
    result = context.client.list_desk_links(options.desk)
    rows = [
        (
            link.name,
            f"{link.start}...",
            link.per_minute,
            link.state.replace("_", " "),
            moment(link.expires_at) if link.expires_at else "never",
            moment(link.last_used_at) if link.last_used_at else "never",
        )
        for link in result
    ]
    table = context.table(
        rows, link="left", begins="left", per_minute="right", state="left", ends="left", used="left"
    )
    context.show(result, table if result else "No links yet.")


def make_link(context: Context, options: argparse.Namespace) -> None:
    link = context.client.make_desk_link(
        options.desk, options.name, options.per_minute, options.days
    )
    text = f"{link.url}\nThe address is not shown again."
    if link.state != "open":
        text += f"\nGuests cannot use it yet: {_CLOSED[link.state]}."
    context.show(link, text)


def revoke_link(context: Context, options: argparse.Namespace) -> None:
    context.client.revoke_desk_link(options.desk, options.link)
    context.show([], "Revoked.")


def make_visitor_key(context: Context, options: argparse.Namespace) -> None:
    if options.delete:
        context.client.delete_visitor_key(options.desk)
        context.say("Signed identities are no longer accepted.")
        return
    made = context.client.make_visitor_key(options.desk)
    context.show(
        made,
        f"{made.key}\nThe key is not shown again. Sign tokens (JWT, HS256) for the audience"
        f" {made.audience} with it.",
    )


def delete_desk(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_desk(options.desk)
    context.show([], "Deleted.")


# Models


# Use
