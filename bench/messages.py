"""Measure how soon posted messages are acknowledged and answered, 200 at once.

    .venv/bin/python bench/messages.py [--messages 200] [--at-once 32]

The bare request is one to /health/ready, by the same client, at the same time of the run.
"""

from __future__ import annotations

import argparse
import http.server
import json
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

import httpx
from standardwebhooks import Webhook

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.conftest import STORM, Service, new_team, until

from fontanel import schemas as s

QUESTION = "At what gust does the quay crane stop?"


def quantile(values: list[float], share: float) -> float:
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, round(share * (len(ordered) - 1)))]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--messages", type=int, default=200)
    parser.add_argument("--at-once", type=int, default=32)
    options = parser.parse_args()
    replies: dict[str, float] = {}

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
            replies[body["in_reply_to"]] = time.monotonic()
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    receiver = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=receiver.serve_forever, daemon=True).start()
    with tempfile.TemporaryDirectory() as folder:
        environment = {"FONTANEL_SOURCE_NETWORKS": "127.0.0.0/8"}
        service = Service(Path(folder) / "data", environment).start()
        try:
            measure(service, receiver.server_port, replies, options.messages, options.at_once)
        finally:
            service.stop()


def measure(
    service: Service, port: int, replies: dict[str, float], messages: int, at_once: int
) -> None:
    team = new_team(service)
    kb = team.client.create_kb("Rules").slug
    team.client.add_document(kb, STORM, "storm.md", wait=True)
    settings = s.DeskSettings(kbs=[s.DeskKb(kb=kb)], audience="link")
    desk = team.client.create_desk("Desk", settings).slug
    team.client.publish_desk(desk)
    channel = team.client.create_channel(
        s.ChannelIn(
            name="Bench",
            desk=desk,
            kind="webhook",
            settings={"url": f"http://127.0.0.1:{port}/"},
        )
    )
    webhook = Webhook(channel.secret)
    address = channel.address or ""
    posted: dict[str, float] = {}
    client = httpx.Client(limits=httpx.Limits(max_connections=at_once), timeout=60)

    def post(number: int) -> float:
        name = f"m-{number}"
        body = json.dumps({"id": name, "sender": f"{number}@x.example", "text": QUESTION})
        moment = datetime.now(UTC)
        headers = {
            "webhook-id": name,
            "webhook-timestamp": str(int(moment.timestamp())),
            "webhook-signature": webhook.sign(name, moment, body),
            "content-type": "application/json",
        }
        posted[name] = time.monotonic()
        client.post(address, content=body, headers=headers).raise_for_status()
        return time.monotonic() - posted[name]

    def bare(number: int) -> float:
        started = time.monotonic()
        client.get(f"{service.url}/health/ready").raise_for_status()
        return time.monotonic() - started

    def run(one: Callable[[int], float], name: str) -> None:
        with ThreadPoolExecutor(at_once) as pool:
            seconds = list(pool.map(one, range(messages)))
        print(
            f"{name:14} median {quantile(seconds, 0.5) * 1000:6.0f} ms   "
            f"p95 {quantile(seconds, 0.95) * 1000:6.0f} ms   max {max(seconds) * 1000:6.0f} ms"
        )

    run(bare, "bare request")
    run(post, "acknowledged")
    until(lambda: len(replies) == messages, seconds=600)
    waits = [replies[name] - at for name, at in posted.items()]
    took = max(replies.values()) - min(posted.values())
    shown = f"median {quantile(waits, 0.5):6.1f} s    p95 {quantile(waits, 0.95):6.1f} s"
    print(f"{'answered':14} {shown}    all {messages} in {took:.1f} s")


if __name__ == "__main__":
    main()
