"""The simulated drive and site, used by an independent client."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import httpx
import pytest

from fontanel.simulators.drive import drive_app
from tests import patient
from tests.servers import content, look, opened, simulator

USER = ("varda", "tide-table")


@pytest.fixture
def drive(tmp_path: Path, serve: Callable[[Any], str]) -> Iterator[tuple[httpx.Client, Path]]:
    folder = tmp_path / "drive"
    (folder / "plans").mkdir(parents=True)
    (folder / "plans" / "storm & gale.md").write_text("# Storm\n")
    with patient.Client(base_url=serve(drive_app(folder, *USER)), auth=USER) as client:
        yield client, folder


def propfind(client: httpx.Client, path: str, depth: str) -> dict[str, dict[str, str]]:
    """What a folder lists: address to properties."""
    answer = client.request("PROPFIND", path, headers={"Depth": depth})
    assert answer.status_code == 207
    space = "{DAV:}"
    results = {}
    for response in ElementTree.fromstring(answer.content).iter(f"{space}response"):
        properties = {
            one.tag.removeprefix(space): one.text or ""
            for one in response.iter()
            if one.tag.startswith(f"{space}get")
        }
        properties["folder"] = str(any(True for _ in response.iter(f"{space}collection")))
        results[response.findtext(f"{space}href") or ""] = properties
    return results


def test_a_drive_asks_who_one_is(drive: tuple[httpx.Client, Path]) -> None:
    client, _ = drive
    for who in (None, ("varda", "guess"), ("nobody", "tide-table")):
        answer = patient.get(f"{client.base_url}/plans/", auth=who)
        assert answer.status_code == 401
        assert answer.headers["www-authenticate"].startswith("Basic")
    allowed = client.options("/")
    assert allowed.headers["dav"] == "1"
    assert "PROPFIND" in allowed.headers["allow"]


def test_a_drive_lists_its_folders_level_by_level(drive: tuple[httpx.Client, Path]) -> None:
    client, _ = drive
    assert set(propfind(client, "/", "1")) == {"/", "/plans/"}
    listed = propfind(client, "/plans/", "1")
    assert set(listed) == {"/plans/", "/plans/storm%20%26%20gale.md"}
    file = listed["/plans/storm%20%26%20gale.md"]
    assert (file["folder"], file["getcontentlength"]) == ("False", "8")
    assert file["getlastmodified"].endswith("GMT")
    assert set(propfind(client, "/plans/", "0")) == {"/plans/"}
    assert client.request("PROPFIND", "/", headers={"Depth": "infinity"}).status_code == 403
    assert client.request("PROPFIND", "/nothing", headers={"Depth": "1"}).status_code == 404


def test_a_file_is_given_once_and_again_only_when_it_changed(
    drive: tuple[httpx.Client, Path],
) -> None:
    client, folder = drive
    first = client.get("/plans/storm & gale.md")
    assert (first.status_code, first.text) == (200, "# Storm\n")
    existing = {"If-None-Match": first.headers["etag"]}
    assert client.get("/plans/storm & gale.md", headers=existing).status_code == 304
    (folder / "plans" / "storm & gale.md").write_text("# Storm and gale\n")
    again = client.get("/plans/storm & gale.md", headers=existing)
    assert (again.status_code, again.text) == (200, "# Storm and gale\n")
    assert client.get("/plans/").status_code == 405


def test_files_and_folders_are_made_moved_and_deleted(drive: tuple[httpx.Client, Path]) -> None:
    client, folder = drive
    assert client.request("MKCOL", "/rules").status_code == 201
    assert client.request("MKCOL", "/rules").status_code == 405
    assert client.request("MKCOL", "/a/b/c").status_code == 409
    assert client.put("/rules/fees.md", content=b"# Fees\n").status_code == 201
    assert client.put("/rules/fees.md", content=b"# Dues\n").status_code == 204
    assert client.put("/nowhere/fees.md", content=b"x").status_code == 409
    assert client.put("/rules", content=b"x").status_code == 409
    to = {"Destination": f"{client.base_url}/plans/dues.md"}
    assert client.request("MOVE", "/rules/fees.md", headers=to).status_code == 201
    assert (folder / "plans" / "dues.md").read_text() == "# Dues\n"
    assert client.request("MOVE", "/plans/storm & gale.md", headers=to).status_code == 204
    lost = {"Destination": f"{client.base_url}/nowhere/dues.md"}
    assert client.request("MOVE", "/plans/dues.md", headers=lost).status_code == 409
    assert client.request("MOVE", "/plans/gone.md", headers=to).status_code == 404
    assert client.delete("/plans/dues.md").status_code == 204
    assert client.delete("/rules").status_code == 204
    assert client.delete("/rules").status_code == 404
    assert sorted(path.name for path in folder.rglob("*")) == ["plans"]


def test_nothing_outside_the_folder_is_reached(drive: tuple[httpx.Client, Path]) -> None:
    client, folder = drive
    (folder.parent / "secret.md").write_text("secret")
    (folder / "way out").symlink_to(folder.parent)
    for path in ("/%2e%2e/secret.md", "/plans/..%2f..%2fsecret.md", "/way out/secret.md"):
        assert client.get(path).status_code in (400, 404)
        assert client.delete(path).status_code in (400, 404)
    out = {"Destination": f"{client.base_url}/way%20out/taken.md"}
    assert client.request("MOVE", "/plans/storm & gale.md", headers=out).status_code == 409
    assert (folder.parent / "secret.md").read_text() == "secret"


@pytest.mark.parametrize(
    ("kind", "arguments", "settings", "credentials"),
    [
        (
            "webdav",
            ["drive", "--user", "varda", "--password", "tide-table"],
            {"url": "{url}/"},
            {"user": "varda", "password": "tide-table"},
        ),
        (
            "bucket",
            ["bucket"],
            {"endpoint": "{url}", "bucket": "plans"},
            {"access_key": "simulator", "secret_key": "simulator-secret"},
        ),
        ("site", ["site"], {"start": ["{url}/index.html"]}, None),
    ],
)
def test_each_is_started_from_the_command_line_and_read_as_a_source(
    tmp_path: Path,
    kind: str,
    arguments: list[str],
    settings: dict[str, Any],
    credentials: dict[str, str] | None,
) -> None:
    folder = tmp_path / "served"
    (folder / "plans").mkdir(parents=True)
    (folder / "plans" / "storm.md").write_text("# Storm\n")
    (folder / "index.html").write_text(
        '<html><body><h1>Plans</h1><a href="plans/storm.md">Storm</a></body></html>'
    )
    name, *rest = arguments
    with simulator(name, folder, *rest) as url:
        filled = json.loads(json.dumps(settings).replace("{url}", url))
        with opened(kind, filled, credentials) as source:
            result = look(source)
            storm = next(item for key, item in result.items.items() if key.endswith("storm.md"))
            assert content(source, storm) == b"# Storm\n"
