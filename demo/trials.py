"""The demo's question set with a trial of two desks, and questions that nobody could answer."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from fontanel.client import Client
from fontanel.schemas import SetQuestionIn

SET = "Harbour questions"
#: What crews asked in vain; the last one of each group was asked again and again.
ASKED = (
    "When is the canteen on the quay open?",
    "When is the quay canteen open?",
    "Is the canteen on the quay open on Sundays?",
    "Who repairs the radar on the mole?",
    "Which company repairs the mole radar?",
    "Where can crews wash their clothes?",
)
_FILE = Path(__file__).parent / "questions.jsonl"


def build_trials(url: str, notes: dict[str, Any]) -> None:
    """Make the question set if it is missing, and begin a trial of both desks of its team."""
    marine = notes["teams"][0]
    with Client(url, marine["key"], marine["team"]) as client:
        if any(one.name == SET for one in client.list_sets()):
            return
        made = client.create_set(SET, "What crews ask, and what no document answers.")
        client.add_set_questions(made.slug, list(_questions(marine["team"])))
        for question in ASKED:
            client.ask_desk("harbour-desk", question)
        answer = client.ask_desk("harbour-desk", "When may a vessel leave the outer berth?")
        client.give_feedback(
            "harbour-desk",
            answer.turn_id,
            helpful=False,
            reason="incomplete",
            comment="I meant the wind limit.",
        )
        first = client.begin_trial(made.slug, desk="harbour-desk")
        client.begin_trial(made.slug, desk="written-answers", compare_with=first.id)


def _questions(team: str) -> list[SetQuestionIn]:
    """Return the questions about a team's documents, and those that no document answers."""
    questions = []
    for item in map(json.loads, _FILE.read_text().splitlines()):
        folders = {gold["file"].split("/")[0] for gold in item["gold"]}
        if folders <= {team}:
            questions.append(
                SetQuestionIn(
                    question=item["question"],
                    history=item.get("history", []),
                    documents=[gold["file"].split("/")[1] for gold in item["gold"]],
                    contains=["|".join(forms) for forms in item["answer_keys"]],
                    must_decline=not item["gold"],
                    kind=item["kind"],
                )
            )
    return questions
