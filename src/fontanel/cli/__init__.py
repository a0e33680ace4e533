"""The command line: a thin layer over the client, plus local commands."""

from fontanel.cli.main import main

__all__ = ["main"]
