"""Examinations of a service: what is wrong is found, and what to do is said."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
import zipfile
from contextlib import closing
from pathlib import Path

import pytest
from cryptography.fernet import Fernet

from fontanel.client import NotAllowed
from tests.conftest import EMBEDDER, EVIDENCE, STORM, Service, TeamSetup, new_team
from tests.processes import forked

SECRET = "a secret of the metrics"


@pytest.fixture(scope="module")
def stopped(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data directory with a document and a receiver, of a service that is stopped."""
    folder = tmp_path_factory.mktemp("examined")
    environment = {"FONTANEL_METRICS_TOKEN": SECRET}
    service = Service(folder / "data", environment).start()
    team = new_team(service)
    team.client.create_kb("Harbour rules")
    team.client.add_document("harbour-rules", STORM, "storm-plan.md", wait=True)
    team.client.add_receiver("https://ops.skerrow.example/events")
    with service.operator() as operator:
        states = {one.check: one.state for one in operator.examine()}
        bundle = operator.support_bundle().model_dump_json()
    for check in ("database", "segments", "documents", "secrets", "embedder", "clock", "disk"):
        assert states[check] == "ok", check
    for private in (SECRET, "Outer berth", "storm-plan", team.key, team.email):
        assert private not in bundle
    service.stop()
    return folder / "data"


@pytest.fixture
def data(stopped: Path, tmp_path: Path) -> Path:
    """A copy of it, to damage."""
    return Path(shutil.copytree(stopped, tmp_path / "data"))


def doctor(data: Path, *arguments: object) -> subprocess.CompletedProcess[str]:
    models = {"FONTANEL_EMBEDDER": str(EMBEDDER), "FONTANEL_EVIDENCE": str(EVIDENCE)}
    environment = {**os.environ, **models, "COLUMNS": "500"}
    return forked.run(["doctor", "--data", data, *arguments], environment, data)


def test_a_healthy_directory_has_no_problem(data: Path) -> None:
    result = doctor(data)
    assert result.returncode == 0, result.stdout
    assert "All 1 stored credentials can be read" in result.stdout
    assert "None are taken" in result.stdout


def test_damage_is_found(data: Path) -> None:
    for folder in ("blobs", "editions"):
        file = next(
            path
            for path in (data / folder).rglob("*")
            if path.is_file() and "incoming" not in path.parts
        )
        file.unlink()
    (data / "secret.key").write_bytes(Fernet.generate_key())
    data.chmod(0o755)
    with closing(sqlite3.connect(data / "fontanel.db")) as records:
        records.execute("UPDATE revisions SET created_at = '2099-01-01 00:00:00.000000'")
        records.commit()
    with (data / "vectors").open("r+b") as vectors:
        vectors.seek(4096)
        vectors.write(b"\xff" * 4096)
    result = doctor(data, "--json")
    assert result.returncode == 1
    listed = json.loads(result.stdout)
    texts = [one["text"] for one in listed if one["state"] != "ok"]
    for expected in (
        "1 of 2 files of documents are missing",
        "index files are missing",
        "were encrypted with another key",
        "can be read by others",
        "from the future",
        "vectors is damaged",
    ):
        assert any(expected in text for text in texts), expected
    assert all(one["advice"] for one in listed if one["state"] != "ok")


def test_a_missing_embedder_is_found(data: Path, tmp_path: Path) -> None:
    environment = {**os.environ, "FONTANEL_EMBEDDER": str(tmp_path), "FONTANEL_EVIDENCE": ""}
    result = forked.run(["doctor", "--data", data, "--json"], environment, tmp_path)
    listed = [one for one in json.loads(result.stdout) if one["check"] == "embedder"]
    assert listed[0]["state"] == "problem"
    assert "fontanel embedder prepare" in listed[0]["advice"]


def test_a_bundle_is_written_once(data: Path, tmp_path: Path) -> None:
    path = tmp_path / "bundle.zip"
    assert doctor(data, "--bundle", path).returncode == 0
    with zipfile.ZipFile(path) as archive:
        assert set(archive.namelist()) == {
            "findings.json",
            "settings.json",
            "versions.json",
            "rows.json",
        }
        assert json.loads(archive.read("rows.json"))["documents"] == 1
        assert "fontanel" in json.loads(archive.read("versions.json"))
    assert "exists" in doctor(data, "--bundle", path).stderr


def test_a_directory_in_use_and_a_wrong_one_are_refused(data: Path, tmp_path: Path) -> None:
    service = Service(data).start()
    refused = doctor(data)
    service.stop()
    assert "Another process uses" in refused.stderr
    assert "is not a data directory" in doctor(tmp_path).stderr


def test_examinations_are_for_operators(team: TeamSetup) -> None:
    for call in (team.client.examine, team.client.support_bundle):
        with pytest.raises(NotAllowed):
            call()
