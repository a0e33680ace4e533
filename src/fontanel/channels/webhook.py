"""A signed webhook: any program that can post JSON, and take JSON at an address.

Messages are signed as the Standard Webhooks specification defines, or with an HMAC (RFC 2104) of
SHA-256 in a header. Replies are signed as Standard Webhooks, with an id that stays the same.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import json
import time
from collections.abc import Mapping
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Any, Literal

import httpx
from pydantic import Field
from standardwebhooks import Webhook

from fontanel.channels.protocol import (
    MAX_NAME,
    Channel,
    ChannelSettings,
    ChannelUnavailable,
    Incoming,
    Kind,
    NotSigned,
    Outgoing,
)
from fontanel.channels.words import opinion
from fontanel.channels.writing import plain_text
from fontanel.errors import Refused
from fontanel.sources.network.reach import (
    AddressForbidden,
    check_url,
    http_client,
    origin_of,
)
from fontanel.sources.protocol import SettingsModel, SettingsRefused, SourceLimits

#: Seconds that a signature's time may be off.
_TOLERANCE = 300
_SECRET = "whsec_"
#: What a reply consists of, unless the settings say otherwise.
_REPLY = (
    "id=id", "text=text", "markdown=markdown", "room=room", "thread=thread",
    "in_reply_to=in_reply_to", "replaces=replaces", "sources=sources",
)  # fmt: skip
_PARTS = frozenset(
    ("id", "text", "markdown", "room", "thread", "in_reply_to", "replaces", "sources")
)


def _path(default: str, title: str, description: str = "") -> Any:
    return Field(default, max_length=200, title=title, description=description)


class WebhookSettings(ChannelSettings):
    url: str = Field(
        min_length=1,
        max_length=2000,
        title="Reply address",
        description="Where replies are posted.",
        examples=["https://chat.skerrow.example/hooks/answers"],
    )
    id_path: str = _path("id", "Path of the id", "Names separated by dots; numbers for lists.")
    text_path: str = _path("text", "Path of the text")
    sender_path: str = _path("sender", "Path of the sender", "An address or id.")
    name_path: str = _path("name", "Path of the sender's name", "May be missing.")
    room_path: str = _path("room", "Path of the room", "May be missing.")
    thread_path: str = _path(
        "thread", "Path of the thread", "Without one, a sender's messages in a room are a thread."
    )
    bot_path: str = _path(
        "bot", "Path that marks programs", "Messages that have a value there are ignored."
    )
    corrects_path: str = _path(
        "corrects", "Path of the corrected message", "The id of the question that it replaces."
    )
    reaction_path: str = _path("reaction", "Path of a reaction", "Such as 👍, yes or -1.")
    about_path: str = _path("about", "Path of the reply that a reaction is about")
    ignored_senders: list[str] = Field(
        [], max_length=100, title="Senders to ignore", description="Such as the chat's own user."
    )
    signature: Literal["standard", "hmac"] = Field(
        "standard",
        title="Signature",
        description="standard: as Standard Webhooks defines. hmac: HMAC of SHA-256 in a header.",
    )
    signature_header: str = Field("X-Signature", max_length=100, title="Header of the HMAC")
    signature_prefix: str = Field(
        "", max_length=50, title="Prefix of the HMAC", description="What its value begins with."
    )
    signed_content: str = Field(
        "{body}",
        max_length=100,
        title="What the HMAC is of",
        description="With {body}, and {timestamp} for the header of the time.",
    )
    timestamp_header: str = Field(
        "",
        max_length=100,
        title="Header of the time",
        description="Seconds since 1970. Messages older than five minutes are refused.",
    )
    reply_fields: list[str] = Field(
        [],
        max_length=30,
        title="Fields of a reply",
        description="path=part, or path='text'. The parts are id, text, markdown, room, thread,"
        " in_reply_to, replaces, sources. Without entries: these names as they are.",
    )


class WebhookCredentials(SettingsModel):
    secret: str = Field(
        "",
        max_length=1000,
        title="Secret of signatures",
        description="Without one, a new secret is made and shown once.",
    )


class WebhookChannel(Channel):
    """Posts replies to the address."""

    def __init__(
        self, settings: WebhookSettings, credentials: WebhookCredentials, limits: SourceLimits
    ) -> None:
        check_url(settings.url, "url")
        _check_content(settings)
        check_secret(credentials)
        self._fields = _reply_fields(settings.reply_fields)
        self._settings = settings
        self._secret = credentials.secret
        self._client = http_client(limits)

    def send(self, message: Outgoing) -> str:
        """Post a message; the reply's JSON may have an `id`, under which it is known there."""
        body = json.dumps(self._body(message), ensure_ascii=False)
        at = datetime.now(UTC)
        headers = {
            "Content-Type": "application/json; charset=utf-8",
            "webhook-id": message.id,
            "webhook-timestamp": str(int(at.timestamp())),
            "webhook-signature": _webhook(self._secret).sign(message.id, at, body),
        }
        try:
            with self._client.stream(
                "POST", self._settings.url, content=body.encode(), headers=headers
            ) as response:
                if not response.is_success:
                    raise ChannelUnavailable(
                        f"The reply address answered with status {response.status_code}.",
                        again=response.status_code != httpx.codes.GONE,
                    )
                return _id_of(response) or message.id
        except AddressForbidden as error:
            raise ChannelUnavailable(str(error), again=False) from error
        except httpx.HTTPError as error:
            raise ChannelUnavailable(
                f"The reply address does not answer: {str(error) or type(error).__name__}."
            ) from error

    def close(self) -> None:
        self._client.close()

    def _body(self, message: Outgoing) -> dict[str, Any]:
        parts = {
            "id": message.id,
            "text": plain_text(message.text, message.sources),
            "markdown": message.text,
            "room": message.address.get("room", ""),
            "thread": message.address.get("thread", ""),
            "in_reply_to": message.in_reply_to,
            "replaces": message.replaces,
            "sources": [asdict(source) for source in message.sources],
        }
        result: dict[str, Any] = {}
        for path, part in self._fields:
            value = part[1:-1] if part.startswith("'") else parts[part]
            if value not in ("", []):
                _put(result, path, value)
        return result


def accept(
    settings: WebhookSettings,
    credentials: WebhookCredentials,
    headers: Mapping[str, str],
    body: bytes,
) -> Incoming:
    """Return a posted message.

    Args:
        headers: With names in lower case.

    Raises:
        NotSigned: it has no valid signature, or an old one.
        Refused: it is not a message.
    """
    _check_signature(settings, credentials.secret, headers, body)
    try:
        data = json.loads(body)
    except (ValueError, RecursionError) as error:
        raise Refused("body", "The message is not JSON.") from error

    def at(path: str) -> str:
        value = _at(data, path)
        if value is None or isinstance(value, dict | list):
            return ""
        return str(value)[:MAX_NAME]

    message_id, sender = at(settings.id_path), at(settings.sender_path)
    for name, value in (("id", message_id), ("sender", sender)):
        if not value:
            path = getattr(settings, f"{name}_path")
            raise Refused("body", f"The message has no {name}: there is nothing at {path!r}.")
    text = _at(data, settings.text_path)
    reaction, room = at(settings.reaction_path), at(settings.room_path)
    ignored = ""
    if _at(data, settings.bot_path):
        ignored = "A program wrote it."
    elif sender in settings.ignored_senders:
        ignored = "The sender is ignored."
    elif reaction and opinion(reaction) is None:
        ignored = f"The reaction {reaction!r} says nothing about the answer."
    thread = at(settings.thread_path)
    return Incoming(
        id=message_id,
        sender=sender,
        sender_name=at(settings.name_path),
        room=room,
        thread=thread or f"{room}/{sender}",
        text=text if isinstance(text, str) else "",
        address={"room": room, "thread": thread},
        corrects=at(settings.corrects_path),
        about=at(settings.about_path) if reaction else "",
        helpful=opinion(reaction) if reaction else None,
        ignored=ignored,
    )


def _check_signature(
    settings: WebhookSettings, secret: str, headers: Mapping[str, str], body: bytes
) -> None:
    if settings.signature == "standard":
        try:
            _webhook(secret).verify(body, dict(headers), json_parse=False)
        except Exception as error:
            raise NotSigned from error
        return
    stamp = headers.get(settings.timestamp_header.lower(), "") if settings.timestamp_header else ""
    if settings.timestamp_header and not (
        stamp.isascii() and stamp.isdigit() and abs(time.time() - int(stamp[:15])) <= _TOLERANCE
    ):
        raise NotSigned
    before, _, after = settings.signed_content.replace("{timestamp}", stamp).partition("{body}")
    digest = hmac.new(secret.encode(), before.encode() + body + after.encode(), hashlib.sha256)
    sent = headers.get(settings.signature_header.lower(), "").encode()
    prefix = settings.signature_prefix.encode()
    forms = (digest.hexdigest().encode(), base64.b64encode(digest.digest()))
    matches = [hmac.compare_digest(prefix + form, sent) for form in forms]
    if not any(matches):
        raise NotSigned


def _check_content(settings: WebhookSettings) -> None:
    if "{body}" not in settings.signed_content:
        raise SettingsRefused("signed_content", "What the HMAC is of must contain {body}.")
    if "{timestamp}" in settings.signed_content and not settings.timestamp_header:
        raise SettingsRefused("timestamp_header", "Name the header that contains the time.")


def check_secret(credentials: WebhookCredentials) -> None:
    """Check that a secret can be used. Raises SettingsRefused."""
    secret = credentials.secret
    if secret.startswith(_SECRET):
        try:
            base64.b64decode(secret.removeprefix(_SECRET), validate=True)
        except (binascii.Error, ValueError) as error:
            raise SettingsRefused(
                "secret", f"A secret that begins with {_SECRET} goes on in base64."
            ) from error
    elif len(secret) < 16:
        raise SettingsRefused("secret", "A secret has 16 characters or more.")


def _webhook(secret: str) -> Webhook:
    return Webhook(secret if secret.startswith(_SECRET) else secret.encode())


def _reply_fields(lines: list[str]) -> list[tuple[str, str]]:
    fields = []
    for line in lines or _REPLY:
        path, equals, part = (piece.strip() for piece in line.partition("="))
        text = len(part) > 1 and part.startswith("'") and part.endswith("'")
        if not path or not equals or not (text or part in _PARTS):
            names = ", ".join(sorted(_PARTS))
            raise SettingsRefused(
                "reply_fields", f"{line!r} is not path=part. The parts are {names}, and 'text'."
            )
        fields.append((path, part))
    return fields


def _at(data: Any, path: str) -> Any:
    """Return the value at a path of names and numbers, None if there is none."""
    for name in path.split(".") if path else ():
        if isinstance(data, dict):
            data = data.get(name)
        elif isinstance(data, list) and name.isdecimal() and int(name[:6]) < len(data):
            data = data[int(name[:6])]
        else:
            return None
    return data if path else None


def _put(data: dict[str, Any], path: str, value: Any) -> None:
    *outer, last = path.split(".")
    for name in outer:
        inner = data.setdefault(name, {})
        data = inner if isinstance(inner, dict) else data
    data[last] = value


def _id_of(response: httpx.Response) -> str:
    """Return the id in a reply's JSON, of which only the beginning is read."""
    body = b""
    for chunk in response.iter_bytes(8192):
        body += chunk
        if len(body) > 8192:
            return ""
    try:
        value = json.loads(body)
    except (ValueError, RecursionError):
        return ""
    found = value.get("id") if isinstance(value, dict) else None
    return str(found)[:MAX_NAME] if isinstance(found, str | int) else ""


KIND = Kind(
    name="webhook",
    title="Signed webhook",
    description="Any chat that can post messages as JSON, and take replies at an address.",
    settings=WebhookSettings,
    credentials=WebhookCredentials,
    open=lambda settings, credentials, limits, position: WebhookChannel(
        settings, credentials, limits
    ),
    address=lambda settings, room: {"room": room, "thread": ""},
    destination=lambda settings: origin_of(settings.url),
    accept=accept,
    set_up=(
        "Have the chat post each message as JSON, signed with the channel's secret. Unless you"
        " change the paths it needs id, sender and text, and may have room, thread and bot.",
        "Take replies as JSON at the reply address, and check their signature with the same"
        " secret. A reply names the message that it answers as in_reply_to.",
        "A reply may arrive twice if the connection fails; its id is the same then.",
    ),
    makes_secret=True,
)
