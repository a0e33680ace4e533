"""Registered embedders: how to reach them, who may use them, and how they are checked."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from fontanel.core.arrays import Floats, first_dimensions
from fontanel.core.embedding.comparable import Embed, Scale, scale_of
from fontanel.core.embedding.encoder import estimate_read_tokens
from fontanel.engine.editions.pausing import cost_of
from fontanel.engine.servers import why_unusable
from fontanel.errors import FontanelError
from fontanel.llm import CallFailed, EmbeddingClient, EmbeddingEndpoint
from fontanel.llm.embeddings import MAX_DIMENSIONS, MIN_DIMENSIONS
from fontanel.records.tables import Edition, Embedder, Kb
from fontanel.records.vault import Vault


class EmbedderUnusable(FontanelError):
    """A team cannot use an embedder; the message says why."""


@dataclass(frozen=True, slots=True)
class Registered:
    """A registered embedder as it is called: at its address, or in its directory."""

    endpoint: EmbeddingEndpoint
    directory: Path | None
    dimensions: int
    question_prefix: str
    passage_prefix: str
    scale: Scale
    price: float
    enabled: bool
    #: Tokens that its server counts, for each that is estimated.
    tokens_each: float = 1.0

    def tokens_allowed(self, session: Session, edition_id: str) -> float | None:
        """Return how many estimated tokens an edition may use in a round; None for any number.

        Two rounds may run at once: each has half of what is left of the budget.
        """
        edition = session.get(Edition, edition_id)
        if edition is None or edition.budget is None or not self.price:
            return None
        left = max(0.0, edition.budget - cost_of(session, edition)[1])
        return left / 2 / self.price * 1_000_000 / self.tokens_each


def find_embedder(session: Session, name: str) -> Embedder | None:
    """Return the registered embedder of that name."""
    return session.scalar(select_embedders().where(Embedder.name == name))


def select_embedders() -> Select[Embedder]:
    """Return a query for the registered embedders, without removed ones."""
    return select(Embedder).where(Embedder.removed_at.is_(None))


def is_taken(session: Session, name: str) -> bool:
    """Return whether vectors by an embedder of that name exist, or may still be kept."""
    known = select(Embedder.id).where(Embedder.name == name)
    return session.scalar(known) is not None or bool(kbs_using(session, name))


def registered_of(row: Embedder, vault: Vault) -> Registered:
    """Return how a registered embedder is called.

    Raises:
        SecretUnreadable: its secret cannot be decrypted.
    """
    endpoint = EmbeddingEndpoint(
        row.name,
        row.url,
        row.remote,
        secret=None if row.secret is None else str(vault.open(row.secret)),
        dimensions=row.dimensions,
        cut=row.cut,
        uncut=row.uncut,
        batch=row.batch,
        at_once=row.at_once,
        seconds=row.seconds,
        tries=row.tries,
    )
    return Registered(
        endpoint,
        None if row.directory is None else Path(row.directory),
        row.dimensions,
        row.question_prefix,
        row.passage_prefix,
        Scale(row.factor, row.offset),
        row.price,
        row.enabled,
        (row.tokens_counted or 1) / (row.tokens_estimated or 1),
    )


def usable_embedder(session: Session, name: str, team_id: str) -> Embedder:
    """Return the registered embedder of that name.

    Raises:
        EmbedderUnusable: the team cannot use it.
    """
    row = find_embedder(session, name)
    if (reason := why_unusable(row, "embedder", team_id)) is not None:
        raise EmbedderUnusable(reason)
    assert row is not None
    return row


class EndpointEmbed:
    """Embeds texts at an address, with one attempt.

    `counted` are the tokens that the server counted, `estimated` those of the same texts.
    """

    def __init__(self, client: EmbeddingClient, endpoint: EmbeddingEndpoint) -> None:
        self._client = client
        self._endpoint = replace(endpoint, tries=1)
        self.counted = self.estimated = 0

    def __call__(self, texts: Sequence[str]) -> Floats:
        made = self._client.embed(self._endpoint, texts, urgent=True)
        if made.tokens:
            self.counted += made.tokens
            self.estimated += sum(estimate_read_tokens(texts))
        return made.vectors


@dataclass(frozen=True, slots=True)
class Checked:
    """What embedding known texts showed.

    Args:
        dimensions: Of the vectors that are kept.
        uncut: Dimensions of the embedder's vectors, if they are cut here.
        seconds: How long the second request took.
    """

    dimensions: int
    uncut: int | None
    scale: Scale
    seconds: float


def check_vectors(
    embed_texts: Embed, question_prefix: str, passage_prefix: str, dimensions: int | None = None
) -> Checked:
    """Embed questions and the texts that answer them, and measure the scale of their cosines.

    Args:
        dimensions: How many of the first dimensions are kept; None: all.

    Raises:
        CallFailed: the server gives no vectors, differing ones, or ones of too few dimensions.
        WorkerDied: the model in a directory cannot be used.
        EmbedderUnfit: its vectors do not tell the texts apart.
    """
    sizes: list[int] = []
    seconds = 0.0

    def embed(prefix: str, texts: Sequence[str]) -> Floats:
        nonlocal seconds
        started = time.monotonic()
        vectors = embed_texts([prefix + text for text in texts])
        seconds = time.monotonic() - started
        sizes.append(vectors.shape[1])
        kept = dimensions or sizes[-1]
        if not MIN_DIMENSIONS <= kept <= MAX_DIMENSIONS:
            raise CallFailed(
                f"its vectors have {kept} dimensions; {MIN_DIMENSIONS} to {MAX_DIMENSIONS} can be"
                " used"
            )
        if len(set(sizes)) > 1:
            raise CallFailed("its vectors differ in their dimensions")
        if sizes[-1] < kept:
            raise CallFailed(f"its vectors have {sizes[-1]} dimensions instead of {kept}")
        return first_dimensions(vectors, kept)

    scale = scale_of(
        lambda texts: embed(question_prefix, texts), lambda texts: embed(passage_prefix, texts)
    )
    kept = dimensions or sizes[0]
    return Checked(kept, sizes[0] if sizes[0] > kept else None, scale, seconds)


def kbs_using(session: Session, name: str) -> Sequence[Kb]:
    """Return the knowledge bases that have an edition with this embedder."""
    own = select(Edition.kb_id).where(Edition.embedder == name)
    return session.scalars(select(Kb).where(Kb.id.in_(own)).order_by(Kb.name)).all()


def known_embedders(session: Session) -> frozenset[str]:
    """Return the names of all registered embedders."""
    return frozenset(row.name for row in session.scalars(select_embedders()))
