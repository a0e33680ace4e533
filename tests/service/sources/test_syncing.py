"""Runs of sources through the service: outages, credentials, signals, `kill -9`."""

from __future__ import annotations

import io
import json
import random
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from reportlab.lib.pagesizes import A4
from reportlab.pdfgen.canvas import Canvas
from standardwebhooks import Webhook

from fontanel import schemas as s
from fontanel.client import Client
from fontanel.simulators.bucket import bucket_app
from tests import patient
from tests.conftest import Service, TeamSetup, new_team, until
from tests.servers import Answer, Postgres, WebServer


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("syncing")
    settings = {
        "FONTANEL_SOURCE_ROOTS": str(folder),
        "FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8",
        "FONTANEL_SOURCE_SECONDS": "5",
    }
    started = Service(folder / "data", settings).start()
    yield started
    started.stop()


@pytest.fixture
def team(service: Service) -> TeamSetup:
    found = new_team(service)
    found.client.create_kb("Kb")
    return found


def connect(
    client: Client, kind: str, settings: dict[str, Any], credentials: dict[str, str] | None = None
) -> s.SourceOut:
    source = client.connect_source(
        "kb", s.SourceIn(name="Source", kind=kind, settings=settings, credentials=credentials)
    )
    assert client.wait_for_sync("kb", source.id, "latest").state == "done"
    return client.show_source("kb", source.id)


def run(client: Client, source: s.SourceOut) -> s.SyncOut:
    return client.sync_source("kb", source.id, wait=True)


def names(client: Client) -> list[str]:
    return [document.name for document in client.list_documents("kb")]


def test_a_site_is_crawled_and_reported_page_by_page(team: TeamSetup, web: WebServer) -> None:
    client = team.client
    web.page(
        "/",
        "<title>Home</title><main><h1>Home</h1><p>The pier opens at nine.</p><a href='/a'>A</a><a"
        " href='/gone'>G</a></main>",
        headers={"ETag": '"1"'},
    )
    web.page(
        "/a",
        "<title>A</title><main><h1>A</h1><p>The crane is yellow.</p></main>",
        headers={"ETag": '"2"'},
    )
    source = connect(client, "site", {"start": [web.url + "/"], "delay": 0})
    assert names(client) == ["source/a.html", "source/index.html"]
    assert client.show_document("kb", "source/a.html").link == web.url + "/a"
    web.asked.clear()
    sync = run(client, source)
    assert (sync.unchanged, sync.skipped, sync.added + sync.changed) == (2, 1, 0)
    assert {status for path, status in web.asked if path in ("/", "/a")} == {304}
    outcomes = {
        item.id.removeprefix(web.url): item.outcome
        for item in client.list_sync_items("kb", source.id, sync.id)
    }
    assert outcomes == {"/": "unchanged", "/a": "unchanged", "/gone": "skipped"}
    # The site is away: nothing is removed, the failure is shown, and it recovers by itself.
    pages = dict(web.pages)
    web.pages = {
        path: Answer(b"", 503, {"Retry-After": "0"})
        for path in ("/", "/a", "/robots.txt", "/sitemap.xml")
    }
    assert run(client, source).state == "failed"
    found = client.show_source("kb", source.id)
    assert found.failing_since is not None
    assert "status 503" in (found.error or "")
    assert len(names(client)) == 2
    web.pages = pages
    assert run(client, source).state == "done"
    kinds = [notice.kind for notice in client.list_notices().items]
    assert kinds == ["sync.recovered", "sync.failed", "sync.finished"]


def test_a_bucket_that_is_emptied_or_refuses(
    team: TeamSetup, serve: Callable[[Any], str], tmp_path: Path
) -> None:
    client = team.client
    folder = tmp_path / "store" / "manuals"
    folder.mkdir(parents=True)
    for n in range(3):
        (folder / f"{n}.md").write_text(f"# Manual {n}\n\nThe rope number {n} is steel.\n")
    url = serve(bucket_app(tmp_path / "store", "key", "a secret"))
    source = connect(
        client,
        "bucket",
        {"endpoint": url, "bucket": "manuals"},
        {"access_key": "key", "secret_key": "a secret"},
    )
    assert source.credentials == ["access_key", "secret_key"]
    assert "a secret" not in source.model_dump_json()
    embedded = [client.show_document("kb", name).revision.embedded for name in names(client)]
    sync = run(client, source)
    assert (sync.unchanged, sync.embedded, sync.bytes) == (3, 0, 0)
    assert (
        embedded
        == [client.show_document("kb", name).revision.embedded for name in names(client)]
        == [1, 1, 1]
    )
    client.change_source(
        "kb", source.id, s.SourceChange(credentials={"access_key": "key", "secret_key": "wrong"})
    )
    failed = run(client, source)
    assert failed.state == "failed"
    assert "SignatureDoesNotMatch" in (failed.error or "")
    client.change_source(
        "kb", source.id, s.SourceChange(credentials={"access_key": "key", "secret_key": "a secret"})
    )
    for path in folder.iterdir():
        path.unlink()
    assert run(client, source).state == "held"
    assert len(names(client)) == 3


def test_a_database_that_goes_away(team: TeamSetup, postgres: Postgres) -> None:
    client = team.client
    postgres.run(
        "create table lights (id int, said text); insert into lights select n, 'Light '||n||' is"
        " lit' from generate_series(1,3) n"
    )
    settings = {
        "host": "127.0.0.1",
        "port": postgres.port,
        "database": "postgres",
        "query": "select * from lights",
        "identity": ["id"],
        "text": ["said"],
    }
    source = connect(client, "sql", settings, {"user": "keeper"})
    postgres.run(
        "update lights set said = 'Light 2 was put out' where id = 2; delete from lights where"
        " id = 3"
    )
    sync = run(client, source)
    assert (sync.changed, sync.removed, sync.unchanged) == (1, 1, 1)
    postgres.run("alter table lights rename to elsewhere")
    assert run(client, source).state == "failed"
    assert len(names(client)) == 2
    postgres.run("drop table elsewhere")


def test_only_what_changed_is_embedded(team: TeamSetup, service: Service) -> None:
    client = team.client
    folder = service.data.parent / team.slug
    folder.mkdir()
    paragraphs = [
        f"Paragraph {n} describes the berth number {n}, its bollards, its fenders and the {n * 7}"
        " metres of its quay. " * 4
        for n in range(400)
    ]
    book = folder / "book.md"
    book.write_text(
        "# Book\n\n" + "\n\n".join(f"## Section {n}\n\n{text}" for n, text in enumerate(paragraphs))
    )
    source = connect(client, "folder", {"path": str(folder), "watch": False})
    (whole,) = list(client.list_documents("kb"))
    assert (whole.revision.passages or 0) > 100
    assert whole.revision.embedded == whole.revision.passages
    book.write_text(book.read_text().replace("berth number 200", "berth number two hundred", 1))
    sync = run(client, source)
    assert (sync.changed, sync.embedded) == (1, 1)
    assert set(sync.seconds) == {"taking", "read", "split", "describe", "words", "embed"}


def handbook(changed: int | None = None) -> bytes:
    """A PDF of 300 pages, ten to a chapter; one paragraph says something else."""
    out = io.BytesIO()
    page = Canvas(out, pagesize=A4, invariant=1)
    for number in range(300):
        y = 780
        if number % 10 == 0:
            page.setFont("Helvetica-Bold", 16)
            page.drawString(72, y, f"Chapter {number // 10 + 1} of the quays")
            y -= 30
        page.setFont("Helvetica", 11)
        for paragraph in range(3):
            place = number * 3 + paragraph
            said = "is closed to all traffic" if place == changed else "lies open to all traffic"
            for line in (
                (
                    f"Berth {place} {said} and has {place % 7 + 4} bollards of {place % 50 + 20}"
                    " tonnes."
                ),
                (
                    f"Its quay is {place * 3 % 211 + 40} metres long, and lamp {place * 11 % 977}"
                    " stands at its head."
                ),
            ):
                page.drawString(72, y, line)
                y -= 14
            y -= 16
        page.showPage()
    page.save()
    return out.getvalue()


def test_one_paragraph_of_a_long_pdf_costs_the_passages_it_touches(
    team: TeamSetup, service: Service
) -> None:
    client = team.client
    folder = service.data.parent / team.slug
    folder.mkdir()
    (folder / "handbook.pdf").write_bytes(handbook())
    source = connect(client, "folder", {"path": str(folder), "watch": False})
    (whole,) = list(client.list_documents("kb"))
    assert (whole.revision.pages, whole.revision.embedded) == (300, whole.revision.passages)
    assert (whole.revision.passages or 0) > 60
    (folder / "handbook.pdf").write_bytes(handbook(changed=451))
    sync = run(client, source)
    assert sync.changed == 1
    assert 1 <= sync.embedded <= 2
    hit, *_ = client.search("kb", "berth closed to all traffic").hits
    assert "Berth 451 is closed" in hit.text


def signed(secret: str, body: bytes, moment: int) -> dict[str, str]:
    at = datetime.fromtimestamp(moment, UTC)
    return {
        "webhook-id": "msg_1",
        "webhook-timestamp": str(moment),
        "webhook-signature": Webhook(secret).sign("msg_1", at, body.decode()),
    }


def test_a_signed_signal_starts_a_run(team: TeamSetup, service: Service) -> None:
    client = team.client
    folder = service.data.parent / team.slug
    folder.mkdir()
    source = connect(client, "folder", {"path": str(folder), "watch": False})
    secret = client.make_signal_secret("kb", source.id)
    (folder / "a.md").write_text("# A\n\nThe siren was tested.\n")
    body, moment = b'{"what": "ever"}', int(time.time())
    for headers in (
        {},
        signed("another", body, moment),
        signed(secret.secret, b"other", moment),
    ):
        refused = patient.post(service.url + secret.path, content=body, headers=headers)
        assert refused.status_code == 401
        assert "not signed with" in refused.json()["detail"]
    stale = signed(secret.secret, body, moment - 3600)
    refused = patient.post(service.url + secret.path, content=body, headers=stale)
    assert refused.status_code == 401
    assert "more than five minutes off" in refused.json()["detail"]
    assert (
        patient.post(
            service.url + secret.path, content=body, headers=signed(secret.secret, body, moment)
        ).status_code
        == 202
    )
    until(lambda: names(client) == ["source/a.md"])
    assert client.show_source("kb", source.id).recent[0].cause == "signal"


def test_notices_are_sent_on_as_signed_events(
    team: TeamSetup,
    service: Service,
    receiver: tuple[str, list[tuple[dict[str, str], bytes]], list[int]],
) -> None:
    client = team.client
    url, got, statuses = receiver
    made = client.add_receiver(url, ["sync.finished"])
    statuses.append(500)
    folder = service.data.parent / team.slug
    folder.mkdir()
    (folder / "a.md").write_text("# A\n\nThe siren was tested.\n")
    connect(client, "folder", {"path": str(folder), "watch": False})
    # The first try fails; the next comes after a pause.
    until(lambda: len(got) == 2)
    headers, body = got[1]
    event = json.loads(body)
    assert (event["specversion"], event["type"], event["data"]["added"]) == (
        "1.0",
        "fontanel.sync.finished",
        1,
    )
    assert headers["content-type"].startswith("application/cloudevents+json")
    # The verifier of the specification's reference library accepts it.
    assert Webhook(made.secret).verify(body, dict(headers)) == event
    until(lambda: client.list_receivers()[0].last_sent_at is not None)
    assert client.list_receivers()[0].failing is None


def test_freshness_is_in_the_metrics_by_ids_alone(team: TeamSetup, service: Service) -> None:
    client = team.client
    folder = service.data.parent / team.slug
    folder.mkdir()
    source = connect(client, "folder", {"path": str(folder)})
    text = patient.get(f"{service.url}/metrics").text
    assert f'source="{source.id}"' in text
    assert "fontanel_source_late" in text
    assert team.slug not in text
    assert [item.source_id for item in client.freshness()] == [source.id]
    with service.operator() as operator:
        seen = operator._http.get("freshness").json()
    assert source.id in {item["source_id"] for item in seen}


def test_killed_at_any_point_a_sync_ends_as_the_source_is(tmp_path: Path) -> None:
    folder = tmp_path / "folder"
    folder.mkdir()
    service = Service(tmp_path / "data", {"FONTANEL_SOURCE_ROOTS": str(folder)}).start()
    team = new_team(service)
    client = team.client
    client.create_kb("Kb")
    source = client.connect_source(
        "kb",
        s.SourceIn(
            name="Source",
            kind="folder",
            settings={"path": str(folder), "watch": False},
            guard_share=1.0,
        ),
    )
    client.wait_for_sync("kb", source.id, "latest")
    random.seed(7)
    texts: dict[str, str] = {}
    for turn, point in enumerate(
        [
            "blob_stored:5",
            "items_committed:1",
            "words_committed:1",
            "items_committed:2",
            "vectors_committed:1",
            "blob_stored:20",
        ]
    ):
        for _ in range(25):
            texts[f"{random.randrange(40):02}.md"] = (
                f"# Note\n\nIn turn {turn} the lamp number {random.randrange(1000)} was lit.\n"
            )
        for name in random.sample(sorted(texts), 5):
            del texts[name]
        for path in folder.iterdir():
            path.unlink()
        for name, text in texts.items():
            (folder / name).write_text(text)
        service.stop()
        service.start(FONTANEL_FAULT=point)
        with Client(service.url, team.key, team.slug) as client:
            client.sync_source("kb", source.id)
            assert service.process is not None
            service.process.wait(timeout=60)
        service.start()
        with Client(service.url, team.key, team.slug) as client:
            assert client.wait_for_sync("kb", source.id, "latest").state == "done"
            documents = list(client.list_documents("kb"))
            assert {d.name: d.state for d in documents} == {
                f"source/{name}": "indexed" for name in texts
            }
            for document in documents:
                assert (
                    client.original("kb", document.id).decode()
                    == texts[document.name.removeprefix("source/")]
                )
            hits = client.search("kb", "lamp number lit", limit=100, per_document=100).hits
            assert len(hits) == len({hit.document_id for hit in hits})
    service.stop()
