"""A team with one of everything, and requests that fit the API's description."""

from __future__ import annotations

from typing import Any

from fontanel import schemas as s
from fontanel.client import Client
from fontanel.service.app import create_app
from fontanel.settings import Settings
from fontanel.simulators.ears import ears_app
from fontanel.simulators.embedder import embedder_app
from tests.conftest import STORM, Service, TeamSetup, free_port, new_team, until
from tests.servers import served_on

OPENAPI = create_app(Settings()).openapi()


def seed(service: Service, name: str) -> tuple[TeamSetup, dict[str, str]]:
    """Create the team; return it with an id for each path parameter."""
    team = new_team(service, name)
    kb = team.client.create_kb("Private rules")
    added = team.client.add_document(kb.id, STORM, "storm-plan.md", {"year": "2024"}, wait=True)
    answer = team.client.ask(kb.id, "At what gust does the quay crane stop?")
    approved = team.client.approve_answer(kb.id, answer.turn_id)
    flag = flagged(team, kb.id)
    source = team.client.connect_source(kb.id, s.SourceIn(name="Tickets", kind="push", settings={}))
    sync = team.client.push_documents(
        kb.id, source.id, [s.PushedIn(id="t-1", text="The winch jams.")]
    ).sync
    receiver = team.client.add_receiver("https://ops.skerrow.example/events")
    desk = team.client.create_desk(
        "Private desk", s.DeskSettings(kbs=[s.DeskKb(kb=kb.id)], audience="link")
    )
    team.client.publish_desk(desk.id)
    link = team.client.make_desk_link(desk.id, "Private link")
    asked = team.client.ask_desk(desk.id, "At what gust does the quay crane stop?")
    question_set = team.client.create_set("Private questions")
    (question,) = team.client.add_set_questions(
        question_set.slug, [s.SetQuestionIn(question="At what gust does the quay crane stop?")]
    )
    trial = team.client.begin_trial(question_set.slug, kb=kb.id)
    other = team.client.begin_trial(question_set.slug, kb=kb.id)
    for one in (trial, other):
        team.client.wait_for_trial(one.id)
    prices = (
        "# Rules\n\nFresh water costs 3.20 crowns a tonne. A ship may lie at a berth for 5 days.\n"
    )
    team.client.write_document(kb.id, "prices.md", prices)
    team.client.wait_for_document(kb.id, "prices.md")
    team.client.propose_questions(kb.id, "prices.md")
    until(lambda: team.client.list_proposals(kb.id))
    unanswered = team.client.ask_desk(desk.id, "Who owns the private moon?")
    team.client.give_feedback(desk.id, unanswered.turn_id, helpful=False)
    until(lambda: team.client.list_gaps(text="moon"))
    invitation = team.client.invite("mate-to-be@skerrow.example", "A mate to be")
    with service.operator() as operator:
        model = operator.create_model(
            s.ModelIn(name=f"model of {team.slug}", url="http://127.0.0.1:9/v1", teams=[team.slug])
        )
        embedder = registered(operator, team.slug)
        transcriber = listening(operator, team.slug)
    until(
        lambda: all(document.state == "indexed" for document in team.client.list_documents(kb.id))
    )
    team.client.change_kb(kb.id, accepts_proposed_documents=True)
    proposed = team.client.propose_document(kb.id, "private-proposal.md", "# Private\n\nText.\n")
    channel = team.client.create_channel(
        s.ChannelIn(
            name="Private channel",
            desk=desk.id,
            kind="webhook",
            settings={"url": "http://127.0.0.1:9/replies"},
        )
    )
    message = team.client.test_channel(channel.id, "private room")
    followed = team.client.follow_answer(desk.id, asked.turn_id)
    ids = {
        "channel": channel.id,
        "message": message.id,
        "followed": followed.id,
        "secret": "ff_unknown",
        "desk": desk.id,
        "link": link.id,
        "turn": asked.turn_id,
        "answer": asked.turn_id,
        "approved": approved.id,
        "flag": flag,
        "model": model.name,
        "embedder": embedder,
        "transcriber": transcriber,
        "question_set": question_set.slug,
        "question": question.id,
        "proposal": team.client.list_proposals(kb.id)[0].id,
        "proposed": proposed.id,
        "gap": team.client.list_gaps(text="moon")[0].id,
        "feedback": team.client.list_feedback()[0].id,
        "trial": trial.id,
        "other": other.id,
        "source": source.id,
        "sync": sync,
        "receiver": receiver.id,
        "backup": "20260302T023000Z-4f1c9a",
        "team": team.slug,
        "kb": kb.slug,
        "document": added.document.id,
        "job": added.job.id if added.job else "",
        "number": "1",
        "page": "1",
        "picture": "0" * 64,
        "revision": added.document.revision.id,
        "conversation": answer.conversation_id,
        "member": team.email,
        "email": team.email,
        "invitation": invitation.id,
        "key": team.client.list_keys()[0].id,
    }
    return team, ids


def registered(operator: Client, team: str) -> str:
    """Register an embedder that is away by now; return its name."""
    name = f"embedder of {team}"
    port = free_port()
    with served_on(embedder_app(), port) as url:
        operator.register_embedder(
            s.EmbedderIn(name=name, url=url, remote="words", teams=[team], tries=1)
        )
    return name


def listening(operator: Client, team: str) -> str:
    """Register a transcriber that is away by now; return its name."""
    name = f"transcriber of {team}"
    with served_on(ears_app(), free_port()) as url:
        operator.register_transcriber(
            s.TranscriberIn(name=name, url=url, remote="tones", teams=[team], tries=1)
        )
    return name


def flagged(team: TeamSetup, kb: str) -> str:
    """Approve an answer on a document and change that; return the flag's id."""
    client = team.client
    client.write_document(kb, "gate.md", "The gate opens at 6:00.")
    client.wait_for_document(kb, "gate.md")
    place = {"document": "gate.md", "start": 0, "end": 23}
    body = {"question": "When does the gate open?", "text": "At 6:00.", "places": [place]}
    client.create_approved(kb, s.ApprovedIn.model_validate(body))
    document = client.show_document(kb, "gate.md")
    client.rewrite_document(kb, document.id, "The gate opens at 7:00.", document.version)
    until(lambda: client.list_flags(kb))
    return client.list_flags(kb)[0].id


def example(description: dict[str, Any], schema: dict[str, Any]) -> Any:
    """Return a value that fits a schema."""
    if "$ref" in schema:
        return example(
            description, description["components"]["schemas"][schema["$ref"].rsplit("/", 1)[-1]]
        )
    if "anyOf" in schema:
        return example(description, schema["anyOf"][0])
    if "default" in schema:
        return schema["default"]
    if "enum" in schema:
        return schema["enum"][0]
    kind = schema.get("type")
    if kind == "object":
        requested = schema.get("required", [])
        return {
            name: example(description, part)
            for name, part in schema.get("properties", {}).items()
            if name in requested
        }
    if kind == "array":
        return []
    if "pattern" in schema and "@" in schema["pattern"]:
        return "someone@skerrow.example"
    return {"integer": 1, "number": 0.5, "boolean": False}.get(
        kind or "", "a text that is long enough"
    )
