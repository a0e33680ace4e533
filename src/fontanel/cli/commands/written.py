"""`fontanel document`: write documents, show their history, change many at once."""

from __future__ import annotations

import argparse
import os
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from rich.text import Text

from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, number, size
from fontanel.cli.options.asking_first import yes_option
from fontanel.cli.options.documents import parse_tags, tag_option
from fontanel.schemas import BulkIn, ChangeOut, DocumentSelection


def add_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    write = verb(
        group,
        "write",
        write_document,
        "write a document from a file or from standard input",
        common,
        kb,
    )
    write.add_argument("name", help="its name; ends in .md, .txt or .csv")
    write.add_argument(
        "--from", dest="file", type=Path, help="a file with its text (default: standard input)"
    )
    tag_option(write, "a tag for the document")
    edit = verb(
        group,
        "edit",
        edit_document,
        "edit a document that was written here, in your editor (EDITOR)",
        common,
        kb,
    )
    edit.add_argument("document", help="its name or id")
    edit.add_argument(
        "--from", dest="file", type=Path, help="read the new text from a file instead"
    )
    revisions = verb(group, "revisions", list_revisions, "list a document's revisions", common, kb)
    revisions.add_argument("document", help="its name or id")
    changes = verb(
        group, "changes", show_changes, "show what changed between two revisions", common, kb
    )
    changes.add_argument("document", help="its name or id")
    changes.add_argument(
        "before", nargs="?", help="a revision's number or id (default: the one before)"
    )
    changes.add_argument("after", nargs="?", help="a revision's number or id (default: the newest)")
    restore = verb(
        group, "restore", restore_revision, "make an earlier revision the newest", common, kb
    )
    restore.add_argument("document", help="its name or id")
    restore.add_argument("revision", help="its number or id")
    folders = verb(group, "folders", list_folders, "list the folders of documents", common, kb)
    folders.add_argument("under", nargs="?", default="", help="only folders below this one")
    bulk = verb(
        group,
        "bulk",
        do_bulk,
        "retry, read again, delete or tag many documents at once",
        common,
        kb,
    )
    bulk.add_argument("action", choices=("retry", "reread", "delete", "tag"))
    bulk.add_argument("documents", nargs="*", help="names or ids, instead of the filters below")
    bulk.add_argument("--state")
    bulk.add_argument("--source", help="documents of this source; 'none': added by people")
    bulk.add_argument("--folder", help="documents in or below this folder")
    bulk.add_argument("--name", help="part of the name or title")
    tag_option(bulk, "documents with this tag")
    bulk.add_argument(
        "--warnings", action="store_true", help="documents that were read with warnings"
    )
    bulk.add_argument("--all", action="store_true", help="every document")
    bulk.add_argument(
        "--set", action="append", default=[], metavar="KEY=VALUE", help="with 'tag': tags to add"
    )
    bulk.add_argument(
        "--drop", action="append", default=[], metavar="KEY", help="with 'tag': tags to remove"
    )
    yes_option(bulk)


def write_document(context: Context, options: argparse.Namespace) -> None:
    text = options.file.read_text() if options.file else sys.stdin.read()
    added = context.client.write_document(context.kb(), options.name, text, parse_tags(options.tag))
    context.show(added, f"{added.outcome}: {added.document.name}")


def edit_document(context: Context, options: argparse.Namespace) -> None:
    client, kb = context.client, context.kb()
    document = client.show_document(kb, options.document)
    written = client.written_text(kb, document.id)
    if not written.editable:
        raise UsageProblem(written.reason or "It cannot be edited here.")
    text = (
        options.file.read_text()
        if options.file
        else _in_editor(written.text, Path(written.name).suffix)
    )
    if text == written.text:
        context.show(document, f"{document.name} is unchanged.")
        return
    added = client.rewrite_document(kb, document.id, text, document.version)
    context.show(added, f"{added.outcome}: {added.document.name}")


def _in_editor(text: str, ending: str) -> str:
    editor = os.environ.get("VISUAL") or os.environ.get("EDITOR")
    if not editor:
        raise UsageProblem("Set EDITOR, or pass the new text with --from.")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"document{ending}"
        path.write_text(text)
        try:
            subprocess.run([*shlex.split(editor), str(path)], check=True)
        except (OSError, subprocess.CalledProcessError) as error:
            raise UsageProblem(f"The editor failed ({error}). Nothing was changed.") from error
        return path.read_text()


def list_revisions(context: Context, options: argparse.Namespace) -> None:
    revisions = context.client.list_revisions(context.kb(), options.document)
    rows = [
        (
            str(r.number),
            r.id,
            moment(r.created_at),
            size(r.size),
            number(r.report.words if r.report else None),
            number(r.passages),
            number(r.embedded),
        )
        for r in revisions
    ]
    columns = {
        "revision": "right",
        "id": "left",
        "made": "left",
        "size": "right",
        "words": "right",
        "passages": "right",
    }
    context.show(revisions, context.table(rows, **columns, embedded="right"))


def show_changes(context: Context, options: argparse.Namespace) -> None:
    result = context.client.compare_revisions(
        context.kb(), options.document, options.before, options.after
    )
    context.show(result)
    if context.json:
        return
    context.say(f"revision {result.before.number} -> {result.after.number}")
    if all(change.kind == "same" for change in result.changes):
        context.say("The text is the same.")
        return
    for change in result.changes:
        for line in _lines(change):
            context.say(line)


def _lines(change: ChangeOut) -> list[Text]:
    if change.kind == "same":
        half = len(change.before) // 2
        lines = [Text(f"  {piece}", "dim") for piece in change.before]
        return (
            [*lines[:half], Text(f"  ... {change.hidden} more the same ...", "dim"), *lines[half:]]
            if change.hidden
            else lines
        )
    out = []
    for sign, pieces, marks, style in (
        ("- ", change.before, change.before_marks, "red"),
        ("+ ", change.after, change.after_marks, "green"),
    ):
        for piece in pieces:
            line = Text(sign + piece, style)
            for start, end in marks:
                line.stylize("bold underline", start + 2, end + 2)
            out.append(line)
    return out


def restore_revision(context: Context, options: argparse.Namespace) -> None:
    client, kb = context.client, context.kb()
    revisions = client.list_revisions(kb, options.document)
    requested = next(
        (r.id for r in revisions if options.revision in (r.id, str(r.number))), options.revision
    )
    added = client.restore_revision(kb, options.document, requested)
    context.show(added, f"{added.outcome}: {added.document.name}")


def list_folders(context: Context, options: argparse.Namespace) -> None:
    folders = context.client.list_folders(context.kb(), options.under)
    rows = [(f.path, number(f.documents), number(f.failed), number(f.warned)) for f in folders]
    table = context.table(
        rows, folder="left", documents="right", failed="right", with_warnings="right"
    )
    context.show(folders, table if folders else "No folders here.")


def do_bulk(context: Context, options: argparse.Namespace) -> None:
    if options.action == "tag" and not options.set and not options.drop:
        raise UsageProblem("Say which tags with --set and --drop.")
    try:
        chosen = DocumentSelection(
            documents=options.documents,
            state=options.state,
            source=options.source,
            folder=options.folder,
            name=options.name,
            warnings=options.warnings,
            tags=parse_tags(options.tag),
            all=options.all,
        )
    except ValueError as error:
        raise UsageProblem(
            "Choose documents: names, or options such as --folder, or --all."
        ) from error
    if (
        options.action == "delete"
        and not options.yes
        and not context.confirm("Delete these documents?")
    ):
        return
    request = BulkIn(
        action=options.action,
        chosen=chosen,
        set_tags=parse_tags(options.set),
        drop_tags=options.drop,
    )
    done = context.client.bulk(context.kb(), request)
    words = {
        "retry": "being read again",
        "reread": "being read again",
        "delete": "deleted",
        "tag": "tagged",
    }
    context.say(f"{done:,} documents {words[options.action]}.")
