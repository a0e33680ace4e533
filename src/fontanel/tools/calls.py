"""What each tool does, with a client of the service."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence

from fontanel import schemas as s
from fontanel.client import AsyncClient, FontanelError, NotAllowed
from fontanel.schemas.display import outdated_text, place
from fontanel.tools.schemas import (
    AskArguments,
    AskResult,
    Citation,
    DeskEntry,
    KbEntry,
    KbList,
    NoArguments,
    Passage,
    ProposeArguments,
    ProposeResult,
    ReadArguments,
    ReadResult,
    SearchArguments,
    SearchResult,
)
from fontanel.tools.uris import Address, parse_uri

#: Reports what a call is doing.
Report = Callable[[str], Awaitable[None]]


class ToolProblem(FontanelError):
    """A tool cannot do what it was asked to; the message says what to do instead."""


async def list_knowledge_bases(
    client: AsyncClient, arguments: NoArguments, report: Report
) -> KbList:
    """Return the knowledge bases and desks that the caller may use."""
    kbs = await client.list_kbs()
    try:
        desks = await client.list_chat_desks()
    except NotAllowed:  # a key that is limited to some knowledge bases
        desks = []
    return KbList(
        knowledge_bases=[
            KbEntry(
                kb=kb.slug,
                name=kb.name,
                description=kb.description,
                documents=kb.documents,
                passages=kb.passages,
            )
            for kb in kbs
        ],
        desks=[
            DeskEntry(desk=desk.slug, name=desk.name, description=desk.purpose) for desk in desks
        ],
    )


async def search(client: AsyncClient, arguments: SearchArguments, report: Report) -> SearchResult:
    """Return the best passages of several knowledge bases, by their match."""
    names = arguments.kbs
    if names is None:
        names = [kb.slug for kb in await client.list_kbs()]
    if not names:
        raise ToolProblem("There is no knowledge base to search.")
    results = await asyncio.gather(
        *(
            client.search(
                name,
                arguments.question,
                limit=arguments.limit,
                tags=arguments.tags,
                documents=arguments.documents,
                depth="deep",
            )
            for name in names
        )
    )
    passages = [
        _passage(name, hit)
        for name, result in zip(names, results, strict=True)
        for hit in result.hits
    ]
    passages.sort(key=lambda one: -one.match)
    notices = list(dict.fromkeys(text for one in results for text in _notices(one)))
    return SearchResult(passages=passages[: arguments.limit], notices=notices)


def _notices(result: s.SearchOut) -> list[str]:
    """Return what a caller should know about a search."""
    notices = []
    if result.keyword_only:
        notices.append("Searched by keywords only: no embedder could be used.")
    for word, instead in result.corrected.items():
        notices.append(f"No passage has {word!r}; searched for {', '.join(instead)} instead.")
    if not result.hits and result.unmatched:
        notices.append(f"No document matches {', '.join(result.unmatched)}.")
    return notices


def _passage(kb: str, hit: s.HitOut) -> Passage:
    return Passage(
        kb=kb,
        document=hit.document_name,
        document_id=hit.document_id,
        title=hit.title,
        place=place(hit.title, hit.locator),
        text=hit.text,
        match=round(hit.match, 4),
        passage=hit.passage_id,
        start=hit.start,
        end=hit.end,
        uri=Address(kb, hit.document_id, hit.revision_id).uri,
        not_in_force=None if hit.outdated is None else outdated_text(hit.outdated),
    )


async def ask(client: AsyncClient, arguments: AskArguments, report: Report) -> AskResult:
    """Return the answer of a knowledge base or a desk, with its citations."""
    kbs = {kb.id: kb.slug for kb in await client.list_kbs()}
    answer = None
    async for event in _events(client, arguments, list(kbs.values())):
        if isinstance(event, s.EvidenceEvent):
            await report(f"{len(event.passages)} passages were found.")
        elif isinstance(event, s.FinishEvent):
            answer = event.answer
    if answer is None:
        raise ToolProblem("The answer was not finished. Ask again in a moment.")
    return AskResult(
        outcome=answer.outcome,
        answer=answer.text,
        citations=[_citation(one.number, kbs, one) for one in answer.citations],
        note=answer.note,
        understood_as=answer.standalone,
        approved_by=None if answer.approval is None else answer.approval.approved_by,
        meant=[choice.question for choice in answer.choices],
        nearest=(
            [_citation(n, kbs, one) for n, one in enumerate(answer.evidence[:3], 1)]
            if answer.outcome == "declined"
            else []
        ),
        conversation=answer.conversation_id,
        turn=answer.turn_id,
    )


def _events(
    client: AsyncClient, arguments: AskArguments, kbs: Sequence[str]
) -> AsyncIterator[s.Event]:
    if arguments.desk is not None:
        return client.stream_desk_answer(arguments.desk, arguments.question, arguments.conversation)
    kb = arguments.kb
    if kb is None:
        if len(kbs) != 1:
            raise ToolProblem(
                "Name the knowledge base (kb) to ask:"
                f" {', '.join(kbs) or 'there is none'}; or a desk."
            )
        (kb,) = kbs
    return client.stream_answer(kb, arguments.question, arguments.conversation)


def _citation(number: int, kbs: dict[str, str], cited: s.CitationOut | s.EvidenceOut) -> Citation:
    kb = kbs.get(cited.kb_id)
    outdated = cited.outdated if isinstance(cited, s.CitationOut) else None
    return Citation(
        number=number,
        title=cited.title,
        place=place(cited.title, cited.locator),
        quote=cited.quote if isinstance(cited, s.CitationOut) else cited.text,
        document_id=cited.document_id,
        start=cited.start,
        end=cited.end,
        # A desk may answer from knowledge bases that its askers cannot read.
        uri=None if kb is None else Address(kb, cited.document_id, cited.revision_id).uri,
        not_in_force=None if outdated is None else outdated_text(outdated),
    )


async def read(client: AsyncClient, arguments: ReadArguments, report: Report) -> ReadResult:
    """Return a part of a document's text, or a passage with those around it."""
    if arguments.uri is not None:
        try:
            address = parse_uri(arguments.uri)
        except ValueError as error:
            raise ToolProblem(str(error)) from error
    else:
        address = Address(arguments.kb or "", arguments.document or "")
    text = await client.document_text(address.kb, address.document, address.revision)
    start, end, shown = arguments.start, arguments.start + arguments.characters, None
    if arguments.passage is not None:
        start, end, shown = await _around(client, address, arguments)
        end = min(end, start + arguments.characters)
    length = len(text.text)
    start, end = min(start, length), min(end, length)
    revision = text.revision
    return ReadResult(
        kb=address.kb,
        document_id=text.document_id,
        title=text.title,
        revision=revision.number,
        uri=Address(address.kb, text.document_id, revision.id).uri,
        text=text.text[start:end],
        start=start,
        end=end,
        length=length,
        place=shown,
    )


async def _around(
    client: AsyncClient, address: Address, arguments: ReadArguments
) -> tuple[int, int, str]:
    """Return the range of a passage with its neighbours, and the passage's place."""
    passages = [one async for one in client.list_passages(address.kb, address.document)]
    at = next((n for n, one in enumerate(passages) if one.id == arguments.passage), None)
    if at is None:
        raise ToolProblem(
            f"The document has no passage {arguments.passage} now. Search again, or read it by"
            " characters."
        )
    around = passages[max(0, at - arguments.neighbours) : at + arguments.neighbours + 1]
    start, end = min(one.start for one in around), max(one.end for one in around)
    return start, end, place("", passages[at].locator)


async def propose_document(
    client: AsyncClient, arguments: ProposeArguments, report: Report
) -> ProposeResult:
    """Propose a document, for an editor to accept."""
    row = await client.propose_document(
        arguments.kb, arguments.name, arguments.text, arguments.reason
    )
    return ProposeResult(
        proposed=row.id,
        kb=arguments.kb,
        name=row.name,
        state=row.state,
        changes_document=row.replaces is not None,
    )


async def may_propose(client: AsyncClient) -> bool:
    """Return whether the caller is an editor, and a knowledge base accepts proposals."""
    session = await client.session()
    if all(team.role == "reader" for team in session.teams):
        return False
    return any(kb.accepts_proposed_documents for kb in await client.list_kbs())
