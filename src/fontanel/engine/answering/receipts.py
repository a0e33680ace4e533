"""Receipts of answers: signed statements of what was answered from which text.

A receipt is a JWS (RFC 7515) in its flattened JSON form, signed with Ed25519 (RFC 8037). It can be
verified without the service, by anybody who has the service's public key.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from joserfc import jws
from joserfc.errors import JoseError
from joserfc.jwk import OKPKey
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel import __version__
from fontanel.errors import Conflict, Refused
from fontanel.records.tables import Revision, Turn, TurnState, now
from fontanel.records.vault import Vault

TYPE = "fontanel-receipt+json"
_ALGORITHMS = ["Ed25519", "EdDSA"]


class ReceiptKey:
    """The key that a service signs receipts with; it follows from the key of its vault."""

    def __init__(self, vault: Vault) -> None:
        self._key = OKPKey.import_key(vault.signing_key())

    @property
    def public(self) -> dict[str, Any]:
        """The public key as a JSON Web Key; `kid` is its thumbprint (RFC 7638)."""
        return _public(self._key)

    def sign(self, payload: Mapping[str, Any]) -> dict[str, Any]:
        """Return a payload as a signed document, with the public key in its header."""
        header = {"alg": "Ed25519", "typ": TYPE, "jwk": self.public}
        content = json.dumps(payload, ensure_ascii=False, sort_keys=True)
        signed = jws.serialize_json(
            {"protected": header}, content, self._key, algorithms=_ALGORITHMS
        )
        return dict(signed)


def _public(key: OKPKey) -> dict[str, Any]:
    return {**key.as_dict(private=False), "kid": key.thumbprint()}


def receipt_of(session: Session, turn: Turn, issuer: str) -> dict[str, Any]:
    """Return what a receipt states about an answer.

    Raises:
        Conflict: there is no answer yet, or it was interrupted.
    """
    if turn.state != TurnState.DONE:
        raise Conflict("Only a finished answer has a receipt.")
    ids = {citation["revision_id"] for citation in turn.citations}
    found = session.scalars(
        select(Revision).where(Revision.team_id == turn.team_id, Revision.id.in_(ids))
    )
    revisions = {revision.id: revision for revision in found}
    return {
        "issuer": issuer,
        "issued_at": _moment(now()),
        "version": __version__,
        "answer": {
            "id": turn.id,
            "at": _moment(turn.created_at),
            "question": turn.question,
            "understood_as": turn.standalone,
            "outcome": turn.outcome,
            "text": turn.text,
            "composer": turn.composer,
        },
        "citations": [
            _citation(citation, revisions.get(citation["revision_id"]))
            for citation in turn.citations
        ],
    }


def _citation(citation: Mapping[str, Any], revision: Revision | None) -> dict[str, Any]:
    """Return a citation with the hashes of its revision; null if that is gone."""
    return {
        "number": citation["number"],
        "title": citation["title"],
        "quote": citation["quote"],
        "document": citation["document_id"],
        "revision": citation["revision_id"],
        "start": citation["start"],
        "end": citation["end"],
        "sha256": None if revision is None else revision.sha256,
        "reading_sha256": None if revision is None else revision.reading,
    }


def _moment(at: datetime) -> str:
    return at.astimezone(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")


@dataclass(frozen=True, slots=True)
class Verified:
    """A receipt whose signature is right; `key_id` names the key that signed it."""

    payload: dict[str, Any]
    key_id: str


def verify_receipt(text: str, key: Mapping[str, Any] | None = None) -> Verified:
    """Verify a receipt.

    Args:
        text: The document.
        key: The public key that must have signed it; None for the one that it contains, which
            proves only that it was not changed since.

    Raises:
        Refused: it is not a receipt, was changed, or was signed with another key.
    """
    try:
        document = json.loads(text)
        contained = jws.extract_compact(_compact(document)).headers()["jwk"]
        public = OKPKey.import_key(dict(key if key is not None else contained))
        verified = jws.deserialize_json(document, public, algorithms=_ALGORITHMS)
        header, payload = verified.headers(), json.loads(verified.payload)
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise Refused("file", "This is not a receipt.") from error
    except JoseError as error:
        raise Refused(
            "file",
            "The receipt was changed after it was signed, or was signed with another key.",
        ) from error
    if header.get("typ") != TYPE or not isinstance(payload, dict):
        raise Refused("file", "This is not a receipt.")
    return Verified(payload, public.thumbprint())


def _compact(document: Mapping[str, Any]) -> bytes:
    parts = (document["protected"], document["payload"], document["signature"])
    return ".".join(parts).encode("ascii")
