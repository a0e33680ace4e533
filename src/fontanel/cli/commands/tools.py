"""`fontanel tools`: tools for programs with a model, on standard input and output."""

from __future__ import annotations

import argparse
import asyncio
from typing import Any

from fontanel.cli.context import Context, UsageProblem


def add_commands(verb: Any, commands: Any, common: argparse.ArgumentParser) -> None:
    tools = verb(
        commands,
        "tools",
        serve_tools,
        "serve tools to a program with a model, on standard input and output",
        common,
    )
    tools.description = (
        "Serve the Model Context Protocol on standard input and output. A program with a model"
        " starts this command, and can search, ask and read with the key of the profile. The"
        " service has the same tools at /mcp."
    )


def serve_tools(context: Context, options: argparse.Namespace) -> None:
    from fontanel.tools.stdio import serve_stdio

    key = context.setting("key")
    if getattr(options, "email", None) or not key:
        raise UsageProblem("Tools need a key. Give --key, set FONTANEL_KEY, or name a profile.")
    teams = context.client.session().teams
    asyncio.run(serve_stdio(context.url, key, context.setting("team") or teams[0].slug))
