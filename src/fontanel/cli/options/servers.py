"""Options of commands that set up a server: a model or an embedder."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import Any

_FIELDS = ("secret", "currency", "seconds", "tries")


def server_options(parser: argparse.ArgumentParser, path: str, *, required: bool) -> None:
    """Add what all servers have.

    Args:
        path: What the service adds to the address.
        required: Whether an address must be given.
    """
    parser.add_argument(
        "--address",
        dest="server_url",
        metavar="URL",
        required=required,
        help=f"the base URL, without {path}",
    )
    parser.add_argument("--secret", help="sent as a bearer token")
    parser.add_argument("--currency", help="such as EUR")
    parser.add_argument(
        "--only-team",
        action="append",
        metavar="TEAM",
        help="only this team may use it; may be repeated",
    )
    parser.add_argument("--seconds", type=float, help="timeout of a response, in seconds")
    parser.add_argument("--tries", type=int, help="attempts when its server is busy")


def switch_options(parser: argparse.ArgumentParser) -> None:
    """Add what switches a server on and off."""
    parser.add_argument("--enable", dest="enabled", action="store_true", default=None)
    parser.add_argument("--disable", dest="enabled", action="store_false", default=None)


def server_values(options: argparse.Namespace, fields: Sequence[str]) -> dict[str, Any]:
    """Return the fields that were given, and those of all servers.

    Args:
        fields: The names of further fields.
    """
    values = {
        name: getattr(options, name)
        for name in (*_FIELDS, *fields)
        if getattr(options, name) is not None
    }
    if options.server_url is not None:
        values["url"] = options.server_url
    if options.only_team:
        values["teams"] = options.only_team
    if getattr(options, "enabled", None) is not None:
        values["enabled"] = options.enabled
    return values
