"""The Python client: `Client` and its asynchronous twin `AsyncClient`.

from fontanel.client import Client

with Client("http://127.0.0.1:8460", key="fk_...", team="marine-operations") as client:
    client.add_document("harbour-rules", Path("storm-plan.pdf"), wait=True)
    for event in client.stream_answer("harbour-rules", "Who closes the port?"):
        ...
"""

from fontanel.client._async.client import AsyncClient
from fontanel.client._audit_calls import AuditFilter
from fontanel.client._errors import (
    ChangedMeanwhile,
    ClientError,
    Conflict,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    ProblemError,
    ServiceFailed,
    TooLarge,
    Unreachable,
)
from fontanel.client._sync.client import Client
from fontanel.errors import FontanelError

__all__ = [
    "AsyncClient",
    "AuditFilter",
    "ChangedMeanwhile",
    "Client",
    "ClientError",
    "Conflict",
    "FontanelError",
    "Invalid",
    "NotAllowed",
    "NotFound",
    "NotSignedIn",
    "ProblemError",
    "ServiceFailed",
    "TooLarge",
    "Unreachable",
]
