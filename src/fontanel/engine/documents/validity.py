"""Which documents are in force: recording what texts say, and what people decide."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from sqlalchemy import and_, delete, insert, or_, select, true
from sqlalchemy.orm import Session

from fontanel.core.validity import ValidityKind, ValidityStatement
from fontanel.core.validity.references import (
    DocumentNames,
    best_match,
    lookup_key,
    lookup_keys,
)
from fontanel.core.validity.statements import find_statements, opening_dates
from fontanel.engine.documents.outdated import replacement_of
from fontanel.engine.documents.readings import load_reading
from fontanel.errors import Refused
from fontanel.facts import DocumentState, ValidityMark
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import (
    Document,
    DocumentName,
    DocumentReference,
    Revision,
    Validity,
    now,
)
from fontanel.records.unit_of_work import Records

_REFERENCES = (ValidityKind.REPLACES, ValidityKind.REPLACED_BY)
#: Documents of similar names among which a reference is resolved.
_MAX_CANDIDATES = 200
#: Revisions of an earlier version of the service that are searched in one unit of work.
_BATCH = 50


def record_statements(
    session: Session,
    document: Document,
    revision: Revision,
    statements: Sequence[ValidityStatement],
    dates: Sequence[date],
) -> None:
    """Record what a revision says about its validity, in the caller's unit of work.

    References are resolved, also those of other documents to this one. What a person decided stays.
    """
    revision.opening_dates = [day.isoformat() for day in dates]
    session.execute(delete(DocumentReference).where(DocumentReference.document_key == document.key))
    validity = session.get(Validity, document.key)
    if statements or validity is not None:
        validity = validity or _new_validity(session, document)
        validity.statements = [_stored(statement) for statement in statements]
        validity.in_force_from = _day(statements, ValidityKind.IN_FORCE_FROM)
        validity.in_force_until = _day(statements, ValidityKind.IN_FORCE_UNTIL)
        withdrawn = [one for one in statements if one.kind == ValidityKind.WITHDRAWN]
        validity.withdrawn = any(one.date is None for one in withdrawn)
        if withdrawn and not validity.withdrawn:
            validity.in_force_until = validity.in_force_until or withdrawn[0].date
    session.flush()
    names = _names(document, revision)
    _record_names(session, document, names)
    _add_references(session, document, revision, statements, names)
    _resolve_others(session, document, names)


def mark_document(
    session: Session,
    document: Document,
    mark: ValidityMark,
    replacement: Document | None,
    person: str,
) -> None:
    """Record a person's decision on whether a document is in force.

    Args:
        replacement: What replaces it; only with `ValidityMark.REPLACED`.
        person: Who decided.

    Raises:
        Refused: the replacement is the document itself, or is replaced by it.
    """
    if (mark == ValidityMark.REPLACED) != (replacement is not None):
        raise Refused(
            "replaced_by", "Name the replacement of a replaced document, and only of one."
        )
    if replacement is not None:
        _check_no_circle(session, document, replacement)
    validity = session.get(Validity, document.key) or _new_validity(session, document)
    validity.mark = mark
    validity.replaced_by_key = None if replacement is None else replacement.key
    validity.marked_by, validity.marked_at = person, now()
    document.version += 1


def unmark_document(session: Session, document: Document) -> None:
    """Withdraw a person's decision: what the text says applies again."""
    validity = session.get(Validity, document.key)
    if validity is None or validity.mark is None:
        return
    if validity.statements:
        validity.mark = validity.replaced_by_key = validity.marked_at = None
        validity.marked_by = ""
    else:
        session.delete(validity)
    document.version += 1


def search_earlier_revisions(records: Records, blobs: BlobStore) -> bool:
    """Search some revisions that an earlier version of the service read.

    Return whether there were any.
    """
    due = (
        select(Document, Revision)
        .join(Revision, Revision.id == Document.revision_id)
        .where(Revision.opening_dates.is_(None), Revision.reading.is_not(None))
        .limit(_BATCH)
    )
    with records.reading() as session:
        rows = session.execute(due).all()
    results = []
    for document, revision in rows:
        reading = load_reading(blobs, str(revision.reading))
        results.append(
            (document.key, revision.id, find_statements(reading), opening_dates(reading))
        )
    if not results:
        return False
    with records.writing() as session:
        for key, revision_id, statements, dates in results:
            current, version = session.get(Document, key), session.get(Revision, revision_id)
            if current is not None and version is not None and current.revision_id == revision_id:
                record_statements(session, current, version, statements, dates)
            elif version is not None:
                version.opening_dates = []
    return True


def _new_validity(session: Session, document: Document) -> Validity:
    validity = Validity(
        document_key=document.key,
        team_id=document.team_id,
        kb_id=document.kb_id,
        statements=[],
        withdrawn=False,
    )
    session.add(validity)
    return validity


def _stored(statement: ValidityStatement) -> dict[str, object]:
    return {
        "kind": statement.kind.value,
        "quote": statement.quote,
        "start": statement.start,
        "end": statement.end,
        "names": statement.names,
        "date": statement.date.isoformat() if statement.date else None,
    }


def _day(statements: Sequence[ValidityStatement], kind: ValidityKind) -> date | None:
    return next((one.date for one in statements if one.kind == kind), None)


def _add_references(
    session: Session,
    document: Document,
    revision: Revision,
    statements: Sequence[ValidityStatement],
    names: DocumentNames,
) -> None:
    language = revision.language or "en"
    for statement in statements:
        if statement.kind not in _REFERENCES:
            continue
        reference = DocumentReference(
            team_id=document.team_id,
            kb_id=document.kb_id,
            document_key=document.key,
            relation=statement.kind,
            names=statement.names,
            lookup=lookup_key(statement.names, names, language),
            named_on=statement.date,
        )
        reference.target_key = _resolved(session, reference, document, revision)
        session.add(reference)
    session.flush()


def _record_names(session: Session, document: Document, names: DocumentNames) -> None:
    session.execute(delete(DocumentName).where(DocumentName.document_key == document.key))
    rows = [
        {
            "document_key": document.key,
            "lookup": lookup,
            "team_id": document.team_id,
            "kb_id": document.kb_id,
        }
        for lookup in sorted(lookup_keys(names))
    ]
    if rows:
        session.execute(insert(DocumentName), rows)


def _resolve_others(session: Session, document: Document, names: DocumentNames) -> None:
    """Resolve the references of other documents that may be to this one."""
    dated = DocumentReference.named_on.is_(None) | DocumentReference.named_on.in_(names.dates)
    rows = session.execute(
        select(DocumentReference, Document, Revision)
        .join(Document, Document.key == DocumentReference.document_key)
        .join(Revision, Revision.id == Document.revision_id)
        .where(
            DocumentReference.kb_id == document.kb_id,
            DocumentReference.document_key != document.key,
            or_(
                # Those to an earlier name of the document too.
                DocumentReference.target_key == document.key,
                and_(
                    DocumentReference.lookup.in_(lookup_keys(names)),
                    dated if names.dates else true(),
                ),
            ),
        )
    ).all()
    for reference, owner, revision in rows:
        owners = _names(owner, revision)
        match = best_match(reference.names, [names], owners, revision.language or "en")
        if match is not None or reference.target_key == document.key:
            reference.target_key = _resolved(session, reference, owner, revision)


def _resolved(
    session: Session, reference: DocumentReference, owner: Document, revision: Revision
) -> int | None:
    """Return the key of the document that a reference is to, None if none is clearly meant.

    Documents with the date that is named come first.
    """
    language = revision.language or "en"
    lookups = [reference.named_on.isoformat()] if reference.named_on else []
    for lookup in (*lookups, reference.lookup):
        rows = session.execute(
            select(Document, Revision)
            .join(DocumentName, DocumentName.document_key == Document.key)
            .join(Revision, Revision.id == Document.latest_revision_id)
            .where(
                DocumentName.kb_id == reference.kb_id,
                DocumentName.lookup == lookup,
                Document.key != owner.key,
                Document.state != DocumentState.REMOVED,
            )
            .order_by(Document.name)
            .limit(_MAX_CANDIDATES)
        ).all()
        candidates = [_names(document, version) for document, version in rows]
        match = best_match(reference.names, candidates, _names(owner, revision), language)
        if match is not None:
            key: int = rows[match][0].key
            return key
    return None


def _names(document: Document, revision: Revision) -> DocumentNames:
    dates = frozenset(date.fromisoformat(day) for day in revision.opening_dates or ())
    return DocumentNames(document.title, document.name, dates)


def _check_no_circle(session: Session, document: Document, replacement: Document) -> None:
    key: int | None = replacement.key
    for _ in range(100):
        if key is None:
            return
        if key == document.key:
            raise Refused(
                "replaced_by",
                f"{replacement.name!r} is itself, in the end, replaced by {document.name!r}."
                " Mark one of them as in force first.",
            )
        key = replacement_of(session, key)
