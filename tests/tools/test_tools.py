"""Tools of the Model Context Protocol: what they return, refuse and count."""

from __future__ import annotations

import asyncio
from typing import Any

import pytest
from jsonschema import Draft202012Validator
from mcp import Client, MCPError

from fontanel.client import Client as ServiceClient
from fontanel.engine.answering.tool_calls import TOOLS as COUNTED
from fontanel.tools.server import PROPOSE, TOOLS
from tests.conftest import TeamSetup, until
from tests.tools.conftest import TRANSPORTS, connected, run

CRANE = "At what gust does the quay crane stop?"


async def called(client: Client, tool: str, **arguments: Any) -> dict[str, Any]:
    """Call a tool; return its structured result."""
    result = await client.call_tool(tool, arguments)
    assert not result.is_error, result.content
    assert isinstance(result.structured_content, dict)
    return result.structured_content


async def refused(client: Client, tool: str, **arguments: Any) -> str:
    """Call a tool that fails; return what it says."""
    result = await client.call_tool(tool, arguments)
    assert result.is_error
    return str(result.content[0].text)  # type: ignore[union-attr]


@pytest.mark.parametrize("transport", TRANSPORTS)
def test_tools_are_described_by_valid_schemas(team: TeamSetup, transport: str) -> None:
    async def work(client: Client) -> None:
        tools = (await client.list_tools()).tools
        assert {tool.name for tool in tools} == {tool.name for tool in TOOLS}
        for tool in tools:
            assert tool.output_schema is not None
            Draft202012Validator.check_schema(tool.input_schema)
            Draft202012Validator.check_schema(tool.output_schema)
            assert tool.input_schema["type"] == tool.output_schema["type"] == "object"
            assert tool.annotations is not None
            assert tool.annotations.read_only_hint
            undescribed = [
                name
                for name, schema in tool.input_schema.get("properties", {}).items()
                if "description" not in schema
            ]
            assert undescribed == []

    run(team, work, transport)
    assert {tool.name for tool in (*TOOLS, PROPOSE)} < set(COUNTED)


@pytest.mark.parametrize("transport", TRANSPORTS)
def test_editors_may_propose_documents_where_they_are_accepted(
    team: TeamSetup, kb: str, transport: str
) -> None:
    note = {"kb": kb, "name": "fenders.md", "text": "# Fenders\n\nIn shed 4.\n", "reason": "Asked."}

    async def listed(client: Client) -> set[str]:
        return {tool.name for tool in (await client.list_tools()).tools}

    async def off(client: Client) -> None:
        assert "propose_document" not in await listed(client)
        assert "does not accept" in await refused(client, "propose_document", **note)

    async def reading(client: Client) -> None:
        assert "propose_document" not in await listed(client)
        assert "role" in await refused(client, "propose_document", **note)

    async def on(client: Client) -> None:
        (tool,) = [one for one in (await client.list_tools()).tools if one.name == PROPOSE.name]
        Draft202012Validator.check_schema(tool.input_schema)
        assert tool.annotations is not None
        assert not tool.annotations.read_only_hint
        result = await called(client, "propose_document", **note)
        assert (result["state"], result["changes_document"]) == ("open", False)
        found = await called(client, "search", question="In which shed are the fenders?")
        assert found["passages"] == []
        assert "text" in await refused(client, "propose_document", **{**note, "text": ""})

    run(team, off, transport)
    team.client.change_kb(kb, accepts_proposed_documents=True)
    run(team, reading, transport, team.client.make_key("a reader", "reader").secret)
    run(team, on, transport, team.client.make_key("an agent", "editor").secret)
    (proposed,) = team.client.list_proposed_documents(kb)
    assert (proposed.name, proposed.reason, proposed.proposed_by) == (
        "fenders.md",
        "Asked.",
        "key an agent",
    )


@pytest.mark.parametrize("transport", TRANSPORTS)
def test_search_ask_and_read(
    team: TeamSetup, storm: str, notices: ServiceClient, transport: str
) -> None:
    async def work(client: Client) -> None:
        kbs = (await called(client, "list_knowledge_bases"))["knowledge_bases"]
        assert {kb["kb"] for kb in kbs} == {storm, "notices"}
        found = (await called(client, "search", question=CRANE))["passages"]
        assert found[0]["kb"] == storm
        assert "38 knots" in found[0]["text"]
        assert [one["match"] for one in found] == sorted(
            (one["match"] for one in found), reverse=True
        )
        limited = await called(client, "search", question=CRANE, kbs=["notices"], limit=1)
        assert [one["kb"] for one in limited["passages"]] == ["notices"]
        answer = await called(client, "ask", question=CRANE, kb=storm)
        assert "38 knots" in answer["answer"]
        (cited, *_) = answer["citations"]
        # What is cited stands at the address, in the characters that are named.
        text = (await client.read_resource(cited["uri"])).contents[0].text  # type: ignore[union-attr]
        assert text[cited["start"] : cited["end"]] == cited["quote"]
        around = await called(
            client, "read", uri=found[0]["uri"], passage=found[0]["passage"], neighbours=1
        )
        assert found[0]["text"] in around["text"] or around["text"] in found[0]["text"]
        part = await called(client, "read", kb=storm, document=found[0]["document"], characters=20)
        assert (part["start"], part["end"], len(part["text"])) == (0, 20, 20)
        assert part["length"] == len(text)
        rest = await called(client, "read", uri=part["uri"], start=20)
        assert part["text"] + rest["text"] == text

    run(team, work, transport)


def test_a_conversation_goes_on_and_what_is_not_there_is_declined(
    team: TeamSetup, storm: str
) -> None:
    async def work(client: Client) -> None:
        first = await called(client, "ask", question=CRANE)
        after = await called(
            client, "ask", question="And when is it pinned?", conversation=first["conversation"]
        )
        assert after["conversation"] == first["conversation"]
        assert "44 knots" in after["answer"]
        result = await client.call_tool("ask", {"question": "Who won the regatta of 1911?"})
        declined = result.structured_content
        assert declined["outcome"] == "declined"
        assert declined["citations"] == []
        assert "Sources" not in result.content[0].text  # type: ignore[union-attr]

    run(team, work)


def test_what_goes_wrong_is_told_to_the_model(
    team: TeamSetup, storm: str, notices: ServiceClient
) -> None:
    async def work(client: Client) -> None:
        assert "question: Field required" in await refused(client, "ask", kb=storm)
        assert "Name the knowledge base (kb) to ask" in await refused(client, "ask", question=CRANE)
        assert "not both" in await refused(client, "ask", question=CRANE, kb=storm, desk="x")
        assert "'nowhere'" in await refused(client, "search", question=CRANE, kbs=["nowhere"])
        assert "'nobody'" in await refused(client, "ask", question=CRANE, desk="nobody")
        assert "not the address of a document" in await refused(client, "read", uri="file:///etc")
        assert "give the address" in await refused(client, "read", kb=storm)
        assert "no document" in await refused(client, "read", kb=storm, document="gone.md")
        assert "has no passage 999999" in await refused(
            client, "read", kb=storm, document="storm-plan.md", passage=999_999
        )
        for arguments in ({"limit": 0}, {"limit": 10**30}, {"tags": "x"}, {"kbs": ["x"] * 21}):
            assert "not valid" in await refused(client, "search", question=CRANE, **arguments)
        with pytest.raises(MCPError, match="There is no tool 'delete'"):
            await client.call_tool("delete", {})

    run(team, work)


def test_a_desk_is_asked_as_its_users_ask_it(team: TeamSetup, storm: str) -> None:
    from fontanel import schemas as s

    desk = team.client.create_desk("Crane desk", s.DeskSettings(kbs=[s.DeskKb(kb=storm)]))
    team.client.publish_desk(desk.id)
    reader = team.client.make_key("a reader", "reader")

    async def work(client: Client) -> None:
        listed = await called(client, "list_knowledge_bases")
        assert [one["desk"] for one in listed["desks"]] == [desk.slug]
        answer = await called(client, "ask", question=CRANE, desk=desk.slug)
        assert "38 knots" in answer["answer"]

    run(team, work, key=reader.secret)


def test_a_limited_key_sees_only_its_knowledge_bases(
    team: TeamSetup, storm: str, notices: ServiceClient
) -> None:
    key = team.client.make_key("limited", "reader", ["notices"])

    async def work(client: Client) -> None:
        listed = await called(client, "list_knowledge_bases")
        assert [kb["kb"] for kb in listed["knowledge_bases"]] == ["notices"]
        found = await called(client, "search", question=CRANE)
        assert {one["kb"] for one in found["passages"]} <= {"notices"}
        assert f"'{storm}'" in await refused(client, "search", question=CRANE, kbs=[storm])
        assert f"'{storm}'" in await refused(client, "ask", question=CRANE, kb=storm)
        assert f"'{storm}'" in await refused(client, "read", kb=storm, document="storm-plan.md")
        # Without a name, the only one that it sees is asked.
        assert (
            "six" in (await called(client, "ask", question="When does the canteen open?"))["answer"]
        )
        resources = (await client.list_resources()).resources
        assert [one.name for one in resources] == ["canteen.md"]

    run(team, work, key=key.secret)


def test_calls_are_counted_for_the_key(team: TeamSetup, storm: str) -> None:
    key = team.client.make_key("agent", "reader")

    async def work(client: Client) -> None:
        await called(client, "search", question=CRANE)
        await called(client, "ask", question=CRANE)
        await called(client, "read", kb=storm, document="storm-plan.md")

    run(team, work, key=key.secret)

    def counted() -> list[tuple[int, int]]:
        rows = team.client.usage("member").rows
        return [(r.questions, r.tool_calls) for r in rows if r.name == "key agent"]

    until(lambda: counted() == [(1, 3)])
    total = team.client.usage("day").total
    assert (total.questions, total.tool_calls) == (1, 3)
    # All of them used the one knowledge base.
    until(lambda: [r.tool_calls for r in team.client.usage("kb").rows] == [3])


def test_many_clients_at_once(team: TeamSetup, storm: str) -> None:
    async def one(number: int) -> str:
        transport = "http-2025" if number % 2 else "http"
        async with connected(team.service, team.key, transport) as client:
            found = await called(client, "search", question=CRANE)
            answer = await called(client, "ask", question=CRANE)
            assert "38 knots" in found["passages"][0]["text"]
            return str(answer["answer"])

    async def all_of_them() -> list[str]:
        return await asyncio.gather(*(one(number) for number in range(64)))

    answers = asyncio.run(all_of_them())
    assert len(answers) == 64
    assert all("38 knots" in answer for answer in answers)
