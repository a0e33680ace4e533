"""How soon past answers are flagged when the text that they cite changes.

    .venv/bin/python bench/flagging.py [--answers 100000]

Starts a service, asks questions about a document of 200 prices, and copies their answers in the
database until there are enough. Then a revision changes every second price.
"""

from __future__ import annotations

import argparse
import sqlite3
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.conftest import Service, new_team

_PRICES, _ASKED = 200, 20


def document(extra: int) -> str:
    """Return a document of prices, of which every second is higher by `extra`."""
    lines = [
        f"Berth {n} costs {100 + n + extra * (n % 2)} crowns a night.\n" for n in range(_PRICES)
    ]
    return "# Prices\n\n" + "\n".join(lines)


def copy_answers(path: Path, count: int) -> None:
    """Copy turns and their sources until there are as many."""
    with sqlite3.connect(path) as db:
        turns, sources = (
            [row[1] for row in db.execute(f"pragma table_info({table})")]
            for table in ("turns", "answer_sources")
        )
        have = db.execute("select count(*) from turns").fetchone()[0]
        for copy in range(1, count // have):
            mark = f"'-{copy}'"
            shown = [
                f"id||{mark}" if name == "id"
                else f"number+{copy * 1000}" if name == "number"
                else "null" if name == "asked_key"
                else name
                for name in turns
            ]  # fmt: skip
            db.execute(
                f"insert into turns ({', '.join(turns)}) select {', '.join(shown)} from turns"
                " where id not like '%-%'"
            )
            kept = [name for name in sources if name != "key"]
            moved = [f"turn_id||{mark}" if name == "turn_id" else f'"{name}"' for name in kept]
            names = ", ".join(f'"{name}"' for name in kept)
            db.execute(
                f"insert into answer_sources ({names}) select {', '.join(moved)}"
                " from answer_sources where turn_id not like '%-%'"
            )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--answers", type=int, default=100_000)
    options = parser.parse_args()
    data = Path(tempfile.mkdtemp()) / "data"
    service = Service(data).start()
    team = new_team(service)
    client = team.client
    kb = client.create_kb("Prices").slug
    client.write_document(kb, "prices.md", document(0))
    client.wait_for_document(kb, "prices.md")
    for number in range(_ASKED):
        client.ask(kb, f"How much does berth {number * 7 + 1} cost?")
    service.stop()
    copy_answers(data / "fontanel.db", options.answers)
    service.start()
    row = client.show_document(kb, "prices.md")
    client.rewrite_document(kb, row.id, document(7), row.version)
    client.wait_for_document(kb, "prices.md")
    began = time.perf_counter()
    while not client.list_changed_answers(limit=1):
        time.sleep(0.02)
    seconds = time.perf_counter() - began
    with sqlite3.connect(data / "fontanel.db") as db:
        answers = db.execute("select count(*) from turns").fetchone()[0]
        flagged = db.execute("select count(*) from answer_sources where change != ''").fetchone()
    print(
        f"{answers:,} past answers, {flagged[0]:,} citations flagged {seconds:.2f} s after the"
        " revision was indexed"
    )
    service.stop()


if __name__ == "__main__":
    main()
