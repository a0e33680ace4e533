"""Web pages of one folder, archive or source: what repeats on them is not indexed."""

from __future__ import annotations

import io
import zipfile

from tests.conftest import TeamSetup

CHROME = (
    '<div id="banner"><a href="/get">Download the ebook</a></div>'
    '<p><a href="/">Product Site</a><a href="/docs">Documentation Site</a></p>'
    "<ul><li><a>Prev</a></li><li>The handbook</li><li><a>Next</a></li></ul>"
)
SUBJECTS = ("mooring", "towage", "pilotage", "dredging", "lighting", "fees", "waste", "ice")


def html(subject: str) -> bytes:
    text = f"<h1>About {subject}</h1><p>The office explains {subject} to every master.</p>"
    return f"<html><title>{subject}</title><body>{CHROME}{text}</body></html>".encode()


def settle(team: TeamSetup, kb: str) -> None:
    """Wait until no page is read again."""
    for _ in range(2):
        for document in list(team.client.list_documents(kb)):
            team.client.wait_for_document(kb, document.id)


def passages_with(team: TeamSetup, kb: str, words: str) -> list[str]:
    return [
        document.name
        for document in team.client.list_documents(kb)
        if any(words in passage.text for passage in team.client.list_passages(kb, document.id))
    ]


def test_pages_of_a_folder_lose_what_repeats_on_them(team: TeamSetup, kb: str) -> None:
    client = team.client
    for subject in SUBJECTS:
        client.add_document(kb, html(subject), f"handbook/{subject}.html", wait=True)
    settle(team, kb)
    # The first page keeps it, so that it is found once.
    assert passages_with(team, kb, "Download the ebook") == ["handbook/mooring.html"]
    page = client.show_document(kb, "handbook/fees.html").revision
    assert page.report is not None
    assert page.report.left_out == 3
    text = client.document_text(kb, "handbook/fees.html")
    left_out = [text.text[b.start : b.end] for b in text.blocks if b.left_out]
    assert left_out[0] == "Download the ebook"
    assert client.search(kb, "office explains fees").hits[0].text.startswith("About fees")
    # Pages of other folders are compared with their own neighbours.
    client.add_document(kb, html("gates"), "other/gates.html", wait=True)
    assert "other/gates.html" in passages_with(team, kb, "Download the ebook")


def test_pages_of_an_archive_are_compared_with_each_other(team: TeamSetup, kb: str) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for subject in SUBJECTS:
            archive.writestr(f"{subject}.html", html(subject))
    team.client.add_document(kb, packed.getvalue(), "book.zip", wait=True)
    settle(team, kb)
    assert len(passages_with(team, kb, "Download the ebook")) == 1
    assert len(passages_with(team, kb, "to every master")) == len(SUBJECTS)
