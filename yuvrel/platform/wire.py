"""Wire types: money and quantities travel as decimal strings, never as floats."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime
from decimal import Decimal
from types import NoneType
from typing import Annotated, Any, Self, get_args, get_origin

from ninja import Schema
from pydantic import BaseModel, Field, PlainSerializer

from yuvrel.core import bounds
from yuvrel.core.working import plain

CENT = Decimal("0.01")


def _money(value: Decimal) -> str:
    return str(value.quantize(CENT))  # never with an exponent, as two places are kept


def _unit(value: Decimal) -> str:
    text = format(value.normalize(), "f")
    whole, _, part = text.partition(".")
    return f"{whole}.{part.ljust(2, '0')}"


Money = Annotated[Decimal, PlainSerializer(_money, return_type=str)]
UnitCost = Annotated[Decimal, PlainSerializer(_unit, return_type=str)]
Quantity = Annotated[Decimal, PlainSerializer(plain, return_type=str)]
QuantityIn = Annotated[Decimal, Field(gt=-bounds.MOST_UNITS, lt=bounds.MOST_UNITS, decimal_places=bounds.QUANTITY_PLACES)]
MoneyIn = Annotated[Decimal, Field(gt=-bounds.MOST_MONEY, lt=bounds.MOST_MONEY, decimal_places=bounds.MONEY_PLACES)]
UnitCostIn = Annotated[Decimal, Field(gt=-bounds.MOST_PRICE, lt=bounds.MOST_PRICE, decimal_places=bounds.UNIT_COST_PLACES)]
DayIn = Annotated[date, Field(ge=bounds.EARLIEST.date(), le=bounds.LAST_DAY)]
Id = Annotated[int, Field(gt=0, lt=2**63)]


@dataclass(frozen=True)
class words:  # noqa: N801 (it is read as what it says)
    """Which words a text of an answer can be, for who reads the API's description; what is answered is not looked at once
    more. Of a row with a fault it may be empty. A registry is filled at the start, so `choices` are looked through when the
    description is asked for."""

    choices: Iterable[str]

    def __get_pydantic_json_schema__(self, _: Any, __: Any) -> dict[str, Any]:
        return {"type": "string", "enum": [str(one) for one in self.choices]}


class SheetRow(BaseModel):
    """A row of a sheet. `fault` says why it could not be worked out; then only what it is about is true in it.

    It is made of plain values: nothing has to be read off a record, which for a long sheet costs more than all else.
    """

    fault: str = ""

    @classmethod
    def broken(cls, known: Mapping[str, Any], said: str) -> Self:
        """A row with what is known of it, nothing in all other fields, and why."""
        nothing = {name: nothing_of(field.annotation) for name, field in cls.model_fields.items()}
        row = cls.model_validate({**nothing, **known, "fault": said})
        # What was not set is not known, though something must travel in its place.
        row.__pydantic_fields_set__ = {*known, "fault"}
        return row


def nothing_of(annotation: Any) -> Any:
    """What stands in a field of that type when nothing is known: null where it may be, else an empty or zero value."""
    origin, inner = get_origin(annotation), get_args(annotation)
    if NoneType in inner:
        return None
    if origin in (list, dict):
        return origin()
    if origin is not None:
        return inner[0]
    if issubclass(annotation, BaseModel):
        return {name: nothing_of(field.annotation) for name, field in annotation.model_fields.items()}
    if issubclass(annotation, date):
        return datetime(1990, 1, 1, tzinfo=UTC) if issubclass(annotation, datetime) else date(1990, 1, 1)
    return annotation()


class StepOut(Schema):
    """A line of a Working."""

    label: str
    value: str | None = None
    note: str = ""
    op: str = ""
    kind: str = "term"
    unit: str = ""
    link: str = ""


class WorkingOut(Schema):
    """How a number came about."""

    title: str
    subtitle: str = ""
    steps: list[StepOut]
    note: str = ""


class Said(Schema):
    """What was done, in a sentence."""

    said: str
    id: int | None = None


class VersionIn(Schema):
    """The version the person was looking at."""

    version: int
