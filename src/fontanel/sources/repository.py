"""A git repository: files of a branch, fetched with the git program."""

from __future__ import annotations

import hashlib
import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from threading import Lock

import httpx
from pydantic import Field

from fontanel.sources.folder import allowed_folder
from fontanel.sources.local_repository import take_over
from fontanel.sources.network.reach import MIN_RATE, AddressForbidden, check_url, origin_of, resolve
from fontanel.sources.network.requests import basic
from fontanel.sources.patterns import Patterns, chooser
from fontanel.sources.protocol import (
    Fetched,
    ItemFailed,
    Kind,
    Listed,
    PreviousItems,
    SettingsModel,
    SettingsRefused,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)

_SECONDS = 1800


class RepositorySettings(Patterns):
    url: str = Field(
        title="Address",
        min_length=1,
        max_length=2000,
        description=(
            "An https address, or an absolute path on the service's machine that the operator"
            " allows."
        ),
    )
    branch: str = Field(
        "",
        title="Branch or tag",
        max_length=200,
        description="Default: the repository's own.",
        pattern=r"^([\w.][\w./-]*)?$",
    )
    paths: list[str] = Field(
        [], title="Folders", max_length=50, description="Only files below these folders."
    )
    link: str = Field(
        "",
        title="Link to a file",
        max_length=500,
        description="Where people open a file: `{path}` and `{commit}` are filled in.",
    )


class RepositoryCredentials(SettingsModel):
    user: str | None = Field(None, title="User name")
    token: str | None = Field(None, title="Token or password")


class Repository(Source):
    """Files of a repository as items by path.

    The mark is the blob's hash, for renames.
    """

    def __init__(
        self, settings: RepositorySettings, credentials: RepositoryCredentials, around: SourceLimits
    ) -> None:
        self._settings = settings
        self._credentials = credentials
        self._around = around
        self._reason = chooser(settings)
        self._temporary: Path | None = None
        self._reading = Lock()
        self._reader: subprocess.Popen[bytes] | None = None
        self._commit = ""
        self._local: Path | None = None
        if settings.url.startswith("/"):
            self._local = allowed_folder(settings.url, around, "url")
        elif "://" not in settings.url:
            raise SettingsRefused("url", "Give an https address, or an absolute path.")
        else:
            check_url(settings.url, "url")

    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        self._fetch()
        self._commit = self._git("rev-parse", "FETCH_HEAD").strip()
        moment = float(self._git("log", "-1", "--format=%ct", "FETCH_HEAD").strip() or 0)
        requested = [path.strip("/") for path in self._settings.paths if path.strip("/")]
        listing = self._git(
            "ls-tree", "-r", "-l", "-z", "--full-tree", "FETCH_HEAD", "--", *requested
        )
        for entry in filter(None, listing.split("\0")):
            about, _, path = entry.partition("\t")
            mode, kind, blob, length = about.split()
            if not path.isprintable() or any(0xD800 <= ord(c) < 0xE000 for c in path):
                yield Skipped(path.encode(errors="replace").decode(), "its name is not in UTF-8")
            elif mode == "120000" or kind != "blob":
                yield Skipped(
                    path, "a link" if mode == "120000" else "a repository within the repository"
                )
            elif (reason := self._reason(path)) is not None:
                yield Skipped(path, reason)
            elif int(length) > self._around.max_bytes:
                yield Skipped(path, f"larger than {self._around.max_bytes // 1_000_000} MB")
            else:
                link = self._settings.link.replace("{path}", path).replace("{commit}", self._commit)
                yield Listed(path, blob, path, moment or None, int(length), blob, link)

    def fetch(self, item: Listed) -> Fetched:
        # One process returns all blobs; starting one per file would cost more than the files.
        with self._reading:
            reader = self._blobs()
            assert reader.stdin is not None
            assert reader.stdout is not None
            try:
                reader.stdin.write(item.mark.encode() + b"\n")
                reader.stdin.flush()
                head = reader.stdout.readline().split()
                if len(head) != 3:
                    raise ItemFailed(f"The repository has no content for {item.id}.")
                data = reader.stdout.read(int(head[2]))
                reader.stdout.read(1)
            except (OSError, ValueError) as error:
                raise SourceUnavailable("The git program ended.") from error
        return Fetched([data], tags={"commit": self._commit[:12]})

    def close(self) -> None:
        if self._reader is not None:
            self._reader.kill()
            self._reader.wait()
        if self._temporary is not None:
            shutil.rmtree(self._temporary, ignore_errors=True)

    def _blobs(self) -> subprocess.Popen[bytes]:
        if self._reader is None:
            self._reader = subprocess.Popen(
                ["git", "cat-file", "--batch"],
                cwd=self._directory(),
                env=self._environment(),
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )
        return self._reader

    def _directory(self) -> Path:
        """Return the bare repository that is kept between runs, to fetch only what is new."""
        if self._around.scratch is None:
            if self._temporary is None:
                self._temporary = Path(tempfile.mkdtemp(prefix="fontanel-git-"))
            base = self._temporary
        else:
            base = self._around.scratch
        directory = base / hashlib.sha256(self._settings.url.encode()).hexdigest()[:16]
        if not (directory / "HEAD").exists():
            directory.mkdir(parents=True, exist_ok=True)
            self._run(["git", "init", "--quiet", "--bare", "."], directory)
        return directory

    def _fetch(self) -> None:
        url = str(self._copy()) if self._local else str(self._address())
        reference = self._settings.branch or "HEAD"
        command = [
            *self._reach(),
            "fetch",
            "--quiet",
            "--depth=1",
            "--no-tags",
            "--force",
            "--",
            url,
            reference,
        ]
        self._git(*command)

    def _reach(self) -> list[str]:
        """Return options that make git use the checked address."""
        options = ["-c", "protocol.allow=never"]
        if self._local:
            return [*options, "-c", "protocol.file.allow=always"]
        url = self._address()
        host = url.raw_host.decode("ascii")
        port = url.port or (443 if url.scheme == "https" else 80)
        try:
            address = resolve(host, port, self._around.networks)
        except AddressForbidden as error:
            raise SourceUnavailable(str(error), again=False) from error
        except OSError as error:
            raise SourceUnavailable(f"There is no host {host}.") from error
        pinned = f"[{address}]" if ":" in address else address
        return [
            *options,
            "-c",
            f"protocol.{url.scheme}.allow=always",
            "-c",
            "http.followRedirects=false",
            "-c",
            f"http.curloptResolve={host}:{port}:{pinned}",
            "-c",
            "http.proxy=",
            "-c",
            f"http.lowSpeedLimit={MIN_RATE}",
            "-c",
            f"http.lowSpeedTime={max(1, int(self._around.seconds))}",
        ]

    def _address(self) -> httpx.URL:
        """Return the address for git, with its host in the resolved form."""
        url = check_url(self._settings.url, "url")
        host = url.raw_host.decode("ascii").lower().rstrip(".")
        return url.copy_with(host=host)

    def _copy(self) -> Path:
        assert self._local is not None
        copy = self._directory().with_suffix(".local")
        take_over(self._local, copy, self._around.stopping)
        return copy

    def _environment(self) -> dict[str, str]:
        environment = {
            "PATH": os.environ.get("PATH", ""),
            "HOME": "/nonexistent",
            "GIT_CONFIG_NOSYSTEM": "1",
            "GIT_TERMINAL_PROMPT": "0",
            "GIT_ASKPASS": "true",
            "LC_ALL": "C.UTF-8",
        }
        if self._credentials.token:
            # Through the environment: arguments can be read by others on the machine.
            environment |= {
                "GIT_CONFIG_COUNT": "1",
                "GIT_CONFIG_KEY_0": "http.extraHeader",
                "GIT_CONFIG_VALUE_0": (
                    "Authorization:"
                    f" {basic(self._credentials.user or 'token', self._credentials.token)}"
                ),
            }
        return environment

    def _git(self, *arguments: str) -> str:
        return self._run(["git", *arguments], self._directory())

    def _run(self, command: Sequence[str], directory: Path) -> str:
        try:
            process = subprocess.Popen(
                command,
                cwd=directory,
                env=self._environment(),
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                start_new_session=True,
            )
        except FileNotFoundError as error:
            raise SourceUnavailable(
                "The git program is not on the service's machine. Install it.", again=False
            ) from error
        until = time.monotonic() + _SECONDS
        while True:
            try:
                out, text = process.communicate(timeout=1.0)
                break
            except subprocess.TimeoutExpired:
                if self._around.stopping() or time.monotonic() > until:
                    # With the programs that it started: the one that fetches is another.
                    os.killpg(process.pid, signal.SIGKILL)
                    process.communicate()
                    raise SourceUnavailable("The repository did not answer in time.") from None
        if process.returncode:
            lines = text.decode(errors="replace").strip().splitlines()
            raise SourceUnavailable(f"git: {lines[-1] if lines else 'failed'}")
        return out.decode(errors="surrogateescape")


KIND = Kind(
    name="git",
    title="Git repository",
    description="Files of a branch of a git repository.",
    settings=RepositorySettings,
    credentials=RepositoryCredentials,
    open=Repository,
    destination=lambda s: s.url if s.url.startswith("/") else origin_of(s.url),
)
