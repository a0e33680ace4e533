"""The settings of desks: validated, merged with changes, and looked up by version."""

from __future__ import annotations

from typing import Any

from fontanel.engine.answering.models import usable_model
from fontanel.engine.trials.sets import find_set
from fontanel.errors import ModelUnusable, NotFound, Refused
from fontanel.records.tables import Desk, Kb
from fontanel.schemas import (
    DeskSettings,
)
from fontanel.service.auth.access import Access


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
        try:
            usable_model(access.session, settings.model, access.team.id)
        except ModelUnusable as error:
            raise Refused(
                "settings.model", f"The model {settings.model!r} cannot be used: {error}."
            ) from error
    if settings.trial_set is not None:
        try:
            kept["trial_set"] = find_set(access.scope, settings.trial_set).id
        except NotFound as error:
            raise Refused(
                "settings.trial_set", f"The team has no question set {settings.trial_set!r}."
            ) from error
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
