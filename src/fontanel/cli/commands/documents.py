"""`fontanel document`: add documents and inspect them."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from rich.markup import escape

from fontanel.cli.commands.adding import add_documents
from fontanel.cli.commands.erasing import add_for_documents
from fontanel.cli.context import Context, UsageProblem
from fontanel.cli.format import moment, number, percent, size
from fontanel.cli.options.asking_first import ask_first
from fontanel.cli.options.documents import (
    column_options,
    columns_of,
    parse_tags,
    splitting_of,
    splitting_options,
    tag_option,
)
from fontanel.facts import DocumentState, ValidityMark
from fontanel.schemas import DocumentOut, ReportOut, ValidityOut
from fontanel.schemas.display import clock, outdated_text, place

#: Characters of a state in a table.
_SHORT = 48
_STATES = [state.value for state in DocumentState]


def add_commands(
    group: Any, verb: Any, common: argparse.ArgumentParser, kb: argparse.ArgumentParser
) -> None:
    add = verb(
        group,
        "add",
        add_documents,
        "add files, or the files of folders, and watch them being indexed",
        common,
        kb,
    )
    add.add_argument("paths", nargs="+", metavar="PATH", help="a file or a folder")
    tag_option(add, "a tag for each document")
    add.add_argument(
        "--name", help="the document's name, when one file is added (default: the file's)"
    )
    column_options(add)
    add.add_argument("--no-wait", action="store_true", help="return as soon as the bytes are safe")
    preview = verb(
        group,
        "preview",
        preview_document,
        "show how a file would be read and split, without adding it",
        common,
        kb,
    )
    preview.add_argument("path", type=Path, metavar="FILE")
    preview.add_argument("--cuts", action="store_true", help="show every passage in full")
    splitting_options(preview)
    column_options(preview)
    listing = verb(group, "list", list_documents, "list documents", common, kb)
    listing.add_argument("--state", choices=_STATES)
    listing.add_argument("--name", help="part of the name or title")
    tag_option(listing, "only documents with this tag")
    listing.add_argument("--source", help="only documents of this source; 'none': added by people")
    listing.add_argument("--folder", help="only documents in or below this folder")
    listing.add_argument(
        "--warnings", action="store_true", help="only documents that were read with warnings"
    )
    listing.add_argument(
        "--outdated", action="store_true", help="only documents that are not in force"
    )
    listing.add_argument(
        "--inside",
        metavar="DOCUMENT",
        help="only documents inside this one (an archive, a message)",
    )
    for name, run, about in (
        ("show", show_document, "show a document"),
        ("text", show_text, "print a document's text as it was read"),
        ("passages", show_passages, "show the passages a document was split into"),
        ("retry", retry_document, "read a failed document again"),
    ):
        verb(group, name, run, about, common, kb).add_argument("document", help="its name or id")
    about = "delete a document; it disappears from answers at once"
    delete = verb(group, "delete", delete_document, about, common, kb)
    delete.add_argument("document", help="its name or id")
    ask_first(delete, "Delete {document}?")
    add_for_documents(group, verb, common, kb)
    mark = verb(group, "mark", mark_document, "decide whether a document is in force", common, kb)
    mark.add_argument("document", help="its name or id")
    choice = mark.add_mutually_exclusive_group(required=True)
    choice.add_argument("--replaced-by", metavar="DOCUMENT", help="another document replaces it")
    choice.add_argument("--withdrawn", action="store_true", help="it is no longer in force")
    choice.add_argument("--current", action="store_true", help="it is in force")
    choice.add_argument(
        "--from-text", action="store_true", help="what its text says applies (the default)"
    )
    tag = verb(group, "tag", tag_document, "add, change or remove a document's tags", common, kb)
    tag.add_argument("document", help="its name or id")
    tag.add_argument("tags", nargs="*", metavar="KEY=VALUE", help="a tag to add or change")
    tag.add_argument("--remove", action="append", default=[], metavar="KEY", help="a tag to remove")
    tag.add_argument("--replace", action="store_true", help="remove all tags that are not named")
    download = verb(group, "download", download_document, "save a document's original", common, kb)
    download.add_argument("document", help="its name or id")
    download.add_argument(
        "--to", type=Path, help="file to write (default: the document's name here)"
    )
    download.add_argument(
        "--revision", type=int, metavar="NUMBER", help="an earlier one (default: the indexed one)"
    )


def list_documents(context: Context, options: argparse.Namespace) -> None:
    tags = parse_tags(options.tag) or None
    documents = list(
        context.client.list_documents(
            context.kb(),
            options.state,
            options.name,
            tags,
            warnings=options.warnings,
            outdated=options.outdated,
            parent=options.inside,
            source=options.source,
            folder=options.folder,
        )
    )
    if options.warnings and not context.json:
        for d in documents:
            context.say(f"[bold]{escape(d.name)}[/]")
            for warning in d.revision.warnings:
                context.say(f"  {warning}", markup=False)
        if not documents:
            context.say("No document was read with warnings.")
        return
    rows = [
        (
            d.name,
            d.title,
            short_state(d),
            number(d.revision.pages),
            number(d.revision.passages),
            number(d.revision.tokens),
            size(d.revision.size),
            moment(d.changed_at),
        )
        for d in documents
    ]
    table = context.table(
        rows,
        document="left",
        title="left",
        state="left",
        pages="right",
        passages="right",
        tokens="right",
        size="right",
        changed="left",
    )
    context.show(
        documents,
        table if documents else "No documents. Add some with 'fontanel document add PATH...'.",
    )


def short_state(document: DocumentOut) -> str:
    """Return the state as a table has room for; `show` has the whole reason."""
    text = state_of(document)
    return text if len(text) <= _SHORT else f"{text[: _SHORT - 3].rsplit(' ', 1)[0]}..."


def mark_document(context: Context, options: argparse.Namespace) -> None:
    client, kb = context.client, context.kb()
    if options.from_text:
        document = client.unmark_document(kb, options.document)
    elif options.replaced_by:
        document = client.mark_document(
            kb, options.document, ValidityMark.REPLACED, replaced_by=options.replaced_by
        )
    else:
        mark = ValidityMark.WITHDRAWN if options.withdrawn else ValidityMark.CURRENT
        document = client.mark_document(kb, options.document, mark)
    outdated = document.validity.outdated if document.validity else None
    state = "in force" if outdated is None else outdated_text(outdated)
    context.show(document, f"{document.title}: {state}.")


def state_of(document: DocumentOut) -> str:
    state = document.state.replace("_", " ")
    if document.validity and document.validity.outdated:
        state += f", {outdated_text(document.validity.outdated)}"
    if document.progress:
        state += f" {100 * document.progress:.0f} %"
    return state if not document.error else f"{state}: {document.error}"


def show_document(context: Context, options: argparse.Namespace) -> None:
    d = context.client.show_document(context.kb(), options.document)
    r = d.revision
    seconds = ", ".join(f"{stage} {value:.2f} s" for stage, value in r.seconds.items())
    rows = [
        ("title", d.title),
        ("about", d.description or None),
        ("described by", d.described_by),
        ("name", d.name),
        ("id", d.id),
        ("state", state_of(d)),
        *_validity_rows(d.validity),
        ("type", r.media_type),
        ("revision", f"{r.number} ({r.sha256[:12]})"),
        ("size", size(r.size)),
        ("duration", None if r.duration is None else clock(r.duration)),
        *(report_rows(r.report) if r.report else []),
        ("passages", number(r.passages)),
        ("tokens", number(r.tokens)),
        ("tags", ", ".join(f"{k}={v}" for k, v in d.tags.items()) or None),
        ("time", seconds or None),
        ("warnings", "; ".join(r.warnings) or None),
        ("changed", moment(d.changed_at)),
    ]
    context.show(d, context.table(rows, document="left", **{" ": "left"}))


def _validity_rows(validity: ValidityOut | None) -> list[tuple[str, str]]:
    """Return what is known of whether a document is in force as rows of a table."""
    if validity is None:
        return []
    marked = f"{validity.mark} (by {validity.marked_by})" if validity.mark else None
    rows = (
        ("in force from", validity.in_force_from),
        ("in force until", validity.in_force_until),
        ("replaces", ", ".join(validity.replaces)),
        ("its text says", "\n".join(f"“{one.quote}”" for one in validity.statements)),
        ("marked", marked),
    )
    return [(name, str(value)) for name, value in rows if value]


def report_rows(report: ReportOut) -> list[tuple[str, str | None]]:
    """Return the reading report as rows of a table."""
    blocks = ", ".join(
        f"{count:,} {kind}{'' if count == 1 else 's'}" for kind, count in report.blocks.items()
    )
    rows: list[tuple[str, str | None]] = [
        (f"{report.unit}s", number(report.pages)),
        ("words", number(report.words)),
        ("blocks", blocks or None),
        ("language", report.language),
    ]
    if report.left_out:
        rows.append(("left out", f"{number(report.left_out)} blocks that repeat on other pages"))
    if report.table_rows:
        rows.append(("table rows", number(report.table_rows)))
    if report.figures:
        rows.append(("pictures", number(report.figures)))
    if report.recognised:
        mean = sum(confidence for _, confidence in report.recognised) / len(report.recognised)
        rows.append(
            ("recognised", f"{len(report.recognised)} {report.unit}s, confidence {percent(mean)}")
        )
    return rows


def preview_document(context: Context, options: argparse.Namespace) -> None:
    if not options.path.is_file():
        raise UsageProblem(f"There is no file {options.path}.")
    result = context.client.preview(
        context.kb(), options.path, splitting=splitting_of(options), columns=columns_of(options)
    )
    if context.json:
        context.show(result)
        return
    sizes = result.sizes
    rows = [
        ("title", result.title),
        ("about", result.description or None),
        ("type", result.media_type),
        *report_rows(result.report),
        ("passages", number(sizes.passages)),
        (
            "tokens each",
            f"{sizes.min} to {sizes.max}, half below {sizes.median}" if sizes.passages else None,
        ),
        ("inside", f"{len(result.inside)} files" if result.inside else None),
        ("time", ", ".join(f"{stage} {value:.2f} s" for stage, value in result.seconds.items())),
        ("warnings", "; ".join(result.warnings) or None),
    ]
    context.show([], context.table(rows, file="left", **{options.path.name: "left"}))
    most = max((count for _, _, count in sizes.bins), default=0)
    if most:
        context.say("\npassages by tokens", style="bold")
    for start, end, count in sizes.bins:
        bar = "█" * round(40 * count / most) or ("▏" if count else "")
        context.say(f"{start:>5}-{end - 1:<5} {bar} {count}", markup=False)
    for cut in result.passages if options.cuts else result.passages[:3]:
        where = place(result.title, cut.locator)
        context.say(
            f"\n{cut.ordinal + 1}. {where} ({cut.tokens} tokens)", style="bold", markup=False
        )
        context.say(cut.text if options.cuts else cut.text[:400], markup=False)
    if not options.cuts and len(result.passages) > 3:
        context.say(f"\n{len(result.passages) - 3} more; --cuts shows all.")


def show_text(context: Context, options: argparse.Namespace) -> None:
    text = context.client.document_text(context.kb(), options.document)
    if context.json:
        context.show(text)
    else:
        print(text.text)


def show_passages(context: Context, options: argparse.Namespace) -> None:
    passages = list(context.client.list_passages(context.kb(), options.document))
    if context.json:
        context.show(passages)
        return
    for passage in passages:
        context.say(
            f"{passage.ordinal + 1}. {place('', passage.locator)} ({passage.tokens} tokens)",
            style="bold",
            markup=False,
        )
        context.say(passage.text + "\n", markup=False)


def retry_document(context: Context, options: argparse.Namespace) -> int:
    kb = context.kb()
    context.client.retry_document(kb, options.document)
    document = context.client.show_document(kb, options.document)
    document = context.client.wait_for_document(kb, document.id)
    context.show(document, f"{document.name}: {state_of(document)}")
    return 1 if document.state == "failed" else 0


def delete_document(context: Context, options: argparse.Namespace) -> None:
    context.client.delete_document(context.kb(), options.document)
    context.show([], f"Deleted {options.document}.")


def tag_document(context: Context, options: argparse.Namespace) -> None:
    named = parse_tags(options.tags)
    client, kb = context.client, context.kb()
    document = client.show_document(kb, options.document)
    if missing := [key for key in options.remove if key not in document.tags]:
        raise UsageProblem(f"{document.name} has no tag {missing[0]!r}.")
    kept = {} if options.replace else document.tags
    tags = {**kept, **named}
    for key in options.remove:
        tags.pop(key, None)
    document = client.set_tags(kb, document.id, tags, document.version)
    shown = ", ".join(f"{key}={value}" for key, value in document.tags.items()) or "no tags"
    context.show(document, f"{document.name}: {shown}")


def download_document(context: Context, options: argparse.Namespace) -> None:
    kb = context.kb()
    document = context.client.show_document(kb, options.document)
    target: Path = options.to or Path(Path(document.name).name)
    if target.exists() and options.to is None:
        raise UsageProblem(f"{target} exists. Name another file with --to.")
    revision = _revision_id(context, kb, document.id, options.revision)
    target.write_bytes(context.client.original(kb, document.id, revision))
    context.show(document, f"Saved {target}.")


def _revision_id(context: Context, kb: str, document: str, number: int | None) -> str | None:
    if number is None:
        return None
    for revision in context.client.list_revisions(kb, document):
        if revision.number == number:
            return revision.id
    raise UsageProblem(f"The document has no revision {number}.")
