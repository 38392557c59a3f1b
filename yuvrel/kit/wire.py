"""Wire types: money and quantities travel as decimal strings, never as floats."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated

from ninja import Schema
from pydantic import Field, PlainSerializer

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
QuantityIn = Annotated[Decimal, Field(max_digits=18, decimal_places=3)]
MoneyIn = Annotated[Decimal, Field(max_digits=18, decimal_places=2)]
UnitCostIn = Annotated[Decimal, Field(max_digits=18, decimal_places=6)]
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
