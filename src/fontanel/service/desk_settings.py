"""The settings of desks: validated, merged with changes, and looked up by version."""

from __future__ import annotations

from typing import Any

from fontanel.errors import NotFound, Refused
from fontanel.records.tables import Desk, Kb
from fontanel.schemas import (
    DeskSettings,
)
from fontanel.service.auth.access import Access
from fontanel.service.chosen import chosen_model, chosen_set


def check_settings(access: Access, settings: DeskSettings) -> dict[str, Any]:
    """Return settings in their stored form, with knowledge bases by id.

    Raises:
        Refused: names the bad setting.
    """
    kept = settings.model_dump()
    for part in kept["kbs"]:
        try:
            part["kb"] = access.scope.kb(part["kb"]).id
        except NotFound as error:
            raise Refused(
                "settings.kbs", f"The team has no knowledge base {part['kb']!r}."
            ) from error
    if len({part["kb"] for part in kept["kbs"]}) < len(kept["kbs"]):
        raise Refused("settings.kbs", "A knowledge base is named twice.")
    if settings.model is not None:
        chosen_model(access, "settings.model", settings.model)
    if settings.trial_set is not None:
        kept["trial_set"] = chosen_set(access, "settings.trial_set", settings.trial_set)
    return kept


def merge_settings(stored: dict[str, Any], changes: dict[str, Any]) -> DeskSettings:
    """Return stored settings with changes.

    Raises:
        RequestValidationError: a change is not valid, as for an invalid body.
    """
    from fastapi.exceptions import RequestValidationError
    from pydantic import ValidationError

    try:
        return DeskSettings.model_validate({**stored, **changes})
    except ValidationError as error:
        raise RequestValidationError(
            [
                {**item, "loc": ("body", "settings", *item["loc"])}
                for item in error.errors(include_url=False)
            ]
        ) from error


def settings_of(access: Access, desk: Desk, number: int | None) -> dict[str, Any]:
    """The settings of a version, or of the draft. Raises NotFound."""
    return desk.draft if number is None else access.scope.desk_version(desk, number).settings


def reachable_kb_ids(access: Access) -> frozenset[str]:
    """The knowledge bases of the team that the caller may reach."""
    return frozenset(access.session.scalars(access.scope.select(Kb).with_only_columns(Kb.id)).all())
