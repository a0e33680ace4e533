"""The evidence model: whether a piece of text answers a question, and which statements do."""

from fontanel.core.evidence.model import (
    EvidenceMissing,
    EvidenceModel,
    WindowScore,
    WindowText,
)

__all__ = ["EvidenceMissing", "EvidenceModel", "WindowScore", "WindowText"]
