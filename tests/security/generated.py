"""Requests generated from the API's description, with ids of existing records."""

from __future__ import annotations

import random
import secrets
import string
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import schemathesis
import schemathesis.core
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st
from schemathesis.core.result import Ok

from tests import patient
from tests.conftest import Service, TeamSetup
from tests.seeds import OPENAPI, example
from tests.seeds import seed as seed_team

#: Operations that end what the others need, or last without end.
LEFT_OUT = {
    ("get", "/api/v1/teams/{team}/kbs/{kb}/events"),
    ("delete", "/api/v1/teams/{team}"),
    ("delete", "/api/v1/session"),
}
_ODD: list[Any] = [
    None,
    True,
    -1,
    2**31,
    2**63,
    2**70,
    -(2**63) - 1,
    1e308,
    1e-320,
    "",
    " ",
    "\x00",
    "x" * 5000,
    "é" * 400,
    "../..",
    "%00",
    "'\"<>",
    "9999-12-31T23:59:59-23:59",
    "0001-01-01T00:00:00+23:59",
    "\u202e",
    "𐍈",
    [],
    {},
    [[]],
    {"a": {}},
    [None],
    ["x"] * 200,
]


@dataclass(frozen=True)
class Operation:
    method: str
    path: str
    about: dict[str, Any]
    cases: st.SearchStrategy[Any]

    @property
    def name(self) -> str:
        return f"{self.method} {self.path}"

    @property
    def operators(self) -> bool:
        """Whether it is for operators."""
        teamless = not self.path.startswith("/api/v1/teams/{team}")
        return (
            teamless
            and any(
                word in self.path
                for word in ("/models", "/usage", "/freshness", "/people", "/teams")
            )
        ) or (self.path.endswith("/grants"))


def operations() -> list[Operation]:
    results = []
    for result in schemathesis.openapi.from_dict(OPENAPI).get_all_operations():
        assert isinstance(result, Ok)
        one = result.ok()
        method = one.method.lower()
        if (method, one.path) not in LEFT_OUT:
            results.append(
                Operation(method, one.path, OPENAPI["paths"][one.path][method], one.as_strategy())
            )
    return results


def _has(value: Any) -> bool:
    return not isinstance(value, schemathesis.core.NotSet)


def _odd(value: Any, draw: random.Random) -> Any:
    if isinstance(value, dict) and value and draw.random() < 0.9:
        key = draw.choice(sorted(value))
        return {**value, key: _odd(value[key], draw)}
    return draw.choice(_ODD)


@dataclass
class Fuzz:
    """Sends generated requests as an owner or operator, and counts the responses."""

    service: Service
    team: TeamSetup
    ids: dict[str, str]
    statuses: Counter[int] = field(default_factory=Counter)
    failures: list[str] = field(default_factory=list)
    cases: int = 0
    #: Whether something was deleted that other operations need.
    incomplete: bool = False

    @classmethod
    def begin(cls, service: Service) -> Fuzz:
        team, ids = seed_team(service, f"Fuzzed {secrets.token_hex(6)}")
        return cls(service, team, ids)

    def __post_init__(self) -> None:
        self._owner = patient.Client(
            headers={"Authorization": f"Bearer {self.team.key}"},
            base_url=self.service.url,
            timeout=120,
        )
        self._operator = patient.Client(
            headers={"X-Fontanel-Console": "1"}, base_url=self.service.url, timeout=120
        )
        body = {"email": "operator@localhost", "password": self.service.password}
        assert self._operator.post("/api/v1/session", json=body).is_success

    def run(self, operation: Operation, count: int, number: int) -> None:
        """Send generated requests for an operation; the seed determines them."""

        @seed(number)
        @settings(
            max_examples=count,
            database=None,
            deadline=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
            derandomize=False,
        )
        @given(operation.cases, st.randoms(use_true_random=False))
        def send(case: Any, draw: random.Random) -> None:
            self._send(operation, case, draw)

        send()
        if self.incomplete:
            self._renew()

    def _send(self, operation: Operation, case: Any, draw: random.Random) -> None:
        path = operation.path
        for name, value in self.ids.items():
            path = path.replace("{" + name + "}", value if draw.random() < 0.93 else _part(draw))
        client = self._operator if operation.operators else self._owner
        query = (
            case.query.items()
            if case.query and draw.random() < 0.5
            else _query(operation, draw, self.ids)
        )
        request: dict[str, Any] = {
            "params": [(name, str(value).encode(errors="replace")) for name, value in query]
        }
        content = operation.about.get("requestBody", {}).get("content", {})
        if "multipart/form-data" in content:
            request["files"] = {"file": (_part(draw) + ".md", b"# A\n\nText.")}
            request["data"] = {
                name: str(draw.choice(_ODD))
                for name in ("name", "tags", "columns")
                if draw.random() < 0.3
            }
        elif "application/x-www-form-urlencoded" in content:
            request["data"] = {"logout_token": _part(draw)}
        elif content:
            # What fits the description, or an example of it with something odd in it.
            example_of = example(OPENAPI, content["application/json"]["schema"])
            request["json"] = (
                case.body if _has(case.body) and draw.random() < 0.5 else _odd(example_of, draw)
            )
        answer = client.request(operation.method, path, **request)
        self.cases += 1
        self.statuses[answer.status_code] += 1
        if answer.status_code >= 500 and answer.json().get("type", "").endswith("internal"):
            self.failures.append(
                f"{operation.name} {path} {request}: {answer.status_code} {answer.text[:200]}"
            )
        deletes = operation.method == "delete" or operation.path.endswith("/erase")
        if deletes and answer.is_success:
            self.incomplete = True

    def _renew(self) -> None:
        """Use a new team, which has everything."""
        fresh = Fuzz.begin(self.service)
        self.team, self.ids, self._owner = fresh.team, fresh.ids, fresh._owner
        self.incomplete = False


def _part(draw: random.Random) -> str:
    odd = [
        "x",
        "..",
        "%00",
        "%2e%2e",
        "a%2Fb",
        "é",
        "0",
        "-1",
        "9" * 30,
        "x" * 300,
        "latest",
        "%F0%90%8D%88",
        "*",
        "kb_" + "2" * 16,
    ]
    return draw.choice([*odd, "".join(draw.choice(string.ascii_letters) for _ in range(6))])


def _query(
    operation: Operation, draw: random.Random, ids: dict[str, str]
) -> Iterator[tuple[str, str]]:
    for parameter in operation.about.get("parameters", ()):
        if parameter["in"] != "query" or draw.random() < 0.4:
            continue
        if draw.random() < 0.5:
            value = example(OPENAPI, parameter["schema"])
            value = ids.get(parameter["name"], value)
        else:
            value = draw.choice(_ODD)
        for one in value if isinstance(value, list) else [value]:
            yield parameter["name"], str(one).replace("\x00", "%00")
