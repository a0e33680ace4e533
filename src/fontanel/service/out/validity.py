"""Whether documents are in force, as the API returns it."""

from __future__ import annotations

from collections.abc import Collection

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.validity import Outdated, ValidityKind
from fontanel.engine.documents.outdated import outdated_documents
from fontanel.records.tables import Document, DocumentReference, Validity
from fontanel.schemas import OutdatedOut, ValidityOut, ValidityStatementOut


def outdated_out(outdated: Outdated | None) -> OutdatedOut | None:
    """Return why a document is not in force."""
    return None if outdated is None else OutdatedOut(**outdated.to_dict())


def validities_out(session: Session, documents: Collection[Document]) -> dict[int, ValidityOut]:
    """Return the validity of those documents of which something is known, by their keys."""
    keys = [document.key for document in documents]
    validities = {
        row.document_key: row
        for row in session.scalars(select(Validity).where(Validity.document_key.in_(keys)))
    }
    replaces: dict[int, list[str]] = {}
    references = (
        select(DocumentReference.document_key, Document.name)
        .join(Document, Document.key == DocumentReference.target_key)
        .where(
            DocumentReference.document_key.in_(keys),
            DocumentReference.relation == ValidityKind.REPLACES,
        )
    )
    for key, name in session.execute(references):
        replaces.setdefault(key, []).append(name)
    marked = (
        select(Validity.replaced_by_key, Document.name)
        .join(Document, Document.key == Validity.document_key)
        .where(Validity.replaced_by_key.in_(keys))
    )
    for replacement, name in session.execute(marked):
        if replacement is not None:
            replaces.setdefault(replacement, []).append(name)
    outdated = {
        key: reason
        for kb_id in {document.kb_id for document in documents}
        for key, reason in outdated_documents(session, kb_id).items()
    }
    return {
        key: _validity_out(validities.get(key), outdated.get(key), replaces.get(key, []))
        for key in keys
        if key in validities or key in outdated or key in replaces
    }


def _validity_out(
    validity: Validity | None, outdated: Outdated | None, replaces: list[str]
) -> ValidityOut:
    out = ValidityOut(outdated=outdated_out(outdated), replaces=sorted(set(replaces)))
    if validity is None:
        return out
    return out.model_copy(
        update={
            "in_force_from": validity.in_force_from,
            "in_force_until": validity.in_force_until,
            "statements": [ValidityStatementOut(**one) for one in validity.statements],
            "mark": validity.mark,
            "marked_by": validity.marked_by,
            "marked_at": validity.marked_at,
        }
    )
