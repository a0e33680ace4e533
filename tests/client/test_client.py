"""The client library: both clients have the same methods, errors and streams."""

from __future__ import annotations

import asyncio
import inspect
import subprocess
import sys
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import (
    AsyncClient,
    Client,
    FontanelError,
    NotFound,
    NotSignedIn,
    ProblemError,
    Unreachable,
)
from fontanel.schemas import EvidenceEvent, FinishEvent
from tests.conftest import ROOT, STORM, Service, TeamSetup, free_port


def test_the_twins_have_the_same_methods_and_parameters() -> None:
    def surface(kind: type) -> dict[str, list[str]]:
        public = {
            name: member
            for name, member in inspect.getmembers(kind, inspect.isfunction)
            if not name.startswith("_")
        }
        return {name: list(inspect.signature(member).parameters) for name, member in public.items()}

    assert surface(Client) == surface(AsyncClient)


def test_the_synchronous_client_is_made_of_the_asynchronous_one(tmp_path: Path) -> None:
    subprocess.run([sys.executable, ROOT / "tools" / "make_sync_client.py", tmp_path], check=True)
    committed = ROOT / "src" / "fontanel" / "client" / "_sync"
    made = {path.name: path.read_text() for path in tmp_path.glob("*.py")}
    assert len(made) >= 8
    for name, text in made.items():
        assert (committed / name).read_text() == text, "run `make client`"


def test_asking_asynchronously(team: TeamSetup, kb: str) -> None:
    async def work() -> None:
        async with AsyncClient(team.service.url, team.key, team.slug) as client:
            added = await client.add_document(kb, STORM, "storm-plan.md", wait=True)
            assert added.document.state == "indexed"
            assert [document.name async for document in client.list_documents(kb)] == [
                "storm-plan.md"
            ]
            ordinals = [
                passage.ordinal async for passage in client.list_passages(kb, "storm-plan.md")
            ]
            assert ordinals == list(range(len(ordinals)))
            plain = await client.ask(kb, "At what gust does the quay crane stop?")
            events = [
                event
                async for event in client.stream_answer(
                    kb, "At what gust does the quay crane stop?"
                )
            ]
            assert isinstance(events[1], EvidenceEvent)
            assert isinstance(events[-1], FinishEvent)
            assert events[-1].answer.text == plain.text
            assert (await client.search(kb, "crane")).hits
            assert await client.original(kb, "storm-plan.md") == STORM
            with pytest.raises(NotFound):
                await client.show_kb("no-such")

    asyncio.run(work())


def test_errors_say_what_to_do_and_carry_their_request(team: TeamSetup) -> None:
    with pytest.raises(NotFound) as failure:
        team.client.show_document("no-such", "x")
    assert isinstance(failure.value, ProblemError)
    assert isinstance(failure.value, FontanelError)
    assert failure.value.problem.status == 404
    assert failure.value.request is not None
    assert failure.value.request.url.path.endswith("/no-such/documents/x")
    assert "List what there is" in str(failure.value)


def test_streams_raise_like_plain_calls(team: TeamSetup) -> None:
    with pytest.raises(NotFound):
        next(iter(team.client.stream_answer("no-such", "x")))
    with Client(team.service.url, "fk_wrong", team.slug) as stranger, pytest.raises(NotSignedIn):
        next(iter(stranger.stream_answer("any", "x")))


def test_no_service_is_unreachable() -> None:
    with Client(f"http://127.0.0.1:{free_port()}", "fk_x", "t") as client:
        for call in (client.list_kbs, lambda: next(iter(client.stream_answer("k", "x")))):
            with pytest.raises(Unreachable):
                call()


def test_bytes_need_a_name(team: TeamSetup, kb: str) -> None:
    with pytest.raises(ValueError, match="name"):
        team.client.add_document(kb, STORM)


def test_a_path_gives_its_name(team: TeamSetup, kb: str, tmp_path: Path) -> None:
    path = tmp_path / "plan.md"
    path.write_bytes(STORM)
    assert team.client.add_document(kb, path).document.name == "plan.md"
    assert team.client.add_document(kb, path, "other.md").document.name == "other.md"


def test_names_may_hold_slashes_and_signs(
    team: TeamSetup, service: Service, tmp_path: Path
) -> None:
    client = team.client
    client.create_kb("Kb")
    name = "Outer/inner 100 %, ä?"
    made = client.connect_source("kb", s.SourceIn(name=name, kind="push", settings={}))
    assert client.show_source("kb", name).id == made.id
    assert (
        client.change_source("kb", name, s.SourceChange(name="Inner/outer")).name == "Inner/outer"
    )
    document = client.add_document(
        "kb", b"# Berth\n\nBerth 7 is deep.\n", name="plans/50 % of #1?.md", wait=True
    )
    assert client.show_document("kb", "plans/50 % of #1?.md").id == document.document.id
    client.disconnect_source("kb", "Inner/outer")
    with service.operator() as operator:
        operator.create_model(s.ModelIn(name="harbour/large %2F", url="http://127.0.0.1:9/v1"))
        assert (
            operator.change_model("harbour/large %2F", s.ModelChange(enabled=False)).enabled
            is False
        )
        operator.delete_model("harbour/large %2F")


def test_changes_of_documents_are_watched(team: TeamSetup) -> None:
    client = team.client
    kb = client.create_kb("Watched").slug
    events = client.watch(kb)
    first = next(events)
    assert isinstance(first, s.KbOut)
    assert first.slug == kb
    client.write_document(kb, "note.md", "# Note\n\nThe siren was tested.\n")
    states = []
    for event in events:
        if isinstance(event, s.DocumentOut):
            states.append(event.state)
            if event.state == "indexed":
                break
    assert len(states) == len(set(states))
    client.delete_document(kb, "note.md")
    removed = next(event for event in events if isinstance(event, s.RemovedOut))
    assert removed.id.startswith("doc_")
    events.close()  # type: ignore[attr-defined]
    with pytest.raises(NotFound):
        next(client.watch("nowhere"))
