"""The client, with the methods of every noun.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

from fontanel.client._sync.approved import SyncApprovedClient
from fontanel.client._sync.audit import AuditClient
from fontanel.client._sync.channels import SyncChannelClient
from fontanel.client._sync.conversations import ConversationClient
from fontanel.client._sync.desks import DeskClient
from fontanel.client._sync.documents import DocumentClient
from fontanel.client._sync.embedders import SyncEmbedderClient
from fontanel.client._sync.kbs import KbClient
from fontanel.client._sync.people import PeopleClient
from fontanel.client._sync.proposed_documents import SyncProposedDocumentClient
from fontanel.client._sync.quality import SyncQualityClient
from fontanel.client._sync.questions import QuestionClient
from fontanel.client._sync.quotas import QuotaClient
from fontanel.client._sync.sources import SourceClient
from fontanel.client._sync.transcribers import SyncTranscriberClient
from fontanel.client._sync.trials import SyncTrialClient


class Client(
    PeopleClient,
    KbClient,
    SyncEmbedderClient,
    SyncTranscriberClient,
    SyncApprovedClient,
    DocumentClient,
    SyncProposedDocumentClient,
    SourceClient,
    QuestionClient,
    DeskClient,
    SyncChannelClient,
    ConversationClient,
    SyncTrialClient,
    SyncQualityClient,
    AuditClient,
    QuotaClient,
):
    """A connection to the service.

    Every method raises `Unreachable`, or the `ProblemError` that the service replied with.

    Args:
        url: The address of the service.
        key: An access key, or the secret of a desk's link for a guest.
        team: The id or short name of the team. Methods take knowledge bases and documents likewise.
        guest: The guest's own secret, of 16 random characters or more.
    """
