"""Buckets, shares, repositories and feeds, on real servers or verified simulators."""

from __future__ import annotations

import os
import subprocess
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import boto3
import pytest
from botocore.exceptions import ClientError
from cheroot.wsgi import Server as WsgiServer
from wsgidav.wsgidav_app import WsgiDAVApp

from fontanel.simulators.bucket import bucket_app
from fontanel.simulators.drive import drive_app
from fontanel.sources import ItemFailed, SettingsRefused, SourceUnavailable
from tests.conftest import free_port
from tests.servers import Answer, WebServer, content, look, opened

KEY = {"access_key": "harbour", "secret_key": "a secret of the harbour"}


@pytest.fixture
def store(tmp_path: Path, serve: Callable[[Any], str]) -> tuple[str, Path]:
    folder = tmp_path / "store" / "manuals"
    folder.mkdir(parents=True)
    return serve(bucket_app(tmp_path / "store", KEY["access_key"], KEY["secret_key"])), folder


def client_of(url: str, **key: str) -> Any:
    names = {
        "aws_access_key_id": KEY["access_key"],
        "aws_secret_access_key": KEY["secret_key"],
        **key,
    }
    return boto3.client("s3", endpoint_url=url, region_name="us-east-1", **names)


def test_an_independent_client_speaks_with_the_stand_in(
    store: tuple[str, Path], tmp_path: Path
) -> None:
    url, folder = store
    client = client_of(url)
    client.put_object(Bucket="manuals", Key="winch/räum & co.md", Body=b"# Winch")
    assert (
        client.get_object(Bucket="manuals", Key="winch/räum & co.md")["Body"].read() == b"# Winch"
    )
    large = tmp_path / "large.bin"
    large.write_bytes(os.urandom(9_000_000))
    client.upload_file(str(large), "manuals", "large.bin")
    assert (folder / "large.bin").read_bytes() == large.read_bytes()
    for n in range(7):
        client.put_object(Bucket="manuals", Key=f"n/{n}.md", Body=b"x")
    pages = client.get_paginator("list_objects_v2").paginate(
        Bucket="manuals", Prefix="n/", PaginationConfig={"PageSize": 3}
    )
    assert [item["Key"] for page in pages for item in page["Contents"]] == [
        f"n/{n}.md" for n in range(7)
    ]
    groups = client.list_objects_v2(Bucket="manuals", Delimiter="/")["CommonPrefixes"]
    assert [group["Prefix"] for group in groups] == ["n/", "winch/"]
    client.delete_object(Bucket="manuals", Key="large.bin")
    with pytest.raises(ClientError, match=r"NoSuchKey|404"):
        client.get_object(Bucket="manuals", Key="large.bin")
    with pytest.raises(ClientError, match="SignatureDoesNotMatch"):
        client_of(url, aws_secret_access_key="another").list_objects_v2(Bucket="manuals")


def test_objects_of_a_bucket(store: tuple[str, Path]) -> None:
    url, folder = store
    for n in range(1005):
        (folder / f"{n:04}.md").write_text(f"# {n}")
    (folder / "below").mkdir()
    (folder / "below" / "räum & co (1).md").write_text("# Room")
    (folder / "film.mp4").write_text("x")
    settings = {"endpoint": url, "bucket": "manuals"}
    with opened("bucket", settings, KEY) as source:
        before = look(source)
        assert len(before.items) == 1006
        assert before.skipped == {"film.mp4": "a kind of file without text"}
        assert content(source, before.items["below/räum & co (1).md"]) == b"# Room"
    (folder / "0001.md").write_text("# changed")
    with opened("bucket", settings, KEY) as source:
        after = look(source)
        assert [k for k, item in after.items.items() if item.mark != before.items[k].mark] == [
            "0001.md"
        ]
    with opened("bucket", {**settings, "prefix": "below/"}, KEY) as source:
        assert [item.name for item in look(source).items.values()] == ["räum & co (1).md"]
    with (
        opened("bucket", settings, {**KEY, "secret_key": "wrong"}) as source,
        pytest.raises(SourceUnavailable, match="SignatureDoesNotMatch"),
    ):
        look(source)
    with (
        opened("bucket", {**settings, "bucket": "nothing"}, KEY) as source,
        pytest.raises(SourceUnavailable, match="NoSuchBucket"),
    ):
        look(source)
    with (
        opened("bucket", settings, KEY, networks=()) as source,
        pytest.raises(SourceUnavailable, match="private address"),
    ):
        look(source)


@pytest.fixture
def share(tmp_path: Path) -> Iterator[tuple[str, Path]]:
    """A real WebDAV server with a user."""
    folder = tmp_path / "share"
    folder.mkdir()
    port = free_port()
    app = WsgiDAVApp(
        {
            "provider_mapping": {"/drive": str(folder)},
            "simple_dc": {"user_mapping": {"*": {"varda": {"password": "tide-table"}}}},
            "http_authenticator": {
                "accept_basic": True,
                "accept_digest": False,
                "default_to_digest": False,
            },
            "verbose": 0,
            "logging": {"enable": False},
        }
    )
    server = WsgiServer(("127.0.0.1", port), app)
    server.prepare()
    threading.Thread(target=server.serve, daemon=True).start()
    yield f"http://127.0.0.1:{port}/drive", folder
    server.stop()


VARDA = {"user": "varda", "password": "tide-table"}


def fill(folder: Path) -> None:
    (folder / "Plans & more").mkdir()
    (folder / "Plans & more" / "störm plan.md").write_text("# Storm")
    (folder / "a.md").write_text("# A")
    (folder / ".trash").mkdir()
    (folder / ".trash" / "old.md").write_text("# Old")


def check_share(url: str, folder: Path, credentials: dict[str, str]) -> None:
    fill(folder)
    with opened("webdav", {"url": url}, credentials) as source:
        before = look(source)
        assert set(before.items) == {"a.md", "Plans & more/störm plan.md"}
        assert content(source, before.items["Plans & more/störm plan.md"]) == b"# Storm"
    (folder / "a.md").write_text("# A, changed")
    (folder / "Plans & more" / "störm plan.md").unlink()
    with opened("webdav", {"url": url}, credentials) as source:
        after = look(source)
        assert list(after.items) == ["a.md"]
        assert after.items["a.md"].mark != before.items["a.md"].mark
        with pytest.raises(ItemFailed, match="nothing there"):
            source.fetch(before.items["Plans & more/störm plan.md"])
    with (
        opened("webdav", {"url": url}, {**credentials, "password": "wrong"}) as source,
        pytest.raises(SourceUnavailable, match="other credentials"),
    ):
        look(source)


def test_files_of_a_share(share: tuple[str, Path]) -> None:
    check_share(*share, VARDA)
    with (
        opened("webdav", {"url": share[0] + "/nothing"}, VARDA) as source,
        pytest.raises(SourceUnavailable, match="nothing there"),
    ):
        look(source)


def test_files_of_the_stand_in_drive(tmp_path: Path, serve: Callable[[Any], str]) -> None:
    check_share(serve(drive_app(tmp_path, "varda", "tide-table")) + "/", tmp_path, VARDA)


def git(folder: Path, *arguments: str) -> None:
    who = [
        "-c",
        "user.name=Varda",
        "-c",
        "user.email=varda@skerrow.example",
        "-c",
        "init.defaultBranch=main",
    ]
    subprocess.run(["git", *who, *arguments], cwd=folder, check=True, capture_output=True)


def test_files_of_a_repository(tmp_path: Path) -> None:
    folder = tmp_path / "repository"
    (folder / "docs").mkdir(parents=True)
    git(folder, "init", "-q")
    (folder / "docs" / "a.md").write_text("# A")
    (folder / "docs" / "mütze.md").write_text("# Cap")
    (folder / "docs" / "link.md").symlink_to("/etc/passwd")
    (folder / "code.py").write_text("pass")
    git(folder, "add", ".")
    git(folder, "commit", "-qm", "first")
    settings = {
        "url": str(folder),
        "paths": ["docs"],
        "link": "https://code.example/{commit}/{path}",
    }
    around: dict[str, Any] = {"roots": (tmp_path,), "scratch": tmp_path / "scratch"}
    with opened("git", settings, **around) as source:
        before = look(source)
        assert set(before.items) == {"docs/a.md", "docs/mütze.md"}
        assert before.skipped == {"docs/link.md": "a link"}
        assert content(source, before.items["docs/mütze.md"]) == b"# Cap"
        assert before.items["docs/a.md"].link.endswith("/docs/a.md")
    git(folder, "mv", "docs/a.md", "docs/b.md")
    (folder / "docs" / "mütze.md").write_text("# Cap, mended")
    git(folder, "commit", "-qam", "second")
    with opened("git", settings, **around) as source:
        after = look(source)
        assert after.items["docs/b.md"].same_as == before.items["docs/a.md"].same_as
        assert content(source, after.items["docs/mütze.md"]) == b"# Cap, mended"
    with (
        opened("git", {**settings, "branch": "nothing"}, **around) as source,
        pytest.raises(SourceUnavailable, match="nothing"),
    ):
        look(source)
    for url in (
        str(tmp_path.parent),
        "ssh://git@host/x",
        "ext::sh -c id",
        "--upload-pack=id",
        "file:///etc",
    ):
        with pytest.raises(SettingsRefused):
            opened("git", {"url": url}, **around)
    with (
        opened("git", {"url": "http://127.0.0.1:9/x.git"}, networks=()) as source,
        pytest.raises(SourceUnavailable, match="private"),
    ):
        look(source)


ATOM = """<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom"><title>Notices</title>
<entry><id>urn:n:1</id><title>Buoy 4 &amp; 5</title><updated>2026-05-01T10:00:00Z</updated><author><name>Varda</name></author>
<link href="{url}/1"/><content type="html">&lt;p&gt;The light is &lt;b&gt;out&lt;/b&gt;.&lt;/p&gt;&lt;script&gt;x&lt;/script&gt;</content></entry>
<entry><title>Without</title></entry></feed>"""  # noqa: E501


def test_entries_of_a_feed(web: WebServer) -> None:
    web.pages["/feed"] = Answer(
        ATOM.replace("{url}", web.url).encode(), headers={"Content-Type": "application/atom+xml"}
    )
    web.page("/1", "<h1>The whole page</h1>")
    with opened("feed", {"url": web.url + "/feed"}) as source:
        result = look(source)
        page = content(source, result.items["urn:n:1"]).decode()
        assert "The light is <b>out</b>." in page
        assert "<script>" not in page
        assert source.fetch(result.items["urn:n:1"]).tags == {"author": "Varda"}
        assert (result.items["urn:n:1"].link, result.items["urn:n:1"].changed_at) == (
            web.url + "/1",
            1777629600.0,
        )
        assert list(result.skipped.values()) == ["has neither an id nor a link"]
        assert source.keeps_unlisted
    with opened("feed", {"url": web.url + "/feed", "whole_pages": True}) as source:
        assert content(source, look(source).items["urn:n:1"]) == b"<h1>The whole page</h1>"
    for body in (b"<html>no feed</html>", b"", b"\x00\x01"):
        web.pages["/feed"] = Answer(body)
        with opened("feed", {"url": web.url + "/feed"}) as source, pytest.raises(SourceUnavailable):
            look(source)
