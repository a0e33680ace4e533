"""Showing a desk on other sites: the key that visitors' identities are signed with."""

from __future__ import annotations

from fontanel.engine.answering.visitors import new_visitor_key
from fontanel.records.tables import now
from fontanel.schemas import VisitorKey
from fontanel.service.auth.access import EditorWrite
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/desks", "desks")


@router.post("/{desk}/visitor-key", summary="Make the key that visitors are signed with")
def make_visitor_key(desk: str, access: EditorWrite) -> VisitorKey:
    """A site that embeds the desk signs who its visitor is; the previous key stops working."""
    row = access.scope.desk(desk)
    key = new_visitor_key()
    row.visitor_key, row.changed_at = access.runtime.vault.seal(key), now()
    return VisitorKey(key=key, audience=row.id)


@router.delete(
    "/{desk}/visitor-key", status_code=204, summary="Delete the key that visitors are signed with"
)
def delete_visitor_key(desk: str, access: EditorWrite) -> None:
    """Signed identities are no longer accepted."""
    row = access.scope.desk(desk)
    row.visitor_key, row.changed_at = None, now()
