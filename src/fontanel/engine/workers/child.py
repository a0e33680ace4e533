"""A worker process: reads documents under limits, or embeds texts.

It communicates over stdin and stdout, and ends with its parent. It loads what its kind of work
needs and nothing else.
"""

from __future__ import annotations

import faulthandler
import os
import signal
import sys
from pathlib import Path

from fontanel.engine.workers.lifetime import die_with_parent
from fontanel.errors import exception_frames


def main() -> None:
    """Run a worker: arguments are its kind, the embedder's folder, and a limit."""
    kind, embedder, number = sys.argv[1:4]
    die_with_parent()
    faulthandler.enable()
    sys.excepthook = lambda kind, error, trace: print(exception_frames(error), file=sys.stderr)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    requests, replies = sys.stdin.buffer, os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    # A parser that prints must not disturb the replies.
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    if kind == "read":
        from fontanel.engine.workers.reading_child import read_documents

        read_documents(requests, replies, Path(embedder), int(number))
    else:
        from fontanel.engine.workers.embedding_child import embed_texts

        embed_texts(requests, replies, Path(embedder), int(number))


if __name__ == "__main__":
    main()
