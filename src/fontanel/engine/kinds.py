"""Settings and credentials of kinds of sources and channels, checked by their models."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol

from pydantic import ValidationError

from fontanel.errors import Refused


class HasForms(Protocol):
    """What kinds of sources and of channels have in common."""

    @property
    def settings(self) -> type[Any]: ...

    @property
    def credentials(self) -> type[Any]: ...

    @property
    def destination(self) -> Callable[[Any], str]: ...


def validated(model: type[Any], values: Mapping[str, Any], where: str) -> Any:
    """Return values as their model.

    Args:
        where: How a refusal names them, such as "settings".

    Raises:
        Refused: they are not valid.
    """
    try:
        return model.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        name = ".".join([where, *(str(part) for part in first["loc"])])
        raise Refused(name, f"{name}: {first['msg']}.") from error


def check_destination(
    kind: HasForms,
    stored: Mapping[str, Any],
    before: Mapping[str, Any],
    after: Mapping[str, Any],
) -> None:
    """Check that stored credentials would go to the place that they were entered for.

    Otherwise anyone who may edit the settings could have them sent to a server of their own.

    Raises:
        Refused: the place differs.
    """
    first, second = (
        kind.destination(validated(kind.settings, one, "settings")) for one in (before, after)
    )
    if stored and first != second:
        raise Refused(
            "credentials", f"The stored credentials are for {first}. Enter those for {second}."
        )


def plain_settings(kind: HasForms, settings: Mapping[str, Any]) -> dict[str, Any]:
    """Return settings as JSON values, with the defaults of their kind."""
    result: dict[str, Any] = kind.settings.model_validate(settings).model_dump(mode="json")
    return result


def filled(credentials: Mapping[str, Any]) -> dict[str, Any]:
    """Return the credentials that have a value."""
    return {name: value for name, value in credentials.items() if value not in (None, "")}
