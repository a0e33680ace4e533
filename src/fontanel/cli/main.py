"""Where the command line begins and ends: arguments in, exit code out."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

from pydantic import ValidationError

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.options.asking_first import confirmed
from fontanel.cli.parser import build_parser
from fontanel.client import FontanelError, NotAllowed, NotFound, NotSignedIn, Unreachable

#: What the exit codes mean; the documentation is made from this.
EXIT_CODES = {
    0: "done",
    1: "failed",
    2: "wrong usage",
    3: "not found",
    4: "not allowed",
    5: "service unreachable",
}


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; return its exit code."""
    try:
        try:
            return _run(arguments)
        finally:
            sys.stdout.flush()
    except BrokenPipeError:
        # The reader of the output has left, as `head` does. Nothing more can be written to it.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0


def _run(arguments: Sequence[str] | None) -> int:
    parser = build_parser()
    options = parser.parse_args(arguments)
    if not hasattr(options, "run"):
        (getattr(options, "noun_parser", None) or parser).print_help(sys.stderr)
        return 2
    try:
        with Context(options) as context:
            if not confirmed(context, options):
                return 1
            return int(options.run(context, options) or 0)
    except BrokenPipeError:
        raise
    except (UsageProblem, ValidationError, FontanelError, OSError, KeyboardInterrupt) as error:
        message, code = _explain(error)
        print(f"fontanel: {' '.join(message.split())}", file=sys.stderr)
        return code


def _explain(error: BaseException) -> tuple[str, int]:
    """Return what to print for an error, and the exit code."""
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        return f"{'.'.join(map(str, first['loc']))}: {first['msg']}", 2
    if isinstance(error, Unreachable):
        advice = "Is the service running? Start it with 'fontanel serve', or name it with --url."
        return f"{error}. {advice}", 5
    if isinstance(error, KeyboardInterrupt):
        return "Stopped.", 1
    codes = ((UsageProblem, 2), (NotFound, 3), (NotAllowed, 4), (NotSignedIn, 4))
    return str(error), next((code for kind, code in codes if isinstance(error, kind)), 1)
