"""Examining a service: what is wrong, and what to do about it."""

from fontanel.engine.doctor.examining import Examined, examine
from fontanel.engine.doctor.findings import Finding, State

__all__ = ["Examined", "Finding", "State", "examine"]
