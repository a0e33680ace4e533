"""Receipts of answers: signed, and verified without the service."""

from __future__ import annotations

import base64
import hashlib
import json
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from fontanel.client import Client, NotFound
from fontanel.engine.answering.receipts import ReceiptKey, verify_receipt
from fontanel.errors import Refused
from fontanel.records.vault import Vault
from tests.conftest import STORM, TeamSetup, new_team

QUESTION = "What is the wind limit at the outer berth?"


def decoded(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


def test_a_receipt_states_the_answer_and_the_texts_that_it_rests_on(
    team: TeamSetup, storm: str
) -> None:
    answer = team.client.ask(storm, QUESTION)
    signed = team.client.answer_receipt(answer.turn_id)
    verified = verify_receipt(signed.model_dump_json(), team.client.receipt_key())
    stated = verified.payload
    assert (stated["answer"]["question"], stated["answer"]["text"]) == (QUESTION, answer.text)
    assert len(stated["citations"]) == len(answer.citations) > 0
    for cited, expected in zip(stated["citations"], answer.citations, strict=True):
        assert cited["sha256"] == hashlib.sha256(STORM).hexdigest()
        text = team.client.document_text(storm, cited["document"], cited["revision"]).text
        assert text[cited["start"] : cited["end"]] == cited["quote"] == expected.quote


def test_a_receipt_is_a_standard_signature(team: TeamSetup, storm: str) -> None:
    """Verified here without our code, as RFC 7515 and RFC 8037 describe it."""
    answer = team.client.ask(storm, QUESTION)
    signed = team.client.answer_receipt(answer.turn_id)
    key = team.client.receipt_key()
    public = Ed25519PublicKey.from_public_bytes(decoded(key["x"]))
    public.verify(decoded(signed.signature), f"{signed.protected}.{signed.payload}".encode())
    assert json.loads(decoded(signed.protected))["jwk"]["kid"] == key["kid"]
    assert set(key) == {"kty", "crv", "x", "kid"}


def test_a_changed_receipt_and_another_key_are_refused(
    team: TeamSetup, storm: str, tmp_path: Path
) -> None:
    answer = team.client.ask(storm, QUESTION)
    signed = team.client.answer_receipt(answer.turn_id).model_dump()
    payload = json.loads(decoded(signed["payload"]))
    payload["answer"]["text"] = "Any wind will do."
    forged = base64.urlsafe_b64encode(json.dumps(payload).encode()).rstrip(b"=").decode()
    other = ReceiptKey(Vault(tmp_path / "other.key"))
    for document, key in (
        ({**signed, "payload": forged}, None),
        (signed, other.public),
        (other.sign(payload), team.client.receipt_key()),
    ):
        with pytest.raises(Refused, match="changed after it was signed"):
            verify_receipt(json.dumps(document), key)
    for text in ("", "[]", "{}", '{"payload": 1}', json.dumps({**signed, "protected": "x"})):
        with pytest.raises(Refused):
            verify_receipt(text)


def test_a_receipt_is_for_the_asker_and_editors(team: TeamSetup, storm: str) -> None:
    reader, other = team.with_role("reader"), team.with_role("reader")
    answer = reader.ask(storm, QUESTION)
    assert reader.answer_receipt(answer.turn_id).signature
    assert team.with_role("editor").answer_receipt(answer.turn_id).signature
    stranger = new_team(team.service)
    for client in (other, stranger.client, Client(team.service.url, stranger.key, team.slug)):
        with pytest.raises(NotFound):
            client.answer_receipt(answer.turn_id)
