"""Kill the service at random while a trial of many questions runs, and repeat the trial.

    .venv/bin/python bench/stress/interrupted.py [--questions 500] [--kills 20] [--seed 1]

Afterwards each question must have been asked once, and the results of a second trial of the same
questions, which nothing interrupts, must be the same byte for byte. The documents and questions are
the made-up ones of `bench/offices`.
"""

from __future__ import annotations

import argparse
import json
import random
import sqlite3
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))

from tests.conftest import Service, TeamSetup, new_team, until

from fontanel.schemas import SetQuestionIn

_OFFICES = Path(__file__).parents[1] / "offices"


def questions(count: int) -> list[SetQuestionIn]:
    """Return so many different questions, some of them follow-ups."""
    lines = (_OFFICES / "questions.jsonl").read_text().splitlines()
    texts = [json.loads(line)["question"] for line in lines]
    return [
        SetQuestionIn(
            question=texts[n % len(texts)],
            history=[texts[(n * 7 + 1) % len(texts)]] if n % 5 == 4 else [],
        )
        for n in range(count)
    ]


def begin(team: TeamSetup, count: int) -> tuple[str, str]:
    """Load the documents and questions; return the names of the knowledge base and the set."""
    kb = team.client.create_kb("Offices").slug
    for path in sorted((_OFFICES / "documents").iterdir()):
        team.client.add_document(kb, path.read_bytes(), path.name, wait=True)
    name = team.client.create_set("Many").slug
    asked = questions(count)
    for start in range(0, count, 100):
        team.client.add_set_questions(name, asked[start : start + 100])
    return kb, name


def counted(team: TeamSetup, data: Path, trial: str) -> str:
    """Return how many answers a trial has, and how many questions trials asked in all."""
    results = team.client.list_trial_results(trial)
    with closing(sqlite3.connect(data / "fontanel.db")) as records:
        uses = "SELECT count(*) FROM uses WHERE asker LIKE 'trial:%' AND outcome != 'unfinished'"
        (asked,) = records.execute(uses).fetchone()
    return f"{len({one.answer_id for one in results})} answers; {asked} questions asked in all"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--questions", type=int, default=500)
    parser.add_argument("--kills", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    rng = random.Random(arguments.seed)
    with tempfile.TemporaryDirectory() as folder:
        service = Service(Path(folder) / "data").start()
        team = new_team(service)
        kb, name = begin(team, arguments.questions)
        trial = team.client.begin_trial(name, kb=kb).id
        steps = sorted(rng.sample(range(1, arguments.questions), arguments.kills))
        for asked in steps:
            until(lambda: team.client.show_trial(trial).asked >= asked, 600)  # noqa: B023
            time.sleep(rng.random() * 2)
            before = team.client.show_trial(trial).asked
            service.kill()
            service.start()
            after = team.client.show_trial(trial).asked
            print(f"killed after {before} questions; {after} are stored")
            assert after >= before
        done = team.client.wait_for_trial(trial)
        assert (done.state, done.asked) == ("done", arguments.questions), done
        first = team.client.export_trial(trial)
        print(counted(team, service.data, trial))
        again = team.client.wait_for_trial(team.client.begin_trial(name, kb=kb).id)
        second = team.client.export_trial(again.id)
        print(counted(team, service.data, again.id))
        print("the results are", "the same" if first == second else "NOT the same")
        for one, other in zip(first.splitlines(), second.splitlines(), strict=True):
            if one != other:
                print(f"- {one}\n+ {other}")
        service.stop()


if __name__ == "__main__":
    main()
