"""What pages load, what metrics and logs contain, and failures of the machine."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

from fontanel.client import ProblemError
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, new_team


@pytest.mark.parametrize(
    "path", ["/", "/api/docs", "/docs.html", "/sign-in", "/chat/none", "/invitation", "/t/x/kbs"]
)
def test_every_page_has_a_policy_and_loads_nothing_from_elsewhere(
    service: Service, path: str
) -> None:
    page = patient.get(f"{service.url}{path}")
    assert page.status_code == 200
    policy = page.headers["content-security-policy"]
    assert "default-src 'self'" in policy
    assert "frame-ancestors 'none'" in policy
    loaded = re.findall(r"(?:src|href)=\"([^\"]+)\"", page.text)
    assert loaded
    assert all(re.match(r"(\./|/(?!/)|\w[\w.-]*$)", address) for address in loaded)
    assert page.headers["x-content-type-options"] == "nosniff"


def test_html_that_people_add_is_shown_closed(team: TeamSetup, kb: str) -> None:
    page = b"<h1>A</h1><script>alert(1)</script><p>Gate 3.</p>"
    team.client.add_document(kb, page, "a.html", wait=True)
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents/a.html/original"
    answer = patient.get(url, headers={"Authorization": f"Bearer {team.key}"})
    assert "sandbox" in answer.headers["content-security-policy"]


def test_the_figures_are_for_the_operator(tmp_path: Path) -> None:
    running = Service(tmp_path / "data", {"FONTANEL_METRICS_TOKEN": "a token of its own"}).start()
    try:
        url = f"{running.url}/metrics"
        assert patient.get(url).status_code == 401
        assert patient.get(url, headers={"Authorization": "Bearer wrong"}).status_code == 401
        for method in ("MADEUP", "X" * 40, "get"):
            patient.request(method, f"{running.url}/health/live")
        text = patient.get(url, headers={"Authorization": "Bearer a token of its own"}).text
        methods = set(re.findall(r'fontanel_requests_total\{method="([^"]*)"', text))
        assert methods <= {"GET", "other"}
    finally:
        running.stop()


def test_without_a_token_figures_stay_on_the_machine(service: Service) -> None:
    assert patient.get(f"{service.url}/metrics").status_code == 200
    assert (
        patient.get(
            f"{service.url}/metrics", headers={"X-Forwarded-For": "198.51.100.1"}
        ).status_code
        == 401
    )


def test_a_full_disk_is_said_and_reading_goes_on(tmp_path: Path) -> None:
    running = Service(tmp_path / "data").start()
    team = new_team(running)
    kb = team.client.create_kb("Rules").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    running.stop()
    running.environment["FONTANEL_MIN_FREE_MB"] = str(10**9)
    running.wait_until_ready = lambda: None  # type: ignore[method-assign]
    running.start()
    try:
        ready = patient.get(f"{running.url}/health/ready")
        assert ready.status_code == 507
        assert ready.json()["type"].endswith("disk-full")
        assert patient.get(f"{running.url}/health/live").status_code == 200
        from fontanel.client import Client

        with Client(running.url, team.key, team.slug) as client:
            with pytest.raises(ProblemError, match="disk") as caught:
                client.add_document(kb, STORM, "more.md")
            assert caught.value.problem.status == 507
            assert client.list_documents(kb)
            assert patient.get(f"{running.url}/health/live").is_success
    finally:
        running.stop()


@pytest.mark.parametrize("name", ["fontanel.db", "vectors"])
def test_a_damaged_database_is_said_in_a_line(tmp_path: Path, name: str) -> None:
    data = tmp_path / "data"
    Service(data).start().stop()
    (data / name).write_bytes(b"not a database at all " * 1000)
    for leftover in data.glob(f"{name}-*"):
        leftover.unlink()
    done = subprocess.run(
        [sys.executable, "-m", "fontanel.cli", "serve", "--data", str(data), "--port", "0"],
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert done.returncode == 1
    assert "Traceback" not in done.stderr
    assert "cannot be read" in done.stderr


def test_logs_name_no_documents_tags_or_questions(tmp_path: Path) -> None:
    """Also not in what is written when something fails inside the service."""
    running = Service(tmp_path / "data").start()
    team = new_team(running)
    kb = team.client.create_kb("Wage lists of the pilots").slug
    team.client.add_document(kb, STORM, "wages-of-4711.md", {"captain": "Okonjo-Varda"}, wait=True)
    team.client.ask(kb, "What does Okonjo-Varda earn?")
    # A blob that is gone is nothing that anybody foresaw.
    for blob in (running.data / "blobs").glob("*/*"):
        blob.unlink()
    url = f"{running.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents/wages-of-4711.md/text"
    assert patient.get(url, headers={"Authorization": f"Bearer {team.key}"}).status_code == 500
    running.stop()
    log = running.log()
    assert "FileNotFoundError" in log
    for word in ("wages-of-4711", "Okonjo", "Wage lists", "earn?"):
        assert word not in log


def test_somebody_is_told_when_it_runs_as_root(service: Service) -> None:
    import os

    assert ("running as root" in service.log()) == (os.geteuid() == 0)


def test_served_over_https_browsers_are_told_to_stay_there(tmp_path: Path) -> None:
    running = Service(tmp_path / "data", {"FONTANEL_SECURE_COOKIE": "true"}).start()
    try:
        assert "max-age" in patient.get(running.url).headers["strict-transport-security"]
    finally:
        running.stop()


def test_what_a_trusted_proxy_says_is_believed(tmp_path: Path) -> None:
    running = Service(tmp_path / "data", {"FONTANEL_TRUSTED_PROXIES": "127.0.0.1"}).start()
    try:
        with patient.Client(
            base_url=f"{running.url}/api/v1", headers={"X-Fontanel-Console": "1"}
        ) as http:
            body = {"email": "operator@localhost", "password": running.password}
            http.post("/session", json=body, headers={"X-Forwarded-For": "198.51.100.9"})
            rows = http.get("/session/sign-ins").json()["items"]
            assert rows[0]["address"] == "198.51.100.9"
    finally:
        running.stop()
