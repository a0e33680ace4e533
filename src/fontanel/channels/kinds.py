"""The kinds of channels."""

from __future__ import annotations

from fontanel.channels import mail, matrix, webhook, xmpp
from fontanel.channels.protocol import Kind

KINDS: dict[str, Kind] = {
    kind.name: kind for kind in (webhook.KIND, mail.KIND, xmpp.KIND, matrix.KIND)
}
