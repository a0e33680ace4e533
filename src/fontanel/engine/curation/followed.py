"""Follow answers: ask their questions again when what they cite changes, and notify who follows.

An answer is looked at when the text that it cites is flagged as changed, when another document that
it cites changes, or, if it was declined, when anything in its knowledge bases does. Models are not
called for it.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta
from typing import Any

import structlog
from sqlalchemy import exists, func, select
from sqlalchemy.orm import Session

from fontanel.core.answering import BUILT_IN, Answer, Outcome
from fontanel.engine.answering.asking import Asked, Asking, Recorded
from fontanel.engine.answering.targets import Target, desk_target, published_version
from fontanel.engine.channels.handing_over import note_row
from fontanel.engine.gaps.collecting import TRIAL
from fontanel.engine.notices.mail import mails, send_mail
from fontanel.errors import MailFailed, Refused
from fontanel.records.ids import hash_secret, new_id, new_secret
from fontanel.records.tables import (
    SETTLED_STATES,
    AnswerSource,
    Channel,
    Desk,
    Document,
    FollowedAnswer,
    Revision,
    Turn,
    now,
)
from fontanel.records.unit_of_work import Records
from fontanel.settings import Settings

log = structlog.get_logger()

_MAX_FOLLOWED = 200
#: Changes that a feed shows.
_MAX_CHANGES = 20
#: How long a knowledge base in which documents are being processed is waited for.
_PATIENCE = timedelta(minutes=10)
#: Seconds between two looks for answers that are due, and after a mail server failed.
_LOOK, _MAIL_PAUSE = 1.0, 60.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Notify:
    """Where somebody is notified: at a channel, by e-mail, or by the feed alone."""

    channel_id: str | None = None
    thread: str = ""
    address: Mapping[str, Any] = field(default_factory=dict)
    email: str = ""


def follow_answer(
    session: Session, turn: Turn, asker: str, where: Notify
) -> tuple[FollowedAnswer, str]:
    """Follow an answer; return it with the secret of its feed, which a second call renews.

    Raises:
        Refused: the asker follows too many.
    """
    assert turn.desk_id is not None
    query = select(FollowedAnswer).where(
        FollowedAnswer.asker == asker, FollowedAnswer.turn_id == turn.id
    )
    row = session.scalar(query)
    secret = new_secret("ff")
    if row is None:
        own = select(func.count()).select_from(FollowedAnswer)
        if (session.scalar(own.where(FollowedAnswer.asker == asker)) or 0) >= _MAX_FOLLOWED:
            raise Refused("turn", f"You follow {_MAX_FOLLOWED} answers. Stop following one first.")
        row = FollowedAnswer(
            id=new_id("fol"),
            team_id=turn.team_id,
            desk_id=turn.desk_id,
            turn_id=turn.id,
            asker=asker,
            question=turn.standalone or turn.question,
            answer=turn.text,
            outcome=turn.outcome,
            composed=turn.composer == BUILT_IN,
            documents=_documents_of(turn.citations),
            kb_ids=list(turn.editions or {}),
            address={},
            changes=[],
            checked_at=turn.created_at,
            feed_hash="",
        )
        session.add(row)
    row.channel_id, row.thread, row.address = where.channel_id, where.thread, dict(where.address)
    row.email, row.feed_hash = where.email, hash_secret(secret)
    session.flush()
    return row, secret


def _documents_of(citations: Sequence[Mapping[str, Any]]) -> list[str]:
    return list(dict.fromkeys(one["document_id"] for one in citations))


@dataclass(frozen=True, slots=True)
class _Due:
    """An answer to look at; `change` is what became of its cited text, if that is flagged."""

    row: FollowedAnswer
    change: str
    target: Target | None


class FollowedAnswers:
    """Looks at followed answers, one at a time, and notifies who follows them."""

    def __init__(self, records: Records, asking: Asking, settings: Settings) -> None:
        self._records = records
        self._asking = asking
        self._settings = settings
        self._cancelled = threading.Event()
        self._next_look = 0.0
        self._next_mail = 0.0

    def stop(self) -> None:
        """Cancel the question that is being asked."""
        self._cancelled.set()

    def check_next(self) -> bool:
        """Look at one answer that is due, or send one e-mail; return whether there was one."""
        if self._cancelled.is_set():
            return False
        if self._send_mail():
            return True
        if time.monotonic() < self._next_look:
            return False
        with self._records.reading() as session:
            due = _next_due(session)
        if due is None:
            self._next_look = time.monotonic() + _LOOK
            return False
        self._check(due)
        return True

    def _check(self, due: _Due) -> None:
        asked_at = now()
        answer: Answer | None = None
        if due.target is not None:
            try:
                answer = self._answer(due, due.target)
            except Exception:
                log.exception("a followed answer could not be asked again", followed=due.row.id)
            if self._cancelled.is_set():
                return
        with self._records.writing() as session:
            row = session.get(FollowedAnswer, due.row.id)
            if row is None:
                return
            row.checked_at = asked_at
            if answer is not None and _differs(row, answer, due.change):
                _record(session, row, answer, due.change, self._settings)

    def _answer(self, due: _Due, target: Target) -> Answer | None:
        asked = Asked(
            question=due.row.question,
            asker=f"{TRIAL}followed",
            request_id=due.row.id,
            keep=False,
        )
        events = list(self._asking.ask(target, asked, None, self._cancelled))
        recorded = next((one for one in reversed(events) if isinstance(one, Recorded)), None)
        return None if recorded is None else recorded.answer

    def _send_mail(self) -> bool:
        """Send one e-mail that waits; return whether one was sent."""
        if not mails(self._settings) or time.monotonic() < self._next_mail:
            return False
        with self._records.reading() as session:
            row = session.scalar(select(FollowedAnswer).where(FollowedAnswer.mail_waiting).limit(1))
        if row is None:
            return False
        try:
            subject = f"The answer to “{row.question[:80]}” has changed"
            send_mail(self._settings, row.email, subject, str(row.changes[0]["message"]))
        except MailFailed as error:
            log.warning("a notice of a changed answer was not sent", error=str(error))
            self._next_mail = time.monotonic() + _MAIL_PAUSE
            return False
        with self._records.writing() as session:
            sent = session.get(FollowedAnswer, row.id)
            if sent is not None:
                sent.mail_waiting = sent.changed_at != row.changed_at
        return True


def _next_due(session: Session) -> _Due | None:
    """Return the followed answer that has waited longest since something of it changed."""
    flagged = (
        select(func.max(AnswerSource.change))
        .where(
            AnswerSource.turn_id == FollowedAnswer.turn_id,
            AnswerSource.change != "",
            AnswerSource.changed_at > FollowedAnswer.checked_at,
        )
        .scalar_subquery()
    )
    cited = func.json_each(FollowedAnswer.documents).table_valued("value", name="cited")
    document_changed = exists(
        select(1)
        .select_from(cited)
        .join(Document, Document.id == cited.c.value)
        .join(Revision, Revision.id == Document.revision_id)
        .where(Revision.indexed_at > FollowedAnswer.checked_at)
    )
    searched = func.json_each(FollowedAnswer.kb_ids).table_valued("value", name="searched")
    kb_changed = exists(
        select(1)
        .select_from(searched)
        .join(Document, Document.kb_id == searched.c.value)
        .where(Document.changed_at > FollowedAnswer.checked_at)
    )
    declined = (FollowedAnswer.outcome == Outcome.DECLINED.value) & kb_changed
    query = (
        select(FollowedAnswer, flagged)
        .where(flagged.is_not(None) | document_changed | declined)
        .order_by(FollowedAnswer.checked_at)
    )
    for row, change in session.execute(query):
        if _has_settled(session, row):
            return _Due(row, change or "", _target(session, row))
    return None


def _has_settled(session: Session, row: FollowedAnswer) -> bool:
    """Whether no document of the knowledge bases is in progress, or one has been for long."""
    if (
        now() - row.checked_at > _PATIENCE
        and now() - (row.changed_at or row.created_at) > _PATIENCE
    ):
        return True
    unsettled = exists().where(
        Document.kb_id.in_(row.kb_ids), Document.state.not_in(SETTLED_STATES)
    )
    return not session.scalar(select(unsettled))


def _target(session: Session, row: FollowedAnswer) -> Target | None:
    """Return the desk as published now, without its model."""
    desk = session.get_one(Desk, row.desk_id)
    version = published_version(session, desk)
    if version is None:
        return None
    reachable = frozenset(part["kb"] for part in version.settings["kbs"])
    target = replace(desk_target(desk, version.settings, version.number, reachable), model=None)
    return target if target.kbs else None


def _differs(row: FollowedAnswer, answer: Answer, change: str) -> bool:
    """Whether an answer says something else than the one that is followed.

    An answer that a model wrote cannot be compared word for word: it differs if text that it cites
    was flagged.
    """
    if answer.outcome.value != row.outcome:
        return True
    if not row.composed:
        return bool(change)
    return " ".join(answer.text.split()) != " ".join(row.answer.split())


def _record(
    session: Session, row: FollowedAnswer, answer: Answer, change: str, settings: Settings
) -> None:
    """Store a change, and queue its notice."""
    desk = session.get_one(Desk, row.desk_id)
    message = _message(row, answer, change, f"{settings.origin}/chat/{desk.id}")
    entry = {
        "at": now().isoformat(),
        "before": row.answer,
        "after": answer.text,
        "message": message,
    }
    row.changes = [entry, *row.changes][:_MAX_CHANGES]
    row.answer, row.outcome, row.composed = answer.text, answer.outcome.value, True
    row.documents = list(dict.fromkeys(one.document_id for one in answer.citations))
    row.changed_at = now()
    row.mail_waiting = bool(row.email)
    channel = None if row.channel_id is None else session.get(Channel, row.channel_id)
    if channel is not None:
        note = note_row(channel, "", message)
        note.address, note.thread = dict(row.address), row.thread
        session.add(note)
    log.info("a followed answer changed", followed=row.id, team=row.team_id)


def _message(row: FollowedAnswer, answer: Answer, change: str, chat: str) -> str:
    reworded = change == "reworded"
    what = "was reworded" if reworded else "has changed"
    return "\n\n".join(
        (
            f"You follow the answer to this question, which {what}:",
            f"> {row.question}",
            f"Now: {answer.text}",
            f"Before: {row.answer}",
            f"Ask again: {chat}",
        )
    )
