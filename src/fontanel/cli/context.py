"""The context of a command: the service, the caller, and how to print."""

from __future__ import annotations

import argparse
import getpass
import json
import os
import sys
import tomllib
from collections.abc import Iterable, Sequence
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import Any

from pydantic import BaseModel
from rich.console import Console
from rich.table import Table

from fontanel.client import Client, FontanelError


class UsageProblem(Exception):
    """The command line asks for something impossible; the message says what to write."""


def profile_path() -> Path:
    """The file that keeps address, key, team and knowledge base between commands."""
    named = os.environ.get("FONTANEL_PROFILE")
    base = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")
    return Path(named) if named else base / "fontanel" / "profile.toml"


def read_profile() -> dict[str, str]:
    path = profile_path()
    if not path.is_file():
        return {}
    try:
        loaded = tomllib.loads(path.read_text())
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageProblem(f"{path} is not valid TOML ({error}). Mend it or remove it.") from error
    return {key: str(value) for key, value in loaded.items()}


def write_profile(values: dict[str, str]) -> Path:
    path = profile_path()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.touch(mode=0o600)
    path.chmod(0o600)
    path.write_text("".join(f"{key} = {json.dumps(value)}\n" for key, value in values.items()))
    return path


class Context:
    """Settings come from the command line, else the environment, else the profile."""

    def __init__(self, options: argparse.Namespace) -> None:
        self._options = options
        self.json: bool = getattr(options, "json", False)
        # A pipe has no width: what another program reads must not be cut.
        self.out = Console(highlight=False, width=None if sys.stdout.isatty() else 500)
        self.err = Console(stderr=True, highlight=False)
        self._client: Client | None = None
        self._signed_in = False

    def __enter__(self) -> Context:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._client is not None:
            if self._signed_in:
                # A sign-in lasts for hours; a command needs it for a moment.
                with suppress(FontanelError):
                    self._client.sign_out()
            self._client.close()

    @cached_property
    def _profile(self) -> dict[str, str]:
        return read_profile()

    def setting(self, name: str) -> str | None:
        values: str | None = getattr(self._options, name, None)
        return values or os.environ.get(f"FONTANEL_{name.upper()}") or self._profile.get(name)

    def passed(self, name: str) -> bool:
        """Return whether an option was passed on the command line."""
        return bool(getattr(self._options, name, None))

    @property
    def url(self) -> str:
        return self.setting("url") or f"http://127.0.0.1:{os.environ.get('FONTANEL_PORT', '8460')}"

    def anonymous(self) -> Client:
        """Return a client without a key, for what a one-time link opens."""
        if self._client is None:
            self._client = Client(self.url)
        return self._client

    @property
    def client(self) -> Client:
        if self._client is None:
            url = self.url
            email = getattr(self._options, "email", None)
            key = None if email else self.setting("key")
            if not key and not email:
                raise UsageProblem(
                    "No key. Give --key, set FONTANEL_KEY, or run 'fontanel sign-in'."
                )
            self._client = Client(url, key=key, team=self.setting("team"))
            if email:
                self._client.sign_in(email, self._password(email))
                self._signed_in = True
        if self.setting("team") is None:
            teams = self._client.session().teams
            if len(teams) == 1:
                self._client.use_team(teams[0].slug)
        return self._client

    def _password(self, email: str) -> str:
        values = os.environ.get("FONTANEL_PASSWORD")
        if values:
            return values
        if not sys.stdin.isatty():
            raise UsageProblem("There is nobody to ask for the password. Set FONTANEL_PASSWORD.")
        return getpass.getpass(f"Password of {email}: ")

    def kb(self) -> str:
        """The knowledge base that is meant: --kb, the setting, or the only one there is."""
        named = self.setting("kb")
        if named:
            return named
        kbs = [kb for kb in self.client.list_kbs() if kb.expires_at is None]
        if len(kbs) == 1:
            return kbs[0].slug
        names = (
            ", ".join(kb.slug for kb in kbs) or "none yet; make one with 'fontanel kb create NAME'"
        )
        raise UsageProblem(f"Name the knowledge base with --kb. There are: {names}.")

    def confirm(self, question: str) -> bool:
        """Ask a person to confirm; without a terminal the answer is no."""
        if not sys.stdin.isatty():
            raise UsageProblem("There is nobody to ask. Pass --yes.")
        return input(f"{question} [y/N] ").strip().lower() in ("y", "yes")

    # Printing

    def show(self, data: BaseModel | Iterable[BaseModel], text: str | Table | None = None) -> None:
        """Print data as JSON for programs, or as text for people."""
        if self.json:
            print(to_json(data))
        elif text is not None:
            self.say(text)

    def say(self, *text: Any, **how: Any) -> None:
        """Print text for people; lines sent to a file or program have no trailing blanks."""
        if self.out.is_terminal:
            self.out.print(*text, **how)
            return
        with self.out.capture() as captured:
            self.out.print(*text, **how)
        print("\n".join(line.rstrip() for line in captured.get().split("\n")), end="")

    def table(self, rows: Iterable[Sequence[Any]], **columns: str) -> Table:
        """An aligned table; each column's name with "left" or "right"."""
        table = Table(box=None, pad_edge=False, header_style="bold")
        for name, side in columns.items():
            table.add_column(name.replace("_", " "), justify="right" if side == "right" else "left")
        for row in rows:
            table.add_row(*("-" if cell is None else str(cell) for cell in row))
        return table

    @property
    def lively(self) -> bool:
        """Whether a person watches: progress bars and colours make sense."""
        return not self.json and sys.stderr.isatty()


def new_password(prompt: str) -> str:
    """A password that is chosen now; asked for twice at a terminal."""
    if values := os.environ.get("FONTANEL_PASSWORD"):
        return values
    if not sys.stdin.isatty():
        raise UsageProblem("There is nobody to ask for a password. Set FONTANEL_PASSWORD.")
    password = getpass.getpass(prompt)
    if getpass.getpass("Once more: ") != password:
        raise UsageProblem("The two are not the same.")
    return password


def to_json(data: BaseModel | Iterable[BaseModel]) -> str:
    if isinstance(data, BaseModel):
        return data.model_dump_json(indent=2)
    return json.dumps([item.model_dump(mode="json") for item in data], indent=2, ensure_ascii=False)
