"""Create the demo's documents from `demo/text`.

PDF, DOCX, HTML, Markdown and text.

Run with the development environment: `.venv/bin/python demo/make_documents.py`. The results are
committed, so that the demo needs none of the writers.
"""

from __future__ import annotations

import html
import re
import textwrap
from collections.abc import Callable
from pathlib import Path
from typing import Any

import docx
from reportlab import rl_config
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4, A5
from reportlab.lib.styles import ParagraphStyle
from reportlab.platypus import (
    BaseDocTemplate,
    Frame,
    PageBreak,
    PageTemplate,
    Paragraph,
    Spacer,
    Table,
    TableStyle,
)

HERE = Path(__file__).parent
Piece = tuple[str, Any]


def parse(text: str) -> tuple[dict[str, str], list[Piece]]:
    """Parse front matter and blocks.

    Blocks are ("h1".."h3", text), ("p", text), ("ul"/"ol", items), ("table", rows).
    """
    _, front, body = text.split("---\n", 2)
    about = dict(re.findall(r"^(\w+): (.*)$", front, re.M))
    pieces: list[Piece] = []
    for chunk in re.split(r"\n\s*\n", body.strip()):
        lines = chunk.split("\n")
        if match := re.match(r"(#+) (.*)", chunk):
            pieces.append((f"h{len(match.group(1))}", match.group(2)))
        elif chunk.startswith("|"):
            rows = [[cell.strip() for cell in line.strip("|").split("|")] for line in lines]
            pieces.append(("table", [row for row in rows if not re.fullmatch(r"-+", row[0])]))
        elif chunk.startswith("- "):
            pieces.append(("ul", [line[2:] for line in lines]))
        elif re.match(r"\d+\. ", chunk):
            pieces.append(("ol", [re.sub(r"^\d+\. ", "", line) for line in lines]))
        else:
            pieces.append(("p", chunk))
    return about, pieces


def write_pdf(path: Path, about: dict[str, str], pieces: list[Piece]) -> None:
    """Write a PDF with running header, page numbers, and a handbook's contents page."""
    rl_config.invariant = 1
    handbook = about.get("pages") == "chapter"
    size, margin = (A5, 48) if handbook else (A4, 72)
    font, leading = (12.5, 18.5) if handbook else (11.5, 16.5)
    body = ParagraphStyle(
        "body", fontName="Times-Roman", fontSize=font, leading=leading, spaceAfter=7
    )
    styles = {
        "h1": ParagraphStyle(
            "h1", fontName="Helvetica-Bold", fontSize=18, leading=24, spaceBefore=6, spaceAfter=12
        ),
        "h2": ParagraphStyle(
            "h2", fontName="Helvetica-Bold", fontSize=14, leading=19, spaceBefore=10, spaceAfter=6
        ),
        "h3": ParagraphStyle(
            "h3", fontName="Helvetica-Bold", fontSize=12.5, leading=16, spaceBefore=8, spaceAfter=4
        ),
        "p": body,
        "item": ParagraphStyle("item", parent=body, leftIndent=18, bulletIndent=4, spaceAfter=3),
    }
    story: list[Any] = []
    for number, (kind, value) in enumerate(pieces):
        if kind == "h1" and handbook and number:
            story.append(PageBreak())
        if kind == "table":
            cells = [[Paragraph(html.escape(cell), styles["p"]) for cell in row] for row in value]
            grid = Table(cells, repeatRows=1)
            grid.setStyle(
                TableStyle(
                    [
                        ("GRID", (0, 0), (-1, -1), 0.5, colors.grey),
                        ("VALIGN", (0, 0), (-1, -1), "TOP"),
                    ]
                )
            )
            story += [grid, Spacer(1, 8)]
        elif kind in ("ul", "ol"):
            for index, item in enumerate(value, start=1):
                story.append(
                    Paragraph(
                        html.escape(item),
                        styles["item"],
                        bulletText=f"{index}." if kind == "ol" else "•",
                    )
                )
        else:
            story.append(Paragraph(html.escape(value), styles[kind]))
        if handbook and number == 1:
            story.append(PageBreak())
            story.append(Paragraph("Contents", styles["h2"]))
            story += [
                Paragraph(html.escape(text), styles["p"])
                for kind, text in pieces[2:]
                if kind == "h1"
            ]

    def running(canvas: Any, template: Any) -> None:
        canvas.setFont("Helvetica", 8)
        canvas.drawString(margin, size[1] - 28, f"Skerrow Harbour Trust - {about['title']}")
        canvas.drawRightString(size[0] - margin, 24, f"Page {template.page}")

    template = BaseDocTemplate(
        str(path),
        pagesize=size,
        leftMargin=margin,
        rightMargin=margin,
        topMargin=52,
        bottomMargin=48,
        title=about["title"],
        author="Skerrow Harbour Trust",
    )
    frame = Frame(margin, 48, size[0] - 2 * margin, size[1] - 100, 0, 0, 0, 0)
    template.addPageTemplates(PageTemplate(frames=[frame], onPage=running))
    template.build(story)


def write_docx(path: Path, about: dict[str, str], pieces: list[Piece]) -> None:
    document = docx.Document()
    document.core_properties.title = about["title"]
    document.core_properties.author = "Skerrow Harbour Trust"
    for kind, value in pieces:
        if kind.startswith("h"):
            document.add_heading(value, int(kind[1]))
        elif kind == "p":
            document.add_paragraph(value)
        elif kind == "table":
            grid = document.add_table(rows=0, cols=len(value[0]), style="Table Grid")
            for row in value:
                for cell, text in zip(grid.add_row().cells, row, strict=True):
                    cell.text = text
        else:
            for item in value:
                document.add_paragraph(item, style="List Number" if kind == "ol" else "List Bullet")
    document.save(str(path))


def write_html(path: Path, about: dict[str, str], pieces: list[Piece]) -> None:
    """Write a page with navigation and a footer that reading must omit."""
    out: list[str] = []
    for kind, value in pieces:
        if kind == "table":
            head = "".join(f"<th>{html.escape(cell)}</th>" for cell in value[0])
            rows = "".join(
                "<tr>" + "".join(f"<td>{html.escape(c)}</td>" for c in row) + "</tr>\n"
                for row in value[1:]
            )
            out.append(
                f"<table>\n<thead><tr>{head}</tr></thead>\n<tbody>\n{rows}</tbody>\n</table>"
            )
        elif kind in ("ul", "ol"):
            items = "\n".join(f"  <li>{html.escape(item)}</li>" for item in value)
            out.append(f"<{kind}>\n{items}\n</{kind}>")
        else:
            anchor = (
                f' id="{re.sub(r"[^a-z0-9]+", "-", value.lower()).strip("-")}"'
                if kind != "p"
                else ""
            )
            out.append(f"<{kind}{anchor}>{html.escape(value)}</{kind}>")
    body = "\n".join(out)
    title = html.escape(about["title"])
    path.write_text(f"""<!doctype html>
<html lang="en">
<head><meta charset="utf-8"><title>{title}</title><style>body {{ font-family: serif }}</style></head>
<body>
<nav><a href="/">Skerrow Harbour Trust</a> <a href="/notices">Notices</a> <a href="/contact">Contact</a></nav>
<main>
{body}
</main>
<footer>Skerrow Harbour Trust, The Mole, Skerrow. Printed copies may be out of date.</footer>
<script>console.log("visited");</script>
</body>
</html>
""")  # noqa: E501


def write_markdown(path: Path, about: dict[str, str], pieces: list[Piece]) -> None:
    out = []
    for kind, value in pieces:
        if kind.startswith("h"):
            out.append("#" * int(kind[1]) + " " + value)
        elif kind == "p":
            out.append(value)
        elif kind == "table":
            rows = [value[0], ["---"] * len(value[0]), *value[1:]]
            out.append("\n".join("| " + " | ".join(row) + " |" for row in rows))
        else:
            marks = [f"{n}." if kind == "ol" else "-" for n in range(1, len(value) + 1)]
            out.append("\n".join(f"{mark} {item}" for mark, item in zip(marks, value, strict=True)))
    path.write_text("\n\n".join(out) + "\n")


def write_text(path: Path, about: dict[str, str], pieces: list[Piece]) -> None:
    out = []
    for kind, value in pieces:
        if kind.startswith("h"):
            out.append(f"{value}\n{('=' if kind == 'h1' else '-') * len(value)}")
        elif kind == "p":
            out.append(textwrap.fill(value, 78))
        else:
            assert kind in ("ul", "ol"), f"{path}: plain text has no {kind}"
            out.append("\n".join(f"- {item}" for item in value))
    path.write_text("\n\n".join(out) + "\n")


WRITERS: dict[str, Callable[[Path, dict[str, str], list[Piece]], None]] = {
    ".pdf": write_pdf,
    ".docx": write_docx,
    ".html": write_html,
    ".md": write_markdown,
    ".txt": write_text,
}


def main() -> None:
    for source in sorted((HERE / "text").glob("*/*.md")):
        about, pieces = parse(source.read_text())
        target = HERE / "documents" / source.parent.name / about["file"]
        target.parent.mkdir(parents=True, exist_ok=True)
        WRITERS[target.suffix](target, about, pieces)
        print(target.relative_to(HERE))


if __name__ == "__main__":
    main()
