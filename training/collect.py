"""Copy what is held out of training into collections that `bench/quality.py` reads.

Writes `var/training/collections/<name>` and `<name>.jsonl`: `offices-tuning` and `packages-tuning`,
to choose weights and thresholds with, and `packages-reporting`, for reporting alone.
"""

from __future__ import annotations

import gzip
import json
import shutil
from pathlib import Path
from typing import Any

from prepare import HERE, WORK, document_names, plain_name, split_of

TARGET = WORK / "collections"


def questions_of(place: int, item: dict[str, Any], file: str) -> list[dict[str, Any]]:
    """Return an item's questions as benchmarks read them."""
    gold = [{"file": file, "evidence": item["e"]}]
    asked = [
        ("d", "direct", item["d"]),
        *((f"n{n}", "paraphrase", text) for n, text in enumerate(item["n"], 1)),
        ("k", "keyword", item["k"]),
    ]
    questions: list[dict[str, Any]] = [
        {
            "id": f"{place}{mark}",
            "kind": kind,
            "question": text,
            "gold": gold,
            "answer_keys": [item["a"]],
        }
        for mark, kind, text in asked
    ]
    near_miss = {"kind": "unanswerable", "question": item["u"], "gold": [], "answer_keys": []}
    return [*questions, {"id": f"{place}u", **near_miss}]


def main() -> None:
    items = [json.loads(line) for line in (HERE / "items.jsonl").read_text().splitlines()]
    documents = document_names()
    files = [(HERE / "documents" / name, name) for name in documents]
    for line in (HERE / "files.tsv").read_text().splitlines():
        package, file = line.split("\t")
        files.append((WORK / "packages" / package / file, file))
    shutil.rmtree(TARGET, ignore_errors=True)
    names = {}
    for path, name in files:
        part = split_of(name, documents)
        if part == "train":
            continue
        collection = f"{'offices' if name in documents else 'packages'}-{part}"
        names[name] = (collection, plain_name(name))
        if not path.is_file():
            continue
        data = path.read_bytes()
        target = TARGET / collection / names[name][1]
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(gzip.decompress(data) if name.endswith(".gz") else data)
    questions: dict[str, list[dict[str, Any]]] = {name: [] for name, _ in names.values()}
    for place, item in enumerate(items):
        if item["file"] in names:
            collection, file = names[item["file"]]
            questions[collection] += questions_of(place, item, file)
    for collection, rows in questions.items():
        lines = "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows)
        Path(f"{TARGET / collection}.jsonl").write_text(lines)
        print(collection, len(rows), "questions")


if __name__ == "__main__":
    main()
