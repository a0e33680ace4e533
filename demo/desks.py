"""The demo's desks: one that quotes, one for passengers, one written by a model."""

from __future__ import annotations

from typing import Any

from fontanel.client import Client, Conflict
from fontanel.schemas import DeskKb, DeskSettings, ModelIn

#: What the simulator model server is asked to be, by the name that desks use.
MODELS = (("harbour-writer", "honest"), ("careless-writer", "lying"))
INSTRUCTIONS = """Speak to ships' crews: plainly, in the harbour's own terms.
Name the berth or the channel that a rule is about.
When a limit is exceeded, say who decides."""


def settings_of(
    marine: dict[str, Any], passengers: dict[str, Any]
) -> list[tuple[dict[str, Any], str, DeskSettings]]:
    """Each desk with its team."""
    berths = DeskSettings(
        purpose="Answers crews and agents about berths, pilots, weather and cranes.",
        greeting="Good watch. What do you need to know about the harbour?",
        first_questions=[
            "What is the wind limit for leaving the outer berth?",
            "Which channel does the lock keeper answer on?",
            "What do I do when I see oil on the water?",
        ],
        symbol="⚓",
        colour="harbour",
        kbs=[
            DeskKb(
                kb=marine["kb"],
                use_for=(
                    "rules of the harbour: berths, pilots, wind limits, cranes, the lock, dangerous"
                    " goods"
                ),
            ),
            DeskKb(
                kb="live-sources", use_for="buoys, small craft, crane manuals, notices of this year"
            ),
        ],
        audience="link",
        frame_origins=["https://intranet.skerrow.example"],
    )
    tickets = DeskSettings(
        purpose="Answers passengers about tickets, luggage, pets and the winter timetable.",
        greeting="Welcome aboard. Ask about your crossing.",
        first_questions=["Can I bring my dog?", "What does a motorcycle cost?"],
        symbol="⛴",
        colour="moss",
        kbs=[DeskKb(kb=passengers["kb"])],
        length="short",
    )
    written = berths.model_copy(
        update={
            "model": "harbour-writer",
            "instructions": INSTRUCTIONS,
            "symbol": "W",
            "colour": "ink",
            "audience": "members",
        }
    )
    return [
        (marine, "Harbour desk", berths),
        (passengers, "Ticket desk", tickets),
        (marine, "Written answers", written),
    ]


def build(url: str, notes: dict[str, Any], models_port: int) -> list[tuple[str, str]]:
    """Create missing models and desks; return names and links of those open to guests."""
    with Client(url) as operator:
        operator.sign_in("operator@localhost", notes["operator"])
        existing = {model.name for model in operator.list_models()}
        for name, remote in MODELS:
            if name not in existing:
                address = f"http://127.0.0.1:{models_port}/v1"
                operator.create_model(
                    ModelIn(
                        name=name, url=address, remote=remote, price_read=0.4, price_written=1.6
                    )
                )
    links: list[tuple[str, str]] = notes.setdefault("links", [])
    for team, name, settings in settings_of(notes["teams"][0], notes["teams"][1]):
        with Client(url, team["key"], team["team"]) as client:
            try:
                desk = client.create_desk(name, settings)
            except Conflict:
                continue
            client.publish_desk(desk.id, "first version")
            if settings.audience == "link":
                links.append((name, client.make_desk_link(desk.id, "Demo").url))
    return links
