"""Calls about transcribers."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._call import Call, named


class TranscriberCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def list_transcribers(self) -> Call[s.Page[s.TranscriberOut]]:
        return Call("GET", "/transcribers", s.Page[s.TranscriberOut])

    def list_usable_transcribers(self) -> Call[s.Page[s.TranscriberName]]:
        return Call("GET", f"{self._team()}/transcribers", s.Page[s.TranscriberName])

    def show_transcriber(self, name: str) -> Call[s.TranscriberOut]:
        return Call("GET", f"/transcribers/{named(name)}", s.TranscriberOut)

    def register_transcriber(self, body: s.TranscriberIn) -> Call[s.TranscriberOut]:
        return Call("POST", "/transcribers", s.TranscriberOut, body)

    def change_transcriber(self, name: str, body: s.TranscriberChange) -> Call[s.TranscriberOut]:
        return Call("PATCH", f"/transcribers/{named(name)}", s.TranscriberOut, body)

    def delete_transcriber(self, name: str) -> Call[None]:
        return Call("DELETE", f"/transcribers/{named(name)}")

    def check_transcriber(self, name: str) -> Call[s.TranscriberCheck]:
        return Call("POST", f"/transcribers/{named(name)}/check", s.TranscriberCheck)
