"""Crawling a web site: what is followed, skipped and never requested."""

from __future__ import annotations

import gzip
import io
import threading
from dataclasses import replace
from ipaddress import ip_address, ip_network

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from fontanel.core.reading import read
from fontanel.sources import ItemFailed, SourceUnavailable
from fontanel.sources.links import normal_address, page_links
from fontanel.sources.network.reach import AddressForbidden, check_address
from tests.servers import Answer, Look, WebServer, content, look, opened


def crawl(web: WebServer, before: Look | None = None, **settings: object) -> Look:
    with opened("site", {"start": [web.url + "/"], "delay": 0, **settings}) as source:
        return look(source, before)


def paths(web: WebServer, found: Look) -> set[str]:
    return {address.removeprefix(web.url) for address in found.items}


def test_pages_files_and_what_is_left(web: WebServer) -> None:
    web.page(
        "/",
        '<a href="/a">A</a> <a href="b?utm_source=x&id=2#part">B</a> <a'
        ' href="https://elsewhere.example/">out</a><!-- <a href="/hidden">no</a> --><script>"<a'
        ' href=/scripted>"</script><a href="/guide.pdf">PDF</a><a href="/picture.png">P</a><a'
        ' href="/secret/x">S</a><a href="/ghost">G</a><a rel="nofollow" href="/unwanted">U</a>',
    )
    web.page(
        "/a", '<link rel="canonical" href="/alpha"><a href="/">home</a><a href="/deep/1">on</a>'
    )
    web.page("/b?id=2", "<meta name=robots content='noindex'><a href='/c'>C</a>")
    web.page("/c", "<title>C</title>", headers={"X-Robots-Tag": "noindex"})
    web.page("/deep/1", "<a href='/deep/2'>on</a>")
    web.page("/deep/2", "end")
    web.pages["/guide.pdf"] = Answer(b"%PDF-1.4", headers={"Content-Type": "application/pdf"})
    web.pages["/picture.png"] = Answer(b"x", headers={"Content-Type": "image/png"})
    web.pages["/robots.txt"] = Answer(b"User-agent: *\nDisallow: /secret/\n")
    result = crawl(web, depth=2)
    assert paths(web, result) == {"/", "/alpha", "/guide.pdf", "/deep/1"}
    reasons = {address.removeprefix(web.url): reason for address, reason in result.skipped.items()}
    assert reasons == {
        "/a": f"leads to {web.url}/alpha",
        "/b?id=2": "asks robots not to index it",
        "/c": "asks robots not to index it",
        "/picture.png": "a kind of file that is not read (image/png)",
        "/secret/x": "not allowed by robots.txt",
        "/ghost": "is not there (status 404)",
        "/deep/2": "more links deep than the limit",
    }
    assert not {"/hidden", "/scripted", "/unwanted", "/secret/x"} & set(web.statuses())
    assert result.items[web.url + "/"].name == "index.html"


def test_what_has_not_changed_is_not_fetched(web: WebServer) -> None:
    web.page("/", "<a href='/a'>A</a>", headers={"ETag": '"1"'})
    web.page("/a", "<a href='/b'>B</a>", headers={"ETag": '"2"'})
    web.page("/b", "without a tag")
    before = crawl(web)
    web.asked.clear()
    after = crawl(web, before)
    assert {path: status for path, status in web.asked if path in ("/", "/a", "/b")} == {
        "/": 304,
        "/a": 304,
        "/b": 200,
    }
    assert {key: item.mark for key, item in after.items.items()} == {
        key: item.mark for key, item in before.items.items()
    }


def picture(colour: str) -> Answer:
    target = io.BytesIO()
    Image.new("RGB", (320, 200), colour).save(target, "PNG")
    return Answer(target.getvalue(), headers={"Content-Type": "image/png"})


def test_pictures_are_stored_with_their_page(web: WebServer) -> None:
    shown = (
        '<img src="crane.png?utm_source=x"><img src="/red.png"><img src="/dot.png" width=1><img'
        ' src="/script.png"><img src="/secret.png"><img src="https://elsewhere.example/x.png"><img'
        ' src="/moved.png"><img src=""><img src="/ghost.png">'
    )
    web.page("/", f"<h1>Crane</h1>{shown}<a href=/a>A</a>", headers={"ETag": '"1"'})
    web.page("/a", '<base href="/deep/"><h1>A</h1><img src="../red.png"><img src="blue.png">')
    web.pages["/crane.png"] = web.pages["/crane.png?utm_source=x"] = picture("green")
    web.pages["/red.png"], web.pages["/deep/blue.png"] = picture("red"), picture("blue")
    web.pages["/dot.png"] = web.pages["/secret.png"] = picture("black")
    web.page("/script.png", "not a picture")
    web.pages["/moved.png"] = Answer(status=302, headers={"Location": "/red.png"})
    web.pages["/robots.txt"] = Answer(b"User-agent: *\nDisallow: /secret")
    plain = crawl(web)
    assert not {path for path in web.statuses() if path.endswith(".png")}
    # Another setting: what is known to be unchanged is stored again.
    web.asked.clear()
    result = crawl(web, plain, pictures=True)
    asked = [path for path, _ in web.asked if path.endswith(".png")]
    assert sorted(asked) == [
        "/crane.png",
        "/deep/blue.png",
        "/ghost.png",
        "/moved.png",
        "/red.png",
        "/red.png",
        "/script.png",
    ]
    source = opened("site", {"start": [web.url + "/"]})
    readings = {
        path: read(content(source, result.items[web.url + path]), "index.html")
        for path in ("/", "/a")
    }
    source.close()
    assert {path: len(one.pictures) for path, one in readings.items()} == {"/": 2, "/a": 2}
    assert result.items[web.url + "/"].mark != plain.items[web.url + "/"].mark
    web.asked.clear()
    again = crawl(web, result, pictures=True)
    assert again.items[web.url + "/"].mark == result.items[web.url + "/"].mark
    assert again.items[web.url + "/a"].mark == result.items[web.url + "/a"].mark
    assert web.statuses()["/"] == 304


def test_a_picture_that_is_not_available_is_asked_for_again(web: WebServer) -> None:
    web.page("/", '<h1>Crane</h1><img src="/red.png">', headers={"ETag": '"1"'})
    web.pages["/red.png"] = Answer(status=404)
    web.pages["/red.png"] = replace(picture("red"), times=20, first=500)
    first = crawl(web, pictures=True, start=[web.url + "/"])
    assert content_of(first, web) == web.pages["/"].body
    web.pages["/red.png"] = picture("red")
    second = crawl(web, first, pictures=True)
    assert web.pages["/red.png"].body[:20] not in content_of(second, web)
    assert b"multipart/related" in content_of(second, web)


def content_of(found: Look, web: WebServer) -> bytes:
    with opened("site", {"start": [web.url + "/"]}) as source:
        return content(source, found.items[web.url + "/"])


def test_redirects_and_loops(web: WebServer) -> None:
    web.page(
        "/",
        "<a href='/old'>1</a><a href='/ring'>2</a><a href='/away'>3</a><a href='/x/x/x/x/x/'>4</a>",
    )
    web.pages["/old"] = Answer(status=301, headers={"Location": "/new"})
    web.page("/new", "moved here")
    web.pages["/ring"] = Answer(status=302, headers={"Location": "/gnir"})
    web.pages["/gnir"] = Answer(status=302, headers={"Location": "/ring"})
    web.pages["/away"] = Answer(status=302, headers={"Location": "http://10.1.2.3/admin"})
    result = crawl(web)
    assert paths(web, result) == {"/", "/new"}
    assert result.skipped[web.url + "/ring"] == "leads in a circle"
    assert "of another site" in result.skipped[web.url + "/away"]
    assert result.skipped[web.url + "/x/x/x/x/x/"] == "an address that repeats itself"


def test_sitemaps_and_patterns(web: WebServer) -> None:
    web.page("/", "no links")
    for n in range(4):
        web.page(f"/docs/{n}", f"Page {n}")
    web.page("/blog/1", "Blog")
    web.pages["/robots.txt"] = Answer(f"Sitemap: {web.url}/maps.xml\nCrawl-delay: 0\n".encode())
    inner = (
        "".join(f"<url><loc>{web.url}/docs/{n}</loc></url>" for n in range(4))
        + f"<url><loc>{web.url}/blog/1</loc></url>"
    )
    space = 'xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"'
    web.pages["/maps.xml"] = Answer(
        f"<sitemapindex {space}><sitemap><loc>{web.url}/m.xml.gz</loc></sitemap></sitemapindex>".encode()  # noqa: E501
    )
    web.pages["/m.xml.gz"] = Answer(gzip.compress(f"<urlset {space}>{inner}</urlset>".encode()))
    assert paths(web, crawl(web, include=["docs/**"], exclude=["docs/3"])) == {
        "/",
        "/docs/0",
        "/docs/1",
        "/docs/2",
    }
    assert paths(web, crawl(web, sitemaps=False)) == {"/"}
    limited = crawl(web, max_pages=3)
    assert len(limited.items) == 3
    assert "more than 3 pages; the rest is left" in limited.skipped.values()


def test_a_busy_page_is_waited_for_and_a_broken_one_reported(web: WebServer) -> None:
    web.page("/", "<a href='/busy'>1</a><a href='/broken'>2</a>")
    web.page("/busy", "here after all", times=2, first=429, headers={"Retry-After": "0"})
    web.page("/broken", "<a href='/below'>x</a>", headers={"ETag": '"1"'})
    web.page("/below", "below")
    before = crawl(web)
    assert paths(web, before) == {"/", "/busy", "/broken", "/below"}
    web.pages["/broken"] = Answer(b"", 500, {"Retry-After": "0"})
    with opened("site", {"start": [web.url + "/"], "delay": 0}) as source:
        after = look(source, before)
        with pytest.raises(ItemFailed, match="answered with an error"):
            source.fetch(after.items[web.url + "/broken"])
    # What the broken page led to is still there: it was previous.
    assert paths(web, after) == {"/", "/busy", "/broken", "/below"}


def test_a_site_that_is_away_lists_nothing_as_gone(web: WebServer) -> None:
    web.page("/", "home")
    web.pages["/robots.txt"] = Answer(b"", 503, {"Retry-After": "0"})
    with pytest.raises(SourceUnavailable):
        crawl(web)
    web.pages["/robots.txt"] = Answer(b"User-agent: *\nDisallow: /")
    with opened("site", {"start": [web.url + "/"], "delay": 0}) as source:
        assert look(source).skipped or True
    web.pages.clear()
    web.pages["/"] = Answer(b"", 503, {"Retry-After": "0"})
    with pytest.raises(SourceUnavailable):
        crawl(web)


def test_a_slow_page_fails_alone(web: WebServer) -> None:
    release = threading.Event()
    web.page("/", "<a href='/slow'>1</a><a href='/quick'>2</a>")
    web.page("/quick", "quick")
    web.page("/slow", "slow", wait=release)
    with opened("site", {"start": [web.url + "/"], "delay": 0}, seconds=0.3) as source:
        result = look(source)
        with pytest.raises(ItemFailed, match="no answer in time"):
            source.fetch(result.items[web.url + "/slow"])
        assert content(source, result.items[web.url + "/quick"]) == b"quick"
    release.set()


def test_private_addresses_are_refused(web: WebServer) -> None:
    web.page("/", "home")
    with (
        opened("site", {"start": [web.url + "/"]}, networks=()) as source,
        pytest.raises(SourceUnavailable, match="private"),
    ):
        look(source)
    # One page that leads to a private host within what the site may be, after a redirect too.
    web.page("/", "<a href='http://127.0.0.2:9/x'>1</a><a href='/hop'>2</a>")
    web.pages["/hop"] = Answer(status=302, headers={"Location": "http://127.0.0.2:9/y"})
    settings = {"start": [web.url + "/"], "hosts": ["127.0.0.2:9"], "delay": 0}
    only = (ip_network("127.0.0.1/32"),)
    with opened("site", settings, networks=only) as source, pytest.raises(SourceUnavailable):
        look(source)


def test_a_name_that_changes_its_address_gains_nothing(
    web: WebServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    import socket

    answers = iter(["93.184.216.34", "127.0.0.1", "127.0.0.1", "127.0.0.1"])
    real = socket.getaddrinfo
    connected: list[str] = []

    def rebinding(host: object, port: object, *args: object, **more: object) -> object:
        name = host.decode() if isinstance(host, bytes) else str(host)
        if name == "rebind.example":
            return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (next(answers), port))]
        connected.append(name)
        return real(host, port, *args, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(socket, "getaddrinfo", rebinding)
    port = web.url.rpartition(":")[2]
    with (
        opened(
            "site", {"start": [f"http://rebind.example:{port}/"]}, networks=(), seconds=0.2
        ) as source,
        pytest.raises(SourceUnavailable),
    ):
        look(source)
    # Every connection went to a checked address; the private one was never connected to.
    assert "127.0.0.1" not in connected
    assert web.asked == []


@pytest.mark.parametrize(
    "address",
    [
        "127.0.0.1",
        "10.0.0.1",
        "192.168.1.1",
        "169.254.169.254",
        "100.64.0.1",
        "0.0.0.0",
        "224.0.0.1",
        "::1",
        "fe80::1",
        "fd00::1",
        "::ffff:10.0.0.1",
        "2002:0a00:0001::",
        "64:ff9b::7f00:1",
    ],
)
def test_no_form_of_a_private_address_passes(address: str) -> None:
    with pytest.raises(AddressForbidden):
        check_address(ip_address(address), "host", ())


def test_public_and_allowed_addresses_pass() -> None:
    check_address(ip_address("93.184.216.34"), "host", ())
    check_address(ip_address("2606:2800:220:1:248:1893:25c8:1946"), "host", ())
    check_address(ip_address("10.1.2.3"), "host", (ip_network("10.1.0.0/16"),))
    check_address(ip_address("::ffff:10.1.2.3"), "host", (ip_network("10.1.0.0/16"),))


@given(st.text(max_size=400))
def test_any_page_has_links(text: str) -> None:
    for link in page_links(text.encode("utf-8", "replace"), "http://a.example/x/", None).links:
        assert normal_address(link) == link


@given(st.text(alphabet="ab/.%?&=#: \u00e9", max_size=60))
def test_an_address_in_one_form_stays_as_it_is(rest: str) -> None:
    once = normal_address("http://host.example/" + rest)
    assert once is None or normal_address(once) == once


@pytest.mark.parametrize(
    "piece", ["<a href=", "<!--", '<a href="x', "<script>", "<base ", "<a " + "b='c' " * 50]
)
def test_links_of_a_hostile_page_are_found_in_time(piece: str) -> None:
    # Measured seconds would show quadratic time; the suite's own timeout is the judge.
    page_links((piece * 40_000).encode()[:2_000_000], "http://a.example/", None)
