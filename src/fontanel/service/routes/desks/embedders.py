"""Embedders: registered by operators, named by editions of knowledge bases."""

from __future__ import annotations

import time
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from fastapi import Request
from sqlalchemy.orm import Session

from fontanel.core.embedding.comparable import Embed, EmbedderUnfit
from fontanel.core.embedding.directory import DirectoryFacts, directory_facts
from fontanel.engine.embedding.registered import (
    Checked,
    EndpointEmbed,
    check_vectors,
    is_taken,
    kbs_using,
    registered_of,
    select_embedders,
)
from fontanel.engine.runtime.runtime import Runtime
from fontanel.engine.workers.processes import WorkerDied
from fontanel.errors import Refused, SecretUnreadable
from fontanel.llm import CallFailed, EmbeddingEndpoint
from fontanel.records.ids import new_id
from fontanel.records.tables import Embedder, now
from fontanel.schemas import (
    EmbedderChange,
    EmbedderCheck,
    EmbedderIn,
    EmbedderName,
    EmbedderOut,
    Page,
)
from fontanel.service.auth.access import Editor, Operator, RuntimeDep, check_version
from fontanel.service.endpoints import change_endpoint, team_ids
from fontanel.service.out.models import embedder_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router(tag="embedders")

_BUILT_IN = "built-in"


@router.get("/embedders", summary="List registered embedders")
def list_embedders(caller: Operator, runtime: RuntimeDep) -> Page[EmbedderOut]:
    """For operators. The service's own embedder is not among them."""
    with runtime.records.reading() as session:
        rows = session.scalars(select_embedders().order_by(Embedder.name)).all()
        return Page(items=[embedder_out(session, row) for row in rows])


@router.post("/embedders", status_code=201, summary="Register an embedder")
def register_embedder(body: EmbedderIn, caller: Operator, runtime: RuntimeDep) -> EmbedderOut:
    """For operators. A few questions and the texts that answer them are embedded first."""
    with runtime.records.reading() as session:
        _check_name(session, body.name, runtime.local_models.name)
    question, passage = body.question_prefix, body.passage_prefix
    if body.directory is not None:
        facts = _facts(body.directory)
        question, passage = question or facts.question_prefix, passage or facts.passage_prefix
    try:
        checked, embed = _check_new(runtime, body, question, passage)
    except (CallFailed, WorkerDied, EmbedderUnfit) as error:
        field = "url" if body.directory is None else "directory"
        raise Refused(field, f"The embedder was not registered: {error}.") from error
    with runtime.records.writing() as session:
        _check_name(session, body.name, runtime.local_models.name)
        plain = body.model_dump(exclude={"secret", "teams", "dimensions", "url"})
        plain |= {"question_prefix": question, "passage_prefix": passage}
        row = Embedder(
            id=new_id("emb"),
            url=body.url or "",
            secret=runtime.vault.seal(body.secret) if body.secret else None,
            team_ids=team_ids(session, body.teams),
            dimensions=checked.dimensions,
            cut=body.dimensions is not None and checked.uncut is None,
            uncut=checked.uncut,
            factor=checked.scale.factor,
            offset=checked.scale.offset,
            request_seconds=checked.seconds,
            tokens_counted=0 if embed is None else embed.counted,
            tokens_estimated=0 if embed is None else embed.estimated,
            checked_at=now(),
            **plain,
        )
        session.add(row)
        session.flush()
        return embedder_out(session, row)


@router.get("/embedders/{embedder}", summary="Show a registered embedder")
def show_embedder(embedder: str, caller: Operator, runtime: RuntimeDep) -> EmbedderOut:
    """For operators."""
    with runtime.records.reading() as session:
        return embedder_out(session, _found(session, embedder))


@router.patch("/embedders/{embedder}", summary="Change an embedder")
def change_embedder(
    embedder: str, body: EmbedderChange, caller: Operator, runtime: RuntimeDep, request: Request
) -> EmbedderOut:
    """Its address, limits, price or teams; fields left out stay.

    What decides about its vectors stays: register another embedder instead.
    """
    with runtime.records.writing() as session:
        row = _found(session, embedder)
        check_version(request, row.version)
        if row.directory is not None and body.url is not None:
            raise Refused("url", f"{row.name} is in a directory; it has no address.")
        change_endpoint(session, runtime.vault, row, body.model_dump(exclude_unset=True))
        return embedder_out(session, row)


@router.delete("/embedders/{embedder}", status_code=204, summary="Remove an embedder")
def delete_embedder(embedder: str, caller: Operator, runtime: RuntimeDep) -> None:
    """Refused while an edition of a knowledge base is built with it.

    Its name is not used again: vectors of it may still be kept.
    """
    with runtime.records.writing() as session:
        row = _found(session, embedder)
        kbs = kbs_using(session, row.name)
        if kbs:
            named = ", ".join(kb.name for kb in kbs[:3])
            more = f" and {len(kbs) - 3} more" if len(kbs) > 3 else ""
            raise ApiError(
                "conflict",
                f"{row.name} is used by {named}{more}.",
                advice="Build editions with another embedder, and drop those of this one first.",
            )
        row.removed_at, row.secret, row.enabled = now(), None, False


@router.post("/embedders/{embedder}/check", summary="Check an embedder")
def check_embedder(embedder: str, caller: Operator, runtime: RuntimeDep) -> EmbedderCheck:
    """For operators. Embeds a few questions and the texts that answer them."""
    with runtime.records.reading() as session:
        name = _found(session, embedder).name
        try:
            registered = registered_of(_found(session, embedder), runtime.vault)
        except SecretUnreadable as error:
            raise ApiError("conflict", str(error)) from error
    started = time.monotonic()
    problem = None
    try:
        embed: Embed = EndpointEmbed(runtime.embeddings, registered.endpoint)
        if registered.directory is not None:
            directories = runtime.local_models.directories
            embed = directories.of(registered.directory, questions=True).embed
        prefixes = registered.question_prefix, registered.passage_prefix
        check_vectors(embed, *prefixes, registered.dimensions)
    except (CallFailed, WorkerDied, EmbedderUnfit) as error:
        problem = str(error)
    runtime.local_models.note(name, problem)
    return EmbedderCheck(
        works=problem is None, error=problem, seconds=round(time.monotonic() - started, 3)
    )


@router.get("/teams/{team}/embedders", summary="List the embedders a team may use")
def list_usable_embedders(access: Editor) -> Page[EmbedderName]:
    """The service's own comes first."""
    local = access.runtime.local_models
    items = []
    if local.name is not None:
        items.append(
            EmbedderName(
                name=local.name,
                own=True,
                dimensions=local.dimensions,
                price=0.0,
                currency="EUR",
                error=None,
            )
        )
    query = select_embedders().where(Embedder.enabled.is_(True)).order_by(Embedder.name)
    for row in access.session.scalars(query):
        if row.team_ids is None or access.team.id in row.team_ids:
            items.append(
                EmbedderName(
                    name=row.name,
                    own=False,
                    dimensions=row.dimensions,
                    price=row.price,
                    currency=row.currency,
                    error=row.error,
                )
            )
    return Page(items=items)


def _facts(directory: str) -> DirectoryFacts:
    """Return what the files of a directory say. Raises Refused."""
    path = Path(directory)
    for name in ("model.onnx", "tokenizer.json"):
        if not path.is_absolute() or not (path / name).is_file():
            raise Refused(
                "directory", f"There is no {name} in {directory!r}. Name the whole path of one."
            )
    return directory_facts(path)


def _check_new(
    runtime: Runtime, body: EmbedderIn, question: str, passage: str
) -> tuple[Checked, EndpointEmbed | None]:
    """Check an embedder that is not registered yet; see which dimensions its vectors have.

    A server that does not cut its vectors when it is asked to has them cut here.

    Raises:
        CallFailed, WorkerDied, EmbedderUnfit: it cannot be used.
    """
    if body.directory is not None:
        worker = runtime.local_models.directories.of(Path(body.directory), questions=True)
        return check_vectors(worker.embed, question, passage, body.dimensions), None
    assert body.url is not None
    endpoint = EmbeddingEndpoint(
        body.name,
        body.url,
        body.remote,
        secret=body.secret or None,
        batch=body.batch,
        seconds=body.seconds,
    )
    if body.dimensions is not None:
        asked = replace(endpoint, dimensions=body.dimensions, cut=True)
        embed = EndpointEmbed(runtime.embeddings, asked)
        with suppress(CallFailed):
            return check_vectors(embed, question, passage), embed
    embed = EndpointEmbed(runtime.embeddings, endpoint)
    return check_vectors(embed, question, passage, body.dimensions), embed


def _check_name(session: Session, name: str, own: str | None) -> None:
    if name in (_BUILT_IN, own) or is_taken(session, name):
        raise ApiError(
            "conflict",
            f"There is, or was, an embedder named {name!r}.",
            field="name",
            advice="Choose another name: vectors of it may still be kept.",
        )


def _found(session: Session, name: str) -> Embedder:
    named = (Embedder.name == name) | (Embedder.id == name)
    row = session.scalar(select_embedders().where(named))
    if row is None:
        raise ApiError("not-found", f"There is no embedder {name!r}.")
    return row
