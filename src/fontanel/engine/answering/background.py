"""Models that work in the background for a knowledge base: whether they may, and what they used."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.orm import Session

from fontanel.core.answering import TokenUse
from fontanel.engine.answering.budgets import budget_of
from fontanel.engine.answering.models import endpoint_of, usable_model
from fontanel.engine.documents.origin import NO_ORIGIN, Origin
from fontanel.errors import ModelUnusable
from fontanel.llm import Endpoint
from fontanel.records.ids import new_id
from fontanel.records.tables import Team, Use, now
from fontanel.records.vault import Vault

#: What models do in the background, none of which is a question; `uses` have it as their outcome.
DESCRIBED, PROPOSED, EMBEDDED = "described", "proposed", "embedded"
TRANSCRIBED, VIEWED, QUESTION_EMBEDDED = "transcribed", "viewed", "question_embedded"
BACKGROUND = {
    DESCRIBED: "describing documents",
    PROPOSED: "proposing questions",
    EMBEDDED: "embedding documents",
    QUESTION_EMBEDDED: "embedding questions",
    TRANSCRIBED: "transcribing recordings",
    VIEWED: "describing pictures",
}

#: Prices per million tokens, read and written.
Price = tuple[float, float]


def background_model(
    session: Session, vault: Vault, team_id: str, name: str
) -> tuple[Endpoint, Price]:
    """Return where a team's model is reached, and its price.

    Raises:
        ModelUnusable: it cannot be asked now.
        SecretUnreadable: its secret cannot be decrypted.
    """
    model = usable_model(session, name, team_id)
    if budget_of(session, session.get_one(Team, team_id)).state == "spent":
        raise ModelUnusable("the team's tokens of this month are used up")
    return endpoint_of(model, vault), (model.price_read, model.price_written)


def record_use(
    session: Session,
    kind: str,
    *,
    team_id: str,
    kb_id: str,
    model: str,
    price: Price,
    use: TokenUse | None,
    started: datetime,
    seconds: float | None = None,
    cost: float | None = None,
    recorded: float = 0.0,
    origin: Origin = NO_ORIGIN,
    edition_id: str | None = None,
) -> None:
    """Store the tokens and the cost of one call; nothing without tokens, or if the team is gone.

    Args:
        seconds: How long it took; default: since it was started.
        cost: Default: that of the tokens.
        recorded: The seconds of a recording that were transcribed.
        origin: Where the document comes from.
        edition_id: The edition that it was for.
    """
    if use is None or session.get(Team, team_id) is None:
        return
    if cost is None:
        cost = (use.read * price[0] + use.written * price[1]) / 1_000_000
    session.add(
        Use(
            team_id=team_id,
            turn_id=new_id(kind),
            kb_ids=[kb_id],
            model=model,
            kb_id=kb_id,
            source_id=origin.source_id,
            sync_id=origin.sync_id,
            edition_id=edition_id,
            asker=kind,
            outcome=kind,
            composer=model,
            tokens_read=use.read,
            tokens_written=use.written,
            cost=round(cost, 8),
            recorded_seconds=recorded,
            seconds=(now() - started).total_seconds() if seconds is None else seconds,
            at=started,
        )
    )
