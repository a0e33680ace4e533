"""Builds of editions: estimated, paused, limited by a budget, and counted."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import count
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Invalid, ProblemError
from fontanel.simulators.embedder import count_tokens, embedder_app
from tests.conftest import STORM, Service, TeamSetup, free_port, new_team, until
from tests.core.encoders import make_encoder
from tests.servers import served_on

DOCUMENTS = 6
#: A currency unit for each token: costs are easy to read.
PRICE = 1_000_000.0
CRANE = "At what gust does the quay crane stop?"
_numbers = count(1)


@pytest.fixture
def operator(service: Service) -> Iterator[Client]:
    with service.operator() as client:
        yield client


def register(operator: Client, url: str, remote: str = "words", **more: object) -> s.EmbedderOut:
    fields = {"name": f"builder-{next(_numbers)}", "url": url, "remote": remote, "tries": 1, **more}
    return operator.register_embedder(s.EmbedderIn.model_validate(fields))


def rules(number: int) -> str:
    """Return a document of several passages whose words are all its own."""
    sections = [
        f"## Basin {number}-{part}\n\n"
        + " ".join(f"word{number}x{part}x{word}" for word in range(90))
        for part in range(5)
    ]
    return f"# Rules of basin {number}\n\n" + "\n\n".join(sections)


def filled(client: Client, documents: int = DOCUMENTS) -> str:
    kb = client.create_kb("Rules").slug
    for number in range(documents):
        client.write_document(kb, f"rules-{number}.md", rules(number))
    for number in range(documents):
        client.wait_for_document(kb, f"rules-{number}.md")
    return kb


def edition(client: Client, kb: str, number: int = 2) -> s.EditionOut:
    return next(one for one in client.list_editions(kb) if one.number == number)


def is_state(client: Client, kb: str, state: str) -> bool:
    return edition(client, kb).state == state


def has_cost(client: Client, kb: str) -> bool:
    return edition(client, kb).cost > 0


def test_a_build_is_paused_and_resumed(operator: Client, team: TeamSetup) -> None:
    client = team.client
    kb = filled(client)
    with served_on(embedder_app(pause=0.2), free_port()) as url:
        name = register(operator, url, "slow", price=PRICE, batch=2, at_once=1).name
        split = client.show_kb(kb).splitting
        client.build_edition(kb, split, embedder=name)
        until(partial(has_cost, client, kb))
        paused = client.pause_edition(kb, 2)
        assert (paused.state, paused.paused_by, paused.seconds_left) == ("paused", "person", None)
        assert paused.done + paused.total > 0
        with pytest.raises(ProblemError, match="paused already"):
            client.pause_edition(kb, 2)
        with pytest.raises(ProblemError, match=r"is paused\. Resume it first"):
            client.activate_edition(kb, 2)
        # A document that changes reaches the active edition; the other one waits for it.
        client.write_document(kb, "canteen.md", "# Canteen\n\nThe canteen opens at six.\n")
        client.wait_for_document(kb, "canteen.md")
        assert "six" in client.search(kb, "canteen opens").hits[0].text
        # Other editions can be built and used meanwhile.
        client.build_edition(kb, s.Splitting(target_tokens=60), wait=True)
        client.activate_edition(kb, 3)
        still = edition(client, kb)
        assert still.state == "paused"
        assert still.done < still.total
        with pytest.raises(ProblemError, match="is not being built"):
            client.pause_edition(kb, 1)
        resumed = client.resume_edition(kb, 2)
        assert (resumed.state, resumed.paused_by) == ("building", None)
        with pytest.raises(ProblemError, match="is not paused"):
            client.resume_edition(kb, 2)
        until(partial(is_state, client, kb, "ready"))
        client.activate_edition(kb, 2)
        assert not client.search(kb, "word3x4x5").keyword_only
        assert client.search(kb, "canteen opens", mode="vector").hits[0].title == "Canteen"


def test_a_build_stops_at_its_budget_and_costs_what_was_estimated(
    operator: Client, team: TeamSetup, embedding_server: str
) -> None:
    client = team.client
    kb = filled(client, 15)
    name = register(operator, embedding_server, price=PRICE, batch=4, at_once=1).name
    estimate = client.estimate_edition(kb, name)
    assert estimate.seconds is not None
    assert estimate.seconds > 0
    split = client.show_kb(kb).splitting
    budget = estimate.cost / 10
    built = client.build_edition(kb, split, embedder=name, budget=budget, wait=True)
    assert (built.state, built.paused_by, built.budget) == ("paused", "budget", budget)
    assert built.done < built.total
    assert 0.8 * budget < built.cost <= 1.05 * budget
    assert built.currency == "EUR"
    with pytest.raises(Invalid, match="Name a larger budget"):
        client.resume_edition(kb, 2, budget=built.cost)
    client.resume_edition(kb, 2, budget=2 * estimate.cost)
    until(partial(is_state, client, kb, "ready"))
    whole = edition(client, kb)
    assert whole.tokens == pytest.approx(whole.cost)
    row = next(r for r in client.usage(by="model").rows if r.name == name)
    assert row.cost == pytest.approx(whole.cost)
    # The pace is known now.
    assert client.estimate_edition(kb, name).seconds is not None


def test_a_paused_build_stays_paused_when_the_service_is_killed(tmp_path: Path) -> None:
    own = Service(tmp_path / "data").start()
    try:
        client = new_team(own).client
        kb = filled(client, 8)
        with served_on(embedder_app(pause=0.3), free_port()) as url, own.operator() as operator:
            name = register(operator, url, "slow", price=PRICE, batch=8, at_once=1).name
            client.build_edition(kb, client.show_kb(kb).splitting, embedder=name)
            until(partial(has_cost, client, kb))
            client.pause_edition(kb, 2)
            own.kill()
            own.start()
            assert edition(client, kb).state == "paused"
            client.resume_edition(kb, 2)
            until(partial(is_state, client, kb, "ready"))
    finally:
        own.stop()


def test_costs_are_counted_by_source_and_run(embedding_server: str, tmp_path: Path) -> None:
    folder = tmp_path / "documents"
    folder.mkdir()
    (folder / "rules.md").write_text(rules(1))
    own = Service(tmp_path / "data", {"FONTANEL_SOURCE_ROOTS": str(folder)}).start()
    try:
        client = new_team(own).client
        with own.operator() as operator:
            name = register(operator, embedding_server, price=PRICE).name
        kb = client.create_kb("Rules", embedder=name).slug
        source = client.connect_source(
            kb, s.SourceIn(name="Rules folder", kind="folder", settings={"path": str(folder)})
        )
        client.sync_source(kb, source.id, wait=True)
        client.wait_for_document(kb, next(iter(client.list_documents(kb))).name)
        client.write_document(kb, "note.md", rules(2))
        client.wait_for_document(kb, "note.md")
        rows = {row.name: row for row in client.usage(by="source").rows}
        # The run that brought the document; a later one had nothing to do.
        runs = {run.tokens_used: run for run in client.list_syncs(kb, source.id)}
        assert sum(runs) == rows["Rules folder"].tokens_read > 500
        assert runs[sum(runs)].cost == pytest.approx(rows["Rules folder"].cost)
        assert rows["questions, and documents without a source"].tokens_read > 500
        total = client.usage(by="source").total
        assert total.tokens_read == sum(row.tokens_read for row in rows.values())
    finally:
        own.stop()


def test_embedded_questions_are_counted_once(
    operator: Client, team: TeamSetup, embedding_server: str
) -> None:
    client = team.client
    name = register(operator, embedding_server, price=PRICE).name
    kb = client.create_kb("Rules", embedder=name).slug
    client.add_document(kb, STORM, "storm.md", wait=True)

    def counted() -> list[s.UsageRow]:
        return [r for r in client.usage(by="member").rows if r.name == "embedding questions"]

    assert counted() == []
    client.search(kb, CRANE)
    until(lambda: len(counted()) == 1)
    (row,) = counted()
    assert row.tokens_read == count_tokens(CRANE)
    assert (row.questions, row.cost) == (0, row.tokens_read)
    client.search(kb, CRANE)
    gate = "When is the gate shut?"
    client.search(kb, gate)
    until(lambda: counted()[0].tokens_read > row.tokens_read)
    assert counted()[0].tokens_read == count_tokens(CRANE) + count_tokens(gate)


@pytest.mark.parametrize(("remote", "uncut"), [("words", None), ("uncut", 256), ("strict", 256)])
def test_vectors_are_cut_by_the_server_or_by_the_service(
    operator: Client, team: TeamSetup, embedding_server: str, remote: str, uncut: int | None
) -> None:
    made = register(operator, embedding_server, remote, dimensions=96)
    assert (made.dimensions, made.uncut) == (96, uncut)
    assert operator.check_embedder(made.name).works
    client = team.client
    kb = client.create_kb("Rules", embedder=made.name).slug
    client.add_document(kb, STORM, "storm.md", wait=True)
    assert "38 knots" in client.search(kb, CRANE, mode="vector").hits[0].text


def test_vectors_of_an_encoder_in_a_directory_are_cut(
    operator: Client, team: TeamSetup, tmp_path: Path
) -> None:
    directory = make_encoder(tmp_path / "words", STORM.decode(), dimensions=128)
    fields = {"name": f"builder-{next(_numbers)}", "directory": str(directory), "dimensions": 64}
    made = operator.register_embedder(s.EmbedderIn.model_validate(fields))
    assert (made.dimensions, made.uncut) == (64, 128)
    client = team.client
    kb = client.create_kb("Rules", embedder=made.name).slug
    client.add_document(kb, STORM, "storm.md", wait=True)
    hit = client.search(kb, CRANE, mode="vector").hits[0]
    assert "38 knots" in hit.text
    assert hit.similarity is not None
    assert hit.similarity <= 1.0
