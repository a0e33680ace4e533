"""Editions of a knowledge base."""

from __future__ import annotations

import shutil
import tempfile
from functools import partial
from pathlib import Path
from typing import Annotated

import structlog
from fastapi import File, Form, Query, UploadFile
from fastapi.responses import FileResponse
from starlette.background import BackgroundTask

from fontanel.engine.answering.retrieval import KbKnowledge, Options
from fontanel.engine.editions.lifecycle import activate_edition, build_edition, drop_edition
from fontanel.engine.editions.pack_export import write_pack
from fontanel.engine.editions.pack_import import check_vectors, import_pack
from fontanel.engine.editions.pack_reader import Pack
from fontanel.engine.editions.pausing import pause_build, resume_build
from fontanel.engine.embedding.registered import find_embedder
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.runtime.runtime import Runtime
from fontanel.engine.trials.gate import check_edition
from fontanel.engine.workers.framing import Failed
from fontanel.engine.workers.messages import VerifyPack
from fontanel.engine.workers.processes import WorkerDied
from fontanel.errors import Refused
from fontanel.facts import SplitSettings
from fontanel.records.tables import Edition, Kb, PausedBy
from fontanel.schemas import (
    ComparedOut,
    CompareIn,
    ComparisonOut,
    EditionEstimate,
    EditionIn,
    EditionOut,
    KbOut,
    Page,
    ResumeIn,
)
from fontanel.service.auth.access import Access, Editor, EditorWrite, Reader
from fontanel.service.chosen import chosen_embedder
from fontanel.service.lookup import edition_of, kb_knowledge
from fontanel.service.out.editions import edition_out, estimate_out
from fontanel.service.out.kbs import kb_out
from fontanel.service.routers import Number, api_router

log = structlog.get_logger()

router = api_router("/teams/{team}/kbs/{kb}/editions", "editions")

#: The maximum rank of the expected document in a comparison of editions.
_DEPTH = 10


@router.get("", summary="List editions")
def list_editions(kb: str, access: Reader) -> Page[EditionOut]:
    kb_row = access.scope.kb(kb)
    query = access.scope.select(Edition).where(Edition.kb_id == kb_row.id).order_by(Edition.number)
    return Page(
        items=[edition_out(access, kb_row, edition) for edition in access.session.scalars(query)]
    )


@router.post("", status_code=202, summary="Build an edition with other settings")
def build(kb: str, body: EditionIn, access: EditorWrite) -> EditionOut:
    """Builds a standby edition; the active one stays in use, and changes reach both.

    Vectors of unchanged text are reused.
    """
    kb_row = access.scope.kb(kb)
    embedder = chosen_embedder(access, body.embedder, _present_embedder(access, kb_row))
    edition = build_edition(
        access.session,
        kb_row,
        SplitSettings(**body.splitting.model_dump()),
        embedder,
        body.budget,
    )
    access.session.flush()
    return edition_out(access, kb_row, edition)


@router.get("/estimate", summary="Estimate what an edition takes")
def estimate(
    kb: str, access: Editor, embedder: Annotated[str | None, Query(max_length=60)] = None
) -> EditionEstimate:
    """Texts, tokens, cost and time of building an edition, with documents split as now."""
    kb_row = access.scope.kb(kb)
    name = chosen_embedder(access, embedder, _present_embedder(access, kb_row))
    edition = access.session.get_one(Edition, kb_row.edition_id)
    return estimate_out(access, edition, name)


def _present_embedder(access: Access, kb: Kb) -> str | None:
    """Return the active edition's embedder, or the service's own if that is gone."""
    edition = access.session.get_one(Edition, kb.edition_id)
    known = find_embedder(access.session, edition.embedder or "") is not None
    return edition.embedder if known else access.runtime.local_models.name


@router.post("/{number}/pause", summary="Pause the build of an edition")
def pause(kb: str, number: Number, access: EditorWrite) -> EditionOut:
    """What is built stays; documents that change meanwhile wait until the build is resumed."""
    kb_row = access.scope.kb(kb)
    edition = edition_of(access, kb_row, number)
    pause_build(access.session, edition, PausedBy.PERSON)
    return edition_out(access, kb_row, edition)


@router.post("/{number}/resume", summary="Resume the build of an edition")
def resume(
    kb: str, number: Number, access: EditorWrite, body: ResumeIn | None = None
) -> EditionOut:
    """Go on where it was paused, with a larger budget if that was used up."""
    kb_row = access.scope.kb(kb)
    edition = edition_of(access, kb_row, number)
    resume_build(access.session, edition, None if body is None else body.budget)
    return edition_out(access, kb_row, edition)


@router.post("/{number}/activate", summary="Switch to an edition")
def activate(kb: str, number: Number, access: Editor) -> EditionOut:
    """Searches and answers use it from now on.

    The previous edition stays on standby and up to date, so that you can switch back. Where the
    knowledge base names a question set, the edition has to pass it first.
    """
    with access.writing() as writing:
        kb_row = writing.scope.kb(kb)
        edition = edition_of(writing, kb_row, number)
        check_edition(writing.session, kb_row, edition)
        activate_edition(writing.session, kb_row, edition)
        fault("edition_switching")
        out = edition_out(writing, kb_row, edition)
    fault("edition_switched")
    return out


@router.delete("/{number}", status_code=204, summary="Drop an edition")
def drop(kb: str, number: Number, access: EditorWrite) -> None:
    """The active edition cannot be deleted."""
    kb_row = access.scope.kb(kb)
    drop_edition(access.session, kb_row, edition_of(access, kb_row, number))


@router.get("/{number}/pack", summary="Export an edition as one file", response_class=FileResponse)
def export(kb: str, number: Number, access: Reader) -> FileResponse:
    """A ZIP archive with originals, readings, passages and vectors."""
    kb_row = access.scope.kb(kb)
    edition = edition_of(access, kb_row, number)
    folder = Path(tempfile.mkdtemp(prefix="pack-", dir=access.runtime.settings.data))
    target = folder / f"{kb_row.slug}-{number}.pack.zip"
    try:
        write_pack(
            access.session, access.runtime.blobs, access.runtime.vectors, kb_row, edition, target
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
def import_edition(
    access: Editor,
    file: Annotated[UploadFile, File(description="A pack.")],
    name: Annotated[
        str | None, Form(description="The new knowledge base's name; default: the pack's.")
    ] = None,
) -> KbOut:
    """Rejected if damaged, of another version, or with another embedder's vectors."""
    if access.scope.kb_ids is not None:
        raise Refused("file", "This key is limited to some knowledge bases and cannot create one.")
    access.release()
    runtime, team_id = access.runtime, access.team.id
    embedder = runtime.local_models.name
    with tempfile.TemporaryDirectory(prefix="pack-", dir=runtime.settings.data) as folder:
        path = Path(folder) / "pack.zip"
        with path.open("wb") as copy:
            shutil.copyfileobj(file.file, copy)
        _verify(runtime, path)
        with Pack(path, embedder) as pack:
            check_vectors(pack, partial(runtime.local_models.embed, embedder))
            with access.writing() as writing:
                kb = import_pack(
                    writing.session,
                    runtime.blobs,
                    runtime.vectors,
                    runtime.editions,
                    team_id,
                    pack,
                    name or None,
                )
                writing.session.flush()
                return kb_out(writing, kb)


def _verify(runtime: Runtime, path: Path) -> None:
    """Have a worker process check a pack. Raises Refused."""
    request = VerifyPack(
        path=str(path),
        embedder=runtime.local_models.name,
        dimensions=runtime.local_models.dimensions,
    )
    try:
        reply = runtime.pack_worker.read(request, runtime.settings.read_seconds)
    except WorkerDied as error:
        raise Refused(
            "file", "Checking the pack took more time or memory than is allowed."
        ) from error
    if isinstance(reply, Failed):
        log.info("pack refused", cause=reply.cause)
        raise Refused("file", reply.error)


@router.post("/compare", summary="Compare two editions on questions")
def compare(kb: str, body: CompareIn, access: Reader) -> ComparisonOut:
    """The results of both, and the ranks of the expected documents."""
    kb_row = access.scope.kb(kb)
    first = kb_knowledge(access, kb_row, edition=edition_of(access, kb_row, body.first))
    second = kb_knowledge(access, kb_row, edition=edition_of(access, kb_row, body.second))
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
    requested = [row for row in rows if row.document]
    return ComparisonOut(
        first=body.first,
        second=body.second,
        first_mrr=_mrr([row.first_rank for row in requested]),
        second_mrr=_mrr([row.second_rank for row in requested]),
        same_best=round(sum(row.first[:1] == row.second[:1] for row in rows) / len(rows), 4),
        questions=rows,
    )


def _found(
    knowledge: KbKnowledge, question: str, expected: str | None
) -> tuple[list[str], int | None]:
    hits = knowledge.search(question, Options(limit=_DEPTH, per_document=1)).hits
    rank = next(
        (n for n, hit in enumerate(hits, 1) if expected in (hit.document.name, hit.document.id)),
        None,
    )
    return [hit.document.name for hit in hits], rank


def _mrr(ranks: list[int | None]) -> float | None:
    return round(sum(1 / rank for rank in ranks if rank) / len(ranks), 4) if ranks else None
