"""Options of sources and channels: settings, credentials, schedule and guard."""

from __future__ import annotations

import argparse
import getpass
import json
import os
import sys
from collections.abc import Sequence
from typing import Any, Protocol

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.options.documents import parse_tags
from fontanel.schemas import (
    KindOut,
    TagRule,
)


class HasForms(Protocol):
    """A kind of source or of channel: its forms are JSON Schemas."""

    name: str
    description: str
    settings: dict[str, Any]
    credentials: dict[str, Any]


def add_settings(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="a setting of the kind; repeat it for lists",
    )
    parser.add_argument(
        "--credential",
        action="append",
        default=[],
        metavar="NAME[=VALUE]",
        help="a credential; without a value, prompts or reads FONTANEL_CREDENTIAL_<NAME>",
    )


def add_schedule(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--every", type=int, metavar="MINUTES", help="run at this interval")
    parser.add_argument(
        "--cron", metavar="LINE", help="run by a cron expression in the team's time zone"
    )
    parser.add_argument(
        "--target",
        type=int,
        metavar="MINUTES",
        help="freshness target: changes should be in answers within this time",
    )
    parser.add_argument(
        "--guard-share", type=float, metavar="SHARE", help="hold runs that would remove more (0-1)"
    )
    parser.add_argument(
        "--guard-min", type=int, metavar="COUNT", help="never hold a run that removes fewer items"
    )
    parser.add_argument(
        "--tag-rule",
        action="append",
        default=[],
        metavar="PATTERN:KEY=VALUE",
        help="tags for paths that match a pattern",
    )


def kind_rows(kinds: Sequence[HasForms]) -> list[tuple[str, str, str]]:
    """Return the rows of a table of kinds, with their settings and credentials."""
    rows = []
    for kind in kinds:
        rows.append((kind.name, "", kind.description))
        for schema, what in ((kind.settings, ""), (kind.credentials, " (credential)")):
            for name, about in schema.get("properties", {}).items():
                text = about.get("description") or about.get("title")
                needed = "(needed)" if name in schema.get("required", []) else None
                rows.append(("", name + what, " ".join(filter(None, (text, needed)))))
    return rows


def settings_of(kind: HasForms, pairs: list[str]) -> dict[str, Any]:
    """Settings as the kind's schema wants them."""
    properties: dict[str, Any] = kind.settings.get("properties", {})
    results: dict[str, Any] = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if name not in properties or not equals:
            raise UsageProblem(
                f"{pair!r}: the kind {kind.name!r} has the settings"
                f" {', '.join(properties) or 'none'}."
            )
        results[name] = _value_of(properties[name], name, value, results.get(name))
    return results


def _value_of(schema: dict[str, Any], name: str, text: str, before: Any) -> Any:
    types = [schema.get("type"), *(part.get("type") for part in schema.get("anyOf", []))]
    try:
        if "array" in types:
            return [*(before or []), *([text] if text else [])]
        if "boolean" in types:
            return {"true": True, "yes": True, "false": False, "no": False}[text.lower()]
        if "integer" in types and text:
            return int(text)
        if "number" in types and text:
            return float(text)
        if "object" in types:
            return json.loads(text)
    except (KeyError, ValueError) as error:
        raise UsageProblem(f"{text!r} does not fit the setting {name!r}.") from error
    return text or None if "null" in types else text


def credentials_of(kind: HasForms, pairs: list[str]) -> dict[str, str] | None:
    names = list(kind.credentials.get("properties", {}))
    results: dict[str, str] = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if name not in names:
            raise UsageProblem(
                f"The kind {kind.name!r} has the credentials: {', '.join(names) or 'none'}."
            )
        if not equals:
            value = os.environ.get(f"FONTANEL_CREDENTIAL_{name.upper()}") or ""
            if not value and sys.stdin.isatty():
                value = getpass.getpass(f"{name}: ")
        results[name] = value
    return results or None


def kind_of(context: Context, name: str) -> KindOut:
    kinds = {kind.name: kind for kind in context.client.source_kinds()}
    if name not in kinds:
        raise UsageProblem(f"There is no kind {name!r}. There are: {', '.join(kinds)}.")
    return kinds[name]


def tag_rules_of(pairs: list[str]) -> list[TagRule]:
    rules = []
    for pair in pairs:
        pattern, colon, tags = pair.rpartition(":")
        if not colon:
            raise UsageProblem(f"{pair!r} is not a tag rule. Write PATTERN:KEY=VALUE.")
        rules.append(TagRule(pattern=pattern, tags=parse_tags([tags])))
    return rules


def schedule_of(options: argparse.Namespace) -> dict[str, Any]:
    values = {
        "every_minutes": options.every,
        "cron": options.cron,
        "target_minutes": options.target,
        "guard_share": options.guard_share,
        "guard_min": options.guard_min,
        "tag_rules": tag_rules_of(options.tag_rule) or None,
    }
    return {name: value for name, value in values.items() if value is not None}
