"""A simulated chat room with a page: its messages are posted to a channel, replies come back.

Messages and replies are signed as the Standard Webhooks specification defines.
"""

from __future__ import annotations

import json
import secrets
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
from standardwebhooks import Webhook, WebhookVerificationError
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, Response
from starlette.routing import Route

_PAGE = Path(__file__).with_name("chat.html")
_PREFIX = "whsec_"
_ROOM = "harbour"
#: Seconds that the channel may take to acknowledge a message.
_SECONDS = 10.0


@dataclass(slots=True)
class _Message:
    """A message in the room; `state` is what became of one that was posted to the channel."""

    id: str
    sender: str
    text: str
    thread: str
    at: str
    bot: bool = False
    edited: bool = False
    state: str = ""
    reactions: list[str] = field(default_factory=list)
    sources: list[Any] = field(default_factory=list)


def chat_app(secret: str, channel: str = "") -> Starlette:
    """A chat room.

    Args:
        secret: The secret that messages and replies are signed with.
        channel: The address that messages are posted to; `POST /connect` sets it later.
    """
    room = _Room(secret, channel)
    return Starlette(
        routes=[
            Route("/", room.page),
            Route("/connect", room.connect, methods=["POST"]),
            Route("/messages", room.list_messages),
            Route("/messages", room.write, methods=["POST"]),
            Route("/messages/{message}/edit", room.edit, methods=["POST"]),
            Route("/messages/{message}/react", room.react, methods=["POST"]),
            Route("/replies", room.take_reply, methods=["POST"]),
        ]
    )


class _Room:
    def __init__(self, secret: str, channel: str) -> None:
        self._webhook = Webhook(secret if secret.startswith(_PREFIX) else secret.encode())
        self._channel = channel
        self._messages: dict[str, _Message] = {}

    async def page(self, request: Request) -> Response:
        return FileResponse(_PAGE, headers={"Cache-Control": "no-cache"})

    async def connect(self, request: Request) -> Response:
        """Set the address that messages are posted to."""
        self._channel = str((await request.json())["channel"])
        return Response(status_code=204)

    async def list_messages(self, request: Request) -> Response:
        return JSONResponse([asdict(message) for message in self._messages.values()])

    async def write(self, request: Request) -> Response:
        """Take a message of the page, and post it to the channel."""
        data = await request.json()
        message = _Message(
            id=secrets.token_hex(8),
            sender=str(data.get("sender") or "mate@skerrow.example"),
            text=str(data["text"]),
            thread=str(data.get("thread") or ""),
            at=datetime.now(UTC).isoformat(),
        )
        message.thread = message.thread or message.id
        self._messages[message.id] = message
        message.state = await self._post(
            id=message.id, sender=message.sender, text=message.text, thread=message.thread
        )
        return JSONResponse(asdict(message))

    async def edit(self, request: Request) -> Response:
        """Replace the text of a message."""
        message = self._messages[request.path_params["message"]]
        message.text, message.edited = str((await request.json())["text"]), True
        message.state = await self._post(
            id=secrets.token_hex(8),
            corrects=message.id,
            sender=message.sender,
            text=message.text,
            thread=message.thread,
        )
        return JSONResponse(asdict(message))

    async def react(self, request: Request) -> Response:
        """Add a reaction to a reply."""
        data = await request.json()
        message = self._messages[request.path_params["message"]]
        message.reactions = [str(data["reaction"])]
        await self._post(
            id=secrets.token_hex(8),
            sender=str(data.get("sender") or "mate@skerrow.example"),
            reaction=str(data["reaction"]),
            about=message.id,
            thread=message.thread,
        )
        return JSONResponse(asdict(message))

    async def take_reply(self, request: Request) -> Response:
        """Show a reply of the channel, or edit the one that it replaces."""
        body = await request.body()
        try:
            self._webhook.verify(body, dict(request.headers), json_parse=False)
        except WebhookVerificationError:
            return JSONResponse({"detail": "The reply is not signed."}, status_code=401)
        data = json.loads(body)
        known = self._messages.get(str(data.get("replaces") or data["id"]))
        text, sources = str(data.get("markdown") or data["text"]), data.get("sources", [])
        if known is not None:
            known.edited = known.edited or known.text != text
            known.text, known.sources = text, sources
            return JSONResponse({"id": known.id})
        message = _Message(
            id=str(data["id"]),
            sender="Fontanel",
            text=text,
            thread=str(data.get("thread") or data["id"]),
            at=datetime.now(UTC).isoformat(),
            bot=True,
            sources=sources,
        )
        self._messages[message.id] = message
        return JSONResponse({"id": message.id})

    async def _post(self, **message: str) -> str:
        """Post a message to the channel; return what became of it."""
        if not self._channel:
            return "The room is not connected to a channel."
        body = json.dumps({**message, "room": _ROOM})
        at = datetime.now(UTC)
        headers = {
            "Content-Type": "application/json",
            "webhook-id": message["id"],
            "webhook-timestamp": str(int(at.timestamp())),
            "webhook-signature": self._webhook.sign(message["id"], at, body),
        }
        try:
            async with httpx.AsyncClient(timeout=_SECONDS) as client:
                response = await client.post(self._channel, content=body, headers=headers)
            said = response.json()
        except (httpx.HTTPError, ValueError) as error:
            return f"The channel does not answer: {str(error) or type(error).__name__}"
        if not response.is_success:
            return str(said.get("detail", response.status_code))
        return "" if said.get("state") == "taken" else str(said.get("reason") or said.get("state"))
