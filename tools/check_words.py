"""Check that text uses the field's terms: `make check` runs this.

Prints each line of source, tests and documentation with a word that the glossary replaces.
"""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent

#: Patterns in prose and identifiers -> what to write instead.
REPLACED = {
    r"\banew\b": "again, or rebuild",
    r"\btells? of\b": "say what it reports",
    r"\b(?:it|this|which|that) is no (?!longer|more)": "is not a",
    r"\bbears? (?:it )?out\b": "support",
    r"\bby words alone\b": "with keyword search only",
    r"\b(?:most|least)_(?!common)[a-z]+\b": "max_ or min_",
    r"\bMOST_[A-Z]+\b": "MAX_",
    r"\bworkshop\b": "runtime",
    r"\bserving edition\b": "active edition",
    r"\bedition that serves\b": "active edition",
    r"\bstrictness\b": "evidence needed",
    r"\bStandIn\b|\bstand-in\b": "simulator",
    r"\bfurther on\b": "below",
}
#: Documents that benchmarks read.
DOCUMENTS = ("bench/offices/documents/", "training/documents/")
#: Files that quote the words.
EXCEPT = {
    "tools/check_words.py",
    "src/fontanel/engine/editions/pack_format.py",  # packs of earlier versions
    "src/fontanel/records/migrations/versions/v0009_plain_names.py",
}
SUFFIXES = {".py", ".md", ".ts", ".tsx"}


def main() -> int:
    """Print the findings; return 1 if there are any."""
    listed = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True)
    found = 0
    for name in listed.stdout.splitlines():
        path = ROOT / name
        if path.suffix not in SUFFIXES or name in EXCEPT or not path.is_file():
            continue
        if name.startswith(DOCUMENTS):
            continue
        for number, line in enumerate(path.read_text().splitlines(), 1):
            for pattern, better in REPLACED.items():
                if match := re.search(pattern, line):
                    print(f"{name}:{number}: {match.group()!r}: write {better}")
                    found += 1
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
