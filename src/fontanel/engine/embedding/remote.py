"""Embedding passages with registered embedders: counted, within budgets, and resumed."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from sqlalchemy.orm import Session

from fontanel.core.answering import TokenUse
from fontanel.core.arrays import Floats
from fontanel.core.embedding.encoder import estimate_tokens
from fontanel.engine.answering.background import EMBEDDED, record_use
from fontanel.engine.answering.budgets import budget_of
from fontanel.engine.embedding.embedders import Embedders
from fontanel.engine.embedding.registered import Registered
from fontanel.engine.ingest.embedding import EmbedderAway, EmbedStage, Owned
from fontanel.engine.ingest.queue import embedders_waited_for
from fontanel.llm import CallFailed, EmbeddingClient
from fontanel.records.tables import Team, now
from fontanel.records.unit_of_work import Records

#: Seconds that jobs wait when an embedder gives no vectors, at least and at most.
_PAUSE, _MAX_PAUSE = 15.0, 600.0


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
        self._busy: set[str] = set()

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
        caller = _Caller(self._records, self._embedders, self._client, found)
        return self._stage.round(caller, name, _has_tokens)

    @contextmanager
    def _reserved(self, name: str) -> Iterator[bool]:
        """Keep other threads from an embedder: one that is silent should delay only one of them."""
        with self._lock:
            free = name not in self._busy
            self._busy.add(name)
        try:
            yield free
        finally:
            if free:
                with self._lock:
                    self._busy.discard(name)


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

    def embed_owned(self, texts: Sequence[Owned]) -> Floats:
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
            pause = min(max(error.after or 0.0, _PAUSE), _MAX_PAUSE)
            raise EmbedderAway(str(error), pause, refused=error.refused) from error
        self._embedders.note(name, None)
        counted = estimate_tokens([one.text for one in texts])
        total = sum(counted) or 1
        shares: Counter[tuple[str, str]] = Counter()
        for one, tokens in zip(texts, counted, strict=True):
            shares[one.team_id, one.kb_id] += tokens
        elapsed = time.monotonic() - began
        with self._records.writing() as session:
            for (team_id, kb_id), tokens in shares.items():
                read = round((done.tokens or total) * tokens / total)
                record_use(
                    session,
                    EMBEDDED,
                    team_id=team_id,
                    kb_id=kb_id,
                    model=name,
                    price=(registered.price, 0.0),
                    use=TokenUse(read, 0, counted=done.tokens > 0),
                    started=started,
                    seconds=elapsed * tokens / total,
                )
        return done.vectors


def _has_tokens(session: Session, team_id: str) -> bool:
    team = session.get(Team, team_id)
    return team is not None and budget_of(session, team).state != "spent"
