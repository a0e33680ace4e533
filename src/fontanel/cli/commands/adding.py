"""Adding files, and watching them being indexed."""

from __future__ import annotations

import argparse
import hashlib
import sys
import time
from pathlib import Path
from typing import Any

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.options.documents import columns_of, files_below, parse_tags
from fontanel.client import Client, ProblemError
from fontanel.schemas import SETTLED_STATES, AddedOut, DocumentOut


def add_documents(context: Context, options: argparse.Namespace) -> int:
    files = files_below(options.paths)
    if options.name and len(files) > 1:
        raise UsageProblem("--name can only be used with one file.")
    tags = parse_tags(options.tag) or None
    columns = columns_of(options)
    client, kb = context.client, context.kb()
    added: list[AddedOut] = []
    refused: list[tuple[str, str]] = []
    stored = _stored(client, kb, tags) if len(files) > 1 and columns is None else {}
    with _progress(context) as progress:
        sending = progress.add_task("sending", total=len(files))
        for path, name in files:
            document = stored.get(name)
            if document is not None and document.revision.sha256 == _sha256(path):
                added.append(AddedOut(outcome="unchanged", document=document, job=None))
                progress.advance(sending)
                continue
            try:
                added.append(client.add_document(kb, path, options.name or name, tags, columns))
            except ProblemError as error:
                if len(files) == 1:
                    raise
                refused.append((name, str(error)))
            progress.advance(sending)
        if not options.no_wait:
            _wait(client, kb, added, progress)
    failed = [item.document for item in added if item.document.state == "failed"]
    context.show(added, _summary(added, failed, no_wait=options.no_wait))
    untranscribed = [item.document for item in added if item.document.state == "needs_transcript"]
    for document in (*failed, *untranscribed):
        print(f"fontanel: {document.name}: {document.error}", file=sys.stderr)
    for name, reason in refused:
        print(f"fontanel: {name}: {reason}", file=sys.stderr)
    return 1 if failed or refused else 0


def _progress(context: Context) -> Progress:
    columns = (
        TextColumn("{task.description:>9}"),
        BarColumn(30),
        MofNCompleteColumn(),
        TimeElapsedColumn(),
        TextColumn("{task.fields[note]}"),
    )
    progress = Progress(*columns, console=context.err, disable=not context.lively, transient=False)
    original = progress.add_task

    def add_task(description: str, total: float) -> Any:
        return original(description, total=total, note="")

    progress.add_task = add_task  # type: ignore[method-assign,assignment]
    return progress


def _wait(client: Client, kb: str, added: list[AddedOut], progress: Progress) -> None:
    """Watch until nothing more becomes of any document without a person."""
    waiting = {
        item.document.id: item for item in added if item.document.state not in SETTLED_STATES
    }
    task = progress.add_task("indexing", total=len(added))
    while True:
        states: dict[str, int] = {}
        for document_id, item in list(waiting.items())[:50]:
            item.document = client.show_document(kb, document_id)
            states[item.document.state] = states.get(item.document.state, 0) + 1
            if item.document.state in SETTLED_STATES:
                del waiting[document_id]
        note = ", ".join(
            f"{count} {state.replace('_', ' ')}"
            for state, count in states.items()
            if state != "indexed"
        )
        progress.update(task, completed=len(added) - len(waiting), note=note)
        if not waiting:
            return
        time.sleep(0.2)


def _stored(client: Client, kb: str, tags: dict[str, str] | None) -> dict[str, DocumentOut]:
    """Return the documents of which an equal file need not be sent, by their names.

    So an upload that was cut off continues with the first file that is missing.
    """
    return {
        document.name: document
        for document in client.list_documents(kb)
        if document.state != "failed"
        and document.revision.columns is None
        and tags in (None, document.tags)
    }


def _sha256(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _summary(added: list[AddedOut], failed: list[DocumentOut], *, no_wait: bool) -> str:
    counts: dict[str, int] = {}
    for item in added:
        counts[item.outcome] = counts.get(item.outcome, 0) + 1
    parts = [f"{count} {outcome}" for outcome, count in counts.items()]
    if needing := sum(item.document.state == "needs_transcript" for item in added):
        parts.append(f"{needing} without a transcript")
    if failed:
        parts.append(f"{len(failed)} failed")
    text = ", ".join(parts) or "nothing added"
    return text + (". Indexing continues; see 'fontanel document list'." if no_wait else ".")
