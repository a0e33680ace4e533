"""Calls about channels."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._call import Call, quoted


class ChannelCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def _channel(self, channel: str) -> str:
        return f"{self._team()}/channels/{quoted(channel)}"

    def channel_kinds(self) -> Call[list[s.ChannelKindOut]]:
        return Call("GET", "/channel-kinds", list[s.ChannelKindOut])

    def list_channels(self, desk: str | None) -> Call[s.Page[s.ChannelOut]]:
        query = {} if desk is None else {"desk": desk}
        return Call("GET", f"{self._team()}/channels", s.Page[s.ChannelOut], params=query)

    def create_channel(self, body: s.ChannelIn, key: str) -> Call[s.ChannelSaved]:
        headers = {"Idempotency-Key": key}
        return Call("POST", f"{self._team()}/channels", s.ChannelSaved, body, headers=headers)

    def show_channel(self, channel: str) -> Call[s.ChannelOut]:
        return Call("GET", self._channel(channel), s.ChannelOut)

    def change_channel(
        self, channel: str, body: s.ChannelChange, version: int | None
    ) -> Call[s.ChannelSaved]:
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        return Call("PATCH", self._channel(channel), s.ChannelSaved, body, headers=headers)

    def delete_channel(self, channel: str) -> Call[None]:
        return Call("DELETE", self._channel(channel))

    def test_channel(self, channel: str, body: s.ChannelTestIn) -> Call[s.ChannelMessageOut]:
        return Call("POST", f"{self._channel(channel)}/test", s.ChannelMessageOut, body)

    def list_channel_messages(
        self, channel: str, state: s.MessageStateName | None, cursor: str | None, limit: int
    ) -> Call[s.Page[s.ChannelMessageOut]]:
        query = {"state": state, "cursor": cursor, "limit": limit}
        return Call(
            "GET",
            f"{self._channel(channel)}/messages",
            s.Page[s.ChannelMessageOut],
            params={name: value for name, value in query.items() if value is not None},
        )

    def show_channel_message(self, channel: str, message: str) -> Call[s.ChannelMessageOut]:
        path = f"{self._channel(channel)}/messages/{quoted(message)}"
        return Call("GET", path, s.ChannelMessageOut)

    def retry_channel_message(self, channel: str, message: str) -> Call[s.ChannelMessageOut]:
        path = f"{self._channel(channel)}/messages/{quoted(message)}/retry"
        return Call("POST", path, s.ChannelMessageOut)
