"""Search: passages for a question, with their scores, before any chat user is let in."""

from __future__ import annotations

import time

from fontanel.core.index import Mode
from fontanel.engine.answering.retrieval import Options
from fontanel.schemas import (
    SearchIn,
    SearchOut,
)
from fontanel.service.auth.access import Access, Reader
from fontanel.service.lookup import edition_of, knowledge_of
from fontanel.service.out.search import _hit
from fontanel.service.routers import api_router
from fontanel.service.streaming.turnstile import in_turn

router = api_router("/teams/{team}/kbs/{kb}", "search")


@router.post("/search", summary="Search a knowledge base")
async def search(kb: str, body: SearchIn, access: Reader) -> SearchOut:
    """Ranked passages. `lexical` finds words, `vector` meaning, `hybrid` both."""
    return await in_turn(_search, kb, body, access)


def _search(kb: str, body: SearchIn, access: Access) -> SearchOut:
    started = time.monotonic()
    found_kb = access.scope.kb(kb)
    edition = (
        None
        if body.edition is None
        else edition_of(access, found_kb, body.edition, field="edition")
    )
    knowledge = knowledge_of(access, found_kb, body.tags, body.documents, edition)
    boosts = {
        (key, value): factor
        for tag, factor in body.boost.items()
        for key, value in [tag.split("=", 1)]
    }
    options = Options(
        Mode(body.mode),
        body.limit,
        body.per_document,
        body.operators,
        body.words_weight,
        body.prefer_newer,
        boosts,
        body.join_neighbours,
        body.explain,
    )
    found = knowledge.search(body.question, options)
    return SearchOut(
        question=body.question,
        mode="lexical" if knowledge.by_words else body.mode,
        by_words=knowledge.by_words,
        hits=[_hit(hit, found, body.explain) for hit in found.hits],
        corrected={term: list(near) for term, near in found.corrected.items()},
        looked_at=found.looked_at,
        seconds=round(time.monotonic() - started, 4),
    )
