"""Signatures of webhooks, as the Standard Webhooks specification defines them."""

from __future__ import annotations

import base64
import hmac
import secrets
from collections.abc import Mapping
from datetime import UTC, datetime

from standardwebhooks import Webhook, WebhookVerificationError

_PREFIX = "whsec_"
_SECRET_BYTES = 24


def new_webhook_secret() -> str:
    """Return a random secret in the form that verifying libraries accept."""
    return _PREFIX + base64.b64encode(secrets.token_bytes(_SECRET_BYTES)).decode()


def signed_headers(secret: str, message_id: str, at: datetime, body: str) -> dict[str, str]:
    """Return the headers that sign a message sent at a time (UTC)."""
    signature = _webhook(secret).sign(message_id, at, body)
    return {
        "webhook-id": message_id,
        "webhook-timestamp": str(int(at.timestamp())),
        "webhook-signature": signature,
    }


def is_signed(secret: str, headers: Mapping[str, str], body: bytes) -> bool:
    """Return whether a message has a valid signature, at most five minutes old."""
    try:
        _webhook(secret).verify(body, dict(headers), json_parse=False)
    except (WebhookVerificationError, ValueError):
        return False
    return True


def is_stale(secret: str, headers: Mapping[str, str], body: bytes) -> bool:
    """Return whether a message is signed with the secret, but its time is not about now."""
    message_id, sent_at = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
    try:
        at = datetime.fromtimestamp(int(sent_at), UTC)
        expected = _webhook(secret).sign(message_id, at, body.decode())
    except (ValueError, OverflowError, OSError):
        return False
    signatures = headers.get("webhook-signature", "").split(" ")
    matches = [hmac.compare_digest(expected.encode(), one.encode()) for one in signatures]
    return any(matches) and not is_signed(secret, headers, body)


def _webhook(secret: str) -> Webhook:
    # Secrets made before the prefix was used are keys as they are, not base64.
    return Webhook(secret if secret.startswith(_PREFIX) else secret.encode())
