"""Reports, previews, pages, contained files and columns of documents."""

from __future__ import annotations

import json
from io import BytesIO

import pytest
from PIL import Image

from fontanel.client import Invalid, NotFound, ProblemError
from fontanel.schemas import Columns, Splitting
from tests import patient
from tests.conftest import DOCUMENTS, STORM, Service, TeamSetup
from tests.core import samples

HANDBOOK = DOCUMENTS / "marine-operations" / "pilotage-handbook.pdf"
FAQ = (
    b"Question,Answer,Area\nWhen does the lock open?,At nine each morning.,Locks\nWho sets the"
    b" stage?,The duty officer.,Storms\n"
)


def test_a_revision_has_a_reading_report(team: TeamSetup, kb: str) -> None:
    document = team.client.add_document(kb, samples.workbook(), "dues.xlsx", wait=True).document
    report = document.revision.report
    assert report is not None
    assert (report.unit, report.pages, report.table_rows) == ("sheet", 1, 3)
    assert report.blocks == {"heading": 1, "paragraph": 1, "table": 2}
    assert report.words > 10
    assert document.revision.warnings == ["The hidden sheet 'Secret' was left out"]


def test_documents_with_warnings_can_be_listed(team: TeamSetup, kb: str) -> None:
    team.client.add_document(kb, samples.workbook(), "dues.xlsx", wait=True)
    team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
    assert [document.name for document in team.client.list_documents(kb, warnings=True)] == [
        "dues.xlsx"
    ]


def test_a_document_has_a_description_from_its_own_words(team: TeamSetup, kb: str) -> None:
    document = team.client.add_document(kb, STORM, "storm-plan.md", wait=True).document
    text = team.client.document_text(kb, document.id).text
    assert document.description
    assert all(part in text for part in document.description.split(". ")[:1])


def test_passages_say_where_they_stand_in_sheets_and_recordings(team: TeamSetup, kb: str) -> None:
    team.client.add_document(kb, samples.workbook(), "dues.xlsx", wait=True)
    vtt = b"WEBVTT\n\n00:01:05.000 --> 00:01:08.000\nThe lock opens at nine each morning.\n"
    team.client.add_document(kb, vtt, "radio.vtt", wait=True)
    sheet = team.client.search(kb, "Merrow fee", documents=["dues.xlsx"]).hits[0].locator
    assert (sheet.unit, sheet.label, sheet.rows) == ("sheet", "Dues", (2, 8))
    assert (
        team.client.search(kb, "lock opens", documents=["radio.vtt"]).hits[0].locator.seconds
        == 65.0
    )


class TestPreview:
    def test_nothing_is_kept(self, team: TeamSetup, kb: str) -> None:
        result = team.client.preview(kb, STORM, "storm-plan.md")
        assert result.title == "Storm plan"
        assert [result.text[cut.start : cut.end] for cut in result.passages] == [
            cut.text for cut in result.passages
        ]
        assert (
            result.sizes.passages
            == len(result.passages)
            == sum(count for _, _, count in result.sizes.bins)
        )
        assert list(team.client.list_documents(kb)) == []

    def test_settings_change_the_cuts(self, team: TeamSetup, kb: str) -> None:
        prose = ("The lock opens at nine each morning and shuts at dusk. " * 60).encode()
        small = team.client.preview(
            kb, prose, "lock.txt", Splitting(target_tokens=60, min_tokens=20, overlap_tokens=30)
        )
        large = team.client.preview(kb, prose, "lock.txt", Splitting(target_tokens=240))
        assert small.sizes.passages > large.sizes.passages
        assert small.passages[1].start < small.passages[0].end, (
            "the second repeats the end of the first"
        )
        assert large.passages[1].start >= large.passages[0].end

    def test_it_cuts_as_adding_does(self, team: TeamSetup) -> None:
        splitting = Splitting(
            target_tokens=80, min_tokens=20, overlap_tokens=20, table_mode="single"
        )
        kb = team.client.create_kb("Small cuts", splitting=splitting).slug
        tried = team.client.preview(kb, HANDBOOK)
        document = team.client.add_document(kb, HANDBOOK, wait=True).document
        kept = list(team.client.list_passages(kb, document.id))
        assert [(cut.start, cut.end, cut.tokens) for cut in tried.passages] == [
            (p.start, p.end, p.tokens) for p in kept
        ]
        assert team.client.show_kb(kb).splitting == splitting

    @pytest.mark.parametrize(
        ("field", "text"),
        [
            ("splitting", '{"target_tokens": 3}'),
            ("splitting", "{"),
            ("columns", '{"text": []}'),
            ("splitting", '{"target_tokens": 50, "overlap_tokens": 60, "min_tokens": 10}'),
        ],
    )
    def test_settings_that_make_no_sense_are_refused(
        self, service: Service, team: TeamSetup, kb: str, field: str, text: str
    ) -> None:
        url = f"{service.url}/api/v1/teams/{team.slug}/kbs/{kb}/preview"
        reply = patient.post(
            url,
            files={"file": ("a.md", b"# A")},
            data={field: text},
            headers={"Authorization": f"Bearer {team.key}"},
        )
        assert reply.status_code == 422
        assert reply.json()["field"] == field

    def test_what_cannot_be_read_says_why(self, team: TeamSetup, kb: str) -> None:
        with pytest.raises(Invalid, match="damaged"):
            team.client.preview(kb, b"%PDF-1.7 nothing", "a.pdf")


class TestPages:
    def test_a_page_has_a_picture_and_the_places_of_its_words(
        self, team: TeamSetup, kb: str
    ) -> None:
        document = team.client.add_document(kb, HANDBOOK, wait=True).document
        text = team.client.document_text(kb, document.id)
        assert text.drawn
        page = team.client.page(kb, document.id, 3)
        assert page.places
        assert all(
            0 <= place.left < place.right <= 1 and 0 <= place.top < place.bottom <= 1
            for place in page.places
        )
        picture = Image.open(BytesIO(team.client.page_picture(kb, document.id, 3, 600)))
        assert picture.format == "PNG"
        assert picture.width == 600
        assert picture.height > 700

    def test_there_are_no_more_pages_than_there_are(self, team: TeamSetup, kb: str) -> None:
        team.client.add_document(kb, HANDBOOK, wait=True)
        with pytest.raises(NotFound):
            team.client.page(kb, HANDBOOK.name, 99)
        with pytest.raises(NotFound):
            team.client.page_picture(kb, HANDBOOK.name, 99)

    def test_a_text_has_none(self, team: TeamSetup, kb: str) -> None:
        team.client.add_document(kb, STORM, "storm-plan.md", wait=True)
        with pytest.raises(NotFound):
            team.client.page_picture(kb, "storm-plan.md", 1)


class TestFilesInside:
    def wait(self, team: TeamSetup, kb: str, names: list[str]) -> None:
        for name in names:
            assert team.client.wait_for_document(kb, name).state == "indexed"

    def test_an_archive_s_files_are_documents(self, team: TeamSetup, kb: str) -> None:
        inner = samples.zipped({"deep.md": "# Deep\n\nThe anchor holds in sand.\n"})
        data = samples.zipped({"storm.md": STORM, "more/inner.zip": inner})
        archive = team.client.add_document(
            kb, data, "all.zip", {"year": "2026"}, wait=True
        ).document
        self.wait(
            team,
            kb,
            ["all.zip/storm.md", "all.zip/more/inner.zip", "all.zip/more/inner.zip/deep.md"],
        )
        assert archive.revision.passages == 0
        inside = list(team.client.list_documents(kb, parent=archive.id))
        assert [(d.name, d.parent, d.tags) for d in inside] == [
            ("all.zip/more/inner.zip", archive.id, {"year": "2026"}),
            ("all.zip/storm.md", archive.id, {"year": "2026"}),
        ]
        assert (
            team.client.search(kb, "anchor holds in sand").hits[0].document_name
            == "all.zip/more/inner.zip/deep.md"
        )

    def test_a_new_revision_replaces_what_was_inside_and_deleting_takes_it_along(
        self, team: TeamSetup, kb: str
    ) -> None:
        team.client.add_document(
            kb, samples.zipped({"a.md": "# Anchors", "b.md": "# Buoys"}), "all.zip", wait=True
        )
        self.wait(team, kb, ["all.zip/a.md", "all.zip/b.md"])
        team.client.add_document(
            kb, samples.zipped({"b.md": "# Buoys", "c.md": "# Cranes"}), "all.zip", wait=True
        )
        self.wait(team, kb, ["all.zip/b.md", "all.zip/c.md"])
        names = {d.name: d.revision.number for d in team.client.list_documents(kb)}
        assert names == {"all.zip": 2, "all.zip/b.md": 1, "all.zip/c.md": 1}
        team.client.delete_document(kb, "all.zip")
        assert list(team.client.list_documents(kb)) == []
        assert team.client.search(kb, "cranes").hits == []

    def test_attachments_of_a_message(self, team: TeamSetup, kb: str) -> None:
        team.client.add_document(kb, samples.message(), "closed.eml", wait=True)
        self.wait(team, kb, ["closed.eml/depths.csv", "closed.eml/message 2.eml"])
        assert (
            team.client.search(kb, "when does the survey begin").hits[0].document_name
            == "closed.eml/message 2.eml"
        )


class TestColumns:
    def test_rows_become_documents_with_titles_and_tags(self, team: TeamSetup, kb: str) -> None:
        meaning = Columns(title="Question", text=["Answer"], tags=["Area"])
        table = team.client.add_document(kb, FAQ, "faq.csv", columns=meaning, wait=True).document
        assert table.revision.columns == meaning
        rows = [
            team.client.wait_for_document(kb, d.id)
            for d in team.client.list_documents(kb, parent=table.id)
        ]
        assert [(row.title, row.tags) for row in rows] == [
            ("When does the lock open?", {"Area": "Locks"}),
            ("Who sets the stage?", {"Area": "Storms"}),
        ]
        hits = team.client.search(kb, "opening time of the lock", tags={"Area": "Locks"}).hits
        assert [hit.title for hit in hits] == ["When does the lock open?"]

    def test_a_column_that_is_not_there_fails_with_the_names(
        self, team: TeamSetup, kb: str
    ) -> None:
        document = team.client.add_document(
            kb, FAQ, "faq.csv", columns=Columns(text=["Reply"]), wait=True
        ).document
        assert document.state == "failed"
        assert "it has: 'Question', 'Answer', 'Area'" in (document.error or "")

    def test_another_meaning_is_another_revision(self, team: TeamSetup, kb: str) -> None:
        team.client.add_document(kb, FAQ, "faq.csv", wait=True)
        added = team.client.add_document(
            kb, FAQ, "faq.csv", columns=Columns(text=["Answer"]), wait=True
        )
        assert (added.outcome, added.document.revision.number) == ("revised", 2)

    def test_columns_that_are_not_understood_are_refused(
        self, service: Service, team: TeamSetup, kb: str
    ) -> None:
        url = f"{service.url}/api/v1/teams/{team.slug}/kbs/{kb}/documents"
        for text in (
            "[]",
            "{",
            json.dumps({"text": "Answer"}),
            json.dumps({"text": ["A"], "colour": "red"}),
        ):
            reply = patient.post(
                url,
                files={"file": ("a.csv", FAQ)},
                data={"columns": text},
                headers={"Authorization": f"Bearer {team.key}"},
            )
            assert (reply.status_code, reply.json()["field"]) == (422, "columns")


def test_the_preview_of_another_team_s_kb_is_not_found(team: TeamSetup) -> None:
    with pytest.raises(ProblemError):
        team.client.preview("no-such-kb", STORM, "a.md")
