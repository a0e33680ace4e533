"""The calls for approved answers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import urlencode

from fontanel import schemas as s
from fontanel.client._call import Call, if_match, quoted


class ApprovedCalls:
    """Mixed into `Calls`."""

    def _kb(self, kb: str) -> str:
        raise NotImplementedError

    def _approved(self, kb: str, approved: str = "") -> str:
        base = f"{self._kb(kb)}/approved"
        return f"{base}/{quoted(approved)}" if approved else base

    def list_approved(self, kb: str, params: Mapping[str, Any]) -> Call[s.Page[s.ApprovedOut]]:
        return Call("GET", self._approved(kb), s.Page[s.ApprovedOut], params=params)

    def count_approved(self, kb: str) -> Call[list[s.ApprovedCount]]:
        return Call("GET", f"{self._approved(kb)}/categories", list[s.ApprovedCount])

    def match_approved(self, kb: str, question: str) -> Call[list[s.ApprovedMatch]]:
        params = {"question": question}
        return Call("GET", f"{self._approved(kb)}/match", list[s.ApprovedMatch], params=params)

    def show_approved(self, kb: str, approved: str) -> Call[s.ApprovedOut]:
        return Call("GET", self._approved(kb, approved), s.ApprovedOut)

    def create_approved(self, kb: str, body: s.ApprovedIn, key: str) -> Call[s.ApprovedOut]:
        headers = {"Idempotency-Key": key}
        return Call("POST", self._approved(kb), s.ApprovedOut, body, headers=headers)

    def approve_answer(self, kb: str, body: s.ApprovedFromTurn, key: str) -> Call[s.ApprovedOut]:
        headers = {"Idempotency-Key": key}
        path = f"{self._approved(kb)}/from-answer"
        return Call("POST", path, s.ApprovedOut, body, headers=headers)

    def change_approved(
        self, kb: str, approved: str, change: s.ApprovedChange, version: int
    ) -> Call[s.ApprovedOut]:
        path = self._approved(kb, approved)
        return Call("PATCH", path, s.ApprovedOut, change, headers=if_match(version))

    def delete_approved(self, kb: str, approved: str) -> Call[None]:
        return Call("DELETE", self._approved(kb, approved))

    def list_approved_versions(self, kb: str, approved: str) -> Call[s.Page[s.ApprovedVersionOut]]:
        path = f"{self._approved(kb, approved)}/versions"
        return Call("GET", path, s.Page[s.ApprovedVersionOut])

    def list_flags(self, kb: str, state: str) -> Call[s.Page[s.FlagOut]]:
        path = f"{self._approved(kb)}/flags"
        return Call("GET", path, s.Page[s.FlagOut], params={"state": state})

    def confirm_flag(self, kb: str, flag: str) -> Call[s.ApprovedOut]:
        path = f"{self._approved(kb)}/flags/{quoted(flag)}/confirm"
        return Call("POST", path, s.ApprovedOut)

    def import_approved(self, kb: str, body: s.ApprovedImportIn) -> Call[s.ApprovedImport]:
        return Call("POST", f"{self._approved(kb)}/import", s.ApprovedImport, body)

    def export_approved(self, kb: str, form: str) -> str:
        return f"{self._approved(kb)}/export?{urlencode({'form': form})}"
