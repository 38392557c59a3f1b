"""Wire types: money and quantities travel as decimal strings, never as floats."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Annotated

from ninja import Schema
from pydantic import Field, PlainSerializer

from yuvrel.core import bounds
from yuvrel.core.working import plain


def _money(value: Decimal) -> str:
    return format(value.quantize(Decimal("0.01")), "f")


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
