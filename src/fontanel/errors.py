"""Errors of the service, drawn as a tree."""

from __future__ import annotations


class Refused(ValueError):
    """What was asked for cannot be taken as it is. `field` names the part at fault."""

    def __init__(self, field: str, message: str) -> None:
        super().__init__(message)
        self.field = field
