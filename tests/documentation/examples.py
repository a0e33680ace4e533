"""The code blocks of a Markdown page, and running them as a reader would."""

from __future__ import annotations

import os
import re
import socket
import subprocess
import sys
import textwrap
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from fontanel import schemas
from fontanel.client import Client
from tests.conftest import Service, TeamSetup, until
from tests.processes.forked import launcher

#: A comment before a block that is not run; the rest of it is the reason.
NOT_RUN = re.compile(r"<!-- not run: (.+) -->")
#: Ids and secrets that examples abbreviate, for instance `conv_...`.
_ABBREVIATED = re.compile(r"\b(fk|conv|turn|key)_\.\.\.")


@dataclass(frozen=True)
class Example:
    """A code block, the line of the page it begins at, and why it is not run, if it is not."""

    line: int
    kind: Literal["shell", "python", "other"]
    text: str
    not_run: str | None


def examples_of(page: Path) -> list[Example]:
    """Return the indented and fenced code blocks of a page."""
    lines = page.read_text().splitlines()
    found = []
    at = 0
    while at < len(lines):
        start = at
        if lines[at].startswith("```"):
            at = next(n for n in range(at + 1, len(lines)) if lines[n].startswith("```"))
            text = "\n".join(lines[start + 1 : at])
        elif lines[at].startswith("    ") and (at == 0 or not lines[at - 1].strip()):
            while at + 1 < len(lines) and (lines[at + 1].startswith("    ") or not lines[at + 1]):
                at += 1
            text = textwrap.dedent("\n".join(lines[start : at + 1])).strip()
        else:
            at += 1
            continue
        before = next((line for line in reversed(lines[:start]) if line.strip()), "")
        marked = NOT_RUN.fullmatch(before.strip())
        found.append(Example(start + 1, _kind(text), text, marked.group(1) if marked else None))
        at += 1
    return found


def _kind(text: str) -> Literal["shell", "python", "other"]:
    if re.search(r"^(?:fontanel|make|export|\.venv/bin/\w+) ", text, re.M):
        return "shell"
    return (
        "python" if re.search(r"^(?:from|import|with|print\(|\w+ = |client\.)", text) else "other"
    )


@dataclass
class Reader:
    """Somebody who follows a page: a team's owner with a folder of files and an empty home."""

    service: Service
    team: TeamSetup
    folder: Path
    new_team: str = "Pilot Office"
    """The name of the team that a page creates."""
    begins: bool = False
    """Whether the page starts without a team or a key, and uses the team that it creates."""
    #: What to write instead of a placeholder that a page uses.
    instead: dict[str, str] = field(default_factory=dict)
    stack: ExitStack = field(default_factory=ExitStack)
    """What ends with the page: the servers that it starts."""
    _seen: dict[str, str] = field(default_factory=dict)

    def run(self, example: Example) -> str:
        """Run a block; return what it printed. Fails with the output of the line that failed."""
        if example.kind == "python":
            return self._python(self._filled(example.text))
        lines = example.text.replace("\\\n", " ").splitlines()
        return "".join(self._shell(self._filled(line)) for line in lines if line.strip())

    def _filled(self, text: str) -> str:
        text = text.replace("http://127.0.0.1:8460", self.service.url)
        text = text.replace("/srv/", f"{self.folder}/srv/")
        text = text.replace("Marine Operations", self.new_team)
        slug = self.new_team.lower().replace(" ", "-") if self.begins else self.team.slug
        text = text.replace("marine-operations", slug)
        for placeholder, value in self.instead.items():
            text = text.replace(placeholder, value)
        return _ABBREVIATED.sub(lambda match: self._seen.get(match.group(1), self.team.key), text)

    def _shell(self, line: str) -> str:
        if line.startswith("fontanel serve"):
            return ""  # it runs already, started by the same command
        if line.startswith("fontanel simulator"):
            self._begin(line)
            return ""
        done = subprocess.run(
            ["bash", "-euc", line],
            capture_output=True,
            text=True,
            cwd=self.folder,
            env=self.environment(),
            stdin=subprocess.DEVNULL,
            timeout=120,
        )
        assert done.returncode == 0, f"{line}\n{done.stdout}{done.stderr}"
        for kind, value in re.findall(r"\b((?:fk|conv|turn|key))(_\w+)", done.stdout):
            if " list" not in line or kind not in self._seen:
                self._seen[kind] = kind + value
        if link := re.search(r"https?://\S+/(?:invitation|password)\S*", done.stdout):
            self.instead["LINK"] = link.group()
        return done.stdout

    def _begin(self, line: str) -> None:
        """Start a server, and wait until it accepts connections."""
        port = int(re.search(r"--port (\d+)", line).group(1))  # type: ignore[union-attr]
        started = subprocess.Popen(
            ["bash", "-euc", f"exec {line}"],
            cwd=self.folder,
            env=self.environment(),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        self.stack.callback(started.wait)
        self.stack.callback(started.kill)

        def accepts() -> bool:
            with socket.socket() as probe:
                return probe.connect_ex(("127.0.0.1", port)) == 0

        until(accepts)

    def environment(self) -> dict[str, str]:
        """The variables of the reader's terminal."""
        variables = {
            "PATH": f"{launcher().parent}:{Path(sys.executable).parent}:{os.environ['PATH']}",
            "HOME": str(self.folder.parent / "home"),
            "LANG": "C.UTF-8",
            "FONTANEL_PASSWORD": self.service.password,
            "FONTANEL_URL": self.service.url,
            "FONTANEL_CREDENTIAL_SECRET_KEY": "made-up",
            "EDITOR": str(self.folder / "editor"),
        }
        if self.begins:
            return variables
        return variables | {
            "FONTANEL_KEY": self.team.key,
            "FONTANEL_TEAM": self.team.slug,
            "FONTANEL_KB": "harbour-rules",
        }

    def _python(self, text: str) -> str:
        printed: list[str] = []
        names: dict[str, Any] = {
            **vars(schemas),
            "Client": Client,
            "Path": lambda name: self.folder / name,
            "client": self.team.client,
            "kb": "harbour-rules",
            "url": self.service.url,
            "key": self.team.key,
            "print": lambda *values, **_: printed.append(" ".join(map(str, values))),
        }
        # As in the reader's terminal, commands are found that the example starts.
        before, os.environ["PATH"] = os.environ["PATH"], self.environment()["PATH"]
        try:
            exec(compile(text, "example", "exec"), names)
        finally:
            os.environ["PATH"] = before
        return "\n".join(printed)
