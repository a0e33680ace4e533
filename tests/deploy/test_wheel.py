"""The wheel that is installed elsewhere, and the unit that starts it."""

from __future__ import annotations

import os
import shutil
import signal
import site
import subprocess
import sys
from pathlib import Path

import pytest

from fontanel.client import Client
from tests import patient
from tests.conftest import ROOT, STORM, free_port


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The `fontanel` command of an environment in which the wheel is installed."""
    folder = tmp_path_factory.mktemp("wheel")
    source = folder / "source"
    source.mkdir()
    for name in ("pyproject.toml", "requirements.in", "README.md", "LICENSE"):
        shutil.copy(ROOT / name, source)
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("*.egg-info"))
    build = [sys.executable, "-m", "pip", "wheel", "--no-deps", "--no-build-isolation"]
    subprocess.run([*build, "--quiet", "--wheel-dir", str(folder), str(source)], check=True)
    [wheel] = folder.glob("fontanel-*.whl")
    subprocess.run([sys.executable, "-m", "venv", str(folder / "env")], check=True)
    python = folder / "env" / "bin" / "python"
    install = [str(python), "-m", "pip", "install", "--quiet", "--no-deps", "--no-index"]
    subprocess.run([*install, str(wheel)], check=True)
    # The packages that it depends on are those of this environment.
    [own] = (folder / "env").glob("lib/*/site-packages")
    (own / "others.pth").write_text("\n".join(site.getsitepackages()))
    return folder / "env" / "bin" / "fontanel"


def test_an_installed_wheel_serves_the_console_and_answers(installed: Path, tmp_path: Path) -> None:
    port = free_port()
    environment = {
        key: value for key, value in os.environ.items() if not key.startswith("FONTANEL_")
    }
    where = "import fontanel; print(fontanel.__file__)"
    python = installed.parent / "python"
    found = subprocess.run(
        [python, "-c", where], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert found.stdout.startswith(str(installed.parent.parent))
    process = subprocess.Popen(
        [installed, "serve", "--port", str(port)],
        cwd=tmp_path,
        env=environment,
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        assert process.stdout is not None
        lines = iter(process.stdout.readline, "")
        password = next(line for line in lines if "with the password" in line).split()[-1]
        next(line for line in lines if "listens on" in line)
        url = f"http://127.0.0.1:{port}"
        assert '<div id="root">' in patient.get(f"{url}/sign-in").text
        assert patient.get(f"{url}/mark.svg").is_success
        with Client(url) as operator:
            operator.sign_in("operator@localhost", password)
            operator.create_team("Harbour")
            operator.use_team("harbour")
            key = operator.make_key("first", "editor", expires_in_days=1).secret
        with Client(url, key, "harbour") as client:
            client.create_kb("Rules")
            # The models were built into the data directory at this first start.
            assert (
                client.add_document("rules", STORM, "storm.md", wait=True).document.state
                == "indexed"
            )
            answer = client.ask("rules", "What is the wind limit at the outer berth?")
            assert answer.outcome == "answered"
            assert answer.citations
    finally:
        process.terminate()
        assert process.wait(timeout=60) in (0, -signal.SIGTERM)


def test_the_unit_is_sound_and_hardened(tmp_path: Path) -> None:
    analyse = shutil.which("systemd-analyze")
    assert analyse is not None
    text = (ROOT / "deploy" / "fontanel.service").read_text()
    unit = tmp_path / "fontanel.service"
    unit.write_text(text.replace("/opt/fontanel/bin/fontanel", sys.executable))
    verified = subprocess.run([analyse, "verify", unit], capture_output=True, text=True)
    assert (verified.returncode, verified.stderr) == (0, "")
    rated = subprocess.run(
        [analyse, "security", "--offline=true", "--threshold=20", unit], capture_output=True
    )
    assert rated.returncode == 0, rated.stdout.decode()[-500:]
