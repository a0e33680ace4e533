"""Atom feeds of changed documents."""

from __future__ import annotations

from base64 import b64encode

import feedparser
import pytest

from fontanel.client import NotFound
from tests import patient
from tests.conftest import Service, TeamSetup, new_team


@pytest.fixture
def canteen(team: TeamSetup) -> str:
    kb = team.client.create_kb("Notices & <news>").slug
    team.client.write_document(kb, "canteen.md", "# Canteen & quay\n\nIt opens at six.\n")
    team.client.wait_for_document(kb, "canteen.md")
    return kb


def basic(password: str, name: str = "anyone") -> dict[str, str]:
    return {"Authorization": "Basic " + b64encode(f"{name}:{password}".encode()).decode()}


def test_changed_documents_come_first(team: TeamSetup, canteen: str) -> None:
    client = team.client
    client.write_document(canteen, "gate.md", "# Gate\n\nThe gate is shut at nine.\n")
    client.wait_for_document(canteen, "gate.md")
    before = feedparser.parse(client.kb_feed(canteen))
    assert not before.bozo
    assert (before.version, before.feed.title) == ("atom10", "Notices & <news>")
    assert [one.title for one in before.entries] == ["Gate", "Canteen & quay"]
    shown = client.show_document(canteen, "canteen.md")
    client.rewrite_document(canteen, shown.id, "# Canteen\n\nIt opens at seven.\n", shown.version)
    client.wait_for_document(canteen, "canteen.md")
    after = feedparser.parse(client.kb_feed(canteen))
    assert [one.title for one in after.entries] == ["Canteen", "Gate"]
    assert "canteen.md: changed, revision 2." in after.entries[0].summary
    assert after.entries[0].link.endswith(f"/t/{team.slug}/kbs/{canteen}/documents/{shown.id}")
    # Another revision is another entry; what has not changed is the same.
    assert after.entries[0].id != before.entries[1].id
    assert after.entries[1].id == before.entries[0].id
    assert after.feed.updated > before.feed.updated
    client.delete_document(canteen, "gate.md")
    assert len(feedparser.parse(client.kb_feed(canteen)).entries) == 1


def test_a_feed_that_has_not_changed_is_not_sent_again(
    service: Service, team: TeamSetup, canteen: str
) -> None:
    url = f"{service.url}/api/v1/teams/{team.slug}/kbs/{canteen}/feed"
    key = {"Authorization": f"Bearer {team.key}"}
    first = patient.get(url, headers=key)
    assert first.headers["content-type"].startswith("application/atom+xml")
    again = patient.get(url, headers={**key, "If-None-Match": first.headers["etag"]})
    assert (again.status_code, again.content) == (304, b"")


def test_a_feed_reader_sends_the_key_as_a_password(
    service: Service, team: TeamSetup, canteen: str
) -> None:
    url = f"{service.url}/api/v1/teams/{team.slug}/kbs/{canteen}/feed"
    asked = patient.get(url)
    assert asked.status_code == 401
    assert asked.headers["www-authenticate"].startswith("Basic ")
    key = team.client.make_key("feed reader", "reader", [canteen]).secret
    assert patient.get(url, headers=basic(key)).status_code == 200
    assert patient.get(url, headers=basic("fk_unknown")).status_code == 401
    for wrong in ("Basic", "Basic %%%", "Basic " + b64encode(b"\xff\xfe").decode()):
        assert patient.get(url, headers={"Authorization": wrong}).status_code == 401
    # A password opens nothing else.
    kb = url.removesuffix("/feed")
    assert patient.get(kb, headers=basic(key)).status_code == 401
    assert patient.delete(kb, headers=basic(team.key)).status_code == 401
    other = new_team(service)
    assert patient.get(url, headers=basic(other.key)).status_code == 404
    with pytest.raises(NotFound):
        team.client.kb_feed("nowhere")
