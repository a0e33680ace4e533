"""The client, with the methods of every noun."""

from __future__ import annotations

from fontanel.client._async.approved import AsyncApprovedClient
from fontanel.client._async.audit import AsyncAuditClient
from fontanel.client._async.channels import AsyncChannelClient
from fontanel.client._async.conversations import AsyncConversationClient
from fontanel.client._async.desks import AsyncDeskClient
from fontanel.client._async.documents import AsyncDocumentClient
from fontanel.client._async.embedders import AsyncEmbedderClient
from fontanel.client._async.kbs import AsyncKbClient
from fontanel.client._async.people import AsyncPeopleClient
from fontanel.client._async.proposed_documents import AsyncProposedDocumentClient
from fontanel.client._async.quality import AsyncQualityClient
from fontanel.client._async.questions import AsyncQuestionClient
from fontanel.client._async.quotas import AsyncQuotaClient
from fontanel.client._async.sources import AsyncSourceClient
from fontanel.client._async.transcribers import AsyncTranscriberClient
from fontanel.client._async.trials import AsyncTrialClient


class AsyncClient(
    AsyncPeopleClient,
    AsyncKbClient,
    AsyncEmbedderClient,
    AsyncTranscriberClient,
    AsyncApprovedClient,
    AsyncDocumentClient,
    AsyncProposedDocumentClient,
    AsyncSourceClient,
    AsyncQuestionClient,
    AsyncDeskClient,
    AsyncChannelClient,
    AsyncConversationClient,
    AsyncTrialClient,
    AsyncQualityClient,
    AsyncAuditClient,
    AsyncQuotaClient,
):
    """A connection to the service.

    Every method raises `Unreachable`, or the `ProblemError` that the service replied with.

    Args:
        url: The address of the service.
        key: An access key, or the secret of a desk's link for a guest.
        team: The id or short name of the team. Methods take knowledge bases and documents likewise.
        guest: The guest's own secret, of 16 random characters or more.
    """
