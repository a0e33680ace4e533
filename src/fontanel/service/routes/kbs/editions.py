"""Editions of a knowledge base."""

from __future__ import annotations

import shutil
import tempfile
from functools import partial
from pathlib import Path
from typing import Annotated

import structlog
from fastapi import File, Form, UploadFile
from fastapi.responses import FileResponse
from starlette.background import BackgroundTask

from fontanel.core.passages.splitting import SplitSettings
from fontanel.engine.answering.retrieval import KbKnowledge, Options
from fontanel.engine.editions.lifecycle import build_edition, drop_edition, serve_edition
from fontanel.engine.editions.pack_export import write_pack
from fontanel.engine.editions.pack_import import Pack, check_vectors, import_pack
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.runtime.runtime import Workshop
from fontanel.engine.workers.processes import WorkerDied
from fontanel.errors import Refused
from fontanel.records.database import writing
from fontanel.records.tables import Edition
from fontanel.schemas import (
    ComparedOut,
    CompareIn,
    ComparisonOut,
    EditionIn,
    EditionOut,
    KbOut,
    Page,
)
from fontanel.service.auth.access import Editor, EditorWrite, Reader
from fontanel.service.lookup import edition_of, knowledge_of
from fontanel.service.out.editions import edition_out
from fontanel.service.out.kbs import kb_out
from fontanel.service.problems import ProblemError
from fontanel.service.routers import Number, api_router

log = structlog.get_logger()

router = api_router("/teams/{team}/kbs/{kb}/editions", "editions")

#: How deep the expected document is looked for when two editions are compared.
_DEPTH = 10


@router.get("", summary="List editions")
def list_editions(kb: str, access: Reader) -> Page[EditionOut]:
    found = access.scope.kb(kb)
    query = access.scope.select(Edition).where(Edition.kb_id == found.id).order_by(Edition.number)
    return Page(
        items=[edition_out(access, found, edition) for edition in access.session.scalars(query)]
    )


@router.post("", status_code=202, summary="Build an edition with other settings")
def build(kb: str, body: EditionIn, access: EditorWrite) -> EditionOut:
    """It is built beside the one that serves, which goes on as before; changes reach both. Vectors of text that has not changed
    are used again."""
    found = access.scope.kb(kb)
    edition = build_edition(
        access.session,
        found,
        SplitSettings(**body.splitting.model_dump()),
        access.workshop.embedders.name,
    )
    access.session.flush()
    out = edition_out(access, found, edition)
    access.session.commit()
    access.workshop.wake()
    return out


@router.post("/{number}/serve", summary="Switch to an edition")
def serve(kb: str, number: Number, access: EditorWrite) -> EditionOut:
    """Searches and answers use it from now on. The one before stays, up to date, so that you can switch back."""
    found = access.scope.kb(kb)
    edition = edition_of(access, found, number)
    try:
        serve_edition(access.session, found, edition)
    except Refused as refused:
        raise ProblemError("conflict", str(refused)) from refused
    fault("edition_switching")
    access.session.commit()
    fault("edition_switched")
    access.workshop.editions.refresh(edition.id)
    access.workshop.changes.tell(found.id)
    return edition_out(access, found, edition)


@router.delete("/{number}", status_code=204, summary="Drop an edition")
def drop(kb: str, number: Number, access: EditorWrite) -> None:
    """Not the one that serves."""
    found = access.scope.kb(kb)
    edition = edition_of(access, found, number)
    edition_id = edition.id
    try:
        drop_edition(access.session, found, edition)
    except Refused as refused:
        raise ProblemError("conflict", str(refused)) from refused
    access.session.commit()
    access.workshop.editions.forget(edition_id)
    access.workshop.changes.tell(found.id)


@router.get("/{number}/pack", summary="Export an edition as one file", response_class=FileResponse)
def export(kb: str, number: Number, access: Reader) -> FileResponse:
    """A ZIP archive with the originals, their readings, passages and vectors; importing it embeds nothing anew."""
    found = access.scope.kb(kb)
    edition = edition_of(access, found, number)
    folder = Path(tempfile.mkdtemp(prefix="pack-", dir=access.workshop.settings.data))
    target = folder / f"{found.slug}-{number}.pack.zip"
    try:
        write_pack(
            access.session, access.workshop.blobs, access.workshop.vectors, found, edition, target
        )
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    cleared = BackgroundTask(shutil.rmtree, folder, ignore_errors=True)
    return FileResponse(
        target, media_type="application/zip", filename=target.name, background=cleared
    )


packs = api_router("/teams/{team}/packs", "editions")


@packs.post("", status_code=201, summary="Import an edition as a knowledge base")
def take_in(
    access: Editor,
    file: Annotated[UploadFile, File(description="A pack.")],
    name: Annotated[
        str | None, Form(description="The new knowledge base's name; default: the pack's.")
    ] = None,
) -> KbOut:
    """Refused when it is damaged, of another version, or when its vectors are by another embedder than this service's."""
    if access.scope.kb_ids is not None:
        raise Refused("file", "This key reaches single knowledge bases only and cannot create one.")
    access.session.rollback()
    workshop, team_id = access.workshop, access.team.id
    embedder = workshop.embedders.name
    with tempfile.TemporaryDirectory(prefix="pack-", dir=workshop.settings.data) as folder:
        path = Path(folder) / "pack.zip"
        with path.open("wb") as copy:
            shutil.copyfileobj(file.file, copy)
        _verify(workshop, path)
        with Pack(path, embedder) as pack:
            check_vectors(pack, partial(workshop.embedders.embed, embedder))
            with writing(workshop.sessions) as session:
                kb = import_pack(
                    session,
                    workshop.blobs,
                    workshop.vectors,
                    workshop.editions,
                    team_id,
                    pack,
                    name or None,
                )
                session.commit()
                workshop.editions.refresh(kb.edition_id)
                return kb_out(access.within(session), kb)


def _verify(workshop: Workshop, path: Path) -> None:
    """Have a worker process check a pack. Raises Refused."""
    embedder, dimensions = workshop.embedders.name, workshop.embedders.dimensions
    request = {"pack": str(path), "embedder": embedder, "dimensions": dimensions}
    try:
        reply = workshop.unpacker.read(request, workshop.settings.read_seconds)
    except WorkerDied as error:
        raise Refused(
            "file", "Checking the pack took more time or memory than is allowed."
        ) from error
    if "error" in reply:
        log.info("pack refused", cause=reply.get("cause"))
        raise Refused("file", reply["error"])


@router.post("/compare", summary="Compare two editions on questions")
def compare(kb: str, body: CompareIn, access: Reader) -> ComparisonOut:
    """What each finds, and where the expected documents stand."""
    found = access.scope.kb(kb)
    first = knowledge_of(access, found, edition=edition_of(access, found, body.first))
    second = knowledge_of(access, found, edition=edition_of(access, found, body.second))
    rows = []
    for asked in body.questions:
        (a, rank_a), (b, rank_b) = (
            _found(one, asked.question, asked.document) for one in (first, second)
        )
        rows.append(
            ComparedOut(
                question=asked.question,
                document=asked.document,
                first=a,
                second=b,
                first_rank=rank_a,
                second_rank=rank_b,
            )
        )
    wanted = [row for row in rows if row.document]
    return ComparisonOut(
        first=body.first,
        second=body.second,
        first_mrr=_mrr([row.first_rank for row in wanted]),
        second_mrr=_mrr([row.second_rank for row in wanted]),
        same_best=round(sum(row.first[:1] == row.second[:1] for row in rows) / len(rows), 4),
        questions=rows,
    )


def _found(
    knowledge: KbKnowledge, question: str, wanted: str | None
) -> tuple[list[str], int | None]:
    hits = knowledge.search(question, Options(limit=_DEPTH, per_document=1)).hits
    rank = next(
        (n for n, hit in enumerate(hits, 1) if wanted in (hit.document.name, hit.document.id)), None
    )
    return [hit.document.name for hit in hits], rank


def _mrr(ranks: list[int | None]) -> float | None:
    return round(sum(1 / rank for rank in ranks if rank) / len(ranks), 4) if ranks else None
