"""Looking at how documents are read, from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from fontanel.cli.commands.documents import report_rows
from fontanel.schemas import LocatorOut, ReportOut
from fontanel.schemas.display import clock, place
from tests.cli.conftest import Run
from tests.conftest import DOCUMENTS
from tests.core import samples

HANDBOOK = DOCUMENTS / "marine-operations" / "pilotage-handbook.pdf"


def test_a_preview_shows_what_reading_gives_and_keeps_nothing(run: Run) -> None:
    run("kb", "create", "Rules")
    shown = run(
        "document",
        "preview",
        HANDBOOK,
        "--target",
        "100",
        "--min-tokens",
        "30",
        "--overlap-tokens",
        "20",
    )
    assert shown.returncode == 0
    for part in ("Pilotage handbook", "31", "passages by tokens", "--cuts shows all", "table rows"):
        assert part in shown.stdout
    whole = run("document", "preview", HANDBOOK, "--cuts").stdout
    assert "more; --cuts" not in whole
    assert len(whole) > 3 * len(shown.stdout)
    result = json.loads(run("document", "preview", HANDBOOK, "--json").stdout)
    assert result["report"]["pages"] == 31
    assert "No documents" in run("document", "list").stdout


@pytest.mark.parametrize(
    "given",
    [
        ("--target", "20"),
        ("--target", "60", "--overlap-tokens", "80", "--min-tokens", "10"),
        ("--tag-column", "Area"),
        ("no-such-file",),
    ],
)
def test_what_makes_no_sense_is_refused_before_anything_is_sent(
    run: Run, tmp_path: Path, given: tuple[str, ...]
) -> None:
    run("kb", "create", "Rules")
    (tmp_path / "a.csv").write_text("Area,Text\nx,y\n")
    arguments = given if given[0] == "no-such-file" else ("a.csv", *given)
    refused = run("document", "preview", *arguments)
    assert refused.returncode == 2
    assert refused.stderr.startswith("fontanel: ")


def test_a_kb_keeps_its_splitting(run: Run) -> None:
    run(
        "kb",
        "create",
        "Prices",
        "--target",
        "120",
        "--overlap-tokens",
        "20",
        "--table-mode",
        "single",
    )
    assert (
        "120 tokens a passage, 20 repeated, table rows single" in run("kb", "show", "prices").stdout
    )


def test_rows_become_documents(run: Run, tmp_path: Path) -> None:
    run("kb", "create", "Questions")
    (tmp_path / "faq.csv").write_text(
        "Question,Answer,Area\nWhen does the lock open?,At nine.,Locks\nWho calls?,The duty"
        " officer.,Storms\n"
    )
    added = run(
        "document",
        "add",
        "faq.csv",
        "--title-column",
        "Question",
        "--text-column",
        "Answer",
        "--tag-column",
        "Area",
    )
    assert added.returncode == 0
    listed = run("document", "list", "--inside", "faq.csv").stdout
    assert "When does the lock open?" in listed
    assert "Who calls?" in listed
    assert run("document", "list", "--tag", "Area=Locks").stdout.count("row 0") == 1


def test_warnings_are_listed_by_document(run: Run, tmp_path: Path) -> None:
    run("kb", "create", "Sheets")
    assert "No document was read with warnings" in run("document", "list", "--warnings").stdout
    (tmp_path / "dues.xlsx").write_bytes(samples.workbook())
    run("document", "add", "dues.xlsx")
    assert (
        run("document", "list", "--warnings").stdout
        == "dues.xlsx\n  The hidden sheet 'Secret' was left out\n"
    )
    shown = run("document", "show", "dues.xlsx").stdout
    assert "2 tables" in shown
    assert "hidden sheet" in shown


def test_documents_inside_an_archive_are_reached_by_their_path(run: Run, tmp_path: Path) -> None:
    run("kb", "create", "Rules")
    (tmp_path / "all.zip").write_bytes(
        samples.zipped({"rules/crane.md": "# Crane\n\nNobody walks below a load.\n"})
    )
    run("document", "add", "all.zip")
    for _ in range(100):
        if "indexed" in run("document", "show", "all.zip/rules/crane.md").stdout:
            break
    assert (
        run("document", "text", "all.zip/rules/crane.md").stdout
        == "Crane\n\nNobody walks below a load.\n"
    )


@pytest.mark.parametrize(
    ("locator", "text"),
    [
        (LocatorOut(heading_path=["T", "A", "B"], page=3), "page 3, A > B"),
        (LocatorOut(heading_path=[], page=3, label="iv"), "page iv"),
        (LocatorOut(heading_path=[], page=2, unit="slide"), "slide 2"),
        (
            LocatorOut(heading_path=[], page=1, unit="sheet", label="Dues", rows=(2, 9)),
            "sheet Dues, rows 2-9",
        ),
        (LocatorOut(heading_path=[], rows=(4, 4)), "row 4"),
        (LocatorOut(heading_path=[], seconds=3725.5), "1:02:05"),
        (LocatorOut(heading_path=["T"]), ""),
    ],
)
def test_a_place_reads_as_people_say_it(locator: LocatorOut, text: str) -> None:
    assert place("T", locator) == text


@pytest.mark.parametrize(("seconds", "text"), [(0, "0:00"), (65.9, "1:05"), (3600, "1:00:00")])
def test_a_time_in_a_recording(seconds: float, text: str) -> None:
    assert clock(seconds) == text


def test_recognised_pages_are_told_with_their_confidence() -> None:
    report = ReportOut(
        unit="page",
        pages=3,
        words=10,
        characters=60,
        blocks={"paragraph": 1},
        table_rows=0,
        figures=2,
        recognised=[(1, 0.9), (2, 0.8)],
        language="en",
    )
    assert ("recognised", "2 pages, confidence 85 %") in report_rows(report)
    assert ("blocks", "1 paragraph") in report_rows(report)
    assert ("pictures", "2") in report_rows(report)
