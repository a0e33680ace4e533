"""What all models share."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Generic, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, StringConstraints

from fontanel.facts import MAX_TAGS

Item = TypeVar("Item")

UnitName = Literal["page", "slide", "sheet", "chapter"]
RoleName = Literal["reader", "editor", "owner"]
#: Tags to filter by or to set: as many as a document can have.
Tags = Annotated[dict[str, str], Field(max_length=MAX_TAGS)]
Name = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=120)]


def _in_utc(value: datetime) -> datetime:
    try:
        return value.astimezone(UTC)
    except (OverflowError, ValueError) as error:
        raise ValueError("the time cannot be expressed in UTC") from error


#: A time from outside, in UTC.
Moment = Annotated[datetime, AfterValidator(_in_utc)]


class Model(BaseModel):
    """A model that rejects unknown fields, so that typing errors are noticed."""

    model_config = ConfigDict(extra="forbid", from_attributes=True, allow_inf_nan=False)


class Page(Model, Generic[Item]):
    """A page of a list; `next` is the cursor of the next page, None on the last one."""

    items: list[Item]
    next: str | None = None


class Problem(BaseModel):
    """A problem as RFC 9457 defines it.

    `type` is stable; `field` names the part of the request at fault; `advice` says what to do.
    """

    type: str = Field(examples=["urn:fontanel:problem:not-found"])
    title: str
    status: int
    detail: str
    field: str | None = None
    advice: str | None = None
    request_id: str | None = None


class LocatorOut(Model):
    """A location for people.

    `page` counts units of the kind `unit`, from 1, and `label` is its own name; `rows` are the
    first and last row of a sheet; `seconds` is when it is spoken; `picture` is the picture that it
    is about, and `described_by` the model whose words these are.
    """

    heading_path: list[str]
    page: int | None = None
    anchor: str | None = None
    unit: UnitName = "page"
    label: str | None = None
    rows: tuple[int, int] | None = None
    seconds: float | None = None
    picture: str | None = None
    described_by: str | None = None
