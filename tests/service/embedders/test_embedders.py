"""Embedders: registered by operators, chosen by editions, away and back."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Invalid, NotAllowed, NotFound, ProblemError
from fontanel.simulators.embedder import embedder_app
from tests.conftest import STORM, Service, TeamSetup, free_port, until
from tests.servers import served_on

CRANE = "At what gust does the quay crane stop?"
_numbers = count(1)


@pytest.fixture
def operator(service: Service) -> Iterator[Client]:
    with service.operator() as client:
        yield client


def register(operator: Client, url: str, remote: str = "words", **more: object) -> str:
    """Register an embedder of its own name; return the name."""
    name = f"vectors-{next(_numbers)}"
    fields = {"name": name, "url": url, "remote": remote, "tries": 1, **more}
    operator.register_embedder(s.EmbedderIn.model_validate(fields))
    return name


def test_an_embedder_is_registered_changed_checked_and_removed(
    operator: Client, embedding_server: str
) -> None:
    name = register(operator, embedding_server, secret="s3cret", price=0.02, batch=8)
    shown = operator.show_embedder(name)
    assert (shown.dimensions, shown.has_secret, shown.error, shown.used_by) == (256, True, None, 0)
    assert "s3cret" not in shown.model_dump_json()
    assert name in [one.name for one in operator.list_embedders()]
    assert operator.check_embedder(name).works
    changed = operator.change_embedder(name, s.EmbedderChange(price=0.5, enabled=False))
    assert (changed.price, changed.enabled, changed.batch) == (0.5, False, 8)
    with pytest.raises(Invalid, match="stored secret is for"):
        operator.change_embedder(name, s.EmbedderChange(url="http://elsewhere.example/v1"))
    again = {"name": name, "url": embedding_server, "remote": "words"}
    with pytest.raises(ProblemError, match="There is, or was"):
        operator.register_embedder(s.EmbedderIn.model_validate(again))
    operator.delete_embedder(name)
    with pytest.raises(NotFound):
        operator.show_embedder(name)
    assert name not in [one.name for one in operator.list_embedders()]
    # Vectors by it may still be kept: its name does not come back.
    with pytest.raises(ProblemError, match="There is, or was, an embedder named"):
        operator.register_embedder(s.EmbedderIn.model_validate(again))


@pytest.mark.parametrize(
    ("remote", "more", "message"),
    [
        ("failing", {}, "status 500"),
        ("malformed", {}, "cannot be read"),
        ("equal", {}, "no nearer to the texts"),
        ("wrong", {"batch": 1}, "differ in their dimensions"),
        ("nothing", {}, "no such model"),
        ("words", {"dimensions": 1024}, "256 dimensions instead of 1024"),
    ],
)
def test_an_embedder_that_does_not_work_is_not_registered(
    operator: Client, embedding_server: str, remote: str, more: dict[str, object], message: str
) -> None:
    with pytest.raises(Invalid, match=message):
        register(operator, embedding_server, remote, **more)


def test_who_may_use_it(operator: Client, team: TeamSetup, embedding_server: str) -> None:
    with pytest.raises(Invalid, match="no team 'nobody'"):
        register(operator, embedding_server, teams=["nobody"])
    name = register(operator, embedding_server, teams=[])
    client = team.client
    own, *others = client.list_usable_embedders()
    assert own.own
    assert name not in [one.name for one in others]
    with pytest.raises(Invalid, match="the team may not use it"):
        client.create_kb("Other vectors", embedder=name)
    operator.change_embedder(name, s.EmbedderChange(teams=[team.slug]))
    assert client.create_kb("Other vectors", embedder=name).embedder == name
    assert name in [one.name for one in client.list_usable_embedders()]
    with pytest.raises(NotAllowed):
        client.list_embedders()
    with pytest.raises(ProblemError, match=f"{name} is used by Other vectors"):
        operator.delete_embedder(name)
    client.delete_kb("other-vectors")
    operator.delete_embedder(name)


def test_a_knowledge_base_uses_the_embedder_that_it_was_made_with(
    operator: Client, team: TeamSetup, embedding_server: str
) -> None:
    client = team.client
    name = register(operator, embedding_server, price=10.0, dimensions=128, batch=4)
    kb = client.create_kb("Other vectors", embedder=name).slug
    client.add_document(kb, STORM, "storm-plan.md", wait=True)
    found = client.search(kb, "gust quay crane", mode="vector")
    assert not found.keyword_only
    assert found.hits[0].similarity is not None
    assert "38 knots" in client.ask(kb, CRANE).text
    row = next(r for r in client.usage(by="member").rows if r.name == "embedding documents")
    assert row.questions == 0
    assert row.tokens_read > 50
    assert row.cost == pytest.approx(row.tokens_read * 10 / 1_000_000, rel=0.01)
    # Unchanged text is not embedded again.
    client.add_document(kb, STORM, "copy-of-it.md", wait=True)
    after = next(r for r in client.usage(by="member").rows if r.name == "embedding documents")
    assert after.tokens_read <= row.tokens_read + 20


def test_editions_move_to_another_embedder_and_back(
    operator: Client, team: TeamSetup, storm: str, embedding_server: str
) -> None:
    client = team.client
    name = register(operator, embedding_server, price=1.0)
    split = client.show_kb(storm).splitting
    estimate = client.estimate_edition(storm, name)
    assert (estimate.embedder, estimate.currency) == (name, "EUR")
    assert estimate.texts >= estimate.passages >= 1
    assert estimate.cost == pytest.approx(estimate.tokens / 1_000_000, abs=1e-4)
    with pytest.raises(Invalid, match="there is no embedder of that name"):
        client.build_edition(storm, split, embedder="nothing")
    with pytest.raises(ProblemError, match="these very settings"):
        client.build_edition(storm, split)
    built = client.build_edition(storm, split, embedder=name, wait=True)
    assert (built.embedder, built.outdated) == (name, False)
    assert not client.search(storm, CRANE, edition=2).keyword_only
    client.activate_edition(storm, 2)
    shown = client.show_kb(storm)
    assert (shown.embedder, shown.embedder_error) == (name, None)
    # What is added later reaches both, and a further edition keeps the embedder.
    client.write_document(storm, "note.md", "# Canteen\n\nThe canteen opens at six.\n")
    client.wait_for_document(storm, "note.md")
    assert "six" in client.ask(storm, "When does the canteen open?").text
    smaller = s.Splitting(target_tokens=60)
    assert client.build_edition(storm, smaller, wait=True).embedder == name
    client.activate_edition(storm, 1)
    assert client.show_kb(storm).embedder != name
    assert not client.search(storm, CRANE).keyword_only
    back = client.build_edition(storm, smaller, embedder="built-in", wait=True)
    assert back.embedder == client.list_usable_embedders()[0].name


def test_matches_of_several_embedders_are_comparable(
    operator: Client, team: TeamSetup, storm: str, embedding_server: str
) -> None:
    client = team.client
    name = register(operator, embedding_server)
    other = client.create_kb("Other vectors", embedder=name).slug
    client.add_document(other, STORM, "storm-plan.md", wait=True)
    client.write_document(other, "canteen.md", "# Canteen\n\nThe canteen opens at six.\n")
    client.wait_for_document(other, "canteen.md")
    own = client.search(storm, CRANE).hits[0]
    theirs = client.search(other, CRANE).hits[0]
    assert theirs.title == own.title == "Storm plan"
    assert abs(theirs.match - own.match) < 0.35
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=storm), s.DeskKb(kb=other)])
    client.publish_desk(client.create_desk("Both", settings).slug)
    assert "six" in client.ask_desk("both", "When does the canteen open?").text
    assert "38 knots" in client.ask_desk("both", CRANE).text


def test_an_embedder_that_is_away_delays_documents_and_fails_no_search(
    operator: Client, team: TeamSetup
) -> None:
    client, port = team.client, free_port()
    with served_on(embedder_app(), port) as url:
        name = register(operator, url)
        kb = client.create_kb("Other vectors", embedder=name).slug
        client.add_document(kb, STORM, "storm-plan.md", wait=True)
    found = client.search(kb, "What about the quay crane?")
    assert found.keyword_only
    assert found.hits
    assert "cannot be reached" in (client.show_kb(kb).embedder_error or "")
    client.write_document(kb, "canteen.md", "# Canteen\n\nThe canteen opens at six.\n")
    until(lambda: client.show_document(kb, "canteen.md").state == "keyword_ready")
    assert client.search(kb, "canteen opens").hits[0].title == "Canteen"
    assert "cannot be reached" in (operator.show_embedder(name).error or "")
    # Documents of others do not wait for it.
    own = client.create_kb("Own vectors").slug
    client.add_document(own, STORM, "storm-plan.md", wait=True)
    with served_on(embedder_app(), port):
        assert client.wait_for_document(kb, "canteen.md").state == "indexed"
        until(lambda: client.show_kb(kb).embedder_error is None)
        until(lambda: not client.search(kb, "When is the canteen open?").keyword_only)


def test_a_text_that_is_refused_fails_its_own_document_alone(
    operator: Client, team: TeamSetup, embedding_server: str
) -> None:
    client = team.client
    name = register(operator, embedding_server, "picky")
    kb = client.create_kb("Other vectors", embedder=name).slug
    client.write_document(kb, "bad.md", "# Bad\n\nThis text is unembeddable for the server.\n")
    client.add_document(kb, STORM, "storm-plan.md", wait=True)
    until(lambda: client.show_document(kb, "bad.md").state == "failed")
    assert f"The embedder {name} failed" in (client.show_document(kb, "bad.md").error or "")
    assert client.show_document(kb, "storm-plan.md").state == "indexed"
    assert operator.show_embedder(name).error is None


def test_documents_wait_while_the_budget_is_spent(
    operator: Client, team: TeamSetup, embedding_server: str
) -> None:
    client = team.client
    name = register(operator, embedding_server)
    kb = client.create_kb("Other vectors", embedder=name).slug
    client.change_team(s.TeamChange(monthly_tokens=0))
    client.add_document(kb, STORM, "storm-plan.md")
    until(lambda: client.show_document(kb, "storm-plan.md").state == "keyword_ready")
    assert client.search(kb, "quay crane").hits
    client.change_team(s.TeamChange(monthly_tokens=1_000_000))
    assert client.wait_for_document(kb, "storm-plan.md").state == "indexed"


def test_questions_are_embedded_once_and_keyword_searches_not_at_all(
    operator: Client, team: TeamSetup
) -> None:
    client, port = team.client, free_port()
    with served_on(embedder_app(), port) as url:
        name = register(operator, url)
        kb = client.create_kb("Other vectors", embedder=name).slug
        client.add_document(kb, STORM, "storm-plan.md", wait=True)
        first = client.search(kb, CRANE)
    # The server is away by now: the same question has its vector, and keywords need none.
    again = client.search(kb, CRANE)
    assert not again.keyword_only
    assert [hit.match for hit in again.hits] == [hit.match for hit in first.hits]
    assert client.search(kb, "quay crane", mode="lexical").hits
    assert operator.show_embedder(name).error is None
