"""Documents as resources: listed, read, and watched."""

from __future__ import annotations

import asyncio
from functools import partial
from typing import Any

import pytest
from mcp import Client, MCPError
from mcp.shared.subscriptions import ResourceUpdated

from fontanel.client import Client as ServiceClient
from tests.conftest import TeamSetup
from tests.tools.conftest import TRANSPORTS, run


@pytest.mark.parametrize("transport", TRANSPORTS)
def test_documents_of_all_knowledge_bases_are_listed_in_pages(
    team: TeamSetup, storm: str, notices: ServiceClient, transport: str
) -> None:
    async def work(client: Client) -> None:
        names, cursor = [], None
        while True:
            page = await client.list_resources(cursor=cursor)
            names += [one.name for one in page.resources]
            cursor = page.next_cursor
            if cursor is None:
                break
        assert sorted(names) == ["canteen.md", "storm-plan.md"]
        templates = (await client.list_resource_templates()).resource_templates
        assert {one.name for one in templates} == {"document", "revision"}
        for wrong in ("nowhere/", "///", "nonsense"):
            with pytest.raises(MCPError):
                await client.list_resources(cursor=wrong)

    run(team, work, transport)


def test_a_revision_keeps_its_text(team: TeamSetup, notices: ServiceClient) -> None:
    async def text(client: Client, uri: str) -> str:
        return str((await client.read_resource(uri)).contents[0].text)  # type: ignore[union-attr]

    async def work(client: Client) -> None:
        document = "fontanel://kbs/notices/documents/canteen.md"
        assert "opens at six" in await text(client, document)
        shown = await asyncio.to_thread(notices.show_document, "notices", "canteen.md")
        before = f"{document}/revisions/{shown.revision.id}"
        await asyncio.to_thread(_rewrite, notices, "The canteen opens at seven.")
        assert "opens at seven" in await text(client, document)
        assert "opens at six" in await text(client, before)
        for wrong in (
            "fontanel://kbs/notices/documents/gone.md",
            "fontanel://kbs/nowhere/documents/canteen.md",
            f"{document}/revisions/rev_unknown",
            "file:///etc/passwd",
        ):
            with pytest.raises(MCPError):
                await client.read_resource(wrong)

    run(team, work)


def _rewrite(client: ServiceClient, text: str) -> None:
    version = client.show_document("notices", "canteen.md").version
    client.rewrite_document("notices", "canteen.md", f"# Canteen\n\n{text}\n", version)
    client.wait_for_document("notices", "canteen.md")


def _uri(client: ServiceClient, name: str) -> str:
    document = client.show_document("notices", name)
    return f"fontanel://kbs/notices/documents/{document.id}"


@pytest.mark.parametrize("transport", ["http", "stdio"])
def test_a_client_listens_for_changes(
    team: TeamSetup, notices: ServiceClient, transport: str
) -> None:
    async def work(client: Client) -> None:
        uri = await asyncio.to_thread(_uri, notices, "canteen.md")
        shown = await asyncio.to_thread(notices.show_document, "notices", "canteen.md")
        revision = f"{uri}/revisions/{shown.revision.id}"
        async with client.listen(resource_subscriptions=[uri, revision]) as events:
            await asyncio.to_thread(_rewrite, notices, "The canteen opens at seven.")
            assert await anext(events) == ResourceUpdated(uri=uri)
            await asyncio.to_thread(
                partial(notices.write_document, "notices", "other.md", "# Other\n\nElse.\n")
            )
            await asyncio.to_thread(notices.delete_document, "notices", "canteen.md")
            # The revision has not changed until it was removed.
            removed = [await anext(events), await anext(events)]
            assert removed == [ResourceUpdated(uri=uri), ResourceUpdated(uri=revision)]
        with pytest.raises(MCPError, match="no document"):
            async with client.listen(
                resource_subscriptions=["fontanel://kbs/notices/documents/gone"]
            ):
                raise AssertionError("it was acknowledged")

    run(team, work, transport)


@pytest.mark.filterwarnings("ignore::mcp.MCPDeprecationWarning")
def test_a_session_of_the_former_revision_subscribes(
    team: TeamSetup, notices: ServiceClient
) -> None:
    updates: asyncio.Queue[str] = asyncio.Queue()

    async def note(message: Any) -> None:
        if getattr(message, "method", "") == "notifications/resources/updated":
            await updates.put(str(message.params.uri))

    async def work(client: Client) -> None:
        uri = await asyncio.to_thread(_uri, notices, "canteen.md")
        await client.subscribe_resource(uri)
        await client.subscribe_resource(uri)
        with pytest.raises(MCPError, match="no document"):
            await client.subscribe_resource("fontanel://kbs/notices/documents/gone")
        await asyncio.to_thread(_rewrite, notices, "The canteen opens at seven.")
        assert await updates.get() == uri
        await client.unsubscribe_resource(uri)
        await asyncio.to_thread(_rewrite, notices, "The canteen opens at eight.")
        assert updates.empty()

    run(team, work, "http-2025", message_handler=note)
