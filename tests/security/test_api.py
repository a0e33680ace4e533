"""Generated requests over the whole API never make the service fail.

`bench/stress/attack.py` sends twenty thousand.
"""

from __future__ import annotations

import pytest

from tests.conftest import Service
from tests.security.generated import Fuzz, operations


@pytest.fixture(scope="module")
def fuzz(service: Service) -> Fuzz:
    return Fuzz.begin(service)


@pytest.mark.parametrize("operation", [pytest.param(one, id=one.name) for one in operations()])
def test_no_request_makes_the_service_fail(fuzz: Fuzz, operation: object) -> None:
    fuzz.run(operation, 8, 1)  # type: ignore[arg-type]
    assert fuzz.failures == []


def test_the_requests_meet_what_is_there(fuzz: Fuzz) -> None:
    fuzz.failures.clear()
    for number, operation in enumerate(operations()):
        if operation.method == "get":
            fuzz.run(operation, 3, number)
    assert fuzz.failures == []
    assert fuzz.statuses[200] > fuzz.statuses[404]
