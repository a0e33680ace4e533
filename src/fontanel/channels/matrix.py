"""Matrix (client-server API of the Matrix specification): rooms that an account is invited to.

Answers stay in the thread of their question and are edited when it is; reactions are opinions of an
answer. Encrypted rooms are not supported.
"""

from __future__ import annotations

import json
import re
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import Any
from urllib.parse import quote

import httpx
import structlog
from pydantic import Field

from fontanel.channels.protocol import (
    MAX_NAME,
    Channel,
    ChannelSettings,
    ChannelUnavailable,
    Incoming,
    Kind,
    MessageRefused,
    Outgoing,
    Take,
)
from fontanel.channels.words import opinion
from fontanel.channels.writing import html_text, plain_text
from fontanel.sources.network.reach import AddressForbidden, check_url, http_client, origin_of
from fontanel.sources.protocol import HeaderSecret, SettingsModel, SettingsRefused, SourceLimits

log = structlog.get_logger()

_DEVICE = "FONTANEL"
#: Events that a look returns for a room; what lies between is fetched in pages.
_EVENTS = 50
_MAX_PAGES = 20
#: The maximum bytes of a response.
_MAX_RESPONSE = 20_000_000
#: Seconds for which the number of a room's members is remembered.
_REMEMBERED = 300.0
_WRITING_MS = 30_000
_FALLBACK = re.compile(r"^(?:> .*\n)+\n?")


class MatrixSettings(ChannelSettings):
    server: str = Field(
        min_length=1,
        max_length=500,
        title="Homeserver",
        examples=["https://matrix.skerrow.example"],
    )
    accept_invitations: bool = Field(
        default=True,
        title="Accept invitations",
        description="Join rooms on the invitation of somebody of the same homeserver.",
    )
    answer_everything: bool = Field(
        default=False,
        title="Answer every message in rooms",
        description="Otherwise those that mention the account, and those in the thread of an"
        " answer. In a room with one other person every message is answered.",
    )


class MatrixCredentials(SettingsModel):
    user: str = Field("", max_length=MAX_NAME, title="User name")
    password: str = Field("", max_length=1000, title="Password")
    token: HeaderSecret = Field("", title="Access token", description="Instead of a password.")


class MatrixChannel(Channel):
    """An account on a homeserver."""

    def __init__(
        self,
        settings: MatrixSettings,
        credentials: MatrixCredentials,
        limits: SourceLimits,
        position: str,
    ) -> None:
        check_url(settings.server, "server")
        if not credentials.token and not (credentials.user and credentials.password):
            raise SettingsRefused("token", "Enter an access token, or a user name and a password.")
        self._settings = settings
        self._credentials = credentials
        self._limits = limits
        self._position = position
        self._base = settings.server.rstrip("/") + "/_matrix/client/v3"
        self._client = http_client(limits)
        self._user = ""
        self._lock = threading.Lock()
        #: Rooms with the number of their members, and when it was looked up.
        self._members: dict[str, tuple[int, float]] = {}

    def close(self) -> None:
        self._client.close()

    def receive(self, take: Take, stopping: Callable[[], bool]) -> None:
        """Follow the rooms."""
        self._sign_in()
        wait = round(max(1.0, min(20.0, self._limits.seconds / 2)) * 1000)
        since = self._position
        if not since:
            first = self._sync("", 0, events=1)  # earlier messages stay unanswered
            since = str(first["next_batch"])
            self._answer_invitations(first)
        take([], since)
        while not stopping():
            found = self._sync(since, wait)
            rooms = found.get("rooms", {})
            messages = [
                message
                for room, state in rooms.get("join", {}).items()
                for event in self._events(room, state.get("timeline", {}), since)
                if (message := self._read(room, event)) is not None
            ]
            since = str(found["next_batch"])
            take(messages, since)
            self._answer_invitations(found)

    def _sign_in(self) -> None:
        """Find out who we are; sign in first if there is no token."""
        own = self._credentials
        if own.token:
            self._client.headers["Authorization"] = f"Bearer {own.token}"
        else:
            login = {
                "type": "m.login.password",
                "identifier": {"type": "m.id.user", "user": own.user},
                "password": own.password,
                "device_id": _DEVICE,
            }
            token = str(self._call("POST", "/login", login)["access_token"])
            self._client.headers["Authorization"] = f"Bearer {token}"
        self._user = str(self._call("GET", "/account/whoami")["user_id"])

    def _sync(self, since: str, wait: int, events: int = _EVENTS) -> dict[str, Any]:
        wanted = {"room": {"timeline": {"limit": events}, "ephemeral": {"types": []}}}
        query = {"filter": json.dumps({**wanted, "presence": {"types": []}}), "timeout": str(wait)}
        if since:
            query["since"] = since
        return self._call("GET", "/sync", query=query)

    def _events(
        self, room: str, timeline: Mapping[str, Any], since: str
    ) -> Iterator[dict[str, Any]]:
        """Yield a room's new events; those before a gap are fetched, the oldest first."""
        earlier: list[dict[str, Any]] = []
        at = timeline.get("prev_batch")
        for _ in range(_MAX_PAGES if timeline.get("limited") else 0):
            query = {"dir": "b", "from": str(at), "to": since, "limit": "100"}
            page = self._call("GET", f"/rooms/{quote(room, '')}/messages", query=query)
            earlier += page.get("chunk", [])
            at = page.get("end")
            if not at or not page.get("chunk"):
                break
        yield from reversed(earlier)
        yield from timeline.get("events", [])

    def _answer_invitations(self, found: Mapping[str, Any]) -> None:
        for room, invitation in found.get("rooms", {}).get("invite", {}).items():
            self._answer_invitation(room, invitation)

    def _answer_invitation(self, room: str, invitation: Mapping[str, Any]) -> None:
        """Join a room on the invitation of somebody of the same homeserver."""
        domain = self._user.partition(":")[2]
        for event in invitation.get("invite_state", {}).get("events", []):
            mine = event.get("type") == "m.room.member" and event.get("state_key") == self._user
            if mine and str(event.get("sender", "")).partition(":")[2] == domain:
                if self._settings.accept_invitations:
                    self._call("POST", f"/rooms/{quote(room, '')}/join", {})
                return

    def _read(self, room: str, event: Mapping[str, Any]) -> Incoming | None:
        """Return a message that is meant for us; None for others, and for malformed ones."""
        try:
            return self._incoming(room, event)
        except (TypeError, AttributeError, ValueError, KeyError):
            # It must not stand in the way of those after it.
            log.exception("an event could not be read", event_id=str(event.get("event_id"))[:100])
            return None

    def _incoming(self, room: str, event: Mapping[str, Any]) -> Incoming | None:
        """Return a message that is meant for us; None for others."""
        content, sender = event.get("content"), str(event.get("sender", ""))
        event_id = str(event.get("event_id", ""))
        if not isinstance(content, dict) or sender == self._user or not event_id:
            return None
        relation = content.get("m.relates_to")
        relation = relation if isinstance(relation, dict) else {}
        about = str(relation.get("event_id", ""))
        message = Incoming(
            id=event_id[:MAX_NAME],
            sender=sender[:MAX_NAME],
            room=room,
            thread=f"{room}|{event_id}"[:MAX_NAME],
            address={"room": room, "event": event_id},
        )
        if event.get("type") == "m.reaction":
            helpful = opinion(str(relation.get("key", "")))
            return (
                None
                if helpful is None
                else replace(message, about=about, helpful=helpful, if_known=True)
            )
        if event.get("type") == "m.room.member":
            with self._lock:
                self._members.pop(room, None)
            return None
        if event.get("type") == "m.room.encrypted" and self._alone(room):
            return replace(message, ignored="The room is encrypted, which is not supported.")
        if event.get("type") != "m.room.message" or content.get("msgtype") not in (
            "m.text",
            "m.notice",
        ):
            return None
        alone = self._alone(room)
        if content["msgtype"] == "m.notice":
            return replace(message, ignored="A program wrote it.") if alone else None
        return self._text_message(message, content, relation, alone=alone)

    def _text_message(
        self,
        message: Incoming,
        content: Mapping[str, Any],
        relation: Mapping[str, Any],
        *,
        alone: bool,
    ) -> Incoming:
        kind, about = str(relation.get("rel_type", "")), str(relation.get("event_id", ""))
        corrected = kind == "m.replace"
        shown = content.get("m.new_content") if corrected else content
        shown = shown if isinstance(shown, dict) else content
        reply = relation.get("m.in_reply_to")
        replied = str(reply.get("event_id", "")) if isinstance(reply, dict) else ""
        text = str(shown.get("body", ""))
        if replied:
            text = _FALLBACK.sub("", text)
        text, named = self._without_name(text, shown)
        root = about if kind == "m.thread" else ""
        thread = f"{message.room}|{root}" if root else message.room if alone else message.thread
        return replace(
            message,
            text=text,
            thread=thread[:MAX_NAME],
            replies_to="" if root else replied[:MAX_NAME],
            corrects=about[:MAX_NAME] if corrected else "",
            if_known=not (alone or named or self._settings.answer_everything),
            address={
                **message.address,
                # In rooms with others every question begins a thread.
                "root": root or ("" if alone else str(message.address["event"])),
            },
        )

    def _without_name(self, text: str, content: Mapping[str, Any]) -> tuple[str, bool]:
        """Return a text without our name at its beginning, and whether it mentions us."""
        mentions = content.get("m.mentions")
        users = mentions.get("user_ids", []) if isinstance(mentions, dict) else []
        local = self._user[1:].partition(":")[0]
        name = re.compile(
            rf"^\s*(?:{re.escape(self._user)}|@?{re.escape(local)}\b)[:,]?\s*", re.IGNORECASE
        )
        plain = name.sub("", text, count=1)
        return plain, plain != text or (isinstance(users, list) and self._user in users)

    def _alone(self, room: str) -> bool:
        """Return whether a room has one other person only."""
        with self._lock:
            number, at = self._members.get(room, (0, 0.0))
        if not number or time.monotonic() - at > _REMEMBERED:
            joined = self._call("GET", f"/rooms/{quote(room, '')}/joined_members").get("joined", {})
            number = len(joined)
            with self._lock:
                self._members[room] = number, time.monotonic()
        return number <= 2

    def acknowledge(self, address: Mapping[str, Any]) -> None:
        """Show that an answer is being written."""
        if self._user:
            path = f"/rooms/{quote(address['room'], '')}/typing/{quote(self._user, '')}"
            self._call("PUT", path, {"typing": True, "timeout": _WRITING_MS})

    def send(self, message: Outgoing) -> str:
        """Send a message; the homeserver recognises a repetition by its id."""
        room = self._room(str(message.address["room"]))
        path = f"/rooms/{quote(room, '')}/send/m.room.message/{quote(message.id, '')}"
        try:
            return str(self._call("PUT", path, self._content(message))["event_id"])
        except ChannelUnavailable as error:
            cause = error.__cause__
            refused = isinstance(cause, httpx.HTTPStatusError) and cause.response.status_code in (
                httpx.codes.BAD_REQUEST,
                httpx.codes.FORBIDDEN,
                httpx.codes.NOT_FOUND,
                httpx.codes.REQUEST_ENTITY_TOO_LARGE,
            )
            if refused:
                raise MessageRefused(str(error)) from error
            raise

    def _room(self, name: str) -> str:
        """Return the id of a room, which may be named by an alias; it is joined then."""
        if not name.startswith("#"):
            return name
        return str(self._call("POST", f"/join/{quote(name, '')}", {})["room_id"])

    def _content(self, message: Outgoing) -> dict[str, Any]:
        content: dict[str, Any] = {
            "msgtype": "m.notice",  # programs do not answer notices
            "body": plain_text(message.text, message.sources),
            "format": "org.matrix.custom.html",
            "formatted_body": html_text(message.text, message.sources),
        }
        if message.replaces:
            return {
                **content,
                "body": f"* {content['body']}",
                "m.new_content": content,
                "m.relates_to": {"rel_type": "m.replace", "event_id": message.replaces},
            }
        event, root = message.address.get("event"), message.address.get("root")
        if event:
            content["m.relates_to"] = {"m.in_reply_to": {"event_id": event}}
        if root:
            content["m.relates_to"] |= {
                "rel_type": "m.thread",
                "event_id": root,
                "is_falling_back": True,
            }
        return content

    def _call(
        self,
        method: str,
        path: str,
        body: Mapping[str, Any] | None = None,
        query: Mapping[str, str] | None = None,
    ) -> dict[str, Any]:
        """Return the response of the homeserver. Raises ChannelUnavailable."""
        try:
            with self._client.stream(
                method, self._base + path, json=body, params=query
            ) as response:
                content = b""
                for chunk in response.iter_bytes():
                    content += chunk
                    if len(content) > _MAX_RESPONSE:
                        raise ChannelUnavailable("The homeserver's response is too large.")
            response.raise_for_status()
            result = json.loads(content)
        except AddressForbidden as error:
            raise ChannelUnavailable(str(error), again=False) from error
        except httpx.HTTPStatusError as error:
            status = error.response.status_code
            final = status == httpx.codes.UNAUTHORIZED or (
                status == httpx.codes.FORBIDDEN and path == "/login"
            )
            raise ChannelUnavailable(
                f"The homeserver answered with status {status}{_reason(content)}.", again=not final
            ) from error
        except (httpx.HTTPError, ValueError, RecursionError) as error:
            raise ChannelUnavailable(
                f"The homeserver does not answer: {str(error) or type(error).__name__}."
            ) from error
        return result if isinstance(result, dict) else {}


def _reason(content: bytes) -> str:
    """Return the reason in an error of the homeserver."""
    try:
        error = str(json.loads(content)["error"])[:200]
    except (ValueError, KeyError, TypeError, RecursionError):
        return ""
    return f": {error.rstrip('.')}"


KIND = Kind(
    name="matrix",
    title="Matrix",
    description="An account on a Matrix homeserver, in the rooms that it is invited to.",
    settings=MatrixSettings,
    credentials=MatrixCredentials,
    open=MatrixChannel,
    address=lambda settings, room: {"room": room},
    destination=lambda settings: origin_of(settings.server),
    set_up=(
        "Register an account of its own for the desk, and enter its password or an access token.",
        "Invite the account to rooms that are not encrypted. In a room with others people mention"
        " it; in one with a single person every message is a question.",
        "Hand over to a room, by its id (!...) or its alias (#...).",
    ),
)
