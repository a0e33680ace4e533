"""The documents of a knowledge base that are not in force on a day, and why."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import NamedTuple

from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from fontanel.core.validity import Outdated, OutdatedReason, ValidityKind
from fontanel.facts import DocumentState, ValidityMark
from fontanel.records.tables import Document, DocumentReference, Validity, now

#: Documents that are looked up by one query.
_AT_ONCE = 10_000


class _Validity(NamedTuple):
    mark: ValidityMark | None
    withdrawn: bool
    in_force_from: date | None
    in_force_until: date | None


@dataclass(slots=True)
class _Claims:
    """What texts and people say about a knowledge base's documents, by their keys."""

    validities: dict[int, _Validity] = field(default_factory=dict)
    replaced_by: dict[int, int | None] = field(default_factory=dict)
    """What replaces a document; None if that is not in the knowledge base."""
    names: dict[int, str] = field(default_factory=dict)
    """What the text of a document calls its replacement."""

    def leave_out_future(self, day: date) -> None:
        """Leave out replacements that are not in force yet, unless a person named them."""
        for key, replacement in list(self.replaced_by.items()):
            new = self.validities.get(replacement) if replacement is not None else None
            marked = self.mark_of(key) is not None
            if not marked and new is not None and new.in_force_from and new.in_force_from > day:
                del self.replaced_by[key]

    def mark_of(self, key: int | None) -> ValidityMark | None:
        """Return what a person decided on a document."""
        validity = self.validities.get(key) if key is not None else None
        return None if validity is None else validity.mark


def outdated_documents(
    session: Session, kb_id: str, day: date | None = None
) -> Mapping[int, Outdated]:
    """Return why documents of a knowledge base are not in force on a day, by their keys.

    A person's decision outweighs the text. A document stays in force until its replacement begins.

    Args:
        day: Default: today, in UTC.
    """
    day = day or now().date()
    claims = _claims(session, kb_id, day)
    claims.leave_out_future(day)
    reasons = {key: _reason(key, claims, day) for key in {*claims.validities, *claims.replaced_by}}
    outdated = {key: reason for key, reason in reasons.items() if reason is not None}
    ends = _ends(claims)
    chains = {
        key: ends[key]
        for key, reason in outdated.items()
        if reason.reason == OutdatedReason.REPLACED
    }
    titles = _titles(session, {key for key in chains.values() if key is not None})
    for key, last in chains.items():
        if last == key:
            del outdated[key]  # each replaces the other: neither is trusted
        elif last is not None and last in titles:
            document_id, title = titles[last]
            outdated[key] = Outdated(OutdatedReason.REPLACED, title, document_id)
        else:
            outdated[key] = Outdated(OutdatedReason.REPLACED, claims.names.get(key, ""))
    return outdated


def replacement_of(session: Session, key: int) -> int | None:
    """Return the key of the document that replaces one, None if none is known."""
    validity = session.get(Validity, key)
    if validity is not None and validity.mark is not None:
        return validity.replaced_by_key
    own = DocumentReference.relation == ValidityKind.REPLACED_BY
    other = DocumentReference.relation == ValidityKind.REPLACES
    rows = session.scalars(
        select(DocumentReference).where(
            or_(
                (DocumentReference.document_key == key) & own,
                (DocumentReference.target_key == key) & other,
            )
        )
    )
    for row in rows:
        replaced_by = row.relation == ValidityKind.REPLACED_BY
        replacement = row.target_key if replaced_by else row.document_key
        if replacement is not None:
            return replacement
    return None


def _claims(session: Session, kb_id: str, day: date) -> _Claims:
    claims = _Claims()
    # Most documents that say something are in force: their rows are not needed.
    validities = select(
        Validity.document_key,
        Validity.replaced_by_key,
        Validity.mark,
        Validity.withdrawn,
        Validity.in_force_from,
        Validity.in_force_until,
    ).where(
        Validity.kb_id == kb_id,
        or_(
            Validity.mark.is_not(None),
            Validity.withdrawn,
            Validity.in_force_from > day,
            Validity.in_force_until < day,
        ),
    )
    for key, replacement, mark, withdrawn, begins, ends in session.execute(validities):
        claims.validities[key] = _Validity(mark, withdrawn, begins, ends)
        if mark == ValidityMark.REPLACED:
            claims.replaced_by[key] = replacement
    rows = session.execute(
        select(
            DocumentReference.document_key,
            DocumentReference.relation,
            DocumentReference.target_key,
            DocumentReference.names,
        )
        .join(Document, Document.key == DocumentReference.document_key)
        .where(
            DocumentReference.kb_id == kb_id,
            Document.state != DocumentState.REMOVED,
        )
        .order_by(DocumentReference.key)
    )
    for key, relation, target, names in rows:
        replaced, replacement = (
            (key, target) if relation == ValidityKind.REPLACED_BY else (target, key)
        )
        if replaced is None or claims.mark_of(replaced) is not None:
            continue
        if relation == ValidityKind.REPLACED_BY:
            claims.names.setdefault(replaced, names)
        if claims.replaced_by.get(replaced) is None:
            claims.replaced_by[replaced] = replacement
    return claims


def _reason(key: int, claims: _Claims, day: date) -> Outdated | None:
    validity = claims.validities.get(key)
    mark = validity.mark if validity is not None else None
    if mark == ValidityMark.CURRENT:
        return None
    if mark == ValidityMark.WITHDRAWN:
        return Outdated(OutdatedReason.WITHDRAWN)
    if key in claims.replaced_by:
        return Outdated(OutdatedReason.REPLACED)
    if validity is None or mark is not None:
        return None
    if validity.withdrawn:
        return Outdated(OutdatedReason.WITHDRAWN)
    if validity.in_force_until is not None and validity.in_force_until < day:
        return Outdated(OutdatedReason.EXPIRED, on=validity.in_force_until)
    if validity.in_force_from is not None and validity.in_force_from > day:
        return Outdated(OutdatedReason.NOT_YET, on=validity.in_force_from)
    return None


def _ends(claims: _Claims) -> dict[int, int | None]:
    """Return, for each replaced document, the one at the end of its chain of replacements.

    None if that is not in the knowledge base; the document itself if the chain leads into a circle.
    """
    ends: dict[int, int | None] = {}
    for key in claims.replaced_by:
        chain: dict[int, None] = {}
        at: int | None = key
        while at is not None and at in claims.replaced_by and at not in ends and at not in chain:
            chain[at] = None
            at = claims.replaced_by[at]
        circular = at is not None and (at in chain or ends.get(at) == at)
        end = None if at is None else ends.get(at, at)
        ends.update((link, link if circular else end) for link in chain)
    return ends


def _titles(session: Session, keys: Collection[int]) -> dict[int, tuple[str, str]]:
    titles: dict[int, tuple[str, str]] = {}
    ordered = sorted(keys)
    for start in range(0, len(ordered), _AT_ONCE):
        rows = session.execute(
            select(Document.key, Document.id, Document.title).where(
                Document.key.in_(ordered[start : start + _AT_ONCE])
            )
        )
        titles.update((key, (document_id, title)) for key, document_id, title in rows)
    return titles
