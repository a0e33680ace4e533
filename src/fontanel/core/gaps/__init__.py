"""Gaps: questions that were not answered well, grouped by what they ask for."""

from fontanel.core.gaps.grouping import Grouping, Unanswered, central

__all__ = ["Grouping", "Unanswered", "central"]
