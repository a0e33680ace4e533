"""Sources, receivers and models reach granted addresses only."""

from __future__ import annotations

import http.server
import itertools
import socket
import threading
from collections.abc import Iterator
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fontanel import schemas as s
from fontanel.client import Invalid
from fontanel.sources import KINDS, SettingsRefused, SourceLimits, SourceUnavailable
from fontanel.sources.network.reach import (
    AddressForbidden,
    check_address,
    check_url,
    resolve,
)
from tests.conftest import Service, TeamSetup, new_team, until

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
