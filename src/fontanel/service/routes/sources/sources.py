"""Sources of a knowledge base.

Kinds, previews, settings, signals, pushed documents.
"""

from __future__ import annotations

import base64
import time
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Annotated, Any

from fastapi import Query, Request, Response
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.notices.webhooks import is_signed, is_stale, new_webhook_secret
from fontanel.engine.runtime.runtime import Runtime
from fontanel.engine.sync.freshness import freshness_of
from fontanel.engine.sync.limits import source_limits
from fontanel.engine.sync.opening import kind_of, open_kind, usable_credentials
from fontanel.engine.sync.planning import start_sync
from fontanel.engine.sync.pushed import Pushed, take_pushed
from fontanel.engine.sync.sources import SourceSpec, change_source, create_source, delete_source
from fontanel.engine.sync.trial import TRIAL_LIMIT, try_source
from fontanel.errors import Refused
from fontanel.records.tables import Kb, Source, Team
from fontanel.schemas import (
    CheckIn,
    KindOut,
    ListedOut,
    Page,
    PushedIn,
    PushedOut,
    PushIn,
    PushOut,
    SignalSecret,
    SkippedOut,
    SourceChange,
    SourceCheck,
    SourceFreshness,
    SourceIn,
    SourceOut,
    SyncOut,
)
from fontanel.service.auth.access import (
    Access,
    CallerDep,
    Editor,
    EditorWrite,
    Operator,
    Reader,
    RuntimeDep,
    check_version,
)
from fontanel.service.auth.rate_limits import AtOnce
from fontanel.service.idempotency import Idempotency
from fontanel.service.out.sources import _documents, _recent, freshness_out, source_out, sync_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router
from fontanel.service.threads import run_change
from fontanel.sources import KINDS, ItemFailed, SourceUnavailable

router = api_router("/teams/{team}/kbs/{kb}/sources", "sources")
#: What is not of one knowledge base.
around = api_router(tag="sources")

#: A signal may be this old, in seconds.
_SIGNAL_AGE = 300


@around.get("/source-kinds", summary="List the kinds of sources")
def list_kinds(caller: CallerDep) -> list[KindOut]:
    """With the settings and credentials of each as JSON Schemas."""
    return [
        KindOut(
            name=kind.name,
            title=kind.title,
            description=kind.description,
            settings=kind.settings.model_json_schema(),
            credentials=kind.credentials.model_json_schema(),
            pushed=kind.pushed,
            watchable=kind.watchable,
        )
        for kind in KINDS.values()
    ]


@router.get("", summary="List sources")
def list_sources(kb: str, access: Reader) -> Page[SourceOut]:
    kb_row = access.scope.kb(kb)
    query = (
        access.scope.select(Source)
        .where(Source.kb_id == kb_row.id)
        .order_by(func.lower(Source.name))
    )
    return Page(
        items=[source_out(access.session, source) for source in access.session.scalars(query)]
    )


@router.post("", status_code=201, summary="Connect a source")
def create(kb: str, body: SourceIn, access: EditorWrite, request: Request) -> SourceOut:
    """Starts its first run; preview it to see what it would add."""
    kb_row = access.scope.kb(kb)
    idempotency = Idempotency(request, access.session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return SourceOut.model_validate_json(earlier)
    runtime = access.runtime
    source = create_source(
        access.session,
        runtime.vault,
        kb_row,
        _spec_of(body),
        source_limits(runtime.settings, access.team),
    )
    access.session.flush()
    if not kind_of(source.kind).pushed and not source.paused:
        start_sync(access.session, source, "person")
    out = source_out(access.session, source)
    idempotency.keep(out.model_dump_json())
    return out


def _spec_of(body: SourceIn) -> SourceSpec:
    return SourceSpec(
        name=body.name,
        kind=body.kind,
        settings=body.settings,
        credentials=body.credentials,
        folder=body.folder,
        tag_rules=[rule.model_dump() for rule in body.tag_rules],
        every_minutes=body.every_minutes,
        cron=body.cron,
        target_minutes=body.target_minutes,
        guard_share=body.guard_share,
        guard_min=body.guard_min,
        paused=body.paused,
        adopt=body.adopt,
    )


@router.post("/check", summary="Look at a source before it is connected")
def check(kb: str, body: CheckIn, access: Editor, request: Request) -> SourceCheck:
    """Connects and lists, and returns what would be added and skipped.

    Nothing is stored.
    """
    access.scope.kb(kb)
    access.release()
    return _look(access, request, body.kind, body.settings, body.credentials or {})


@router.post("/{source}/check", summary="Look at a connected source")
def check_again(
    kb: str, source: str, access: Editor, request: Request, body: SourceChange | None = None
) -> SourceCheck:
    """With other settings or credentials if the request has any."""
    source_row = access.scope.source(access.scope.kb(kb), source)
    access.release()
    settings = body.settings if body and body.settings is not None else source_row.settings
    values = usable_credentials(
        access.runtime.vault, source_row, settings, body.credentials if body else None
    )
    return _look(access, request, source_row.kind, settings, values)


def _look(
    access: Access,
    request: Request,
    kind_name: str,
    settings: Mapping[str, Any],
    credentials: Mapping[str, Any],
) -> SourceCheck:
    kind = kind_of(kind_name)
    until = time.monotonic() + TRIAL_LIMIT
    limits = source_limits(
        access.runtime.settings, access.team, stopping=lambda: time.monotonic() > until
    )
    checks: AtOnce = request.app.state.checks
    with checks.one(access.team.id):
        try:
            with open_kind(kind, settings, credentials, limits) as opened:
                trial = try_source(opened)
        except (SourceUnavailable, ItemFailed) as error:
            reason = (
                str(error)
                if time.monotonic() < until
                else f"It did not answer within {TRIAL_LIMIT:.0f} seconds."
            )
            if isinstance(error, SourceUnavailable) and not error.again:
                raise Refused("settings", reason) from error
            raise ApiError(
                "source-unavailable", reason, advice="Check the settings, or try again later."
            ) from error
    return SourceCheck(
        taken=trial.taken,
        bytes=trial.bytes,
        skipped=trial.skipped,
        complete=trial.complete,
        seconds=round(trial.seconds, 3),
        sample=[
            ListedOut(
                id=item.id,
                name=item.name,
                size=item.size,
                changed_at=datetime.fromtimestamp(item.changed_at, UTC)
                if item.changed_at
                else None,
            )
            for item in trial.sample
        ],
        skipped_sample=[
            SkippedOut(id=item.id, reason=item.reason) for item in trial.skipped_sample
        ],
    )


@router.get("/{source}", summary="Show a source")
def show(kb: str, source: str, access: Reader, response: Response) -> SourceOut:
    source_row = access.scope.source(access.scope.kb(kb), source)
    response.headers["ETag"] = f'"{source_row.version}"'
    return source_out(access.session, source_row)


@router.patch("/{source}", summary="Change a source")
def change(
    kb: str,
    source: str,
    body: SourceChange,
    access: EditorWrite,
    request: Request,
    response: Response,
) -> SourceOut:
    """Changed settings start a run; its guard holds a run that would remove too much."""
    source_row = access.scope.source(access.scope.kb(kb), source)
    check_version(request, source_row.version)
    values = body.model_dump(exclude_unset=True)
    if "paused" in values:
        source_row.paused = bool(body.paused)
    kept = {
        name: values[name] if values.get(name) is not None else getattr(source_row, name)
        for name in (
            "name",
            "settings",
            "target_minutes",
            "guard_share",
            "guard_min",
            "tag_rules",
        )
    }
    plan = {name: values.get(name, getattr(source_row, name)) for name in ("every_minutes", "cron")}
    if values.get("cron") is not None and "every_minutes" not in values:
        plan["every_minutes"] = None
    if values.get("every_minutes") is not None and "cron" not in values:
        plan["cron"] = None
    requested = SourceSpec(kind=source_row.kind, credentials=body.credentials, **kept, **plan)
    change_source(
        access.session,
        access.runtime.vault,
        source_row,
        requested,
        source_limits(access.runtime.settings, access.team),
    )
    access.session.flush()
    response.headers["ETag"] = f'"{source_row.version}"'
    return source_out(access.session, source_row)


@router.delete("/{source}", status_code=204, summary="Disconnect a source")
def remove(
    kb: str,
    source: str,
    access: EditorWrite,
    *,
    keep_documents: Annotated[
        bool, Query(description="Its documents stay, as if people had added them.")
    ] = False,
) -> None:
    kb_row = access.scope.kb(kb)
    delete_source(
        access.session, kb_row, access.scope.source(kb_row, source), keep_documents=keep_documents
    )


@router.post("/{source}/syncs", status_code=202, summary="Run a source now")
def start(kb: str, source: str, access: EditorWrite) -> SyncOut:
    """Returns the run to follow; one that waits already is returned again."""
    source_row = access.scope.source(access.scope.kb(kb), source)
    if kind_of(source_row.kind).pushed:
        raise ApiError(
            "conflict", "Documents are sent to this source by programs; there is nothing to run."
        )
    sync = start_sync(access.session, source_row, "person")
    access.session.flush()
    return sync_out(access.session, sync)


# Signals


@router.post("/{source}/signal-secret", summary="Make the secret that signals are signed with")
def make_secret(kb: str, source: str, access: EditorWrite) -> SignalSecret:
    """The previous secret stops working."""
    source_row = access.scope.source(access.scope.kb(kb), source)
    secret = new_webhook_secret()
    source_row.signal_secret = access.runtime.vault.seal(secret)
    return SignalSecret(secret=secret, path=f"/api/v1/signals/{source_row.id}")


@around.post(
    "/signals/{source}", status_code=202, summary="Report that something changed at a source"
)
async def signal(source: str, request: Request, runtime: RuntimeDep) -> dict[str, str]:
    """Start a run. Sending a signal twice does no harm; the body's content is ignored.

    Signed with the source's secret as the Standard Webhooks specification defines, in the headers
    `webhook-id`, `webhook-timestamp` and `webhook-signature`.
    """
    body = await request.body()
    await run_change(_take_signal, runtime, source, dict(request.headers), body)
    return {"source": source}


def _take_signal(runtime: Runtime, ref: str, headers: Mapping[str, str], body: bytes) -> None:
    with runtime.records.reading() as session:
        source = session.get(Source, ref)
    # Checked before taking the write lock, which strangers must not hold.
    secret = None if source is None else runtime.vault.open(source.signal_secret)
    if secret is None or not is_signed(secret, headers, body):
        if secret is not None and is_stale(secret, headers, body):
            raise ApiError(
                "not-signed-in",
                "The signal's webhook-timestamp is more than five minutes off.",
                advice="Sign each signal when it is sent, and set the sender's clock.",
            )
        raise ApiError("not-signed-in", "The signal is not signed with this source's secret.")
    with runtime.records.writing() as session:
        source = session.get(Source, ref)
        if source is not None and not source.paused:
            start_sync(session, source, "signal")


# Documents that programs send


@router.post("/{source}/documents", summary="Send documents to a source")
def push(kb: str, source: str, body: PushIn, access: Editor) -> PushOut:
    """Each has the sender's id. Repeating it changes nothing; it is one transaction."""
    kb_row = access.scope.kb(kb)
    target = access.scope.source(kb_row, source)
    if not kind_of(target.kind).pushed:
        raise ApiError(
            "conflict", "This source fetches its documents itself; make one of the kind 'push'."
        )
    kb_id, source_id, runtime = kb_row.id, target.id, access.runtime
    access.release()
    pushed = [_stored(runtime, one) for one in body.documents]
    with access.writing() as writing:
        scope = writing.scope
        again = scope.kb(kb_id)
        sync, outcomes = take_pushed(
            writing.session, again, scope.source(again, source_id), pushed, body.remove
        )
        return PushOut(
            sync=sync.id,
            items=[
                PushedOut(
                    id=one.id,
                    outcome=one.outcome.value,
                    reason=one.reason,
                    document_id=one.document.id if one.document else None,
                )
                for one in outcomes
            ],
        )


def _stored(runtime: Runtime, one: PushedIn) -> Pushed:
    name = one.name or one.id
    if one.text is not None:
        text = one.text
        if one.title and not text.lstrip().startswith("# "):
            text = f"# {one.title}\n\n{text}"
        data = text.encode()
        name = name if "." in name.rsplit("/", 1)[-1] else name + ".md"
    else:
        try:
            data = base64.b64decode(one.content or "", validate=True)
        except ValueError as error:  # also for letters that are not ASCII
            raise Refused("content", f"The content of {one.id!r} is not base64.") from error
    sha256, size = runtime.blobs.put([data])
    return Pushed(one.id, name, sha256, size, one.link, one.tags)


# Overviews


def _overview(session: Session, query: Any) -> list[SourceFreshness]:
    rows = session.execute(query)
    return [
        SourceFreshness(
            team=team.slug,
            kb_id=kb.id,
            kb=kb.name,
            source_id=source.id,
            source=source.name,
            kind=source.kind,
            documents=_documents(session, source),
            failing_since=source.failing_since,
            error=source.error,
            freshness=freshness_out(source, freshness_of(session, source)),
            recent=_recent(session, source),
        )
        for source, kb, team in rows
    ]


_ALL = (
    select(Source, Kb, Team).join(Kb, Kb.id == Source.kb_id).join(Team, Team.id == Source.team_id)
)


@around.get("/teams/{team}/freshness", summary="How fresh a team's sources are")
def team_freshness(access: Reader) -> list[SourceFreshness]:
    query = _ALL.where(Source.team_id == access.team.id)
    if access.scope.kb_ids is not None:
        query = query.where(Kb.id.in_(access.scope.kb_ids))
    return _overview(access.session, query.order_by(Kb.name, Source.name))


@around.get("/freshness", summary="How fresh all sources are")
def all_freshness(caller: Operator, runtime: RuntimeDep) -> list[SourceFreshness]:
    """For operators."""
    with runtime.records.reading() as session:
        return _overview(session, _ALL.order_by(Team.name, Kb.name, Source.name))
