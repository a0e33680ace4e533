"""Erase a document: its texts and passages, and the answers and records that read from it.

The request's transaction removes what the records have. `leftovers` then clears files, cached
vectors and segments in the background, and repeats the first for answers that were under way.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from typing import Any

from sqlalchemy import Text, cast, delete, func, select, update
from sqlalchemy.orm import InstrumentedAttribute, Session

from fontanel.core.answering import BUILT_IN, Outcome
from fontanel.core.embedding.encoder import text_key
from fontanel.engine.documents.documents import delete_document
from fontanel.engine.erasing.proof import count_mentions, in_backups_until
from fontanel.engine.ingest.passages import embedded_texts
from fontanel.engine.pictures.found import delete_unused_pictures
from fontanel.engine.transcription.transcripts import delete_unused_transcripts
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    AnswerSource,
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedState,
    ApprovedVersion,
    ChannelMessage,
    Document,
    Edition,
    Erasure,
    FollowedAnswer,
    IdempotentReply,
    Kb,
    Notice,
    PassageRow,
    PassageUse,
    PictureDescription,
    ProposedDocument,
    Revision,
    TrialResult,
    Turn,
)

#: What stands where an answer was.
ERASED_ANSWER = "This answer was erased, with a document that it was found in."

_IDS = re.compile(r"\b(?:doc|turn)_[a-z0-9]{16}\b")
#: Values in one statement; SQLite allows 32,766.
_CHUNK = 500


def erase_document(
    session: Session, kb: Kb, document: Document, asked_by: str, backup_days: int
) -> Erasure:
    """Erase a document, with the files inside it, in the caller's transaction.

    Args:
        session: A session of the records.
        kb: The document's knowledge base.
        document: The document.
        asked_by: Who erases it.
        backup_days: How long backups are kept.
    """
    documents = _with_contained(session, document)
    ids, names = [one.id for one in documents], [one.name for one in documents]
    removed: Counter[str] = Counter(documents=len(documents))
    remains = _remains(session, kb, documents, removed)
    pictures = _pictures(session, kb.team_id)
    delete_document(session, kb, document)
    session.flush()
    delete_unused_pictures(session)
    delete_unused_transcripts(session)
    remains["files"] += sorted(pictures - _pictures(session, kb.team_id))
    removed += forget_documents(session, kb.team_id, ids)
    session.flush()
    erasure = Erasure(
        id=new_id("erasure"),
        team_id=kb.team_id,
        document_id=document.id,
        asked_by=asked_by,
        removed=dict(removed),
        mentions=count_mentions(session, *names[:_CHUNK], team_id=kb.team_id),
        remains={**remains, "documents": ids},
        in_backups_until=in_backups_until(session, backup_days),
    )
    session.add(erasure)
    session.flush()
    return erasure


def forget_documents(session: Session, team_id: str, ids: Collection[str]) -> Counter[str]:
    """Remove what a team's records say of documents; return how many records, by kind.

    An answer from one keeps its question, its time and its cost. Approved answers that cite one are
    retired: their text is a person's.
    """
    removed: Counter[str] = Counter()

    def run(kind: str, statement: Any) -> None:
        removed[kind] += session.execute(statement).rowcount  # type: ignore[attr-defined]

    def naming(key: Any, *columns: InstrumentedAttribute[Any], among: Collection[str]) -> list[Any]:
        return _naming(session, key, columns, team_id, among)

    shown = naming(Turn.id, Turn.citations, Turn.approved, Turn.choices, among=ids)
    found = naming(Turn.id, Turn.evidence, Turn.steps, among=ids)
    turns = _forget_answers(session, shown, found, removed)
    known = {*ids, *turns}
    results = naming(TrialResult.key, TrialResult.citations, TrialResult.turn_id, among=known)
    for some in chunks(results):
        blank = update(TrialResult).where(TrialResult.key.in_(some))
        run("answers of trials", blank.values(text=ERASED_ANSWER, citations=[], reason=""))
    followed = naming(
        FollowedAnswer.id, FollowedAnswer.documents, FollowedAnswer.turn_id, among=known
    )
    for some in chunks(followed):
        blank = update(FollowedAnswer).where(FollowedAnswer.id.in_(some))
        run("followed answers", blank.values(answer="", documents=[], changes=[]))
    for some in chunks(turns):
        replied = ChannelMessage.turn_id.in_(some), ChannelMessage.reply != ERASED_ANSWER
        blank = update(ChannelMessage).where(*replied)
        run("replies in channels", blank.values(reply=ERASED_ANSWER, sources=[]))
    for some in chunks(naming(Notice.id, Notice.data, among=known)):
        run("notices", delete(Notice).where(Notice.id.in_(some)))
    # The key of a reply is its caller, route and key: its body tells it apart as well.
    for some in chunks(_naming(session, IdempotentReply.body, (), None, known)):
        run("stored replies", delete(IdempotentReply).where(IdempotentReply.body.in_(some)))
    for some in chunks(list(ids)):
        run("quotes", delete(AnswerSource).where(AnswerSource.document_id.in_(some)))
        run("quotes", delete(ApprovedFlag).where(ApprovedFlag.document_id.in_(some)))
        proposed = delete(ProposedDocument).where(ProposedDocument.document_id.in_(some))
        run("proposed texts", proposed)
        run("counts of use", delete(PassageUse).where(PassageUse.document_id.in_(some)))
    _retire_approved(session, team_id, ids, removed)
    return Counter({kind: count for kind, count in removed.items() if count})


def _forget_answers(
    session: Session, shown: Sequence[str], found: Sequence[str], removed: Counter[str]
) -> list[str]:
    """Take the text from answers, and the explanation also from others; return the former.

    Args:
        session: A session of the records.
        shown: Answers that show text of a document.
        found: Answers whose search found some. The built-in composer quotes nothing that it does
            not cite; a model may have used it, and the reason to decline may name it.
        removed: Counts what is removed.
    """
    composed = Turn.composer == BUILT_IN, Turn.outcome == Outcome.ANSWERED
    turns = {*shown, *found}
    for some in chunks(found):
        harmless = session.scalars(select(Turn.id).where(Turn.id.in_(some), *composed))
        turns -= set(harmless) - set(shown)
    for some in chunks(sorted(turns)):
        answers = update(Turn).where(Turn.id.in_(some), Turn.text != ERASED_ANSWER)
        values: dict[str, Any] = {"text": ERASED_ANSWER, "approved": None, "choices": None}
        values |= {"citations": [], "statements": []}
        removed["answers"] += session.execute(answers.values(values)).rowcount  # type: ignore[attr-defined]
    for some in chunks(sorted({*shown, *found})):
        session.execute(update(Turn).where(Turn.id.in_(some)).values(evidence=[]))
        # Later answers of a conversation were explained with the earlier ones.
        conversations = select(Turn.conversation_id).where(Turn.id.in_(some))
        explained = update(Turn).where(Turn.conversation_id.in_(conversations))
        session.execute(explained.values(steps=[], prompt=[], raw=""))
    return sorted(turns)


def _retire_approved(
    session: Session, team_id: str, ids: Collection[str], removed: Counter[str]
) -> None:
    citing = _naming(session, ApprovedAnswer.id, (ApprovedAnswer.places,), team_id, ids)
    for key in citing:
        approved = session.get_one(ApprovedAnswer, key)
        approved.places = _others(approved.places, ids)
        approved.state = ApprovedState.RETIRED
        removed["approved answers retired"] += 1
    for key in _naming(session, ApprovedVersion.key, (ApprovedVersion.content,), team_id, ids):
        version = session.get_one(ApprovedVersion, key)
        content = dict(version.content)
        content["places"] = _others(content.get("places") or [], ids)
        version.content = content


def _others(places: list[Any], ids: Collection[str]) -> list[Any]:
    return [place for place in places if place["document_id"] not in ids]


def _with_contained(session: Session, document: Document) -> list[Document]:
    """Return a document and the files inside it, at any depth."""
    found = [document]
    for one in found:  # grows
        found += session.scalars(select(Document).where(Document.parent_key == one.key))
    return found


def _remains(
    session: Session, kb: Kb, documents: Sequence[Document], removed: Counter[str]
) -> dict[str, list[str]]:
    """Return what has to be cleared after the records: files, vectors by key, editions."""
    files: set[str] = set()
    vectors: set[str] = set()
    editions = session.scalars(select(Edition).where(Edition.kb_id == kb.id)).all()
    for some in chunks([one.key for one in documents]):
        columns = select(Revision.sha256, Revision.reading)
        for row in session.execute(columns.where(Revision.document_key.in_(some))):
            files |= {blob for blob in row if blob}
            removed["revisions"] += 1
        for edition in editions:
            of_documents = PassageRow.document_key.in_(some)
            if edition.embedder is not None:
                texts = embedded_texts(session, edition, of_documents)
                vectors |= {text_key(edition.embedder, text).hex() for text in texts}
            counted = select(func.count()).where(PassageRow.edition_id == edition.id, of_documents)
            removed["passages"] += session.scalars(counted).one()
    return {
        "files": sorted(files),
        "vectors": sorted(vectors),
        "editions": [edition.id for edition in editions],
    }


def _pictures(session: Session, team_id: str) -> set[str]:
    """Return the files of a team's described pictures."""
    of_team = select(PictureDescription.blob).where(PictureDescription.team_id == team_id)
    return {blob for blob in session.scalars(of_team) if blob}


def _naming(
    session: Session,
    key: InstrumentedAttribute[Any],
    columns: Sequence[InstrumentedAttribute[Any]],
    team_id: str | None,
    ids: Collection[str],
) -> list[Any]:
    """Return the keys of the records that contain one of the ids, which are looked for in texts."""
    texts_of = enumerate(columns or (key,))
    query = select(key, *(cast(column, Text).label(f"text_{n}") for n, column in texts_of))
    if team_id is not None:
        query = query.where(key.class_.team_id == team_id)
    found = []
    for record, *texts in session.execute(query.execution_options(yield_per=1000)):
        if any(not set(_IDS.findall(text)).isdisjoint(ids) for text in texts if text):
            found.append(record)
    return found


def chunks(values: Sequence[Any]) -> Iterator[Sequence[Any]]:
    """Yield the values in parts that fit into one statement."""
    for start in range(0, len(values), _CHUNK):
        yield values[start : start + _CHUNK]
