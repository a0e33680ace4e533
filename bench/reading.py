"""How well and how fast documents are read.

    .venv/bin/python bench/reading.py [--only agreement|speed|recognition|memory]

Agreement: manuals that Debian ships as HTML and as PDF are read in both forms. The HTML's words
must be in the PDF in order ("by block": blocks may be elsewhere; "bare": the same for PDFium's own
text, which shows what the PDF does not print), its headings as headings of similar rank, its tables
cell by cell. Speed is a ratio in one run: against bare text extraction by PDFium, and a bare parse
by lxml. `bench/collections.sh` fetches the manuals.
"""

from __future__ import annotations

import argparse
import csv
import io
import random
import re
import resource
import subprocess
import sys
import time
import unicodedata
from bisect import bisect_left
from collections.abc import Callable
from difflib import SequenceMatcher
from functools import partial
from pathlib import Path

import pypdfium2 as pdfium
from lxml import html as lxml_html

from collection import ROOT  # isort: skip
import itertools

from fontanel.core.reading import Reading, read
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.reading.paged.pdf import read_pdf

COLLECTIONS = ROOT / "var" / "collections"
#: Manual -> its HTML files (a folder and a pattern) and its PDF.
PAIRS = {
    "bash": ("bash", "bashref.html", "bash-pdf/bashref.pdf"),
    "debian-reference": (
        "debian-reference",
        "[ap][rp]*.en.html|ch*.en.html",
        "debian-reference-pdf/debian-reference.en.pdf",
    ),
    "developers-reference": (
        "developers-reference",
        "*.html",
        "developers-reference-pdf/developers-reference.pdf",
    ),
    "policy": ("policy/policy.html", "*.html", "policy-pdf/policy.pdf"),
    "faq": ("faq", "*.html", "faq-pdf/debian-faq.en.pdf"),
}
_NO_CONTENT = {"index.html", "search.html", "genindex.html", "index.en.html"}
_WORD = re.compile(r"\w+")


def words(text: str) -> list[str]:
    return _WORD.findall(unicodedata.normalize("NFKC", text).lower())


def in_order(wanted: list[str], found: list[str]) -> bytearray:
    """Return which words occur in order.

    5-grams that are unique in both are anchors (the longest increasing run of them); words between
    two anchors are compared one by one.
    """
    anchors = _increasing(_unique(wanted), _unique(found))
    same = bytearray(len(wanted))
    last_a = last_b = 0
    for a, b in [*anchors, (len(wanted), len(found))]:
        if a < last_a or b < last_b:
            continue
        if a > last_a and b > last_b and (a - last_a) * (b - last_b) < 25_000_000:
            matcher = SequenceMatcher(None, wanted[last_a:a], found[last_b:b], autojunk=False)
            for block in matcher.get_matching_blocks():
                same[last_a + block.a : last_a + block.a + block.size] = b"\1" * block.size
        while a < len(wanted) and b < len(found) and wanted[a] == found[b]:
            same[a] = 1
            a, b = a + 1, b + 1
        last_a, last_b = a, b
    return same


def placed(blocks: list[list[str]], found: list[str], same: bytearray) -> int:
    """Return how many words occur in order when whole blocks may be elsewhere.

    The two forms of a manual place footnotes, tables and captions differently.
    """
    places: dict[tuple[str, ...], list[int]] = {}
    for index in range(len(found) - 2):
        places.setdefault(tuple(found[index : index + 3]), []).append(index)
    total = at = 0
    for block in blocks:
        here = sum(same[at : at + len(block)])
        at += len(block)
        if here < 0.7 * len(block) and len(block) >= 3:
            starts = {
                place - offset
                for offset in range(len(block) - 2)
                for place in places.get(tuple(block[offset : offset + 3]), ())[:4]
            }
            for start in sorted(starts)[:60]:
                window = found[max(0, start - 2) : start + len(block) + len(block) // 4 + 3]
                matcher = SequenceMatcher(None, block, window, autojunk=False)
                here = max(here, sum(part.size for part in matcher.get_matching_blocks()))
        total += here
    return total


def _unique(items: list[str]) -> dict[tuple[str, ...], int]:
    places: dict[tuple[str, ...], int] = {}
    for index in range(len(items) - 4):
        key = tuple(items[index : index + 5])
        places[key] = -1 if key in places else index
    return {key: place for key, place in places.items() if place >= 0}


def _increasing(
    a: dict[tuple[str, ...], int], b: dict[tuple[str, ...], int]
) -> list[tuple[int, int]]:
    pairs = sorted((place, b[key]) for key, place in a.items() if key in b)
    tails: list[int] = []
    at: list[int] = []
    before: list[int] = []
    for index, (_, place) in enumerate(pairs):
        position = bisect_left(tails, place)
        before.append(at[position - 1] if position else -1)
        if position == len(tails):
            tails.append(place)
            at.append(index)
        else:
            tails[position], at[position] = place, index
    chain = []
    index = at[-1] if at else -1
    while index >= 0:
        chain.append(pairs[index])
        index = before[index]
    return chain[::-1]


def _headings(reading: Reading) -> list[tuple[str, int]]:
    out = []
    for block in reading.blocks:
        if block.kind == "heading":
            key = "".join(
                words(
                    re.sub(
                        r"^(?:(?:[Cc]hapter|[Aa]ppendix|[Pp]art)\s+)?[\dA-Z]{1,3}(?:\.\d+)*\.?:?\s+",
                        "",
                        reading.text[block.start : block.end],
                    )
                )
            )
            if key:
                out.append((key, block.level))
    return out


def _tables(reading: Reading) -> list[list[list[str]]]:
    return [
        [
            ["".join(words(cell)) for cell in line.split(CELL_SEPARATOR)]
            for line in reading.text[b.start : b.end].split("\n")
        ]
        for b in reading.blocks
        if b.kind == "table"
    ]


def html_files(name: str) -> list[Path]:
    folder, patterns, _ = PAIRS[name]
    results = {
        path for pattern in patterns.split("|") for path in (COLLECTIONS / folder).glob(pattern)
    }
    return sorted(path for path in results if path.name not in _NO_CONTENT)


def agreement(*, verbose: bool) -> None:
    print(
        f"{'manual':22} {'words':>8} {'in order':>9} {'by block':>9} {'bare':>7} {'headings':>9}"
        f" {'found':>7} {'levels':>7} {'cells':>7} {'agree':>7}"
    )
    for name, (_, _, pdf) in PAIRS.items():
        path = COLLECTIONS / pdf
        if not path.exists():
            print(f"{name:22} not fetched: bench/collections.sh")
            continue
        printed = read(path.read_bytes(), path.name)
        printed_words = words(printed.text)
        bare_words = words(_bare_text(path.read_bytes()))
        total = matched = moved = bare = headings = result = ordered = pairs = cells = agreed = 0
        there = _headings(printed)
        grids = _tables(printed)
        for file in html_files(name):
            page = read(file.read_bytes(), file.name)
            blocks = [words(page.text[block.start : block.end]) for block in page.blocks]
            requested = list(itertools.chain.from_iterable(blocks))
            same = in_order(requested, printed_words)
            got = sum(same)
            total += len(requested)
            matched += got
            moved += placed(blocks, printed_words, same)
            bare += placed(blocks, bare_words, in_order(requested, bare_words))
            if verbose and got < 0.97 * len(requested):
                print(f"   {file.name}: {got}/{len(requested)} words")
            mine = _headings(page)
            # Headings as a sequence, so that one of the same name elsewhere does not count.
            matcher = SequenceMatcher(
                None, [k for k, _ in mine], [k for k, _ in there], autojunk=False
            )
            both = [
                (mine[m.a + i], there[m.b + i])
                for m in matcher.get_matching_blocks()
                for i in range(m.size)
            ]
            headings += len(mine)
            result += len(both)
            if verbose and len(both) < len(mine):
                stored = {key for (key, _), _ in both}
                print(
                    f"   {file.name}: headings missing:"
                    f" {[k for k, _ in mine if k not in stored][:8]}"
                )
            for ((_, a), (_, b)), ((_, c), (_, d)) in itertools.pairwise(both):
                pairs += 1
                ordered += (a > c) - (a < c) == (b > d) - (b < d)
            for table in _tables(page):
                best = max((_agreed(table, other) for other in grids), default=0)
                cells += sum(1 for row in table for cell in row if cell)
                agreed += best
                if verbose and best < 0.9 * sum(1 for row in table for cell in row if cell):
                    print(
                        f"   {file.name}: table {table[0][:3]}: {best} of"
                        f" {sum(1 for r in table for c in r if c)} cells"
                    )
        print(
            f"{name:22} {total:8,} {matched / max(total, 1):9.1%} {moved / max(total, 1):9.1%} "
            f"{bare / max(total, 1):7.1%} {headings:9} {result / max(headings, 1):7.1%} "
            f"{ordered / max(pairs, 1):7.1%} {cells:7} {agreed / max(cells, 1):7.1%}"
        )


def _agreed(wanted: list[list[str]], found: list[list[str]]) -> int:
    """Return cells that are in the same column of a row with the same first cell."""
    rows: dict[str, list[list[str]]] = {}
    for row in found:
        rows.setdefault(row[0], []).append(row)
    total = 0
    for row in wanted:
        total += max(
            (
                sum(1 for i, cell in enumerate(row) if cell and i < len(other) and other[i] == cell)
                for other in rows.get(row[0], [])
            ),
            default=0,
        )
    return total


def _compared(
    times: int, bare: Callable[[], object], own: Callable[[], object]
) -> tuple[float, float]:
    """Return the lowest CPU time of each, measured in turns to share noise."""
    best = [float("inf"), float("inf")]
    for _ in range(times):
        for index, work in enumerate((bare, own)):
            started = time.process_time()
            work()
            best[index] = min(best[index], time.process_time() - started)
    return best[0], best[1]


def _bare_text(data: bytes) -> str:
    """Return PDFium's own text of the pages."""
    document = pdfium.PdfDocument(data)
    parts = []
    for index in range(len(document)):
        page = document[index]
        text_page = page.get_textpage()
        parts.append(text_page.get_text_range())
        text_page.close()
        page.close()
    document.close()
    return "\n".join(parts)


def _each(work: Callable[[bytes], object], pages: list[bytes]) -> None:
    """Page after page, keeping nothing of the one before."""
    for page in pages:
        work(page)


def _read_without_recognition(data: bytes) -> object:
    return read_pdf(data, lambda done, total: None, recognition=False).build("en")


def speed() -> None:
    together = [0.0, 0.0]
    for _, (_, _, pdf) in PAIRS.items():
        data = (COLLECTIONS / pdf).read_bytes()
        bare, own = _compared(
            7, partial(_bare_text, data), partial(_read_without_recognition, data)
        )
        together = [together[0] + bare, together[1] + own]
        print(
            f"{pdf:55} bare {bare:6.2f} s  read {own:6.2f} s  ratio {bare / own:.2f}  (wanted 0.5)"
        )
    print(
        f"{'the five together':55} bare {together[0]:6.2f} s  read {together[1]:6.2f} s  ratio"
        f" {together[0] / together[1]:.2f}"
    )
    pages = [path.read_bytes() for path in (COLLECTIONS / "python").rglob("*.html")][:300]
    bare, own = _compared(
        5,
        lambda: _each(lxml_html.document_fromstring, pages),
        lambda: _each(lambda page: read(page, "a.html"), pages),
    )
    print(
        f"{len(pages)} pages of HTML: bare parse {bare:.2f} s  read {own:.2f} s  ratio"
        f" {bare / own:.2f}  (wanted 0.33)"
    )
    table = io.StringIO()
    writer = csv.writer(table)
    writer.writerow(["Berth", "Vessel", "Date", "Draught", "Cargo", "Remark"])
    rng = random.Random(5)
    for row in range(100_000):
        writer.writerow(
            [
                f"Berth {rng.randint(1, 9)}",
                f"Vessel {row}",
                f"2026-0{rng.randint(1, 9)}-1{rng.randint(0, 9)}",
                round(rng.uniform(2, 12), 1),
                rng.choice(["timber", "stone", "salt"]),
                "arrived in good order",
            ]
        )
    data = table.getvalue().encode()
    started = time.perf_counter()
    read(data, "a.csv")
    print(f"100,000 rows of CSV: {time.perf_counter() - started:.1f} s  (wanted under 10)")


def memory() -> None:
    """Return the peak memory of a process that reads 1,000 pages of a manual."""
    source = pdfium.PdfDocument((COLLECTIONS / PAIRS["bash"][2]).read_bytes())
    joined = pdfium.PdfDocument.new()
    while len(joined) < 1000:
        joined.import_pages(source, list(range(min(len(source), 1000 - len(joined)))))
    target = ROOT / "var" / "bench" / "1000-pages.pdf"
    target.parent.mkdir(parents=True, exist_ok=True)
    joined.save(str(target))
    code = (
        "import resource,sys,json; from pathlib import Path; from fontanel.core.reading import"
        " read; reading = read(Path(sys.argv[1]).read_bytes(), 'a.pdf');"
        " json.dumps(reading.to_dict()); print(reading.pages,"
        " resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)"
    )
    out = subprocess.run(
        [sys.executable, "-c", code, str(target)], capture_output=True, text=True, check=True
    ).stdout
    pages, peak = out.split()
    print(f"{pages} pages: peak {peak} MB  (wanted under 500)")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", choices=("agreement", "speed", "recognition", "memory"))
    parser.add_argument("--verbose", action="store_true", help="say what disagrees")
    arguments = parser.parse_args()
    if arguments.only in (None, "agreement"):
        agreement(verbose=arguments.verbose)
    if arguments.only in (None, "speed"):
        speed()
    if arguments.only in (None, "memory"):
        memory()
    if arguments.only in (None, "recognition"):
        from recognition import recognition

        recognition()


if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_AS, (8 << 30, 8 << 30))
    main()
