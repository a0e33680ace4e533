"""Erase a person: the account, conversations, feedback, and their name in the records.

What a person did for a team stays: documents, approved answers, keys. It names nobody then. The
audit log keeps its entries, without the name and the address, and its chain of hashes stays whole.
"""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.orm import InstrumentedAttribute, Session

from fontanel.engine.channels.receiving import asker_of
from fontanel.engine.erasing.proof import count_mentions, in_backups_until
from fontanel.errors import Conflict, NotFound
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedVersion,
    AuditEntry,
    Backup,
    ChannelMessage,
    Conversation,
    DeskVersion,
    Erasure,
    Feedback,
    FollowedAnswer,
    Gap,
    GapQuestion,
    IdempotentReply,
    Invitation,
    Key,
    Member,
    Notice,
    Person,
    Proposal,
    ProposedDocument,
    Role,
    Trial,
    Turn,
    Use,
    Validity,
)
from fontanel.records.tables.base import now
from fontanel.records.unit_of_work import Records

#: What stands where a name was.
ERASED = "erased person"

#: Columns with nothing but a person's name.
_NAMES: tuple[InstrumentedAttribute[Any], ...] = (
    ApprovedAnswer.owner,
    ApprovedAnswer.approved_by,
    ApprovedVersion.author,
    ApprovedFlag.settled_by,
    Backup.asked_by,
    DeskVersion.author,
    Erasure.asked_by,
    Feedback.assignee,
    Feedback.replied_by,
    Gap.assignee,
    Gap.resolved_by,
    Invitation.invited_by,
    Key.made_by,
    Proposal.decided_by,
    ProposedDocument.decided_by,
    ProposedDocument.proposed_by,
    Trial.author,
    Validity.marked_by,
)
#: JSON in which a name may be a value.
_INSIDE: tuple[InstrumentedAttribute[Any], ...] = (
    ApprovedVersion.content,
    Gap.comments,
    Notice.data,
    Turn.approved,
)


def erase_person(records: Records, ref: str, asked_by: str, backup_days: int) -> Erasure:
    """Erase a person.

    Args:
        records: The records.
        ref: The person's id or e-mail address.
        asked_by: Who erases them.
        backup_days: How long backups are kept.

    Raises:
        NotFound: there is no such person.
        Conflict: they are the only operator, or the only owner of a team.
    """
    with records.writing() as session:
        person = session.scalar(
            select(Person).where(or_(Person.id == ref, Person.email == ref.strip().lower()))
        )
        if person is None:
            raise NotFound("person", ref)
        _check_replaceable(session, person)
        erasure = Erasure(
            id=new_id("erasure"),
            person_id=person.id,
            asked_by=asked_by,
            removed={},
            mentions={},
            in_backups_until=in_backups_until(session, backup_days),
            finished_at=now(),
        )
        removed = _erase(session, person)
        session.flush()
        erasure.removed = {kind: count for kind, count in removed.items() if count}
        erasure.mentions = count_mentions(session, person.name, person.email)
        session.add(erasure)
    with records.engine.connect() as connection:
        # The log of earlier changes is emptied too.
        connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    return erasure


def _check_replaceable(session: Session, person: Person) -> None:
    operators = session.scalar(select(func.count()).where(Person.operator.is_(True))) or 0
    if person.operator and operators == 1:
        raise Conflict("They are the only operator of the service.", advice="Name another first.")
    owned = select(Member.team_id).where(Member.person_id == person.id, Member.role == Role.OWNER)
    for team_id in session.scalars(owned):
        owners = select(func.count()).where(Member.team_id == team_id, Member.role == Role.OWNER)
        if session.scalar(owners) == 1:
            raise Conflict(
                "They are the only owner of a team.", advice="Make somebody else an owner first."
            )


def _erase(session: Session, person: Person) -> Counter[str]:
    """Delete and make anonymous; return how many records, by kind."""
    removed: Counter[str] = Counter()

    def run(kind: str, statement: Any) -> None:
        removed[kind] += session.execute(statement).rowcount  # type: ignore[attr-defined]

    messages = session.execute(
        select(ChannelMessage.channel_id, ChannelMessage.sender)
        .where(func.lower(ChannelMessage.sender) == person.email)
        .distinct()
    ).all()
    askers = [f"person:{person.id}", *(asker_of(*one) for one in messages)]
    _free_gaps(session, askers)
    run("conversations", delete(Conversation).where(Conversation.asker.in_(askers)))
    run("feedback", delete(Feedback).where(Feedback.asker.in_(askers)))
    followed = or_(FollowedAnswer.asker.in_(askers), FollowedAnswer.email == person.email)
    run("followed answers", delete(FollowedAnswer).where(followed))
    sent = func.lower(ChannelMessage.sender) == person.email
    run("messages of channels", delete(ChannelMessage).where(sent))
    run("usage", update(Use).where(Use.asker.in_(askers)).values(asker="person:erased"))
    run("replies", delete(IdempotentReply).where(IdempotentReply.caller.in_(askers)))
    run("invitations", delete(Invitation).where(Invitation.email == person.email))
    for column in _NAMES:
        named = update(column.class_).where(column == person.name)
        run("names", named.values({column.key: ERASED}))
    for column in _INSIDE:
        _replace(session, column, json.dumps(person.name), json.dumps(ERASED), removed)
        _replace(session, column, json.dumps(person.email), json.dumps(ERASED), removed)
    _replace(session, Notice.message, person.name, ERASED, removed)
    _replace(session, Notice.message, person.email, ERASED, removed)
    of_person = or_(
        AuditEntry.actor_id == person.id,
        AuditEntry.who["about"].as_string() == person.email,
        AuditEntry.who["name"].as_string() == person.name,
    )
    known = AuditEntry.who.is_not(None)
    run("audit entries", update(AuditEntry).where(of_person, known).values(who=None, salt=None))
    session.delete(person)
    removed["account"] = 1
    return removed


def _free_gaps(session: Session, askers: list[str]) -> None:
    """Take a person's questions out of gaps, and delete the gaps that have no other."""
    own = select(GapQuestion).join(Turn, Turn.id == GapQuestion.turn_id)
    rows = session.scalars(own.where(Turn.asker.in_(askers))).all()
    gaps = {row.gap_id for row in rows if row.gap_id is not None}
    for row in rows:
        session.delete(row)
    session.flush()
    for gap_id in gaps:
        gap = session.get_one(Gap, gap_id)
        left = session.scalars(
            select(GapQuestion.question).where(GapQuestion.gap_id == gap_id)
        ).all()
        if not left:
            session.delete(gap)
        elif gap.question not in left:
            gap.question = left[0]


def _replace(
    session: Session,
    column: InstrumentedAttribute[Any],
    old: str,
    new: str,
    removed: Counter[str],
) -> None:
    """Replace a text inside a column."""
    table, name = column.class_.__tablename__, column.key
    changed = session.connection().exec_driver_sql(
        f"UPDATE {table} SET {name} = replace({name}, ?, ?) WHERE instr({name}, ?)",
        (old, new, old),
    )
    removed["names"] += changed.rowcount
