"""Embedding over HTTP survives `kill -9`: nothing is lost, and nothing is paid for twice."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import pytest

from fontanel import schemas as s
from fontanel.client import Client
from fontanel.simulators.embedder import embedder_app
from tests.conftest import Service, TeamSetup, free_port, new_team, until
from tests.servers import served_on

SECTIONS = 60
TEXT = "\n\n".join(
    f"# Section {n}\n\nThe quay crane of basin {n} stops at a gust of {n + 20} knots. "
    + f"The mooring crew of basin {n} waits at the gate and calls the duty officer. " * 9
    for n in range(SECTIONS)
).encode()


@pytest.fixture
def own(tmp_path: Path) -> Iterator[Service]:
    started = Service(tmp_path / "data").start()
    yield started
    started.stop()


def registered(service: Service, url: str, **more: object) -> str:
    fields = {"name": "vectors", "url": url, "remote": "words", "tries": 1, "batch": 8, **more}
    with service.operator() as operator:
        return operator.register_embedder(s.EmbedderIn.model_validate(fields)).name


def embedded(service: Service) -> int:
    """Return how many tokens were recorded for embedding documents."""
    with sqlite3.connect(service.data / "fontanel.db") as records:
        query = "select coalesce(sum(tokens_read), 0) from uses where outcome = 'embedded'"
        (tokens,) = records.execute(query).fetchone()
    return int(tokens)


def has_embedded(service: Service, tokens: int) -> bool:
    return embedded(service) >= tokens


def indexed(team: TeamSetup, kb: str, name: str) -> int:
    """Add the long document; return the tokens that embedding it took."""
    team.client.add_document(kb, TEXT, name, wait=True)
    return embedded(team.service)


def test_a_killed_service_goes_on_where_it_was(own: Service) -> None:
    port = free_port()
    with served_on(embedder_app(pause=0.2), port) as url:
        name = registered(own, url, remote="slow")
        first, second = new_team(own), new_team(own)
        kb = first.client.create_kb("Rules", embedder=name).slug
        first.client.add_document(kb, TEXT, "rules.md")
        for part in (200, 2000):
            until(partial(has_embedded, own, part))
            own.kill()
            own.start()
        until(lambda: first.client.show_document(kb, "rules.md").state == "indexed")
        interrupted = embedded(own)
        found = first.client.search(kb, "gust of basin 7", mode="vector").hits
        assert found
        assert not first.client.search(kb, "gust of basin 7").keyword_only
        # Another team's same document, without a kill, takes as many tokens.
        other = second.client.create_kb("Rules", embedder=name).slug
        undisturbed = indexed(second, other, "rules.md") - interrupted
    # Nothing is recorded twice; the last part before each kill may lack its record.
    assert 0.95 * undisturbed <= interrupted <= undisturbed


def test_what_waited_for_an_embedder_is_embedded_after_a_restart(own: Service) -> None:
    port = free_port()
    with served_on(embedder_app(), port) as url:
        name = registered(own, url)
        team = new_team(own)
        kb = team.client.create_kb("Rules", embedder=name).slug
    team.client.add_document(kb, TEXT, "rules.md")
    until(lambda: team.client.show_document(kb, "rules.md").state == "keyword_ready")
    own.kill()
    own.start()
    assert team.client.show_document(kb, "rules.md").state == "keyword_ready"
    hits = team.client.search(kb, "gust of basin 7").hits
    assert "basin 7" in " ".join(hit.text for hit in hits)
    with served_on(embedder_app(), port):
        until(lambda: team.client.show_document(kb, "rules.md").state == "indexed")


def test_a_switch_to_another_embedder_survives_a_kill(own: Service) -> None:
    client: Client
    port = free_port()
    with served_on(embedder_app(pause=0.05), port) as url:
        name = registered(own, url, remote="slow")
        team = new_team(own)
        client = team.client
        kb = client.create_kb("Rules").slug
        client.add_document(kb, TEXT, "rules.md", wait=True)
        client.build_edition(kb, client.show_kb(kb).splitting, embedder=name)
        until(partial(has_embedded, own, 100))
        own.kill()
        own.start()
        until(lambda: client.list_editions(kb)[1].state == "ready")
        edition = client.list_editions(kb)[1]
        assert (edition.embedder, edition.failed) == (name, 0)
        assert edition.passages == client.list_editions(kb)[0].passages
        client.activate_edition(kb, 2)
        assert not client.search(kb, "gust of basin 7").keyword_only
        client.activate_edition(kb, 1)
        assert client.show_kb(kb).embedder != name
