"""Curation: which approved answer a question asks for."""

from fontanel.core.curation.matching import ApprovedSet, ApprovedText, Match

__all__ = ["ApprovedSet", "ApprovedText", "Match"]
