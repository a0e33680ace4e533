"""The client, with the methods of every noun."""

from __future__ import annotations

from fontanel.client._async.conversations import AsyncConversationClient
from fontanel.client._async.desks import AsyncDeskClient
from fontanel.client._async.documents import AsyncDocumentClient
from fontanel.client._async.kbs import AsyncKbClient
from fontanel.client._async.people import AsyncPeopleClient
from fontanel.client._async.questions import AsyncQuestionClient
from fontanel.client._async.sources import AsyncSourceClient


class AsyncClient(
    AsyncPeopleClient,
    AsyncKbClient,
    AsyncDocumentClient,
    AsyncSourceClient,
    AsyncQuestionClient,
    AsyncDeskClient,
    AsyncConversationClient,
):
    """A connection to the service. `kb` and `document` are ids, or the short name and the name; `team` likewise.

    `key` is an access key, or the secret of a desk's link, for a guest: then `guest` is the guest's own secret, 16 random characters
    or more. Every method raises `Unreachable`, or the `ProblemError` that the service answered with.
    """
