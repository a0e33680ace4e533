"""Search: passages for a question, with their scores."""

from __future__ import annotations

import time

from fontanel.core.index import Mode
from fontanel.engine.answering.retrieval import Options
from fontanel.schemas import (
    SearchIn,
    SearchOut,
)
from fontanel.service.auth.access import Access, Reader
from fontanel.service.lookup import edition_of, kb_knowledge
from fontanel.service.out.search import hit_out
from fontanel.service.routers import api_router
from fontanel.service.threads import run_briefly

router = api_router("/teams/{team}/kbs/{kb}", "search")


@router.post("/search", summary="Search a knowledge base")
async def search(kb: str, body: SearchIn, access: Reader) -> SearchOut:
    """Ranked passages.

    `lexical` finds words, `vector` meaning, `hybrid` both. With depth `deep` the evidence model
    ranks the best of them.
    """
    return await run_briefly(_search_in_thread, kb, body, access)


def _search_in_thread(kb: str, body: SearchIn, access: Access) -> SearchOut:
    with access.reading() as reading:
        return _search(kb, body, reading)


def _search(kb: str, body: SearchIn, access: Access) -> SearchOut:
    started = time.monotonic()
    found_kb = access.scope.kb(kb)
    edition = (
        None
        if body.edition is None
        else edition_of(access, found_kb, body.edition, field="edition")
    )
    knowledge = kb_knowledge(access, found_kb, body.tags, body.documents, edition)
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
        body.keyword_weight,
        body.prefer_newer,
        boosts,
        body.join_neighbours,
        body.explain,
        body.depth == "deep",
    )
    result = knowledge.search(body.question, options)
    return SearchOut(
        question=body.question,
        mode="lexical" if knowledge.keyword_only else body.mode,
        depth="deep" if result.deep else "fast",
        keyword_only=knowledge.keyword_only,
        hits=[hit_out(hit, result, explain=body.explain) for hit in result.hits],
        corrected={term: list(near) for term, near in result.corrected.items()},
        unmatched=[] if result.hits else knowledge.unmatched_filters(),
        scored=result.scored,
        seconds=round(time.monotonic() - started, 4),
    )
