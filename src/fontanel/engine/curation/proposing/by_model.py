"""Propose questions that a model writes, a passage at a time.

What it wrote is stored after each passage, by the passage's text: nothing is asked twice, neither
after a restart nor of text that a new revision left unchanged. Documents take turns.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from itertools import islice

import structlog
from sqlalchemy.orm import Session

from fontanel.core.answering import WriterFailed
from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.proposing import proposal_request, read_proposals
from fontanel.core.proposing.by_model import MAX_TOKENS
from fontanel.engine.answering.background import PROPOSED, Price, background_model, record_use
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.answering.targets import TargetKb, target_knowledge
from fontanel.engine.curation.proposing.checking import (
    MAX_TRIED,
    check_all,
    document_passages,
    is_judged_language,
)
from fontanel.engine.curation.proposing.decisions import next_document, run_of, store_proposals
from fontanel.engine.documents.origin import NO_ORIGIN, origin_of
from fontanel.engine.editions.store import Editions
from fontanel.errors import ModelUnusable, SecretUnreadable
from fontanel.llm import AskerLeft, ChatWriter, Endpoint, ModelClient
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Document, Kb, ProposalRun, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault

log = structlog.get_logger()

#: Passages of a document that a model reads; what comes after them has no questions.
_MAX_PASSAGES = 200
#: Failures of a model before a document is given up, and the first pause in seconds, which doubles.
_MAX_TRIES, _PAUSE = 5, 30.0
#: Seconds after which a team is looked at again that may not use its model.
_LOOK_AGAIN = 300.0


@dataclass(frozen=True, slots=True)
class _Task:
    """A passage that a model has yet to read."""

    document_key: int
    passage: EvidencePassage
    key: str
    keys: frozenset[str]
    """Of all passages of the document that it reads."""
    team_id: str
    kb_id: str
    model: str
    endpoint: Endpoint
    price: Price


class ModelProposer:
    """Lets models propose questions, in a thread of the runtime."""

    def __init__(
        self,
        *,
        records: Records,
        editions: Editions,
        local_models: LocalModels,
        models: ModelClient,
        vault: Vault,
        stopping: threading.Event,
    ) -> None:
        self._records = records
        self._editions = editions
        self._local_models = local_models
        self._models = models
        self._vault = vault
        self._stopping = stopping

    def propose_next(self) -> bool:
        """Have one passage read, or check a document's questions; return whether one waited."""
        with self._records.reading() as session:
            document = next_document(session, by_model=True)
            if document is None:
                return False
            kb = session.get_one(Kb, document.kb_id)
            assert kb.proposer is not None
            passages = document_passages(session, kb, document)[:_MAX_PASSAGES]
            keys = [_key(kb.proposer, passage) for passage in passages]
            run = session.get(ProposalRun, document.id)
            written = {} if run is None else run.written
            unread = next((n for n, key in enumerate(keys) if key not in written), None)
            if unread is None:
                self._check(session, kb, document, passages, keys, written)
                return True
            try:
                endpoint, price = background_model(session, self._vault, kb.team_id, kb.proposer)
            except (ModelUnusable, SecretUnreadable) as error:
                message = f"The model {kb.proposer} proposes nothing: {error}."
                self._postpone(document.key, message, _LOOK_AGAIN, failed=False)
                return True
            task = _Task(
                document.key,
                passages[unread],
                keys[unread],
                frozenset(keys),
                kb.team_id,
                kb.id,
                kb.proposer,
                endpoint,
                price,
            )
        return self._ask(task)

    def _ask(self, task: _Task) -> bool:
        writer = ChatWriter(self._models, task.endpoint, self._stopping)
        started = now()
        try:
            text = "".join(writer.write(proposal_request(task.passage), MAX_TOKENS, 0.0))
        except AskerLeft:
            return False  # the service stops; the passage is read after its next start
        except WriterFailed as error:
            log.info("questions not proposed", model=task.model, error=str(error))
            message = f"The model {task.model} failed: {error}"
            self._postpone(task.document_key, message, _PAUSE, failed=True)
            return True
        with self._records.writing() as session:
            document = session.get(Document, task.document_key)
            if document is not None:
                run = run_of(session, document)
                run.waiting, run.error, run.tries, run.again_at = True, "", 0, None
                kept = {key: value for key, value in run.written.items() if key in task.keys}
                run.written = {**kept, task.key: text}
                run.passages, run.changed_at = len(task.keys), now()
            record_use(
                session,
                PROPOSED,
                team_id=task.team_id,
                kb_id=task.kb_id,
                model=task.model,
                price=task.price,
                use=writer.use(),
                started=started,
                origin=NO_ORIGIN
                if document is None
                else origin_of(session, document.key, document.revision_id or ""),
            )
        return True

    def _postpone(self, document_key: int, message: str, pause: float, *, failed: bool) -> None:
        """Note why a model did not write; it is asked again later, a failing one a few times."""
        with self._records.writing() as session:
            document = session.get(Document, document_key)
            if document is None:
                return
            run = run_of(session, document)
            run.error, run.changed_at = message, now()
            if failed:
                run.tries += 1
                pause *= 2 ** (run.tries - 1)
            given_up = run.tries >= _MAX_TRIES
            run.waiting = not given_up
            run.again_at = now() + timedelta(seconds=pause)
            if given_up:
                run.revision_id, run.tries = document.revision_id, 0

    def _check(
        self,
        session: Session,
        kb: Kb,
        document: Document,
        passages: Sequence[EvidencePassage],
        keys: Sequence[str],
        written: Mapping[str, str],
    ) -> None:
        scope = TeamScope(session, document.team_id)
        known = target_knowledge(scope, [TargetKb(kb.id)], self._editions, self._local_models)
        candidates = (
            candidate
            for passage, key in zip(passages, keys, strict=True)
            for candidate in read_proposals(written[key], passage)
        )
        distinct = {one.question: one for one in islice(candidates, MAX_TRIED)}
        has_judge = self._local_models.evidence_name is not None
        judged = has_judge and is_judged_language(session, document)
        found = check_all(distinct.values(), known.parts[kb.id], judged=judged)
        revision_id = document.revision_id or ""
        session.close()
        with self._records.writing() as writing:
            current = writing.get(Document, document.key)
            if current is None:
                return
            store_proposals(writing, current, revision_id, found, len(distinct), "")
            run = run_of(writing, current)
            run.written = {key: written[key] for key in keys}
            run.passages = len(run.written)


def _key(model: str, passage: EvidencePassage) -> str:
    """Return what stands for a passage's text as a model reads it."""
    above = "\0".join((model, passage.title, *passage.locator.heading_path, passage.text))
    return hashlib.sha256(above.encode()).hexdigest()[:24]
