"""Sources stay within grants, protect credentials, and do not delay other teams."""

from __future__ import annotations

import os
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from fontanel import schemas as s
from fontanel.client import Client, Invalid, ProblemError, ServiceFailed
from fontanel.sources import SettingsRefused, SourceUnavailable
from fontanel.sources.network.reach import (
    origin_of,
)
from tests.conftest import Service, TeamSetup, new_team
from tests.servers import look, opened

# Credentials


@pytest.mark.parametrize(
    ("kind", "before", "after", "credentials"),
    [
        (
            "webdav",
            {"url": "https://a.skerrow.example/x"},
            {"url": "https://b.skerrow.example/x"},
            {"token": "t"},
        ),
        (
            "webdav",
            {"url": "https://a.skerrow.example/x"},
            {"url": "http://a.skerrow.example/x"},
            {"token": "t"},
        ),
        (
            "webdav",
            {"url": "https://a.skerrow.example/x"},
            {"url": "https://a.skerrow.example:444/x"},
            {"token": "t"},
        ),
        (
            "bucket",
            {"endpoint": "https://a.skerrow.example", "bucket": "b"},
            {"endpoint": "https://b.skerrow.example", "bucket": "b"},
            {"access_key": "k", "secret_key": "s"},
        ),
        (
            "feed",
            {"url": "https://a.skerrow.example/"},
            {"url": "https://b.skerrow.example/"},
            {"user": "u", "password": "p"},
        ),
        (
            "git",
            {"url": "https://a.skerrow.example/r"},
            {"url": "https://b.skerrow.example/r"},
            {"token": "t"},
        ),
        (
            "sql",
            {
                "host": "a.skerrow.example",
                "database": "d",
                "query": "select 1",
                "identity": ["a"],
                "text": ["a"],
            },
            {
                "host": "b.skerrow.example",
                "database": "d",
                "query": "select 1",
                "identity": ["a"],
                "text": ["a"],
            },
            {"user": "u", "password": "p"},
        ),
    ],
)
def test_stored_credentials_go_nowhere_else(
    team: TeamSetup,
    kb: str,
    kind: str,
    before: dict[str, Any],
    after: dict[str, Any],
    credentials: dict[str, str],
) -> None:
    client = team.client
    source = client.connect_source(
        kb, s.SourceIn(name="Source", kind=kind, settings=before, credentials=credentials)
    )
    for act in (
        lambda: client.check_again(kb, source.id, s.SourceChange(settings=after)),
        lambda: client.change_source(kb, source.id, s.SourceChange(settings=after)),
    ):
        with pytest.raises(Invalid, match=r"credentials are for"):
            act()
    assert client.change_source(
        kb, source.id, s.SourceChange(settings=after, credentials=credentials)
    ).settings
    client.disconnect_source(kb, source.id)


def test_an_origin_is_written_in_one_way() -> None:
    assert (
        origin_of("HTTPS://A.example/x")
        == origin_of("https://a.example:443/y")
        == "https://a.example:443"
    )
    assert origin_of("http://a.example") != origin_of("https://a.example")


# Folders and repositories


def git(*command: str, cwd: Path) -> None:
    names = {
        "GIT_AUTHOR_NAME": "x",
        "GIT_AUTHOR_EMAIL": "x@x",
        "GIT_COMMITTER_NAME": "x",
        "GIT_COMMITTER_EMAIL": "x@x",
    }
    subprocess.run(
        ["git", *command], cwd=cwd, check=True, capture_output=True, env={**os.environ, **names}
    )


@pytest.fixture
def outside(tmp_path: Path) -> tuple[Path, Path]:
    """A repository outside, and an allowed folder."""
    secret, allowed = tmp_path / "outside", tmp_path / "allowed"
    secret.mkdir()
    allowed.mkdir()
    git("init", "-q", cwd=secret)
    (secret / "wages.md").write_text("The pilot earns 4,711.")
    git("add", ".", cwd=secret)
    git("commit", "-qm", "wages", cwd=secret)
    return secret, allowed


@pytest.mark.parametrize(
    "way", ["gitfile", "git link", "objects link", "alternates", "whole link", "commondir"]
)
def test_a_repository_leads_nowhere_else(outside: tuple[Path, Path], way: str) -> None:
    secret, allowed = outside
    repository = allowed / "repository"
    head = subprocess.check_output(["git", "rev-parse", "HEAD"], cwd=secret, text=True)
    if way == "whole link":
        repository.symlink_to(secret)
    else:
        repository.mkdir()
        if way == "gitfile":
            (repository / ".git").write_text(f"gitdir: {secret}/.git\n")
        elif way == "git link":
            (repository / ".git").symlink_to(secret / ".git")
        else:
            git("init", "-q", "--bare", ".", cwd=repository)
            (repository / "refs" / "heads" / "master").write_text(head)
            (repository / "HEAD").write_text("ref: refs/heads/master\n")
            if way == "objects link":
                subprocess.run(["rm", "-r", "objects"], cwd=repository, check=True)
                (repository / "objects").symlink_to(secret / ".git" / "objects")
            elif way == "alternates":
                (repository / "objects" / "info" / "alternates").write_text(
                    f"{secret}/.git/objects\n"
                )
            else:
                (repository / "commondir").write_text(f"{secret}/.git\n")
    with (
        pytest.raises((SourceUnavailable, SettingsRefused)),
        opened("git", {"url": str(repository)}, roots=(allowed,)) as source,
    ):
        look(source)


def test_a_folder_that_is_not_a_repository_says_so(tmp_path: Path) -> None:
    with (
        opened("git", {"url": str(tmp_path)}, roots=(tmp_path,)) as source,
        pytest.raises(SourceUnavailable, match="not a git repository"),
    ):
        look(source)


def test_a_repository_s_own_content_is_read_again_and_again(
    outside: tuple[Path, Path], tmp_path: Path
) -> None:
    secret, _ = outside
    scratch = tmp_path / "scratch"
    with opened("git", {"url": str(secret)}, roots=(secret,), scratch=scratch) as source:
        assert list(look(source).items) == ["wages.md"]
    (secret / "more.md").write_text("More.")
    git("add", ".", cwd=secret)
    git("commit", "-qm", "more", cwd=secret)
    git("gc", "-q", cwd=secret)
    with opened("git", {"url": str(secret)}, roots=(secret,), scratch=scratch) as source:
        assert sorted(look(source).items) == ["more.md", "wages.md"]


def test_a_file_that_became_a_link_on_the_way_is_not_read(tmp_path: Path) -> None:
    (tmp_path / "secret").mkdir()
    (tmp_path / "secret" / "a.md").write_text("secret")
    folder = tmp_path / "share" / "below"
    folder.mkdir(parents=True)
    (folder / "a.md").write_text("mine")
    with opened("folder", {"path": str(tmp_path / "share")}, roots=(tmp_path / "share",)) as source:
        item = look(source).items["below/a.md"]
        (folder / "a.md").unlink()
        folder.rmdir()
        folder.symlink_to(tmp_path / "secret")
        with pytest.raises(Exception, match=r"leads out"):
            source.fetch(item)


def test_teams_read_what_they_are_granted(tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / "shares" / name).mkdir(parents=True)
        (tmp_path / "shares" / name / "x.md").write_text("# X\n\nText.")
    environment = {
        "FONTANEL_SOURCE_ROOTS": str(tmp_path / "shares"),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8",
    }
    running = Service(tmp_path / "data", environment).start()
    try:
        one, other = new_team(running), new_team(running)

        def folder(team: TeamSetup, name: str) -> s.SourceCheck:
            kbs = team.client.list_kbs()
            kb = kbs[0].slug if kbs else team.client.create_kb("X").slug
            path = str(tmp_path / "shares" / name)
            return team.client.check_source(kb, s.CheckIn(kind="folder", settings={"path": path}))

        with running.operator() as operator:
            for wrong in (["/etc"], ["shares"], [str(tmp_path)]):
                with pytest.raises(Invalid, match=r"FONTANEL_SOURCE_ROOTS"):
                    operator.set_grants(one.slug, wrong, [])
            for network in ("10.0.0.0/8", "0.0.0.0/0", "no network"):
                with pytest.raises(Invalid, match=r"network|NETWORKS"):
                    operator.set_grants(one.slug, [], [network])
            operator.set_grants(one.slug, [str(tmp_path / "shares" / "a")], [])
            fresh = operator.create_team("Fresh")
            assert (fresh.source_folders, fresh.source_networks) == ([], [])
        assert folder(one, "a").taken == 1
        with pytest.raises(Invalid, match=r"not below a folder"):
            folder(one, "b")
        assert folder(other, "b").taken == 1
        kb = one.client.list_kbs()[0].slug
        with pytest.raises(ProblemError, match=r"does not allow|private"):
            one.client.check_source(
                kb, s.CheckIn(kind="site", settings={"start": ["http://127.0.0.1:9/"]})
            )
        with one.client as owner, pytest.raises(ProblemError):
            owner.set_grants(one.slug, None, None)
    finally:
        running.stop()


# Databases


def test_a_cell_without_end_harms_its_own_source_only(tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "x.db")) as db:
        db.execute("create table t (a, b)")
        db.execute("insert into t values (1, 'fine')")
        db.commit()
    running = Service(tmp_path / "data", {"FONTANEL_SOURCE_ROOTS": str(tmp_path)}).start()
    try:
        client: Client = new_team(running).client
        kb = client.create_kb("Rows").slug

        def check(query: str) -> s.SourceCheck:
            settings = {
                "system": "sqlite",
                "database": str(tmp_path / "x.db"),
                "query": query,
                "identity": ["a"],
                "text": ["b"],
            }
            return client.check_source(kb, s.CheckIn(kind="sql", settings=settings))

        assert check("select a, b from t").taken == 1
        for query in (
            "select 1 as a, zeroblob(900000000) as b",
            "select 1 as a, hex(zeroblob(400000000)) as b",
            (
                "with recursive n(a) as (select 1 union all select a + 1 from n) select a,"
                " hex(zeroblob(9000000)) as b from n limit 400"
            ),
        ):
            # A slow machine reaches the limit of time before that of memory.
            with pytest.raises((Invalid, ServiceFailed), match=r"too big|memory|300 MB|20 seconds"):
                check(query)
        assert check("select a, b from t").taken == 1
        assert running.process is not None
        peak = Path(f"/proc/{running.process.pid}/status").read_text()
        assert (
            int(next(line for line in peak.splitlines() if line.startswith("VmHWM")).split()[1])
            < 700_000
        )
    finally:
        running.stop()


def test_a_model_s_secret_goes_nowhere_else(service: Service) -> None:
    with service.operator() as operator:
        model = operator.create_model(
            s.ModelIn(name="bound", url="https://a.skerrow.example/v1", secret="hidden")
        )
        for url in (
            "https://b.skerrow.example/v1",
            "http://a.skerrow.example/v1",
            "https://a.skerrow.example:444/v1",
        ):
            with pytest.raises(Invalid, match="secret is for"):
                operator.change_model(model.name, s.ModelChange(url=url))
        operator.change_model(model.name, s.ModelChange(url="https://a.skerrow.example/v2"))
        operator.change_model(
            model.name, s.ModelChange(url="https://b.skerrow.example/v1", secret="another")
        )
        operator.delete_model(model.name)
