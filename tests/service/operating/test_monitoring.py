"""Traces, metrics, and logs of a running service."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest
import yaml
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from fontanel.schemas import QuotasIn, SourceIn
from tests import patient
from tests.conftest import ROOT, STORM, Service, TeamSetup, new_team, until

QUESTION = "What is the wind limit at the outer berth?"


@dataclass(frozen=True)
class Recorded:
    name: str
    trace: str
    id: str
    parent: str
    attributes: dict[str, Any]


@dataclass
class Collector:
    """Receives traces, as a collector does."""

    bodies: list[bytes] = field(default_factory=list)
    url: str = ""

    def spans(self) -> list[Recorded]:
        results = []
        for body in list(self.bodies):
            request = ExportTraceServiceRequest.FromString(body)
            for group in request.resource_spans:
                for scope in group.scope_spans:
                    results += [
                        Recorded(
                            span.name,
                            span.trace_id.hex(),
                            span.span_id.hex(),
                            span.parent_span_id.hex(),
                            {
                                one.key: getattr(one.value, str(one.value.WhichOneof("value")))
                                for one in span.attributes
                            },
                        )
                        for span in scope.spans
                    ]
        return results

    def named(self, name: str) -> list[Recorded]:
        return [span for span in self.spans() if span.name == name]


@pytest.fixture(scope="module")
def collector() -> Iterator[Collector]:
    result = Collector()

    class Receiver(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            result.bodies.append(self.rfile.read(int(self.headers["content-length"])))
            assert self.path == "/v1/traces"
            self.send_response(200)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Receiver)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    result.url = f"http://127.0.0.1:{server.server_port}"
    yield result
    server.shutdown()


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory, collector: Collector) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("traced")
    environment = {
        "FONTANEL_TRACES": collector.url,
        "FONTANEL_SLOW_SECONDS": "0.001",
        "FONTANEL_SOURCE_ROOTS": str(folder),
        "FONTANEL_BACKUP": str(folder / "backups"),
        "OTEL_BSP_SCHEDULE_DELAY": "100",
    }
    result = Service(folder / "data", environment).start()
    yield result
    result.stop()


def test_an_answer_is_traced_below_its_request_step_by_step(
    team: TeamSetup, storm: str, collector: Collector
) -> None:
    trace = "4bf92f3577b34da6a3ce929d0e0e4736"
    reply = httpx.post(
        f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{storm}/ask",
        json={"question": QUESTION},
        headers={
            "Authorization": f"Bearer {team.key}",
            "traceparent": f"00-{trace}-00f067aa0ba902b7-01",
        },
        timeout=60,
    )
    turn = reply.json()["turn_id"]
    until(lambda: any(s.attributes.get("fontanel.answer") == turn for s in collector.spans()))
    until(lambda: any(s.name.endswith("/ask") and s.trace == trace for s in collector.spans()))
    spans = [span for span in collector.spans() if span.trace == trace]
    [request] = [span for span in spans if span.name == "POST /api/v1/teams/{team}/kbs/{kb}/ask"]
    [answer] = [span for span in spans if span.name == "answer"]
    assert (request.parent, answer.parent) == ("00f067aa0ba902b7", request.id)
    assert request.attributes["http.response.status_code"] == 200
    assert request.attributes["fontanel.request"] == reply.headers["x-request-id"]
    assert answer.attributes["fontanel.outcome"] == "answered"
    steps = [span.name for span in spans if span.parent == answer.id]
    assert steps == [step.name for step in team.client.show_answer(turn).steps]


def test_ingest_and_syncs_are_traced_without_what_they_contain(
    team: TeamSetup, storm: str, collector: Collector, service: Service
) -> None:
    folder = service.data.parent / team.slug
    folder.mkdir()
    (folder / "tides.md").write_text("# Tides\n\nThe tide turns at noon.\n")
    source = team.client.connect_source(
        storm, SourceIn(name="Files", kind="folder", settings={"path": str(folder)})
    )
    run = team.client.wait_for_sync(storm, source.id, "latest")
    until(lambda: any(s.attributes["fontanel.sync"] == run.id for s in collector.named("sync")))
    [sync] = [s for s in collector.named("sync") if s.attributes["fontanel.sync"] == run.id]
    assert (sync.attributes["fontanel.state"], sync.attributes["fontanel.kind"]) == (
        "done",
        "folder",
    )
    for document in team.client.list_documents(storm):
        team.client.wait_for_document(storm, document.id)
    until(lambda: len(collector.named("read document")) >= 2)
    until(lambda: collector.named("index documents") and collector.named("embed"))
    sent = b"".join(collector.bodies)
    for secret in (QUESTION, "outer berth", "storm-plan", "Harbour rules", team.email, team.key):
        assert secret.encode() not in sent


def test_slow_operations_and_ids_are_logged(team: TeamSetup, storm: str, service: Service) -> None:
    team.client.ask(storm, QUESTION)
    lines = [json.loads(line) for line in service.log().splitlines() if line.startswith("{")]
    slow = {line["operation"] for line in lines if line["event"] == "slow operation"}
    assert {"answer", "read document", "POST /api/v1/teams/{team}/kbs/{kb}/ask"} <= slow
    asked = [line for line in lines if line.get("route", "").endswith("/ask")]
    assert asked[-1]["team"].startswith("team_")
    assert asked[-1]["actor"].startswith("key_")


def exported(service: Service) -> set[str]:
    """Return the names of the metrics that a service exports."""
    text = patient.get(f"{service.url}/metrics").text
    return set(re.findall(r"^# TYPE (\S+) ", text, re.M))


def without_suffix(name: str) -> str:
    return re.sub(r"_(bucket|count|sum|total|created)$", "", name)


def test_documented_metrics_alerts_and_panels_are_those_that_are_exported(
    team: TeamSetup, storm: str, service: Service
) -> None:
    with service.operator() as operator:
        operator.set_quotas(team.slug, QuotasIn(documents=10))
        for _ in operator.wait_for_backup(operator.start_backup().id):
            pass
    found = {without_suffix(name) for name in exported(service)}
    page = (ROOT / "docs" / "monitoring.md").read_text()
    documented = {without_suffix(name) for name in re.findall(r"^\| `(fontanel_\w+)`", page, re.M)}
    assert documented == found
    rules = yaml.safe_load((ROOT / "deploy" / "alerts.yml").read_text())["groups"][0]["rules"]
    panels = json.loads((ROOT / "deploy" / "dashboard.json").read_text())["panels"]
    queries = [rule["expr"] for rule in rules]
    queries += [target["expr"] for panel in panels for target in panel["targets"]]
    used = {
        without_suffix(name) for query in queries for name in re.findall(r"fontanel_\w+", query)
    }
    assert used <= found
    assert all(rule["annotations"]["action"] for rule in rules)
    # Everything that is exported is on the dashboard, or under an alert.
    assert found == used
    labels = {name for query in queries for name in re.findall(r"by \(([^)]*)\)", query)}
    assert labels <= {"le", "le, route", "status", "outcome", "stage", "stage, state", "source"}


def test_the_dashboard_is_what_its_program_writes(tmp_path: Path) -> None:
    written = tmp_path / "dashboard.json"
    program = ROOT / "tools" / "write_dashboard.py"
    subprocess.run([sys.executable, program, written], check=True)
    assert written.read_text() == (ROOT / "deploy" / "dashboard.json").read_text()


def test_metrics_of_waiting_work_quotas_and_the_disk(service: Service) -> None:
    team = new_team(service)
    team.client.create_kb("Own")
    team.client.add_document("own", STORM, "storm.md", wait=True)
    with service.operator() as operator:
        operator.set_quotas(team.slug, QuotasIn(documents=4))
        backup = operator.start_backup()
        for one in operator.wait_for_backup(backup.id):
            state = one.state
    assert state == "done"
    text = patient.get(f"{service.url}/metrics").text
    assert re.search(r'fontanel_quota_share\{quota="documents",team="team_\w+"\} 0\.25', text)
    assert float(re.findall(r"^fontanel_disk_free_bytes (\S+)", text, re.M)[0]) > 0
    assert "fontanel_backup_failed 0.0" in text
    assert re.search(r"^fontanel_backup_age_seconds \d", text, re.M)
