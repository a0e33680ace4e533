"""Embedding passages with registered embedders: counted, within budgets, and resumed."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from functools import partial

from sqlalchemy.orm import Session

from fontanel.core.answering import TokenUse
from fontanel.core.embedding.encoder import estimate_read_tokens
from fontanel.engine.answering.background import EMBEDDED, record_use
from fontanel.engine.answering.budgets import budget_of
from fontanel.engine.documents.origin import Origin, origin_of
from fontanel.engine.editions.pausing import pause_at_budget
from fontanel.engine.embedding.directories import DirectoryEmbedder
from fontanel.engine.embedding.embedders import Embedders
from fontanel.engine.embedding.registered import Registered, find_embedder
from fontanel.engine.ingest.embedding import EmbedStage
from fontanel.engine.ingest.passage_embedders import Embedded, EmbedderAway, Owned
from fontanel.engine.ingest.queue import embedders_waited_for
from fontanel.llm import CallFailed, EmbeddingClient
from fontanel.records.tables import Team, now
from fontanel.records.unit_of_work import Records

#: Threads that work with one embedder.
_THREADS_EACH = 2


class RemoteEmbedding:
    """Embeds the passages of editions with registered embedders, in turn; for several threads."""

    def __init__(
        self, records: Records, embedders: Embedders, client: EmbeddingClient, stage: EmbedStage
    ) -> None:
        self._records = records
        self._embedders = embedders
        self._client = client
        self._stage = stage
        self._last = ""
        self._lock = threading.Lock()
        self._busy: Counter[str] = Counter()

    def embed_round(self) -> bool:
        """Embed some passages with one of the embedders; return whether there were any."""
        with self._records.reading() as session:
            names = sorted(embedders_waited_for(session, but=self._embedders.name))
        # The one after the last comes first.
        for name in [*(n for n in names if n > self._last), *(n for n in names if n <= self._last)]:
            with self._reserved(name) as reserved:
                if reserved and self._embed(name):
                    self._last = name
                    return True
        return False

    def _embed(self, name: str) -> bool:
        found = self._embedders.registered(name)
        if found is None:
            return False
        if found.directory is not None:
            worker = self._embedders.directories.of(found.directory)
            embedder = DirectoryEmbedder(worker, found.passage_prefix, found.dimensions)
            return self._stage.round(embedder, name)
        caller = _Caller(self._records, self._embedders, self._client, found)
        return self._stage.round(caller, name, _has_tokens, found.tokens_allowed)

    @contextmanager
    def _reserved(self, name: str) -> Iterator[bool]:
        """Let two threads use an embedder, so that one calls it while the other commits.

        The others are kept from it: one that is silent should not delay everything.
        """
        with self._lock:
            free = self._busy[name] < _THREADS_EACH
            self._busy[name] += free
        try:
            yield free
        finally:
            with self._lock:
                self._busy[name] -= free


class _Caller:
    """Calls one embedder, and counts the tokens for whom they are used."""

    def __init__(
        self,
        records: Records,
        embedders: Embedders,
        client: EmbeddingClient,
        registered: Registered,
    ) -> None:
        self._records = records
        self._embedders = embedders
        self._client = client
        self._registered = registered
        self.at_once = registered.endpoint.batch
        # One more than the server takes: it waits while the vectors of the last are stored.
        self.calls = registered.endpoint.at_once + 1

    def embed_owned(self, texts: Sequence[Owned]) -> Embedded:
        """Return the vectors of texts. Raises EmbedderAway."""
        registered = self._registered
        name = registered.endpoint.name
        started, began = now(), time.monotonic()
        try:
            done = self._client.embed(
                registered.endpoint, [registered.passage_prefix + one.text for one in texts]
            )
        except CallFailed as error:
            if not error.refused:
                self._embedders.note(name, str(error))
            raise EmbedderAway(str(error), error.pause, refused=error.refused) from error
        self._embedders.note(name, None)
        elapsed = time.monotonic() - began
        return Embedded(done.vectors, partial(self._record, texts, done.tokens, started, elapsed))

    def _record(
        self, texts: Sequence[Owned], tokens_read: int, started: datetime, elapsed: float
    ) -> None:
        """Record the use of each edition and run, and pause the editions at their budget."""
        registered = self._registered
        name = registered.endpoint.name
        counted = estimate_read_tokens([one.text for one in texts])
        total = sum(counted) or 1
        with self._records.writing() as session:
            origins: dict[str, Origin] = {}
            shares: Counter[tuple[str, str, str, Origin]] = Counter()
            for one, tokens in zip(texts, counted, strict=True):
                job = one.job
                if job.id not in origins:
                    origins[job.id] = origin_of(session, job.document_key, job.revision_id)
                shares[job.team_id, job.kb_id, one.edition_id, origins[job.id]] += tokens
            for (team_id, kb_id, edition_id, origin), tokens in shares.items():
                read = round((tokens_read or total) * tokens / total)
                record_use(
                    session,
                    EMBEDDED,
                    team_id=team_id,
                    kb_id=kb_id,
                    model=name,
                    price=(registered.price, 0.0),
                    use=TokenUse(read, 0, counted=tokens_read > 0),
                    started=started,
                    seconds=elapsed * tokens / total,
                    origin=origin,
                    edition_id=edition_id,
                )
            row = find_embedder(session, name)
            if row is not None and tokens_read:
                row.tokens_counted += tokens_read
                row.tokens_estimated += total
            for edition_id in {one.edition_id for one in texts}:
                pause_at_budget(session, edition_id)


def _has_tokens(session: Session, team_id: str) -> bool:
    team = session.get(Team, team_id)
    return team is not None and budget_of(session, team).state != "spent"
