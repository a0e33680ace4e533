"""The questions that a document answers, made from its statements."""

from fontanel.core.proposing.questions import Proposal, propose

__all__ = ["Proposal", "propose"]
