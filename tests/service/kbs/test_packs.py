"""An edition taken from one service to another as one file."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import pytest

from fontanel.client import Invalid, NotFound
from tests.conftest import STORM, TeamSetup, new_team
from tests.core import samples


@pytest.fixture
def packed(team: TeamSetup, kb: str, tmp_path: Path) -> Path:
    """A kb of a text and an archive with two files, exported."""
    team.client.add_document(kb, STORM, "storm-plan.md", {"year": "2024"}, wait=True)
    team.client.add_document(
        kb,
        samples.zipped({"a.md": "# Dues\n\nThe fee is 12.", "b.txt": "Gate 3 is shut."}),
        "all.zip",
        wait=True,
    )
    for document in list(team.client.list_documents(kb)):
        team.client.wait_for_document(kb, document.id)
    target = tmp_path / "rules.pack.zip"
    team.client.export_edition(kb, 1, target)
    return target


def altered(path: Path, name: str, change: object) -> Path:
    """A copy of a pack with one entry changed: bytes to bytes."""
    out = path.with_name("altered.zip")
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(out, "w") as target:
        for entry in source.namelist():
            data = source.read(entry)
            target.writestr(entry, change(data) if entry == name else data)  # type: ignore[operator]
    return out


def test_an_imported_edition_searches_and_answers_as_the_exported_one(
    team: TeamSetup, kb: str, packed: Path
) -> None:
    other = new_team(team.service).client
    imported = other.import_pack(packed, "Brought along")
    assert (imported.name, imported.documents, imported.pending) == ("Brought along", 4, 0)
    for question in ("wind limit for departure", "what is the fee", "gate 3"):
        before = [
            (hit.document_name, hit.text, hit.match)
            for hit in team.client.search(kb, question).hits
        ]
        after = [
            (hit.document_name, hit.text, hit.match)
            for hit in other.search(imported.slug, question).hits
        ]
        assert after == before
    hit = other.search(imported.slug, "wind limit").hits[0]
    assert hit.similarity is not None
    assert other.document_text(imported.slug, hit.document_id).text[hit.start : hit.end] == hit.text
    storm = next(
        item for item in other.list_documents(imported.slug) if item.name == "storm-plan.md"
    )
    assert storm.tags == {"year": "2024"}
    assert other.original(imported.slug, storm.id) == STORM
    inner = next(
        item for item in other.list_documents(imported.slug) if item.name == "all.zip/a.md"
    )
    assert inner.parent is not None
    assert other.ask(imported.slug, "At what gust does the quay crane stop?").outcome in (
        "answered",
        "declined",
    )


def test_an_imported_kb_lives_on(team: TeamSetup, packed: Path) -> None:
    kb = team.client.import_pack(packed, "Second")
    team.client.add_document(kb.slug, STORM, "storm-plan.md", wait=True)
    assert team.client.show_kb(kb.slug).documents == 4
    for document in team.client.list_documents(kb.slug):
        ordinals = [passage.ordinal for passage in team.client.list_passages(kb.slug, document.id)]
        assert ordinals == list(range(document.revision.passages or 0))
    team.client.add_document(
        kb.slug, b"# Pilots\n\nThe pilot boards at the buoy.", "pilots.md", wait=True
    )
    assert team.client.search(kb.slug, "pilot buoy").hits[0].document_name == "pilots.md"
    team.client.delete_document(kb.slug, "all.zip")
    assert team.client.search(kb.slug, "gate 3 shut").hits == [] or all(
        not hit.document_name.startswith("all.zip")
        for hit in team.client.search(kb.slug, "gate 3 shut").hits
    )


@pytest.mark.parametrize("entry", ["documents.jsonl", "passages.jsonl", "vectors.npy"])
def test_a_changed_byte_is_refused_and_nothing_is_kept(
    team: TeamSetup, packed: Path, entry: str
) -> None:
    before = len(team.client.list_kbs())
    with pytest.raises(Invalid, match="damaged"):
        team.client.import_pack(altered(packed, entry, lambda data: data[:-2] + b"  "), "Altered")
    assert len(team.client.list_kbs()) == before


@pytest.mark.parametrize(
    ("changed", "reason"),
    [
        ({"version": 99}, "of version 99; this service reads version 1"),
        ({"embedder": "another-one"}, "by the embedder another-one"),
        ({"format": "something"}, "not a pack"),
        ({"splitting": {"target_tokens": "many"}}, "damaged"),
    ],
)
def test_a_pack_that_does_not_fit_is_refused_with_the_reason(
    team: TeamSetup, packed: Path, changed: dict[str, object], reason: str
) -> None:
    wrong = altered(
        packed, "manifest.json", lambda data: json.dumps({**json.loads(data), **changed}).encode()
    )
    with pytest.raises(Invalid, match=reason):
        team.client.import_pack(wrong, "Wrong")


@pytest.mark.parametrize(
    "content", [b"", b"PK\x03\x04", b"no zip at all", samples.zipped({"a.txt": "x"})]
)
def test_what_is_no_pack_is_refused(team: TeamSetup, tmp_path: Path, content: bytes) -> None:
    (tmp_path / "x.zip").write_bytes(content)
    with pytest.raises(Invalid, match="not a pack"):
        team.client.import_pack(tmp_path / "x.zip")


def test_compressed_entries_are_refused(team: TeamSetup, packed: Path) -> None:
    with zipfile.ZipFile(packed) as source:
        squeezed = samples.zipped({name: source.read(name) for name in source.namelist()})
    packed.write_bytes(squeezed)
    with pytest.raises(Invalid, match="damaged"):
        team.client.import_pack(packed, "Squeezed")


def test_a_name_that_is_taken_and_an_edition_that_is_not_there(
    team: TeamSetup, kb: str, packed: Path
) -> None:
    with pytest.raises(Invalid, match="already"):
        team.client.import_pack(packed)
    with pytest.raises(NotFound):
        team.client.export_edition(kb, 9, packed.with_name("nine.zip"))
    assert not packed.with_name("nine.zip").exists()
