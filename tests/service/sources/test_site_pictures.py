"""Pictures of a web site, described by a model that sees."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from fontanel import schemas as s
from fontanel.simulators.eyes import eyes_app
from tests import patient
from tests.conftest import Service, TeamSetup, free_port, until
from tests.core.reading.test_pictures import picture
from tests.servers import Answer, WebServer, served_on
from tests.service.pictures.test_pictures import described, seeing


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    environment = {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8"}
    started = Service(tmp_path_factory.mktemp("site") / "data", environment).start()
    yield started
    started.stop()


def test_pictures_of_a_site_are_described_at_their_place(
    service: Service, team: TeamSetup, web: WebServer
) -> None:
    client = team.client
    kb = client.create_kb("Site").slug
    web.page("/", '<h1>Crane</h1><p>The crane at rest.</p><img src="/red.png"><p>The end.</p>')
    web.pages["/red.png"] = Answer(picture("red"), headers={"Content-Type": "image/png"})
    settings = {"start": [f"{web.url}/"], "delay": 0, "pictures": True}
    source = client.connect_source(kb, s.SourceIn(name="Site", kind="site", settings=settings))
    assert client.wait_for_sync(kb, source.id, "latest").added == 1
    (document,) = client.list_documents(kb)
    with served_on(eyes_app(), free_port()) as url, service.operator() as operator:
        client.change_kb(kb, viewer=seeing(operator, url))
        until(lambda: described(client, kb, document.name))
    text = client.document_text(kb, document.name).text
    assert text.index("at rest") < text.index("red on 100 percent") < text.index("The end")
    # Whoever opens the page gets a file that a browser can show with its pictures.
    reply = patient.get(
        f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents/{document.id}/original",
        headers={"Authorization": f"Bearer {team.key}"},
    )
    assert reply.headers["content-disposition"] == "attachment; filename*=UTF-8''index.mhtml"
