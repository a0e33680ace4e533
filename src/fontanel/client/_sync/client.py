"""The client, with the methods of every noun.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

from fontanel.client._sync.conversations import ConversationClient
from fontanel.client._sync.desks import DeskClient
from fontanel.client._sync.documents import DocumentClient
from fontanel.client._sync.kbs import KbClient
from fontanel.client._sync.people import PeopleClient
from fontanel.client._sync.questions import QuestionClient
from fontanel.client._sync.sources import SourceClient


class Client(
    PeopleClient,
    KbClient,
    DocumentClient,
    SourceClient,
    QuestionClient,
    DeskClient,
    ConversationClient,
):
    """A connection to the service. `kb` and `document` are ids, or the short name and the name; `team` likewise.

    `key` is an access key, or the secret of a desk's link, for a guest: then `guest` is the guest's own secret, 16 random characters
    or more. Every method raises `Unreachable`, or the `ProblemError` that the service answered with.
    """
