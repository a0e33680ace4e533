"""Lines of imported files, checked against a model."""

from __future__ import annotations

from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

Line = TypeVar("Line", bound=BaseModel)

#: Problems of an import that are listed.
MAX_PROBLEMS = 50
MEDIA = {"jsonl": "application/x-ndjson", "csv": "text/csv"}


def checked_line(model: type[Line], fields: Any) -> Line:
    """Return a line of an import as a model.

    Args:
        fields: The line's fields, or what is wrong with it.

    Raises:
        ValueError: says what is wrong with the line.
    """
    if isinstance(fields, str):
        raise ValueError(fields)
    try:
        return model.model_validate(fields)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        place = ".".join(map(str, first["loc"])) or "the line"
        raise ValueError(f"{place}: {first['msg']}") from error
