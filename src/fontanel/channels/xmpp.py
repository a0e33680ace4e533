"""XMPP (RFC 6120, RFC 6121): people who write to an account, and rooms that it joins (XEP-0045).

Answers refer to their question (XEP-0461) and are corrected when it is (XEP-0308); reactions
(XEP-0444) are opinions of an answer; a chat state shows that an answer is being made (XEP-0085).
"""

from __future__ import annotations

import asyncio
from collections import OrderedDict
from collections.abc import Callable, Mapping
from concurrent.futures import Future
from concurrent.futures import TimeoutError as FutureTimeout
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from typing import Any

from pydantic import Field
from slixmpp import JID, ClientXMPP, InvalidJID
from slixmpp.exceptions import IqError, IqTimeout, PresenceError
from slixmpp.xmlstream.xmlstream import NotConnectedError

from fontanel.channels.protocol import (
    MAX_NAME,
    Channel,
    ChannelSettings,
    ChannelUnavailable,
    Incoming,
    Kind,
    Outgoing,
    Take,
    checked_address,
)
from fontanel.channels.service_records import servers_of
from fontanel.channels.words import opinion
from fontanel.channels.writing import plain_text
from fontanel.sources.protocol import SettingsModel, SettingsRefused, SourceLimits

_PORT, _SERVICE = 5222, "_xmpp-client._tcp"
#: Seconds to wait for the name server.
_DNS_SECONDS = 5.0
#: Seconds between two looks at whether to stop, and between two checks of the connection.
_LOOK, _PING = 0.2, 60.0
#: Ids that a room gave to our messages, for replies that name these.
_REMEMBERED = 2000
#: The status of a room that joining created (XEP-0045, section 10.1).
_CREATED = 201
_PLUGINS = (
    "xep_0004",
    "xep_0030",
    "xep_0045",
    "xep_0085",
    "xep_0199",
    "xep_0203",
    "xep_0308",
    "xep_0359",
    "xep_0428",
    "xep_0444",
    "xep_0461",
)


class XmppSettings(ChannelSettings):
    jid: str = Field(
        min_length=3,
        max_length=MAX_NAME,
        title="Account",
        description="The address that people write to.",
        examples=["ask@chat.skerrow.example"],
    )
    rooms: list[str] = Field(
        [],
        max_length=50,
        title="Rooms",
        description="Rooms to join. Messages that begin with the nickname are answered, and replies"
        " to an answer.",
    )
    nickname: str = Field("Fontanel", min_length=1, max_length=100, title="Nickname in rooms")
    answer_everything: bool = Field(
        default=False,
        title="Answer every message in rooms",
        description="For rooms in which people only ask.",
    )
    server: str = Field(
        "",
        max_length=260,
        title="Server",
        description="host:port. By default those that the domain's service records name, or the"
        " domain at port 5222.",
    )


class XmppCredentials(SettingsModel):
    password: str = Field(min_length=1, max_length=1000, title="Password")


class XmppChannel(Channel):
    """An account. Its connection lives in the loop of the thread that receives."""

    def __init__(
        self,
        settings: XmppSettings,
        credentials: XmppCredentials,
        limits: SourceLimits,
        position: str,
    ) -> None:
        self._settings = settings
        self._credentials = credentials
        self._limits = limits
        self._since = _moment(position)
        self._jid = _jid(settings.jid, "jid")
        self._rooms = [_jid(room, "rooms") for room in settings.rooms]
        self._server = _server(settings.server) if settings.server else None
        self._loop: asyncio.AbstractEventLoop | None = None
        self._client: _Client | None = None
        self._connected = False

    def receive(self, take: Take, stopping: Callable[[], bool]) -> None:
        """Stay connected, and pass on what people write."""
        seconds = self._limits.seconds
        servers = (
            [self._server]
            if self._server
            else servers_of(self._jid.domain, _SERVICE, _PORT, min(seconds, _DNS_SECONDS))
        )
        for place, server in enumerate(servers, start=1):
            try:
                asyncio.run(self._receive(server, take, stopping))
            except ChannelUnavailable as error:
                if self._connected or not error.again or place == len(servers):
                    raise
            else:
                return

    async def _receive(
        self, server: tuple[str, int], take: Take, stopping: Callable[[], bool]
    ) -> None:
        self._loop, self._connected = asyncio.get_running_loop(), False
        host, port = server
        address = checked_address(host, port, self._limits)
        client = _Client(
            self._jid,
            self._credentials.password,
            unencrypted=ip_address(address).is_loopback,
            take=lambda message: take([message], datetime.now(UTC).isoformat()),
            settings=self._settings,
            rooms=self._rooms,
        )
        try:
            client.connect(address, port)
            await client.until_started(self._limits.seconds)
            self._connected = True
            await client.join_rooms(self._since, self._limits.seconds)
            take([], datetime.now(UTC).isoformat())
            self._client = client
            await self._stay(client, stopping)
        finally:
            self._client = None
            client.cancel_connection_attempt()
            await client.disconnect(wait=1.0)
            client.abort()

    async def _stay(self, client: _Client, stopping: Callable[[], bool]) -> None:
        """Wait until the channel stops; check now and then that the server is still there."""
        checked = asyncio.get_running_loop().time()
        while not stopping():
            client.raise_problem()
            await asyncio.sleep(_LOOK)
            if asyncio.get_running_loop().time() - checked > _PING:
                await client.check(self._limits.seconds)
                checked = asyncio.get_running_loop().time()

    def acknowledge(self, address: Mapping[str, Any]) -> None:
        """Show that an answer is being written."""
        client, loop = self._client, self._loop
        if client is not None and loop is not None:
            loop.call_soon_threadsafe(client.show_writing, dict(address))

    def send(self, message: Outgoing) -> str:
        """Send a message; return once the server has it."""
        client, loop = self._client, self._loop
        if client is None or loop is None:
            raise ChannelUnavailable("The account is not connected.")
        seconds = self._limits.seconds
        sending: Future[str] = asyncio.run_coroutine_threadsafe(
            client.send_answer(message, seconds), loop
        )
        try:
            return sending.result(seconds * 2)
        except FutureTimeout as error:
            sending.cancel()
            raise ChannelUnavailable("The server does not confirm the message.") from error


class _Client(ClientXMPP):
    """The connection, with its handlers."""

    def __init__(
        self,
        jid: JID,
        password: str,
        *,
        unencrypted: bool,
        take: Callable[[Incoming], None],
        settings: XmppSettings,
        rooms: list[JID],
    ) -> None:
        super().__init__(
            jid, password, plugin_config={"feature_mechanisms": {"unencrypted_scram": unencrypted}}
        )
        # A password is never sent without encryption, except within this machine.
        self.enable_direct_tls, self.enable_plaintext = False, unencrypted
        self._take = take
        self._settings = settings
        self._rooms = {room.bare for room in rooms}
        self._problem: ChannelUnavailable | None = None
        self._started = asyncio.Event()
        #: The ids that rooms gave to our messages -> our ids.
        self._ours: OrderedDict[str, str] = OrderedDict()
        for plugin in _PLUGINS:
            self.register_plugin(plugin)
        self.add_event_handler("session_start", self._start)
        self.add_event_handler("message", self._message)
        self.add_event_handler("reactions", self._message)
        self.add_event_handler("failed_all_auth", self._not_authenticated)
        self.add_event_handler("disconnected", self._disconnected)
        self.add_event_handler("connection_failed", self._disconnected)
        self.add_event_handler("stream_error", self._disconnected)

    async def until_started(self, seconds: float) -> None:
        """Wait until the session has begun. Raises ChannelUnavailable."""
        deadline = asyncio.get_running_loop().time() + seconds
        while not self._started.is_set():
            self.raise_problem()
            if asyncio.get_running_loop().time() > deadline:
                raise ChannelUnavailable(
                    f"The server does not answer within {seconds:.0f} seconds."
                )
            await asyncio.sleep(0.05)

    async def join_rooms(self, since: datetime | None, seconds: float) -> None:
        """Join the rooms, and have them repeat what was written since the last time."""
        for room in sorted(self._rooms):
            history: dict[str, Any] = {"maxstanzas": 0} if since is None else {"since": since}
            try:
                presence, *_ = await self.plugin["xep_0045"].join_muc_wait(
                    JID(room), self._settings.nickname, timeout=seconds, **history
                )
                if _CREATED in presence["muc"]["status_codes"]:
                    await self._open_room(room, seconds)
            except (PresenceError, TimeoutError) as error:
                what = getattr(error, "condition", "") or "it does not answer"
                raise ChannelUnavailable(f"The room {room} cannot be joined: {what}.") from error

    async def _open_room(self, room: str, seconds: float) -> None:
        """Accept the defaults of a room that joining created; it is locked until then."""
        form = self.plugin["xep_0004"].make_form(ftype="submit")  # type: ignore[no-untyped-call]
        try:
            await self.plugin["xep_0045"].set_room_config(JID(room), form, timeout=seconds)
        except (IqError, IqTimeout) as error:
            raise ChannelUnavailable(f"The new room {room} cannot be opened.") from error

    def raise_problem(self) -> None:
        """Raise what ended the connection, if something has."""
        if self._problem is not None:
            raise self._problem

    async def check(self, seconds: float) -> None:
        """Check that the server answers. Raises ChannelUnavailable."""
        try:
            await self.plugin["xep_0199"].ping(JID(self.boundjid.domain), timeout=seconds)
        except IqError:
            return  # any answer will do
        except (IqTimeout, NotConnectedError) as error:
            raise ChannelUnavailable("The server does not answer.") from error

    async def send_answer(self, message: Outgoing, seconds: float) -> str:
        """Send a message, and wait until the server has taken it; return its id."""
        self.raise_problem()
        address = message.address
        stanza = self.make_message(
            mto=JID(address["to"]),
            mbody=plain_text(message.text, message.sources),
            mtype="groupchat" if address.get("type") == "groupchat" else "chat",
        )
        stanza["id"] = message.id
        stanza["origin_id"]["id"] = message.id
        if address.get("thread"):
            stanza["thread"] = address["thread"]
        if message.replaces:
            stanza["replace"]["id"] = message.replaces
        elif address.get("reply_id"):
            stanza["reply"]["id"] = address["reply_id"]
            stanza["reply"]["to"] = address["from"]
        stanza.send()
        # Stanzas are handled in order: an answer to this means that the message was taken.
        await self.check(seconds)
        return message.id

    def show_writing(self, address: Mapping[str, Any]) -> None:
        """Send the chat state of somebody who writes."""
        if address.get("type") == "chat":
            stanza = self.make_message(mto=JID(address["to"]), mtype="chat")
            stanza["chat_state"] = "composing"
            stanza.send()

    async def _start(self, _: object) -> None:
        self.send_presence()
        self._started.set()

    def _not_authenticated(self, _: object) -> None:
        self._problem = ChannelUnavailable(
            "The server refuses the account or its password.", again=False
        )

    def _disconnected(self, reason: object) -> None:
        self.cancel_connection_attempt()
        if self._problem is None:
            why = f": {reason}" if reason and str(reason) else ""
            self._problem = ChannelUnavailable(f"The connection ended{why}.")

    def _message(self, stanza: Any) -> None:
        kind = stanza["type"]
        if kind not in ("chat", "normal", "groupchat"):
            return
        sender: JID = stanza["from"]
        room = sender.bare if kind == "groupchat" else ""
        if room and sender.resource == self._settings.nickname:
            self._remember(stanza)
            return
        if sender.bare == self.boundjid.bare or (not sender.resource and room):
            return
        message = self._incoming(stanza, sender, room)
        if message is not None:
            self._take(message)

    def _remember(self, stanza: Any) -> None:
        """Remember the id that a room gave to a message of ours."""
        room_id = stanza["stanza_id"]["id"]
        if room_id:
            self._ours[room_id] = str(stanza["id"])
            while len(self._ours) > _REMEMBERED:
                self._ours.popitem(last=False)

    def _incoming(self, stanza: Any, sender: JID, room: str) -> Incoming | None:
        """Return a message that is meant for us; None for others."""
        who = sender.full if room else sender.bare
        reactions = (
            sorted(stanza["reactions"]["values"])
            if stanza.get_plugin("reactions", check=True)
            else []
        )
        about = str(stanza["reactions"]["id"]) if reactions else ""
        replied = str(stanza["reply"]["id"]) if stanza.get_plugin("reply", check=True) else ""
        replied, about = self._ours.get(replied, replied), self._ours.get(about, about)
        text = str(stanza["body"])
        if replied and stanza["fallbacks"]:
            text = str(stanza["reply"].strip_fallback_content() or text)
        text, named = _without_name(text, self._settings.nickname)
        if not reactions and not text.strip():
            return None  # a chat state, or a receipt
        helpful = opinion(reactions[0]) if reactions else None
        if reactions and helpful is None:
            return None
        own_id = str(stanza["id"]) or str(stanza["stanza_id"]["id"])
        replaced = str(stanza["replace"]["id"]) if stanza.get_plugin("replace", check=True) else ""
        real = self._real_address(room, sender)
        thread = str(stanza["thread"] or "")[:MAX_NAME]
        return Incoming(
            id=f"{who}|{own_id}"[:MAX_NAME],
            sender=real or who,
            sender_name=sender.resource if room else "",
            room=room,
            thread=thread or (f"{room}|{own_id}"[:MAX_NAME] if room else who),
            replies_to=replied[:MAX_NAME],
            if_known=bool(room) and not (named or self._settings.answer_everything),
            text=text,
            address={
                "to": room or sender.full,
                "type": "groupchat" if room else "chat",
                "thread": thread,
                "reply_id": (str(stanza["stanza_id"]["id"]) if room else "") or own_id,
                "from": sender.full,
            },
            corrects=f"{who}|{replaced}"[:MAX_NAME] if replaced else "",
            about=about[:MAX_NAME],
            helpful=helpful,
        )

    def _real_address(self, room: str, sender: JID) -> str:
        """Return the account of a room's occupant, if the room shows it."""
        if not room:
            return ""
        jid = self.plugin["xep_0045"].get_jid_property(JID(room), sender.resource, "jid")
        return JID(jid).bare if jid else ""


def _without_name(text: str, nickname: str) -> tuple[str, bool]:
    """Return a text without the nickname that it begins with, and whether there was one."""
    plain = text.lstrip().removeprefix("@")
    rest = plain[len(nickname) :]
    if plain.lower().startswith(nickname.lower()) and (not rest or rest[0] in ":, \n"):
        return rest.lstrip(":, \n"), True
    return text, False


def _jid(text: str, field: str) -> JID:
    try:
        jid = JID(text)
    except InvalidJID as error:
        raise SettingsRefused(field, f"{text[:200]!r} is not an address of XMPP.") from error
    if not jid.local or not jid.domain:
        raise SettingsRefused(field, f"{text[:200]!r} is not an address like ask@host.")
    return jid


def _server(text: str) -> tuple[str, int]:
    host, colon, port = text.rpartition(":")
    if not colon:
        return text, _PORT
    if not host or not port.isdecimal() or not 0 < int(port) < 65536:
        raise SettingsRefused("server", f"{text[:200]!r} is not host:port.")
    return host, int(port)


def _moment(position: str) -> datetime | None:
    """Return when messages were received last, a little earlier since clocks differ."""
    try:
        return datetime.fromisoformat(position) - timedelta(minutes=1)
    except ValueError:
        return None


def _address(settings: Any, room: str) -> Mapping[str, Any]:
    in_room = room in settings.rooms
    return {"to": room or settings.jid, "type": "groupchat" if in_room else "chat"}


KIND = Kind(
    name="xmpp",
    title="XMPP",
    description="An account on an XMPP server, and rooms that it joins.",
    settings=XmppSettings,
    credentials=XmppCredentials,
    open=XmppChannel,
    address=_address,
    destination=lambda settings: settings.server or settings.jid.rpartition("@")[2],
    set_up=(
        "Register an account of its own for the desk, and enter its address and password.",
        "In a room, people begin a question with the nickname, or reply to an answer.",
        "In a room that hides addresses, people are known by their nickname there: allow the room.",
    ),
)
