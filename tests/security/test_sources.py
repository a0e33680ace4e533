"""Sources stay within grants, protect credentials, and do not delay other teams."""

from __future__ import annotations

import http.server
import itertools
import os
import socket
import sqlite3
import subprocess
import threading
from collections.abc import Iterator
from contextlib import closing
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel import schemas as s
from fontanel.client import Client, Invalid, ProblemError
from fontanel.sources import KINDS, SettingsRefused, SourceLimits, SourceUnavailable
from fontanel.sources.network.reach import (
    AddressForbidden,
    ServerTooSlow,
    check_address,
    check_url,
    http_client,
    origin_of,
    resolve,
)
from tests.conftest import Service, TeamSetup, new_team, until
from tests.servers import LOOPBACK, WebServer, look, opened

# Addresses

#: Ways to write an address of this machine or of a private network.
PRIVATE = [
    "127.0.0.1",
    "127.1",
    "127.0.1",
    "0",
    "0.0.0.0",
    "0x7f.0.0.1",
    "0x7f000001",
    "0177.0.0.1",
    "017700000001",
    "2130706433",
    "127.0.0.1.",
    "localhost",
    "localhost.",
    "10.0.0.1",
    "10.1",
    "172.16.0.1",
    "192.168.1.1",
    "192.168.257",
    "169.254.169.254",
    "169.254.1.1",
    "100.64.0.1",
    "192.0.0.1",
    "192.0.2.1",
    "198.18.0.1",
    "198.51.100.1",
    "203.0.113.1",
    "224.0.0.1",
    "240.0.0.1",
    "255.255.255.255",
    "192.88.99.1",
    "[::1]",
    "[::]",
    "[0:0:0:0:0:0:0:1]",
    "[::127.0.0.1]",
    "[::7f00:1]",
    "[::ffff:127.0.0.1]",
    "[::ffff:7f00:1]",
    "[::ffff:0:127.0.0.1]",
    "[::ffff:0:7f00:1]",
    "[64:ff9b::127.0.0.1]",
    "[64:ff9b::7f00:1]",
    "[64:ff9b:1::7f00:1]",
    "[2002:7f00:1::]",
    "[2002:a00:1::1]",
    "[2001:0:7f00:1::]",
    "[2001::1]",
    "[fe80::1]",
    "[fe80::1%25lo]",
    "[fec0::1]",
    "[fc00::1]",
    "[fd00::1]",
    "[ff02::1]",
    "[ff0e::1]",
    "[5f00::1]",
    "[100::1]",
    "[2001:db8::1]",
    "[3fff::1]",
    "[4000::1]",
    "[2606:4700::5efe:10.0.0.1]",
    "[2606:4700::200:5efe:127.0.0.1]",
]


@pytest.mark.parametrize("host", PRIVATE)
def test_no_way_of_writing_a_private_address_gets_through(host: str) -> None:
    with pytest.raises((AddressForbidden, OSError, SettingsRefused)):
        resolve(check_url(f"http://{host}/", "url").host, 80, ())


@given(
    st.ip_addresses(v=4), st.sampled_from(["::ffff:{}", "::{}", "::ffff:0:{}", "64:ff9b::{}", "{}"])
)
def test_an_address_in_other_clothes_is_no_more_public_than_it_is(address: Any, form: str) -> None:
    written = ip_address(form.format(address))

    def public(one: Any) -> bool:
        try:
            check_address(one, "host", ())
        except AddressForbidden:
            return False
        return True

    assert public(address) or not public(written)


@pytest.mark.parametrize("address", ["9.9.9.9", "2606:4700:4700::1111", "2a00:1450::1"])
def test_public_addresses_are(address: str) -> None:
    check_address(ip_address(address), "host", ())


#: A setting that names a host, for every kind that has one.
NAMED: list[tuple[str, Any]] = [
    ("site", lambda host, port: {"start": [f"http://{host}:{port}/"]}),
    ("bucket", lambda host, port: {"endpoint": f"http://{host}:{port}", "bucket": "b"}),
    ("webdav", lambda host, port: {"url": f"http://{host}:{port}/"}),
    ("feed", lambda host, port: {"url": f"http://{host}:{port}/feed"}),
    ("git", lambda host, port: {"url": f"http://{host}:{port}/repo.git"}),
    (
        "sql",
        lambda host, port: {
            "host": host,
            "port": port,
            "database": "d",
            "query": "select 1 as a",
            "identity": ["a"],
            "text": ["a"],
        },
    ),
]


@pytest.fixture
def listener() -> Iterator[tuple[int, list[int]]]:
    """A port of this machine that counts who comes."""
    came: list[int] = []
    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(0.05)
        done = threading.Event()

        def count() -> None:
            while not done.is_set():
                try:
                    connection, _ = server.accept()
                except TimeoutError:
                    continue
                came.append(1)
                connection.close()

        thread = threading.Thread(target=count)
        thread.start()
        yield server.getsockname()[1], came
        done.set()
        thread.join()


@pytest.mark.parametrize(("kind", "settings"), NAMED, ids=[kind for kind, _ in NAMED])
@pytest.mark.parametrize(
    "host",
    ["127.0.0.1", "127.1", "0x7f.1", "2130706433", "localhost", "１２７.0.0.1", "LOCALHOST."],
)
def test_every_kind_refuses_addresses_that_are_not_granted(
    kind: str, settings: Any, host: str, listener: tuple[int, list[int]]
) -> None:
    port, came = listener
    limits = SourceLimits(seconds=2.0)
    result = KINDS[kind]
    with (
        pytest.raises((SourceUnavailable, SettingsRefused)),
        result.open(
            result.settings(**settings(host, port)), result.credentials(), limits
        ) as source,
    ):
        list(source.items(lambda _: None))
    assert came == []


@pytest.mark.parametrize(
    ("kind", "settings"),
    [n for n in NAMED if n[0] != "sql"],
    ids=[k for k, _ in NAMED if k != "sql"],
)
@pytest.mark.parametrize(
    "host",
    [
        "a..b",
        "." * 5,
        "x" * 64 + ".example",
        "xn--\ufffd",
        "xn--a-ecp.example\u3002",
        "a b",
        "-",
        "é" * 300,
    ],
)
def test_hosts_that_are_no_names_are_settings_that_are_refused(
    kind: str, settings: Any, host: str
) -> None:
    result = KINDS[kind]
    with (
        pytest.raises((SettingsRefused, ValueError, SourceUnavailable)),
        result.open(
            result.settings(**settings(host, 80)), result.credentials(), SourceLimits(seconds=1.0)
        ) as source,
    ):
        list(source.items(lambda _: None))


def test_bad_hosts_and_names_are_answered_with_the_field(team: TeamSetup, kb: str) -> None:
    wrong: list[tuple[str, dict[str, Any], dict[str, Any] | None]] = [
        ("site", {"start": ["http://a..b/"]}, None),
        ("site", {"start": [f"http://{'x' * 70}.example/"]}, None),
        ("webdav", {"url": "https://drive.skerrow.example/"}, {"token": "söcret"}),
        ("folder", {"path": "/" + "x" * 300}, None),
        ("folder", {"path": "/tmp\0"}, None),
        ("git", {"url": "https://git.skerrow.example/a.git", "paths": ["a\0b"]}, None),
        (
            "sql",
            {
                "system": "sqlite",
                "database": "/etc/x.db",
                "query": "select 1",
                "identity": ["a"],
                "text": ["a"],
            },
            None,
        ),
    ]
    for kind, settings, credentials in wrong:
        with pytest.raises(Invalid) as caught:
            team.client.check_source(
                kb, s.CheckIn(kind=kind, settings=settings, credentials=credentials)
            )
        assert (caught.value.problem.field or "").startswith(("settings", "credentials")), kind


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

        def folder(team: TeamSetup, name: str) -> s.TrialOut:
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


# Slow servers


@pytest.fixture
def dribbling() -> Iterator[int]:
    """A server that sends a byte at a time without end, within any timeout per read."""
    stop = threading.Event()

    def dribble(connection: socket.socket) -> None:
        with closing(connection):
            connection.recv(4096)
            head = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 1000000\r\n\r\n"
            try:
                for number in range(10_000_000):
                    connection.sendall(head[number : number + 1] or b"x")
                    if stop.wait(0.05):
                        return
            except OSError:
                return

    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(0.1)

        def accept() -> None:
            while not stop.is_set():
                try:
                    connection, _ = server.accept()
                except TimeoutError:
                    continue
                threading.Thread(target=dribble, args=(connection,), daemon=True).start()

        thread = threading.Thread(target=accept)
        thread.start()
        yield server.getsockname()[1]
        stop.set()
        thread.join()


def test_a_server_that_dribbles_is_given_up(dribbling: int) -> None:
    with (
        http_client(SourceLimits(networks=LOOPBACK, seconds=1.0)) as client,
        pytest.raises(ServerTooSlow),
    ):
        client.get(f"http://127.0.0.1:{dribbling}/")


def test_whoever_no_longer_wants_the_answer_is_let_go(dribbling: int) -> None:
    asked = iter([False] * 2 + [True] * 1000)
    limits = SourceLimits(networks=LOOPBACK, seconds=3000.0, stopping=lambda: next(asked))
    with http_client(limits) as client, pytest.raises(httpx.ReadError):
        client.get(f"http://127.0.0.1:{dribbling}/")


def test_a_slow_server_of_one_team_keeps_no_other_waiting(tmp_path: Path, dribbling: int) -> None:
    (tmp_path / "share").mkdir()
    (tmp_path / "share" / "x.md").write_text("# X\n\nText.")
    environment = {
        "FONTANEL_SOURCE_ROOTS": str(tmp_path),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8",
        "FONTANEL_SOURCE_SECONDS": "3000",
    }
    running = Service(tmp_path / "data", environment).start()
    try:
        slow, other = new_team(running), new_team(running)
        kb = slow.client.create_kb("Slow").slug
        sources = [
            slow.client.connect_source(
                kb,
                s.SourceIn(
                    name=f"S{n}",
                    kind="site",
                    settings={"start": [f"http://127.0.0.1:{dribbling}/{n}"]},
                ),
            )
            for n in range(10)
        ]
        until(
            lambda: (
                sum(source.recent[0].state == "running" for source in slow.client.list_sources(kb))
                == 2
            )
        )
        mine = other.client.create_kb("Mine").slug
        other.client.connect_source(
            mine,
            s.SourceIn(name="Share", kind="folder", settings={"path": str(tmp_path / "share")}),
        )
        until(lambda: other.client.show_kb(mine).documents == 1)
        assert (
            sum(source.recent[0].state == "running" for source in slow.client.list_sources(kb)) == 2
        )
        # A source that is deleted lets go of its server: the next ones run.
        first = {
            source.id
            for source in slow.client.list_sources(kb)
            if source.recent[0].state == "running"
        }
        for source_id in first:
            slow.client.disconnect_source(kb, source_id)
        until(
            lambda: (
                sum(source.recent[0].state == "running" for source in slow.client.list_sources(kb))
                == 2
            )
        )
        assert len(sources) == 10
    finally:
        running.stop()


def test_a_slow_receiver_keeps_no_other_waiting(
    tmp_path: Path, dribbling: int, web: WebServer
) -> None:
    environment = {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8", "FONTANEL_SOURCE_SECONDS": "3000"}
    running = Service(tmp_path / "data", environment).start()
    try:
        slow, other = new_team(running), new_team(running)
        for team, url in ((slow, f"http://127.0.0.1:{dribbling}/"), (other, f"{web.url}/events")):
            team.client.add_receiver(url)
            with running.operator() as operator:
                operator.use_team(team.slug)
                operator.make_key("announced", "reader", expires_in_days=1)
        until(
            lambda: (
                other.client.list_receivers()[0].failing
                or other.client.list_receivers()[0].last_sent_at
            )
        )
        assert slow.client.list_receivers()[0].waiting == 1
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

        def check(query: str) -> s.TrialOut:
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
            with pytest.raises(Invalid, match=r"too big|memory|300 MB"):
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


# Ways around


class _Redirecting(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(302)
        self.send_header("Location", self.server.target)  # type: ignore[attr-defined]
        self.send_header("Content-Length", "0")
        self.end_headers()

    do_PROPFIND = do_POST = do_GET  # noqa: N815

    def log_message(self, *_: object) -> None:
        pass


@pytest.mark.parametrize(
    ("kind", "settings"),
    [n for n in NAMED if n[0] != "sql"],
    ids=[k for k, _ in NAMED if k != "sql"],
)
def test_no_kind_is_led_to_an_address_that_is_not_granted(kind: str, settings: Any) -> None:
    came: list[str] = []

    class Noting(_Redirecting):
        def do_GET(self) -> None:
            came.append(self.path)
            super().do_GET()

        do_PROPFIND = do_POST = do_GET  # noqa: N815

    with (
        http.server.ThreadingHTTPServer(("127.0.0.2", 0), Noting) as hidden,
        http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Redirecting) as open_one,
    ):
        open_one.target = hidden.target = f"http://127.0.0.2:{hidden.server_port}/"  # type: ignore[attr-defined]
        for server in (hidden, open_one):
            threading.Thread(target=server.serve_forever, daemon=True).start()
        result = KINDS[kind]
        limits = SourceLimits(networks=(ip_network("127.0.0.1/32"),), seconds=2.0)
        with result.open(
            result.settings(**settings("127.0.0.1", open_one.server_port)),
            result.credentials(),
            limits,
        ) as source:
            try:
                list(source.items(lambda _: None))
            except SourceUnavailable:
                pass
            else:
                raise AssertionError("nothing could be taken")
        for server in (hidden, open_one):
            server.shutdown()
    assert came == []


@pytest.mark.parametrize(("kind", "settings"), NAMED, ids=[kind for kind, _ in NAMED])
def test_a_name_that_changes_its_address_gains_nothing(
    kind: str, settings: Any, listener: tuple[int, list[int]], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The name is public when it is looked up first, and private from then on."""
    port, came = listener
    answers = itertools.chain(["9.9.9.9"], itertools.repeat("127.0.0.1"))
    connected: list[str] = []

    def look_up(*_: object, **__: object) -> list[Any]:
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (next(answers), port))]

    def note(address: tuple[str, int], *arguments: Any, **named: Any) -> socket.socket:
        connected.append(address[0])
        raise (
            OSError("no way there from here")
            if address[0] == "9.9.9.9"
            else AssertionError(address)
        )

    monkeypatch.setattr(socket, "getaddrinfo", look_up)
    monkeypatch.setattr(socket, "create_connection", note)
    result = KINDS[kind]
    opening = (
        result.settings(**settings("rebind.skerrow.example", port)),
        result.credentials(),
        SourceLimits(seconds=1.0),
    )
    with result.open(*opening) as source, pytest.raises(SourceUnavailable):
        list(source.items(lambda _: None))
    assert came == []
    assert set(connected) <= {"9.9.9.9"}


def test_a_receiver_at_an_address_that_is_not_granted_gets_nothing(
    tmp_path: Path, listener: tuple[int, list[int]]
) -> None:
    port, came = listener
    running = Service(tmp_path / "data").start()
    try:
        team = new_team(running)
        for host in ("127.0.0.1", "localhost", "2130706433"):
            team.client.add_receiver(f"http://{host}:{port}/")
        with running.operator() as operator:
            operator.use_team(team.slug)
            operator.make_key("announced", "reader", expires_in_days=1)
        until(
            lambda: all(
                "private address" in (one.failing or "") for one in team.client.list_receivers()
            )
        )
        assert came == []
        for wrong in (
            "http://a..b/",
            f"http://{'x' * 70}.example/",
            "ftp://a.example/",
            "http://user:pw@a.example/",
        ):
            with pytest.raises(Invalid):
                team.client.add_receiver(wrong)
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
