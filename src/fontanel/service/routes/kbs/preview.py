"""Trying what would become of a file, without adding it."""

from __future__ import annotations

import tempfile
from statistics import median
from typing import Annotated

from fastapi import File, Form, UploadFile

from fontanel.core.reading.data.row_documents import Columns as TableColumns
from fontanel.engine.documents.naming import document_name
from fontanel.engine.ingest.passages import split_settings
from fontanel.engine.workers.framing import Failed
from fontanel.engine.workers.messages import (
    DocumentRead,
    PicturesOnly,
    ReadDocument,
    TranscriptNeeded,
)
from fontanel.engine.workers.processes import WorkerDied, WorkerOverran
from fontanel.facts import SplitSettings
from fontanel.records.tables import Edition
from fontanel.schemas import (
    Columns,
    PreviewOut,
    ReportOut,
    SizesOut,
    Splitting,
)
from fontanel.service.auth.access import Editor
from fontanel.service.forms import given
from fontanel.service.out.readings import blocks_out, cuts_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/kbs/{kb}", "documents")

_CHUNK = 1024 * 1024
_BINS = 12


@router.post("/preview", summary="Try what would become of a file")
def preview(
    kb: str,
    access: Editor,
    file: Annotated[UploadFile, File(description="The file.")],
    name: Annotated[str | None, Form(description="Its name; default: the file's.")] = None,
    splitting: Annotated[
        str | None,
        Form(
            description="Splitting settings as a JSON object; default: the knowledge base's.",
            examples=['{"target_tokens": 150}'],
        ),
    ] = None,
    columns: Annotated[
        str | None, Form(description="What a table's columns mean, as a JSON object.")
    ] = None,
) -> PreviewOut:
    """Reads and splits the file as adding it would, and keeps nothing."""
    edition = access.session.get_one(Edition, access.scope.kb(kb).edition_id)
    chosen = given(Splitting, "splitting", splitting)
    meaning = given(Columns, "columns", columns)
    requested = document_name(name or file.filename or "")
    stored = edition.settings
    access.release()
    runtime = access.runtime
    with tempfile.NamedTemporaryFile(dir=runtime.settings.data, prefix="preview-") as scratch:
        while data := file.file.read(_CHUNK):
            scratch.write(data)
        scratch.flush()
        request = ReadDocument(
            path=scratch.name,
            name=requested,
            splitting=SplitSettings(**chosen) if chosen else split_settings(stored),
            columns=TableColumns.of(meaning) if meaning else None,
        )
        try:
            reply = runtime.preview_worker.read(request, runtime.settings.read_seconds)
        except WorkerOverran as error:
            raise ApiError("unreadable", "Reading the file takes too long to be tried.") from error
        except WorkerDied as error:
            raise ApiError("unreadable", "Reading the file broke the reading process.") from error
    if isinstance(reply, Failed | PicturesOnly):
        raise ApiError("unreadable", reply.error)
    if isinstance(reply, TranscriptNeeded):
        length = "" if reply.duration is None else f" of {reply.duration:.0f} seconds"
        raise ApiError(
            "unreadable",
            f"The recording{length} has no subtitles: it has to be transcribed first.",
            advice="Add it to the knowledge base, and choose a transcriber in its settings.",
        )
    assert isinstance(reply, DocumentRead)
    return _preview_out(requested, reply)


def _preview_out(name: str, read: DocumentRead) -> PreviewOut:
    assert read.reading is not None
    assert read.report is not None
    return PreviewOut(
        name=name,
        title=read.about.title,
        description=read.about.description,
        media_type=read.media_type,
        report=ReportOut(**read.report.to_dict()),
        warnings=list(read.reading.warnings),
        text=read.reading.text,
        blocks=blocks_out(read.reading.blocks),
        passages=cuts_out(read.passages),
        sizes=_sizes([passage.tokens for passage in read.passages]),
        inside=[file.name for file in read.files],
        seconds=read.seconds,
    )


def _sizes(tokens: list[int]) -> SizesOut:
    if not tokens:
        return SizesOut(passages=0, min=0, median=0, max=0, bins=[])
    step = max(5, -(-(max(tokens) + 1) // _BINS // 5) * 5)
    bins = [
        (start, start + step, sum(1 for size in tokens if start <= size < start + step))
        for start in range(0, max(tokens) + 1, step)
    ]
    return SizesOut(
        passages=len(tokens),
        min=min(tokens),
        median=round(median(tokens)),
        max=max(tokens),
        bins=bins,
    )
