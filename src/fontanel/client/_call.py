"""One call of the API, as a value."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

Out = TypeVar("Out")


@dataclass(frozen=True, slots=True)
class Call(Generic[Out]):
    """A request and the type of its response; `out` is None for an empty one."""

    method: str
    path: str
    out: type[Out] | None = None
    body: BaseModel | None = None
    params: Mapping[str, Any] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def repeatable(self) -> bool:
        """Whether sending it twice does no more than sending it once."""
        if "If-Match" in self.headers:
            return False  # the second would meet the version that the first made
        return self.method in ("GET", "PUT", "DELETE") or "Idempotency-Key" in self.headers

    def read(self, content: bytes) -> Out:
        if self.out is None:
            return None  # type: ignore[return-value]
        answer: Out = TypeAdapter(self.out).validate_json(content)
        return answer


def quoted(ref: str) -> str:
    return quote(ref, safe="")


def named(ref: str) -> str:
    """Quote a name as a path segment.

    A slash is encoded twice, as is what then looks like an encoding: servers take a single one for
    a slash of the path.
    """
    return quoted(ref.replace("%", "%25").replace("/", "%2F") if "/" in ref else ref)


def if_match(version: int | None) -> dict[str, str]:
    """Return the header of a change that is only made to this version, None for any."""
    return {} if version is None else {"If-Match": f'"{version}"'}
