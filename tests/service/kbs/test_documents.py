"""Knowledge bases and documents: adding, revising, watching, deleting.

Hostile uploads.
"""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

import pytest
from reportlab.lib.pdfencrypt import StandardEncryption

from fontanel.client import Client, Conflict, Invalid, NotFound, TooLarge
from tests import patient
from tests.conftest import STORM, Service, TeamSetup, new_team
from tests.core.reading.test_reading import pdf


def test_a_document_is_read_split_and_indexed(team: TeamSetup, kb: str) -> None:
    added = team.client.add_document(kb, STORM, "storm-plan.md", {"year": "2024"}, wait=True)
    document = added.document
    assert (added.outcome, document.state, document.title) == ("added", "indexed", "Storm plan")
    assert document.revision.passages == len(list(team.client.list_passages(kb, document.id)))
    assert document.revision.tokens
    assert set(document.revision.seconds) == {"read", "split", "describe", "words", "embed"}
    assert document.tags == {"year": "2024"}
    assert added.job is not None
    assert team.client.job(kb, added.job.id).state == "done"
    text = team.client.document_text(kb, "storm-plan.md")
    assert [block.kind for block in text.blocks] == [
        "heading",
        "paragraph",
        "heading",
        "paragraph",
        "heading",
        "paragraph",
        "table",
    ]
    assert team.client.original(kb, document.id) == STORM
    assert team.client.show_kb(kb).documents == 1


def test_the_same_bytes_again_are_nothing_to_do(team: TeamSetup, storm: str) -> None:
    again = team.client.add_document(storm, STORM, "storm-plan.md")
    assert (again.outcome, again.job) == ("unchanged", None)


def test_other_bytes_are_a_new_revision_and_replace_the_old_in_answers(
    team: TeamSetup, storm: str
) -> None:
    changed = STORM.replace(b"38 knots", b"41 knots")
    revised = team.client.add_document(storm, changed, "storm-plan.md", wait=True)
    assert (revised.outcome, revised.document.revision.number) == ("revised", 2)
    texts = [hit.text for hit in team.client.search(storm, "gust quay crane").hits]
    assert any("41 knots" in text for text in texts)
    assert not any("38 knots" in text for text in texts)
    assert "41 knots" in team.client.ask(storm, "At what gust does the quay crane stop?").text
    old, new = sorted(
        patient.get(
            f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{storm}/documents/storm-plan.md/revisions",
            headers={"Authorization": f"Bearer {team.key}"},
        ).json()["items"],
        key=lambda item: item["number"],
    )
    assert "38 knots" in team.client.document_text(storm, "storm-plan.md", old["id"]).text
    assert new["id"] == revised.document.active_revision


def test_a_bad_new_revision_leaves_the_good_one_serving(team: TeamSetup, storm: str) -> None:
    broken = team.client.add_document(
        storm, b"%PDF-1.7 nothing", "storm-plan.md", wait=True
    ).document
    assert (broken.state, broken.error_code) == ("failed", "damaged")
    assert "38 knots" in team.client.ask(storm, "At what gust does the quay crane stop?").text
    healed = team.client.add_document(storm, STORM, "storm-plan.md", wait=True)
    assert healed.document.state == "indexed"


def test_a_deleted_document_leaves_answers_at_once(team: TeamSetup, storm: str) -> None:
    team.client.delete_document(storm, "storm-plan.md")
    assert team.client.search(storm, "gust quay crane").hits == []
    assert team.client.ask(storm, "At what gust does the quay crane stop?").outcome == "declined"
    with pytest.raises(NotFound):
        team.client.show_document(storm, "storm-plan.md")


def test_lists_come_in_pages_and_can_be_narrowed(team: TeamSetup, kb: str) -> None:
    for number in range(5):
        team.client.add_document(
            kb,
            f"# Note {number}\n\nText {number}.".encode(),
            f"note-{number}.md",
            {"parity": "odd" if number % 2 else "even"},
        )
    headers = {"Authorization": f"Bearer {team.key}"}
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents"
    first = patient.get(url, params={"limit": 2}, headers=headers).json()
    second = patient.get(url, params={"limit": 2, "cursor": first["next"]}, headers=headers).json()
    assert [item["name"] for item in first["items"] + second["items"]] == [
        f"note-{n}.md" for n in range(4)
    ]
    assert [d.name for d in team.client.list_documents(kb, tags={"parity": "odd"})] == [
        "note-1.md",
        "note-3.md",
    ]
    assert [d.name for d in team.client.list_documents(kb, name="NOTE-4")] == ["note-4.md"]
    assert list(team.client.list_documents(kb, name="%")) == []


def test_tags_can_be_changed_and_are_checked(team: TeamSetup, storm: str) -> None:
    assert team.client.set_tags(storm, "storm-plan.md", {"status": "in force"}).tags == {
        "status": "in force"
    }
    for tags in ({"no spaces": "x"}, {"a": ""}, {f"t{n}": "x" for n in range(40)}):
        with pytest.raises(Invalid):
            team.client.set_tags(storm, "storm-plan.md", tags)


def test_names_cannot_lead_out_of_a_folder(team: TeamSetup, kb: str) -> None:
    assert team.client.add_document(kb, STORM, "../../etc/./x.md").document.name == "etc/x.md"
    assert team.client.add_document(kb, STORM, "..\\..\\y.md").document.name == "y.md"
    for name in ("../..", "/", "a" * 500):
        with pytest.raises(Invalid):
            team.client.add_document(kb, STORM, name)


def hostile_files() -> dict[str, tuple[bytes, str]]:
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("word/document.xml", b"0" * 300_000_000)
    return {
        "damaged.pdf": (b"%PDF-1.7\n1 0 obj\n<<", "damaged"),
        "encrypted.pdf": (
            pdf([(72, 700, "secret")], encrypt=StandardEncryption("open sesame")),
            "encrypted",
        ),
        "empty.txt": (b"", "empty"),
        "bomb.docx": (bomb.getvalue(), "too_large"),
        "picture.png": (b"\x89PNG\r\n\x1a\n" + b"\0" * 64, "damaged"),
        "film.mp4": (b"\0\0\0\x18ftypmp42" + b"\0" * 64, "damaged"),
        "noise.bin": (bytes(range(256)) * 40, "undecodable"),
    }


def test_each_hostile_file_fails_alone_with_its_reason(team: TeamSetup, kb: str) -> None:
    files = hostile_files()
    for name, (data, _) in files.items():
        team.client.add_document(kb, data, name)
        team.client.add_document(kb, STORM, f"neighbour-of-{name}.md")
    for name, (_, code) in files.items():
        result = team.client.wait_for_document(kb, name)
        assert (result.state, result.error_code) == ("failed", code)
        assert result.error
        assert result.error.endswith(".")
        assert team.client.wait_for_document(kb, f"neighbour-of-{name}.md").state == "indexed"
    assert team.client.show_kb(kb).failed == len(files)


def test_scripts_in_html_neither_show_nor_run(team: TeamSetup, kb: str) -> None:
    page = (
        b"<html><body><script>steal()</script><p onclick=steal()>The lock opens at"
        b" six.</p></body></html>"
    )
    document = team.client.add_document(kb, page, "page.html", wait=True).document
    assert "steal" not in team.client.document_text(kb, document.id).text
    response = patient.get(
        f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents/{document.id}/original",
        headers={"Authorization": f"Bearer {team.key}"},
    )
    assert "sandbox" in response.headers["content-security-policy"]
    assert response.headers["x-content-type-options"] == "nosniff"


def test_text_in_an_unknown_encoding_is_read_or_refused_with_a_reason(
    team: TeamSetup, kb: str
) -> None:
    text = ("Überfahrt nach Skärö nur für Fußgänger. " * 40).encode("cp437")
    document = team.client.add_document(kb, text, "fahrt.txt", wait=True).document
    assert document.state == "indexed" or document.error_code == "undecodable"


def endless(size: int) -> Iterator[bytes]:
    """A form whose file never seems to end."""
    head = b'--b\r\nContent-Disposition: form-data; name="file"; filename="large.txt"\r\n\r\n'
    yield head + b"x" * (1_000_000 - len(head))
    for _ in range(size // 1_000_000 - 1):
        yield b"x" * 1_000_000


@pytest.mark.parametrize("announced", [True, False])
def test_a_gigabyte_is_refused_and_the_service_goes_on(
    team: TeamSetup, kb: str, announced: bool
) -> None:
    size = 1_000_000_000
    headers = {
        "Authorization": f"Bearer {team.key}",
        "Content-Type": "multipart/form-data; boundary=b",
    }
    if announced:
        headers["Content-Length"] = str(size)
    url = f"{team.service.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents"
    response = patient.post(url, content=endless(size), headers=headers, timeout=120)
    assert response.status_code == 413
    assert response.json()["type"] == "urn:fontanel:problem:too-large"
    assert (
        team.client.add_document(kb, STORM, "storm-plan.md", wait=True).document.state == "indexed"
    )


def test_a_file_over_the_limit_raises_too_large(tmp_path_factory: pytest.TempPathFactory) -> None:
    service = Service(
        tmp_path_factory.mktemp("small") / "data", {"FONTANEL_MAX_UPLOAD_MB": "1"}
    ).start()
    try:
        team = new_team(service)
        kb = team.client.create_kb("Small").slug
        with pytest.raises(TooLarge, match="At most 1 MB"):
            team.client.add_document(kb, b"x" * 2_000_000, "large.txt")
    finally:
        service.stop()


def test_a_failed_document_can_be_retried_and_others_not(team: TeamSetup, storm: str) -> None:
    team.client.add_document(storm, b"%PDF-1.7 nothing", "bad.pdf", wait=True)
    team.client.retry_document(storm, "bad.pdf")
    assert team.client.wait_for_document(storm, "bad.pdf").state == "failed"
    with pytest.raises(Conflict, match="has not failed"):
        team.client.retry_document(storm, "storm-plan.md")


def test_a_throwaway_knowledge_base_has_its_end_and_others_none(team: TeamSetup, kb: str) -> None:
    tried = team.client.create_kb("Try this", temporary=True)
    assert tried.expires_at is not None
    assert timedelta(hours=23) < tried.expires_at - datetime.now(UTC) <= timedelta(hours=24)
    assert team.client.show_kb(kb).expires_at is None


def test_a_deleted_knowledge_base_takes_everything_along(team: TeamSetup, storm: str) -> None:
    team.client.ask(storm, "At what gust does the quay crane stop?")
    team.client.delete_kb(storm)
    with pytest.raises(NotFound):
        team.client.show_kb(storm)
    assert team.client.create_kb("Harbour rules").documents == 0


def test_slashes_in_names_are_addressed_by_id(team: TeamSetup, kb: str) -> None:
    document = team.client.add_document(kb, STORM, "rules/storm plan.md", wait=True).document
    assert team.client.show_document(kb, document.id).name == "rules/storm plan.md"


def test_a_client_without_team_says_what_is_missing(service: Service) -> None:
    with pytest.raises(ValueError, match="Name the team"):
        Client(service.url, "fk_x").list_kbs()
