"""The questions that a document answers, made from its statements."""

from fontanel.core.proposing.by_model import proposal_request, read_proposals
from fontanel.core.proposing.questions import Proposal, propose

__all__ = ["Proposal", "proposal_request", "propose", "read_proposals"]
