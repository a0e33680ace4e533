"""What another edition takes, before it is built."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import Invalid, NotAllowed
from tests.conftest import STORM, Service, TeamSetup


def test_an_empty_knowledge_base_takes_nothing(team: TeamSetup, kb: str) -> None:
    estimate = team.client.estimate_edition(kb)
    assert (estimate.passages, estimate.texts, estimate.tokens, estimate.cost) == (0, 0, 0, 0.0)


def test_the_service_s_own_embedder_costs_nothing(team: TeamSetup, storm: str) -> None:
    estimate = team.client.estimate_edition(storm)
    assert estimate.embedder == team.client.show_kb(storm).embedder
    assert estimate.passages == team.client.show_kb(storm).passages
    assert estimate.texts >= estimate.passages
    assert estimate.tokens > 30
    assert estimate.cost == 0.0
    assert team.client.estimate_edition(storm, "built-in") == estimate


def test_more_documents_take_more(
    service: Service, team: TeamSetup, storm: str, embedding_server: str
) -> None:
    client = team.client
    name = f"estimated by {team.slug}"
    with service.operator() as operator:
        operator.register_embedder(
            s.EmbedderIn(name=name, url=embedding_server, remote="words", price=3.0)
        )
    before = client.estimate_edition(storm, name)
    for number in range(3):
        text = STORM.replace(b"Cranes", b"Cranes %d" % number).replace(b"berth", b"quay%d" % number)
        client.add_document(storm, text, f"other-{number}.md", wait=True)
    after = client.estimate_edition(storm, name)
    assert after.passages == 4 * before.passages
    assert after.tokens == pytest.approx(4 * before.tokens, rel=0.1)
    # Text that repeats is embedded once.
    client.add_document(storm, STORM + b"\n", "copy.md", wait=True)
    assert client.estimate_edition(storm, name).tokens == after.tokens
    assert after.cost == pytest.approx(after.tokens * 3 / 1_000_000, abs=1e-6)
    # Without windows, only whole passages are embedded.
    client.build_edition(storm, s.Splitting(windows=False), wait=True)
    client.activate_edition(storm, 2)
    plain = client.estimate_edition(storm, name)
    assert plain.texts == plain.passages - 1
    assert plain.tokens < after.tokens


def test_who_may_ask_and_what_for(team: TeamSetup, storm: str) -> None:
    with pytest.raises(Invalid, match="'nothing' cannot be used"):
        team.client.estimate_edition(storm, "nothing")
    with pytest.raises(NotAllowed):
        team.with_role("reader").estimate_edition(storm)
