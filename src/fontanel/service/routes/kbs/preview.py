"""Trying what would become of a file, without adding it."""

from __future__ import annotations

import tempfile
from statistics import median
from typing import Annotated, Any

from fastapi import File, Form, UploadFile

from fontanel.engine.documents.naming import document_name
from fontanel.engine.ingest.passages import split_settings
from fontanel.engine.workers.processes import WorkerDied, WorkerOverran
from fontanel.records.tables import Edition
from fontanel.schemas import (
    BlockOut,
    Columns,
    CutOut,
    LocatorOut,
    PreviewOut,
    ReportOut,
    SizesOut,
    Splitting,
)
from fontanel.service.auth.access import Editor
from fontanel.service.forms import given
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
    found = access.scope.kb(kb)
    edition = access.session.get_one(Edition, found.edition_id)
    settings = given(Splitting, "splitting", splitting)
    meaning = given(Columns, "columns", columns)
    wanted = document_name(name or file.filename or "")
    request: dict[str, Any] = {
        "name": wanted,
        "settings": settings or split_settings(edition.settings),
        "columns": meaning,
    }
    access.release()
    runtime = access.runtime
    with tempfile.NamedTemporaryFile(dir=runtime.settings.data, prefix="preview-") as scratch:
        while data := file.file.read(_CHUNK):
            scratch.write(data)
        scratch.flush()
        try:
            reply = runtime.preview_worker.read(
                {**request, "path": scratch.name}, runtime.settings.read_seconds
            )
        except WorkerOverran as error:
            raise ApiError("unreadable", "Reading the file takes too long to be tried.") from error
        except WorkerDied as error:
            raise ApiError("unreadable", "Reading the file broke the reading process.") from error
    if "error" in reply:
        raise ApiError("unreadable", reply["error"])
    return _preview_out(wanted, reply)


def _preview_out(name: str, reply: dict[str, Any]) -> PreviewOut:
    reading = reply["reading"]
    cuts = [
        CutOut(
            ordinal=number,
            start=cut["start"],
            end=cut["end"],
            text=cut["text"],
            context=cut["context"],
            tokens=cut["tokens"],
            locator=LocatorOut(**cut["locator"]),
        )
        for number, cut in enumerate(reply["passages"])
    ]
    return PreviewOut(
        name=name,
        title=reply["about"]["title"],
        description=reply["about"]["description"],
        media_type=reply["media_type"],
        report=ReportOut(**reply["report"]),
        warnings=reading["warnings"],
        text=reading["text"],
        blocks=[BlockOut(**block) for block in reading["blocks"]],
        passages=cuts,
        sizes=_sizes([cut.tokens for cut in cuts]),
        inside=[member["name"] for member in reply["members"]],
        seconds=reply["seconds"],
    )


def _sizes(tokens: list[int]) -> SizesOut:
    if not tokens:
        return SizesOut(passages=0, least=0, median=0, most=0, bins=[])
    step = max(5, -(-(max(tokens) + 1) // _BINS // 5) * 5)
    bins = [
        (start, start + step, sum(1 for size in tokens if start <= size < start + step))
        for start in range(0, max(tokens) + 1, step)
    ]
    return SizesOut(
        passages=len(tokens),
        least=min(tokens),
        median=round(median(tokens)),
        most=max(tokens),
        bins=bins,
    )
