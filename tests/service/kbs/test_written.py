"""Documents written here, their history, folders, and many at once."""

from __future__ import annotations

import pytest

from fontanel import schemas as s
from fontanel.client import ChangedMeanwhile, NotAllowed, ProblemError
from tests.conftest import STORM, TeamSetup

NOTE = (
    "# Winter moorings\n\nBoats leave pontoon A by 1 November.\n\n- Take the sails off.\n- Double"
    " the lines.\n"
)


def test_writing_editing_and_going_back(team: TeamSetup, kb: str) -> None:
    client = team.client
    added = client.write_document(kb, "notes/winter.md", NOTE, {"season": "winter"})
    document = client.wait_for_document(kb, added.document.id)
    assert (document.state, document.title, document.tags) == (
        "indexed",
        "Winter moorings",
        {"season": "winter"},
    )
    assert client.written_text(kb, document.id).text == NOTE
    changed = client.rewrite_document(
        kb, document.id, NOTE.replace("1 November", "15 October"), document.version
    )
    assert changed.outcome == "revised"
    with pytest.raises(ChangedMeanwhile, match="by now"):
        client.rewrite_document(kb, document.id, "# Another's change", document.version)
    client.wait_for_document(kb, document.id)
    assert "15 October" in client.ask(kb, "By when do boats leave pontoon A?").text
    result = client.compare_revisions(kb, document.id)
    (change,) = [change for change in result.changes if change.kind != "same"]
    before, after = change.before[0], change.after[0]
    assert [before[a:b] for a, b in change.before_marks] == ["1 November"] or "1" in before
    assert "15 October" in after
    first = client.list_revisions(kb, document.id)[-1]
    client.restore_revision(kb, document.id, first.id)
    client.wait_for_document(kb, document.id)
    assert "1 November" in client.ask(kb, "By when do boats leave pontoon A?").text
    assert [revision.number for revision in client.list_revisions(kb, document.id)] == [3, 2, 1]


def test_a_small_table_kept_as_rows(team: TeamSetup, kb: str) -> None:
    client = team.client
    added = client.write_document(kb, "berths.csv", "Berth,Depth\nBerth 4,6.8 m\nBerth 5,4.2 m\n")
    client.wait_for_document(kb, added.document.id)
    assert "4.2 m" in client.ask(kb, "What is the depth at berth 5?").text


def test_what_cannot_be_written(team: TeamSetup, kb: str, storm: str) -> None:
    client = team.client
    client.add_document(kb, b"%PDF-1.4 broken", "plan.pdf")
    for name in ("picture.png", "storm-plan.md", "../"):
        with pytest.raises(ProblemError):
            client.write_document(kb, name, "text")
    assert not client.written_text(kb, "plan.pdf").editable
    with pytest.raises(ProblemError):
        client.rewrite_document(kb, "plan.pdf", "text", 1)
    with team.with_role("reader") as reader, pytest.raises(NotAllowed):
        reader.write_document(kb, "a.md", "text")


def test_folders_and_many_at_once(team: TeamSetup, kb: str) -> None:
    client = team.client
    for name in ("plans/storm.md", "plans/2026/ice.md", "plans/2026/fog.md", "top.md"):
        client.add_document(kb, STORM + name.encode(), name)
    client.add_document(kb, b"\x00\x01\x02", "plans/broken.bin")
    for document in list(client.list_documents(kb)):
        client.wait_for_document(kb, document.id)
    assert [(f.path, f.documents, f.failed) for f in client.list_folders(kb)] == [("plans", 4, 1)]
    assert [(f.path, f.documents) for f in client.list_folders(kb, "plans")] == [("plans/2026", 2)]
    assert [d.name for d in client.list_documents(kb, folder="plans/2026")] == [
        "plans/2026/fog.md",
        "plans/2026/ice.md",
    ]
    tag = s.BulkIn(
        action="tag",
        chosen=s.DocumentSelection(folder="plans/2026"),
        set_tags={"year": "2026", "gone": "x"},
    )
    assert client.bulk(kb, tag) == 2
    assert (
        client.bulk(
            kb,
            s.BulkIn(
                action="tag", chosen=s.DocumentSelection(tags={"year": "2026"}), drop_tags=["gone"]
            ),
        )
        == 2
    )
    assert client.show_document(kb, "plans/2026/ice.md").tags == {"year": "2026"}
    assert client.bulk(kb, s.BulkIn(action="retry", chosen=s.DocumentSelection(all=True))) == 1
    assert (
        client.bulk(kb, s.BulkIn(action="reread", chosen=s.DocumentSelection(documents=["top.md"])))
        == 1
    )
    assert client.wait_for_document(kb, "top.md").state == "indexed"
    assert (
        client.bulk(kb, s.BulkIn(action="delete", chosen=s.DocumentSelection(folder="plans"))) == 4
    )
    assert [d.name for d in client.list_documents(kb)] == ["top.md"]
    with pytest.raises(ValueError, match="say which documents"):
        s.DocumentSelection()


def test_the_last_change_is_what_is_edited_next(team: TeamSetup, kb: str) -> None:
    client = team.client
    for number in range(6):
        text = f"Version {number}\n"
        client.add_document(kb, text.encode(), "note.md")
        # It is not indexed yet, or just now.
        assert client.written_text(kb, "note.md").text == text
