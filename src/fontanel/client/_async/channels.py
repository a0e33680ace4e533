"""Channels: ways by which people ask a desk from elsewhere."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import AsyncIterator

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient
from fontanel.client._errors import ClientError


class AsyncChannelClient(AsyncBaseClient):
    """`channel` is an id or a name."""

    async def channel_kinds(self) -> list[s.ChannelKindOut]:
        """List the kinds of channels, with JSON Schemas of their settings and credentials."""
        return await self._send(self._calls.channel_kinds())

    async def list_channels(self, desk: str | None = None) -> list[s.ChannelOut]:
        """List the team's channels, or those of one desk."""
        return (await self._send(self._calls.list_channels(desk))).items

    async def create_channel(
        self, channel: s.ChannelIn, idempotency_key: str | None = None
    ) -> s.ChannelSaved:
        """Add a channel to a desk; a secret that is made for it is only returned here."""
        return await self._send(
            self._calls.create_channel(channel, idempotency_key or secrets.token_hex(12))
        )

    async def show_channel(self, channel: str) -> s.ChannelOut:
        return await self._send(self._calls.show_channel(channel))

    async def change_channel(
        self, channel: str, change: s.ChannelChange, version: int | None = None
    ) -> s.ChannelSaved:
        """Only the fields that are set are changed."""
        return await self._send(self._calls.change_channel(channel, change, version))

    async def delete_channel(self, channel: str) -> None:
        """Delete a channel with its messages; the conversations stay."""
        await self._send(self._calls.delete_channel(channel))

    async def test_channel(
        self, channel: str, room: str = "", text: str | None = None, seconds: float = 30.0
    ) -> s.ChannelMessageOut:
        """Send a test message, and wait until it was sent or could not be sent.

        Args:
            channel: The channel.
            room: A room or an address at the other side.
            text: The message.
            seconds: How long to wait.

        Raises:
            ClientError: it was neither sent nor refused in time.
        """
        body = s.ChannelTestIn(room=room) if text is None else s.ChannelTestIn(room=room, text=text)
        message = await self._send(self._calls.test_channel(channel, body))
        deadline = time.monotonic() + seconds
        while message.state == "answered" and not message.attempts:
            if time.monotonic() > deadline:
                raise ClientError(
                    f"The message was not sent within {seconds:.0f} seconds: the channel is not"
                    " connected."
                )
            await asyncio.sleep(0.1)
            message = await self.show_channel_message(channel, message.id)
        return message

    async def list_channel_messages(
        self, channel: str, state: s.MessageStateName | None = None
    ) -> AsyncIterator[s.ChannelMessageOut]:
        """Yield a channel's messages, newest first."""
        cursor: str | None = None
        while True:
            page = await self._send(self._calls.list_channel_messages(channel, state, cursor, 100))
            for message in page.items:
                yield message
            if page.next is None:
                return
            cursor = page.next

    async def show_channel_message(self, channel: str, message: str) -> s.ChannelMessageOut:
        return await self._send(self._calls.show_channel_message(channel, message))

    async def retry_channel_message(self, channel: str, message: str) -> s.ChannelMessageOut:
        """Send a reply that could not be sent again."""
        return await self._send(self._calls.retry_channel_message(channel, message))
