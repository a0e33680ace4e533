"""Form fields that contain JSON."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ValidationError

from fontanel.errors import Refused


def given(model: type[BaseModel], field: str, text: str | None) -> dict[str, Any] | None:
    """Return a form field's value, validated by `model`; None if it is empty.

    Raises:
        Refused: it is not valid.
    """
    if text is None or not text.strip():
        return None
    try:
        return model.model_validate_json(text).model_dump()
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"]) or "the whole"
        raise Refused(field, f"The {field} are not understood: {where}: {first['msg']}.") from error
