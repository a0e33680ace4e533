"""Where the command line begins and ends: arguments in, exit code out."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from pydantic import ValidationError

from fontanel.cli.context import Context, UsageProblem
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
    parser = build_parser()
    options = parser.parse_args(arguments)
    if not hasattr(options, "run"):
        (getattr(options, "noun_parser", None) or parser).print_help(sys.stderr)
        return 2
    try:
        with Context(options) as context:
            return int(options.run(context, options) or 0)
    except UsageProblem as problem:
        return _say(str(problem), 2)
    except ValidationError as error:
        return _say(f"{error.errors()[0]['loc'][0]}: {error.errors()[0]['msg']}", 2)
    except NotFound as error:
        return _say(str(error), 3)
    except (NotAllowed, NotSignedIn) as error:
        return _say(str(error), 4)
    except Unreachable as error:
        return _say(
            f"{error}. Is the service running? Start it with 'fontanel serve', or name it with"
            " --url.",
            5,
        )
    except (FontanelError, OSError) as error:
        return _say(str(error), 1)
    except KeyboardInterrupt:
        return _say("Stopped.", 1)


def _say(message: str, code: int) -> int:
    print(f"fontanel: {' '.join(message.split())}", file=sys.stderr)
    return code
