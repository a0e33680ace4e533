"""A team with a published desk, on a service of its own that may reach this machine."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from fontanel import schemas as s
from tests.conftest import STORM, Service, TeamSetup, new_team

#: A question that the documents answer, a follow-up, and one that they do not answer.
QUESTION = "At what gust does the quay crane stop?"
FOLLOW_UP = "And at what gust is it pinned?"
UNKNOWN = "Who won the regatta of 1911?"


def open_desk(team: TeamSetup, **settings: object) -> str:
    """Publish a desk over a knowledge base with the storm plan; return its short name."""
    kb = team.client.create_kb("Rules").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    values = s.DeskSettings.model_validate(
        {"kbs": [s.DeskKb(kb=kb)], "audience": "link", **settings}
    )
    desk = team.client.create_desk("Harbour desk", values)
    team.client.publish_desk(desk.slug)
    return desk.slug


@pytest.fixture
def reaching(tmp_path: Path) -> Iterator[Service]:
    """A service that may reach this machine."""
    service = Service(tmp_path / "data", {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8"}).start()
    yield service
    service.stop()


@pytest.fixture
def asked(reaching: Service) -> TeamSetup:
    """A team with a desk that anyone with a link may ask."""
    team = new_team(reaching)
    open_desk(team)
    return team
