"""Calls about embedders."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._call import Call, named


class EmbedderCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def _kb(self, kb: str) -> str:
        raise NotImplementedError

    def list_embedders(self) -> Call[s.Page[s.EmbedderOut]]:
        return Call("GET", "/embedders", s.Page[s.EmbedderOut])

    def list_usable_embedders(self) -> Call[s.Page[s.EmbedderName]]:
        return Call("GET", f"{self._team()}/embedders", s.Page[s.EmbedderName])

    def show_embedder(self, embedder: str) -> Call[s.EmbedderOut]:
        return Call("GET", f"/embedders/{named(embedder)}", s.EmbedderOut)

    def register_embedder(self, body: s.EmbedderIn) -> Call[s.EmbedderOut]:
        return Call("POST", "/embedders", s.EmbedderOut, body)

    def change_embedder(self, embedder: str, body: s.EmbedderChange) -> Call[s.EmbedderOut]:
        return Call("PATCH", f"/embedders/{named(embedder)}", s.EmbedderOut, body)

    def delete_embedder(self, embedder: str) -> Call[None]:
        return Call("DELETE", f"/embedders/{named(embedder)}")

    def check_embedder(self, embedder: str) -> Call[s.EmbedderCheck]:
        return Call("POST", f"/embedders/{named(embedder)}/check", s.EmbedderCheck)

    def estimate_edition(self, kb: str, embedder: str | None) -> Call[s.EditionEstimate]:
        params = {} if embedder is None else {"embedder": embedder}
        return Call("GET", f"{self._kb(kb)}/editions/estimate", s.EditionEstimate, params=params)
