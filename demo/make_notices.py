"""Create the demo's notices.

Slides, a workbook, a scan, a transcript, mail, an archive.

Run with the development environment: `.venv/bin/python demo/make_notices.py`. The results are
committed.
"""

from __future__ import annotations

import datetime as dt
import io
import random
import zipfile
from email.message import EmailMessage
from pathlib import Path

import numpy as np
import pptx
import reportlab
import xlsxwriter
from PIL import Image, ImageDraw, ImageFont
from pptx.util import Inches

NOTICES = Path(__file__).parent / "notices"
FONTS = Path(reportlab.__file__).parent / "fonts"
WHEN = dt.datetime(2026, 2, 2, 8, 0)


def slides() -> bytes:
    """A briefing of five slides, with bullets, a table and speaker notes."""
    deck = pptx.Presentation()
    deck.core_properties.title = "Winter readiness briefing"
    deck.core_properties.created = deck.core_properties.modified = WHEN
    for title, bullets, notes in (
        ("Winter readiness 2026", ["Briefing for duty officers, 2 February 2026"], ""),
        (
            "What changed since last winter",
            [
                "The second generator stands at the lock house",
                "The spare gangway is kept at Berth 2",
                "Grit bins are filled by the yard every Monday",
            ],
            "Ask who has not seen the new generator start.",
        ),
        (
            "Ice on the quays",
            [
                "The yard grits before 06:30 when the night fell below 1 degree",
                "Linesmen wear studs on the outer mole",
                "A slip is reported to the yard foreman the same day",
            ],
            "Last winter there were four slips, all on the steps of the outer mole.",
        ),
        ("Questions", ["Write to the duty office before 13 February"], ""),
    ):
        slide = deck.slides.add_slide(deck.slide_layouts[1])
        slide.shapes.title.text = title
        frame = slide.placeholders[1].text_frame
        frame.text = bullets[0]
        for bullet in bullets[1:]:
            frame.add_paragraph().text = bullet
        if notes:
            slide.notes_slide.notes_text_frame.text = notes
    slide = deck.slides.add_slide(deck.slide_layouts[5])
    slide.shapes.title.text = "Who holds which key"
    rows = [
        ("Key", "Held by", "Spare"),
        ("Grit store", "yard foreman", "duty office"),
        ("Generator", "lock keeper", "duty office"),
        ("Outer mole gate", "berthing officer", "pilot station"),
    ]
    table = slide.shapes.add_table(len(rows), 3, Inches(1), Inches(2), Inches(8), Inches(2)).table
    for y, row in enumerate(rows):
        for x, text in enumerate(row):
            table.cell(y, x).text = text
    out = io.BytesIO()
    deck.save(out)
    return out.getvalue()


def workbook() -> bytes:
    """Two sheets: the calls of a month, and what each berth took in."""
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out)
    book.set_properties({"title": "Berth returns, January 2026", "created": WHEN})
    date = book.add_format({"num_format": "d mmm yyyy"})
    calls = book.add_worksheet("Calls")
    for column, name in enumerate(("Date", "Ship", "Berth", "Length (m)", "Cargo", "Tugs")):
        calls.write(0, column, name)
    rng = random.Random(11)
    ships = [
        ("Brenda May", 84.5, "timber"),
        ("Solvaer", 112.0, "salt"),
        ("Tern", 61.2, "stone"),
        ("Ostrea", 97.8, "feed"),
        ("Gannet", 45.0, "none"),
    ]
    for row in range(1, 41):
        ship, length, cargo = rng.choice(ships)
        calls.write_datetime(
            row, 0, dt.datetime(2026, 1, 1) + dt.timedelta(days=row * 3 // 4), date
        )
        calls.write_row(
            row, 1, (ship, f"Berth {rng.randint(2, 5)}", length, cargo, rng.randint(0, 2))
        )
    dues = book.add_worksheet("Dues")
    dues.write(0, 0, "Dues received, January 2026 (crowns)")
    for line, cells in enumerate(
        (
            ("Berth", "Ships", "Dues"),
            ("Berth 2", 11, 18_420),
            ("Berth 3", 9, 15_310),
            ("Berth 4", 12, 27_905),
            ("Berth 5", 8, 9_660),
        ),
        start=1,
    ):
        dues.write_row(line, 0, cells)
    book.close()
    return out.getvalue()


def scan() -> bytes:
    """A typed notice as a scanner saw it: slanted by a degree, grey, with specks."""
    lines = [
        "SKERROW HARBOUR TRUST",
        "Notice to mariners 4 of 2026",
        "",
        "The inner light on the south mole is unlit",
        "from 9 to 20 February 2026 while its lantern",
        "is renewed. A lit buoy marks the mole head.",
        "",
        "Keep 60 metres off the work barge and pass",
        "it at no more than 4 knots.",
    ]
    image = Image.new("L", (1240, 900), 244)
    pen = ImageDraw.Draw(image)
    font = ImageFont.truetype(str(FONTS / "Vera.ttf"), 34)
    for number, line in enumerate(lines):
        pen.text((140, 110 + number * 64), line, font=font, fill=40)
    pixels = np.asarray(image.rotate(1.0, Image.Resampling.BICUBIC, fillcolor=244)).astype(
        np.float32
    )
    pixels += np.random.default_rng(3).normal(0, 9, pixels.shape)
    out = io.BytesIO()
    Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)).save(out, "JPEG", quality=80)
    return out.getvalue()


RADIO = """WEBVTT

00:00:02.000 --> 00:00:06.500
<v Duty office>All stations, this is an exercise. The tug Brawn has a fire in her galley,

00:00:06.500 --> 00:00:10.000
<v Duty office>two miles east of the mole head.

00:00:41.000 --> 00:00:47.000
<v Pilot boat>Duty office, pilot boat. We are alongside Brawn with four people on board and both pumps running.

00:03:12.000 --> 00:03:18.000
<v Lock keeper>The lock is held open for the pilot boat. The ambulance waits at the north gate.

00:09:55.000 --> 00:10:02.000
<v Duty office>The exercise ends. Time from the first call to the quay: nine minutes and forty seconds.
"""  # noqa: E501

QUESTIONS = """Question,Answer,Area
Who orders grit for the quays?,"The yard foreman orders grit in October, forty bags at a time.",Yard
Where is the lost radio handed in?,At the duty office; it is written into the radio book with its number.,Radio
May a ship's crew paint over the side at Berth 3?,"Yes, with a sheet under the stage and not within two days of a survey.",Berths
How is the weighbridge booked?,"By telephone with the yard, one hour before the lorry comes.",Yard
"""  # noqa: E501


def message() -> bytes:
    """Return a message about a repair, with a table and the contractor's reply inside."""
    mail = EmailMessage()
    mail["From"] = "Lock house <lock@skerrow.example>"
    mail["To"] = "Duty office <duty@skerrow.example>"
    mail["Date"] = "Mon, 02 Feb 2026 08:00:00 +0000"
    mail["Subject"] = "Repair of the outer gate"
    mail["Message-ID"] = "<repair-1@skerrow.example>"
    mail.set_content(
        "The outer gate's lower hinge is renewed in March.\n\nThe lock is shut in the nights listed"
        " in the table. Small craft may lie in the basin free of dues while they wait.\n\nBring the"
        " portable pump from the yard on the first evening.\n"
    )
    mail.add_attachment(
        "Night,Shut from,Open again\n9 March,21:00,05:30\n10 March,21:00,05:30\n12"
        " March,20:00,06:15\n",
        subtype="csv",
        filename="closures.csv",
    )
    inner = EmailMessage()
    inner["From"] = "Runtime <runtime@hinges.example>"
    inner["Subject"] = "Hinge ready"
    inner["Date"] = "Fri, 30 Jan 2026 15:00:00 +0000"
    inner.set_content(
        "The hinge weighs 410 kg and comes by the ferry of 6 March. It needs a crane hook of at"
        " least one tonne."
    )
    mail.add_attachment(inner)
    mail.set_boundary("skerrow-boundary")
    return mail.as_bytes()


def archive() -> bytes:
    """Two old circulars, packed."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, text in (
            (
                "circular-2021-03.txt",
                (
                    "3 OF 2021\n\nThe visitors' pontoon has water from April to October only, since"
                    " its pipe freezes.\n"
                ),
            ),
            (
                "circular-2022-07.txt",
                (
                    "7 OF 2022\n\nDivers' flags are lent by the pilot station. A flag that is lost"
                    " costs 25 crowns.\n"
                ),
            ),
        ):
            entry = zipfile.ZipInfo(name, WHEN.timetuple()[:6])
            packed.writestr(entry, text, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def main() -> None:
    NOTICES.mkdir(exist_ok=True)
    for name, content in (
        ("winter-briefing.pptx", slides()),
        ("berth-returns.xlsx", workbook()),
        ("notice-4-2026.jpg", scan()),
        ("radio-exercise.vtt", RADIO.encode()),
        ("gate-repair.eml", message()),
        ("yard-questions.csv", QUESTIONS.encode()),
        ("old-circulars.zip", archive()),
    ):
        (NOTICES / name).write_bytes(content)


if __name__ == "__main__":
    main()
