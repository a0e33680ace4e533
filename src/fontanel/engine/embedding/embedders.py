"""The embedders of questions: the service's own, and registered ones over HTTP."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import structlog
from sqlalchemy import select

from fontanel.core.answering import TokenUse
from fontanel.core.arrays import Floats, first_dimensions
from fontanel.core.embedding.comparable import Scale
from fontanel.core.embedding.encoder import estimate_read_tokens
from fontanel.engine.answering.background import QUESTION_EMBEDDED, record_use
from fontanel.engine.answering.local_models import LocalModels, Owner
from fontanel.engine.embedding.directories import DirectoryWorkers
from fontanel.engine.embedding.registered import Registered, find_embedder, registered_of
from fontanel.engine.workers.processes import WorkerDied
from fontanel.errors import SecretUnreadable
from fontanel.llm import CallFailed, EmbeddingClient
from fontanel.records.tables import Embedder, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault

log = structlog.get_logger()

#: Questions whose vectors are kept, over all registered embedders.
_MAX_QUESTIONS = 2_000
#: Seconds that a search waits for the vector of its question, and for which an embedder that gave
#: none is not asked again.
_PATIENCE, _AWAY = 10.0, 10.0


class Embedders(LocalModels):
    """The service's own models, and the registered embedders.

    Searches do not fail with an embedder that is away: they go on by keywords.

    Args:
        later: Runs a small change of records in the background.
    """

    def __init__(
        self,
        embedder: Path,
        evidence: Path,
        *,
        records: Records,
        vault: Vault,
        client: EmbeddingClient,
        directories: DirectoryWorkers,
        later: Callable[..., None],
    ) -> None:
        super().__init__(embedder, evidence)
        self._later = later
        self._records = records
        self._vault = vault
        self._client = client
        self.directories = directories
        self._questions: OrderedDict[tuple[str, str, str], Floats] = OrderedDict()
        self._away_until: dict[str, float] = {}
        self._asking = threading.Lock()

    def registered(self, name: str | None) -> Registered | None:
        """Return a registered embedder that is switched on; None if there is none."""
        if name is None or name == self.name:
            return None
        with self._records.reading() as session:
            row = find_embedder(session, name)
            if row is None or not row.enabled:
                return None
            try:
                return registered_of(row, self._vault)
            except SecretUnreadable as error:
                self.note(name, str(error))
                return None

    def embed_question(self, embedder: str | None, text: str, owner: Owner) -> Floats | None:
        """Return the vector of a question; None if its embedder is away or gone."""
        if embedder is None or embedder == self.name:
            return super().embed_question(embedder, text, owner)
        # Another team's question must not be answered faster for having been asked before.
        key = (owner.team_id, embedder, text)
        with self._asking:
            if (known := self._questions.get(key)) is not None:
                self._questions.move_to_end(key)
                return known
        if time.monotonic() < self._away_until.get(embedder, 0.0):
            return None
        found = self.registered(embedder)
        if found is None:
            return None
        try:
            vector = self._embed_now(found, found.question_prefix + text, owner)
        except (CallFailed, WorkerDied) as error:
            self._away_until[embedder] = time.monotonic() + _AWAY
            self.note(embedder, str(error))
            return None
        self.note(embedder, None)
        with self._asking:
            self._questions[key] = vector
            while len(self._questions) > _MAX_QUESTIONS:
                self._questions.popitem(last=False)
        return vector

    def _embed_now(self, found: Registered, text: str, owner: Owner) -> Floats:
        """Return the vector of a text for which a person waits; its use is recorded later."""
        if found.directory is not None:
            worker = self.directories.of(found.directory, questions=True)
            in_process: Floats = first_dimensions(
                worker.embed([text], _PATIENCE), found.dimensions
            )[0]
            return in_process
        endpoint = found.endpoint
        once = replace(endpoint, tries=1, seconds=min(endpoint.seconds, _PATIENCE))
        started = now()
        made = self._client.embed(once, [text], urgent=True)
        tokens = made.tokens or sum(estimate_read_tokens([text]))
        use = TokenUse(tokens, 0, counted=made.tokens > 0)
        self._later(self._record, found, owner, use, started, (now() - started).total_seconds())
        vector: Floats = made.vectors[0]
        return vector

    def _record(
        self, found: Registered, owner: Owner, use: TokenUse, started: datetime, seconds: float
    ) -> None:
        with self._records.writing() as session:
            record_use(
                session,
                QUESTION_EMBEDDED,
                team_id=owner.team_id,
                kb_id=owner.kb_id,
                model=found.endpoint.name,
                price=(found.price, 0.0),
                use=use,
                started=started,
                seconds=seconds,
            )

    def scale(self, embedder: str | None) -> Scale | None:
        """Return the scale of an embedder's cosines; None if there is no such embedder."""
        found = self.registered(embedder)
        return super().scale(embedder) if found is None else found.scale

    def note(self, embedder: str, error: str | None) -> None:
        """Record whether an embedder gave vectors, where that has changed."""
        with self._records.reading() as session:
            stored = session.scalar(select(Embedder.error).where(Embedder.name == embedder))
        if stored == error:
            return
        log.info("embedder", embedder=embedder, error=error)
        with self._records.writing() as session:
            row = find_embedder(session, embedder)
            if row is not None:
                row.error, row.checked_at = error, now()
