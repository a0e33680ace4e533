"""The command line as a process, with a team's key."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import TeamSetup
from tests.processes import forked

Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def run(team: TeamSetup, tmp_path: Path) -> Run:
    """Run `fontanel` with the team's key, in an empty home."""
    base = {
        "PATH": os.environ["PATH"],
        "HOME": str(tmp_path),
        "FONTANEL_URL": team.service.url,
        "FONTANEL_KEY": team.key,
        "FONTANEL_TEAM": team.slug,
    }

    def call(*arguments: object, **environment: str) -> subprocess.CompletedProcess[str]:
        variables = {key: value for key, value in {**base, **environment}.items() if value}
        return forked.run(arguments, variables, tmp_path)

    return call
