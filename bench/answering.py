"""How fast a service answers: first event, whole answer, many at once, memory.

A knowledge base of 20,000 passages (the demo's documents among synthetic ones with repeated
passages, so that few need embedding) is asked the demo's questions over HTTP. The model is the
simulator, whose own time is measured in the same run.
"""

from __future__ import annotations

import argparse
import itertools
import random
import subprocess
import sys
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import numpy as np

from collection import ROOT, load_questions
from fontanel.client import Client
from fontanel.schemas import DeskKb, DeskSettings, FinishEvent, ModelIn, PieceEvent, StartEvent

sys.path.insert(0, str(ROOT))
from tests.conftest import Service, free_port, new_team

WORDS = [
    "tide",
    "berth",
    "crane",
    "rope",
    "valve",
    "pump",
    "deck",
    "survey",
    "lamp",
    "ladder",
    "fender",
    "grease",
    "hatch",
    "winch",
    "paint",
    "anchor",
    "keel",
    "rudder",
    "mast",
    "sail",
    "buoy",
    "chain",
]


def filler(documents: int) -> list[bytes]:
    """Made-up documents of 200 sections each, drawn from 400."""
    chance = random.Random(5)
    sections = []
    for number in range(400):
        sentences = [
            f"The {chance.choice(WORDS)} of set {number} is checked with the {chance.choice(WORDS)}"
            f" and the {chance.choice(WORDS)} in week {chance.randrange(52)}."
            for _ in range(14)
        ]
        sections.append(f"## Set {number}\n\n{' '.join(sentences)}\n")
    return [
        "\n".join(["# Maintenance\n", *chance.sample(sections, 200)]).encode()
        for _ in range(documents)
    ]


def wait_for(client: Client, kb: str) -> int:
    while (result := client.show_kb(kb)).pending:
        time.sleep(1)
    return result.passages


def stream(client: Client, desk: str, question: str) -> tuple[float, float, float, str]:
    """Seconds to the first event, to the first word and to the end; and who wrote."""
    started = time.monotonic()
    first = word = 0.0
    composer = "broken off"
    for event in client.stream_desk_answer(desk, question):
        first = first or time.monotonic() - started
        if isinstance(event, PieceEvent) and not word:
            word = time.monotonic() - started
        if isinstance(event, FinishEvent):
            composer = event.answer.composer
    return first, word, time.monotonic() - started, composer


def spread(seconds: list[float]) -> str:
    return (
        f"median {1000 * np.median(seconds):.0f} ms, p95 {1000 * np.percentile(seconds, 95):.0f}"
        f" ms, most {1000 * max(seconds):.0f} ms"
    )


def memory(service: Service) -> float:
    assert service.process is not None
    status = Path(f"/proc/{service.process.pid}/status").read_text()
    return (
        int(next(line for line in status.splitlines() if line.startswith("VmRSS")).split()[1])
        / 1000
    )


def model_server(*options: str) -> tuple[subprocess.Popen[bytes], str]:
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-m", "fontanel.cli", "simulator", "model", "--port", str(port), *options],
        stdout=subprocess.DEVNULL,
    )
    url = f"http://127.0.0.1:{port}/v1"
    while True:
        try:
            httpx.get(f"{url}/models")
            return process, url
        except httpx.TransportError:
            time.sleep(0.1)


def bare_first_word(url: str, prompt: list[dict[str, str]]) -> float:
    """Seconds until the simulator's own first word, without the service."""
    body = {"model": "honest", "messages": prompt, "stream": True}
    with httpx.Client() as http:
        http.get(f"{url}/models")  # the service keeps its connection too
        started = time.monotonic()
        with http.stream("POST", f"{url}/chat/completions", json=body) as response:
            for line in response.iter_lines():
                if '"content"' in line:
                    return time.monotonic() - started
    raise AssertionError("it wrote nothing")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--documents", type=int, default=100)
    parser.add_argument("--turns", type=int, default=2000)
    arguments = parser.parse_args()
    questions = [
        item["question"]
        for item in load_questions(ROOT / "demo" / "questions.jsonl")
        if not item.get("history")
    ]
    server, url = model_server()
    slow, slow_url = model_server("--pace", "0.25")
    with tempfile.TemporaryDirectory() as scratch:
        service = Service(Path(scratch) / "data").start()
        try:
            team = new_team(service)
            client = team.client
            with service.operator() as operator:
                operator.create_model(ModelIn(name="quick", url=url, remote="honest"))
                operator.create_model(ModelIn(name="slow", url=slow_url, remote="honest"))
            kb = client.create_kb("Large").slug
            for path in sorted((ROOT / "demo" / "documents").rglob("*")):
                if path.is_file():
                    client.add_document(kb, path)
            for number, content in enumerate(filler(arguments.documents)):
                client.add_document(kb, content, f"maintenance-{number}.md")
            print(f"{wait_for(client, kb)} passages", flush=True)
            desks = {}
            for name, model in (("plain", None), ("quick", "quick"), ("slow", "slow")):
                desks[name] = client.create_desk(
                    name, DeskSettings(kbs=[DeskKb(kb=kb)], model=model, evidence_needed=0.0)
                ).id
                client.publish_desk(desks[name])
            leaving(client, desks["slow"], questions[:20])
            measure(service, client, desks, questions, url, arguments.turns)
        finally:
            service.stop()
            server.terminate()
            slow.terminate()


def measure(
    service: Service,
    client: Client,
    desks: dict[str, str],
    questions: list[str],
    url: str,
    turns: int,
) -> None:
    for question in questions[:5]:
        stream(client, desks["plain"], question)
    plain = [stream(client, desks["plain"], question) for question in questions]
    print(f"first event: {spread([row[0] for row in plain])}")
    print(f"whole answer of the built-in composer: {spread([row[2] for row in plain])}", flush=True)
    over = []
    for question in questions[:30]:
        stream(client, desks["quick"], question)
        turn = client.list_desk_answers(desks["quick"], limit=1)[0]
        record = client.show_answer(turn.id)
        step = next((step for step in record.steps if step.name == "model"), None)
        if step is None or "first_words" not in step.details:
            continue
        prompt = [message.model_dump() for message in record.prompt]
        over.append(
            step.details["first_words"]
            - float(np.median([bare_first_word(url, prompt) for _ in range(3)]))
        )
    print(f"over the model's own first word: {spread(over)}", flush=True)
    at_once(client, desks["slow"], questions)
    before = memory(service)
    chance = random.Random(3)
    with ThreadPoolExecutor(4) as pool:
        half = list(
            pool.map(
                lambda _: stream(client, desks["plain"], chance.choice(questions)),
                range(turns // 2),
            )
        )
        middle = memory(service)
        rest = list(
            pool.map(
                lambda _: stream(client, desks["plain"], chance.choice(questions)),
                range(turns // 2),
            )
        )
    assert all(row[3] == "built-in" for row in half + rest)
    print(
        f"memory: {before:.0f} MB, after {turns // 2} turns {middle:.0f} MB, after {turns}"
        f" {memory(service):.0f} MB",
        flush=True,
    )


def leaving(client: Client, desk: str, questions: list[str]) -> None:
    """Measure askers who leave.

    The time until the call is cancelled and the turn stopped.
    """
    took = []
    for question in questions:
        events = client.stream_desk_answer(desk, question)
        start = next(events)
        assert isinstance(start, StartEvent)
        if not any(isinstance(event, PieceEvent) for event in itertools.islice(events, 3)):
            continue
        left = time.perf_counter()
        events.close()  # type: ignore[attr-defined]
        while (
            turn := client.show_conversation(start.conversation_id, desk=desk)[0]
        ).state == "answering":
            time.sleep(0.005)
        if turn.state == "stopped":
            took.append(time.perf_counter() - left)
    print(f"stopped after the asker has left, {len(took)} times: {spread(took)}", flush=True)


def at_once(client: Client, desk: str, questions: list[str]) -> None:
    """64 askers at the same moment, each with a model that streams for some seconds."""
    gate = threading.Barrier(64)

    def ask(number: int) -> tuple[float, float, float, str]:
        gate.wait()
        return stream(client, desk, questions[number % 16])

    with ThreadPoolExecutor(64) as pool:
        rows = list(pool.map(ask, range(64)))
    composers = {row[3] for row in rows}
    print(
        f"64 at once: written by {composers}; first event {spread([row[0] for row in rows])}; first"
        f" word {spread([row[1] for row in rows])}; end {spread([row[2] for row in rows])}",
        flush=True,
    )


if __name__ == "__main__":
    main()
