"""The service behind nginx, with the example configurations that ship."""

from __future__ import annotations

import re
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import expect, sync_playwright

from tests import patient
from tests.conftest import ROOT, STORM, Service, TeamSetup, free_port, new_team, until
from tests.deploy.conftest import Certificate
from tests.end_to_end.conftest import FLAGS

NGINX = shutil.which("nginx") or "/usr/sbin/nginx"
AROUND = """
daemon off; pid {folder}/pid; error_log {folder}/error.log; worker_processes 1;
events {{}}
http {{
  access_log off; client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy;
  fastcgi_temp_path {folder}/f; uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;
  {inside}
}}
"""


@dataclass(frozen=True)
class Behind:
    """A service behind nginx, and its public address."""

    service: Service
    url: str
    certificate: Certificate

    def client(self, headers: dict[str, str] | None = None) -> httpx.Client:
        url, trusting = self.url, self.certificate.trusting
        return httpx.Client(
            base_url=url, verify=trusting, headers=headers, timeout=patient.PATIENCE
        )

    def team(self) -> TeamSetup:
        """Return a new team, made through the proxy: the cookie needs HTTPS."""
        return new_team(replace(self.service, url=self.url))


@pytest.fixture(autouse=True)
def trusted(certificate: Certificate, monkeypatch: pytest.MonkeyPatch) -> None:
    """Have clients trust the certificate of these tests."""
    monkeypatch.setenv("SSL_CERT_FILE", str(certificate.certificate))


@contextmanager
def nginx(folder: Path, inside: str) -> Iterator[None]:
    folder.mkdir()
    file = folder / "nginx.conf"
    file.write_text(AROUND.format(folder=folder, inside=inside))
    process = subprocess.Popen([NGINX, "-p", str(folder), "-c", str(file)])
    try:
        until((folder / "pid").exists)
        yield
    finally:
        process.terminate()
        process.wait(timeout=30)


def replaced(text: str, **values: str) -> str:
    for old, new in values.items():
        assert old in text
        text = text.replace(old, new)
    return text


@contextmanager
def served(
    folder: Path, certificate: Certificate, path: str, configured: str, port: int
) -> Iterator[Behind]:
    url = f"https://localhost:{port}{path}"
    environment = {
        "FONTANEL_PUBLIC_URL": url,
        "FONTANEL_TRUSTED_PROXIES": "127.0.0.1",
        "FONTANEL_SECURE_COOKIE": "true",
    }
    service = Service(folder / "data", environment)
    service.port = free_port()
    service.start()
    with nginx(folder / "nginx", configured.replace("127.0.0.1:8460", f"127.0.0.1:{service.port}")):
        try:
            yield Behind(service, url, certificate)
        finally:
            service.stop()


@pytest.fixture(scope="module")
def at_root(tmp_path_factory: pytest.TempPathFactory, certificate: Certificate) -> Iterator[Behind]:
    folder, port, plain = tmp_path_factory.mktemp("root"), free_port(), free_port()
    text = (ROOT / "deploy" / "nginx.conf").read_text()
    for old, new in (
        ("listen 443 ssl", f"listen {port} ssl"),
        ("listen 80", f"listen {plain}"),
        ("fontanel.example", "localhost"),
        ("/etc/ssl/fontanel/chain.pem", str(certificate.certificate)),
        ("/etc/ssl/fontanel/key.pem", str(certificate.key)),
    ):
        text = replaced(text, **{old: new})
    with served(folder, certificate, "", text, port) as behind:
        yield behind


@pytest.fixture(scope="module")
def at_path(tmp_path_factory: pytest.TempPathFactory, certificate: Certificate) -> Iterator[Behind]:
    folder, port = tmp_path_factory.mktemp("path"), free_port()
    text = (ROOT / "deploy" / "nginx-path.conf").read_text()
    server = (
        f"server {{ listen {port} ssl; server_name localhost;"
        f" ssl_certificate {certificate.certificate}; ssl_certificate_key {certificate.key};"
        f" location = / {{ return 200 'another application'; }} {text} }}"
    )
    with served(folder, certificate, "/fontanel", server, port) as behind:
        yield behind


@pytest.mark.parametrize("where", ["at_root", "at_path"])
def test_uploads_streams_and_addresses_pass_through(
    where: str, request: pytest.FixtureRequest
) -> None:
    behind: Behind = request.getfixturevalue(where)
    team = behind.team()
    kb = team.client.create_kb("Harbour rules").slug
    headers = {"Authorization": f"Bearer {team.key}", "X-Forwarded-For": "203.0.113.9"}
    api = f"{behind.url}/api/v1/teams/{team.slug}"
    with behind.client(headers=headers) as http:
        large = b"The tide turns at noon. " * 500_000
        added = http.post(f"{api}/kbs/{kb}/documents", files={"file": ("large.txt", large)})
        assert added.status_code == 202
        # A progress event arrives while the stream stays open, so that nothing buffers it.
        with http.stream("GET", f"{api}/kbs/{kb}/events") as stream:
            team.client.add_document(kb, STORM, "storm-plan.md")
            for line in stream.iter_lines():
                if "storm-plan.md" in line:
                    break
        invited = {"email": f"{where}@skerrow.example", "name": "Invited"}
        link = http.post(f"{api}/invitations", json=invited)
        assert link.json()["url"].startswith(f"{behind.url}/invitation#")
        # A change whose author claims another address is recorded with the real one.
        entry = team.client.list_audit().items[0]
        assert (entry.action, entry.address) == ("invitation.create", "127.0.0.1")
        assert "max-age" in link.headers["strict-transport-security"]


def test_plain_http_is_sent_to_https(at_root: Behind) -> None:
    text = (at_root.service.data.parent / "nginx" / "nginx.conf").read_text()
    [plain] = re.findall(r"listen (\d+);", text)
    reply = patient.get(f"http://127.0.0.1:{plain}/kbs", headers={"Host": "localhost"})
    assert (reply.status_code, reply.headers["location"]) == (301, "https://localhost/kbs")


@pytest.mark.parametrize("where", ["at_root", "at_path"])
def test_the_console_works_behind_a_proxy(where: str, request: pytest.FixtureRequest) -> None:
    behind: Behind = request.getfixturevalue(where)
    team = behind.team()
    kb = team.client.create_kb("Harbour rules").slug
    team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        page = browser.new_page(ignore_https_errors=True)
        page.set_default_timeout(60_000)
        failed: list[str] = []
        page.on("response", lambda one: failed.extend([one.url] if one.status == 404 else []))
        page.goto(f"{behind.url}/t/{team.slug}/kbs")
        page.wait_for_url(f"{behind.url}/sign-in?next=*")
        page.get_by_label("E-mail").fill(team.email)
        page.get_by_label("Password").fill(team.password)
        page.get_by_role("button", name="Sign in").click()
        page.wait_for_url(f"{behind.url}/t/{team.slug}/kbs")
        page.get_by_role("link", name="Harbour rules").first.click()
        page.get_by_role("link", name="Documents").first.click()
        page.get_by_role("link", name="Storm plan").first.click()
        expect(page.get_by_text("outer berth").first).to_be_visible()
        page.reload()
        expect(page.get_by_text("outer berth").first).to_be_visible()
        assert page.url.startswith(f"{behind.url}/t/{team.slug}/")
        cookie = next(one for one in page.context.cookies() if one["name"] == "fontanel_session")
        assert cookie["secure"]
        assert [url for url in failed if "/events" not in url] == []
        browser.close()
