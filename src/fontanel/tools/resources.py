"""Documents and their revisions as resources of the protocol."""

from __future__ import annotations

import mcp_types as types
from mcp.shared.exceptions import MCPError

from fontanel import schemas as s
from fontanel.client import AsyncClient, NotFound, ProblemError
from fontanel.tools.uris import DOCUMENT, REVISION, Address, parse_uri

_PAGE = 100
_TEXT = "text/plain"


async def list_resources(client: AsyncClient, cursor: str | None) -> types.ListResourcesResult:
    """Return a page of the documents, a knowledge base after the other.

    Raises:
        MCPError: the cursor is not one that a page had.
    """
    kbs = sorted(kb.slug for kb in await client.list_kbs())
    name, _, rest = (cursor or "").partition("/")
    if cursor is not None and name not in kbs:
        raise MCPError(types.INVALID_PARAMS, "The cursor is not known. Begin without one.")
    at = kbs.index(name) if cursor is not None else 0
    if not kbs:
        return types.ListResourcesResult(resources=[])
    try:
        page = await client.list_document_page(kbs[at], rest or None, _PAGE)
    except ProblemError as error:
        raise MCPError(types.INVALID_PARAMS, str(error)) from error
    following = f"{kbs[at]}/{page.next}" if page.next else None
    if following is None and at + 1 < len(kbs):
        following = f"{kbs[at + 1]}/"
    return types.ListResourcesResult(
        resources=[_resource(kbs[at], one) for one in page.items], next_cursor=following
    )


def _resource(kb: str, document: s.DocumentOut) -> types.Resource:
    return types.Resource(
        name=document.name,
        title=document.title,
        uri=Address(kb, document.id).uri,
        description=document.description or None,
        mime_type=_TEXT,
    )


def list_templates() -> types.ListResourceTemplatesResult:
    """Return the templates of addresses."""
    return types.ListResourceTemplatesResult(
        resource_templates=[
            types.ResourceTemplate(
                name="document",
                title="Document",
                uri_template=DOCUMENT,
                description="The newest text of a document, by its id or name.",
                mime_type=_TEXT,
            ),
            types.ResourceTemplate(
                name="revision",
                title="Revision of a document",
                uri_template=REVISION,
                description="The text of a revision, which does not change.",
                mime_type=_TEXT,
            ),
        ]
    )


async def read_resource(client: AsyncClient, uri: str) -> types.ReadResourceResult:
    """Return the text of a document or a revision.

    Raises:
        MCPError: there is no such document.
    """
    try:
        address = parse_uri(uri)
        text = await client.document_text(address.kb, address.document, address.revision)
    except (ValueError, NotFound) as error:
        raise MCPError(types.INVALID_PARAMS, str(error), data={"uri": uri}) from error
    except ProblemError as error:
        raise MCPError(types.INTERNAL_ERROR, str(error), data={"uri": uri}) from error
    contents = types.TextResourceContents(uri=uri, mime_type=_TEXT, text=text.text)
    return types.ReadResourceResult(contents=[contents])
