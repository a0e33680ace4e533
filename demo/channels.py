"""The demo's channel: a simulated chat room in which the Harbour desk answers."""

from __future__ import annotations

import time
from typing import Any

import httpx

from fontanel.client import Client
from fontanel.schemas import ChannelChange, ChannelIn

NAME = "Harbour chat"
_QUESTION = "What is the wind limit for leaving the outer berth?"
#: Seconds that the simulated room may take to start.
_PATIENCE = 20.0


def build_channel(url: str, notes: dict[str, Any], chat_port: int) -> None:
    """Add the channel if it is missing, connect the room to it, and ask a first question."""
    marine = notes["teams"][0]
    room = f"http://127.0.0.1:{chat_port}"
    settings = {"url": f"{room}/replies", "hand_over_to": "harbour"}
    credentials = {"secret": notes["chat_secret"]}
    with Client(url, marine["key"], marine["team"]) as client:
        existing = {channel.name: channel for channel in client.list_channels()}
        if NAME not in existing:
            channel = client.create_channel(
                ChannelIn(
                    name=NAME,
                    desk="harbour-desk",
                    kind="webhook",
                    settings=settings,
                    credentials=credentials,
                )
            )
        else:
            # The port may be another one than last time.
            change = ChannelChange(settings=settings, credentials=credentials)
            channel = client.change_channel(existing[NAME].id, change)
    notes["chat_room"] = room
    deadline = time.monotonic() + _PATIENCE
    while True:
        try:
            httpx.post(f"{room}/connect", json={"channel": channel.address})
            break
        except httpx.TransportError:
            if time.monotonic() > deadline:
                raise
            time.sleep(0.1)
    httpx.post(f"{room}/messages", json={"text": _QUESTION})
