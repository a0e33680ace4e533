"""Models and desks that the tests of desks share."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import pytest

from fontanel import schemas as s
from tests.conftest import Service, TeamSetup

Marine = tuple[TeamSetup, str]
QUESTION = "What is the wind limit for leaving the outer berth?"
GUEST = "a guest's own secret 0001"


@pytest.fixture(scope="module")
def models(service: Service, model_server: str) -> Iterator[str]:
    """Each behaviour of the simulator model server as a model of its name."""
    url = model_server
    with service.operator() as operator:
        for name in (
            "honest",
            "lying",
            "gullible",
            "slow",
            "failing",
            "broken",
            "malformed",
            "limited",
            "busy",
            "empty",
            "whole",
        ):
            operator.create_model(
                s.ModelIn(
                    name=name,
                    url=url,
                    remote=name,
                    price_read=2.0,
                    price_written=8.0,
                    seconds=5,
                    tries=3,
                )
            )
    yield url
    with service.operator() as operator:
        for model in operator.list_models():
            operator.delete_model(model.name)


@pytest.fixture
def desk(marine: Marine) -> Iterator[Callable[..., s.DeskOut]]:
    """Makes published desks of the marine team."""
    team, kb = marine
    made: list[str] = []

    def make(publish: bool = True, **settings: Any) -> s.DeskOut:
        values = s.DeskSettings(kbs=[s.DeskKb(kb=kb)], **settings)
        result = team.client.create_desk(f"Desk {len(made)}", values)
        made.append(result.id)
        if publish:
            team.client.publish_desk(result.id, "first")
        return team.client.show_desk(result.id)

    yield make
    for desk_id in made:
        team.client.delete_desk(desk_id)
