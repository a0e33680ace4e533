"""Gaps in what a team's documents answer, and which of their passages answers need."""
