"""Wire types of agreement."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from ninja import Schema
from pydantic import BaseModel

from yuvrel.catalogue.models import Item
from yuvrel.channels.models import Listing
from yuvrel.platform.wire import Money, Quantity, SheetRow, words


class BeamOut(SheetRow):
    """Two books on a beam."""

    code: str
    left_name: str
    right_name: str
    left: Quantity
    right: Quantity
    money: bool
    compared: int
    differing: int
    at: datetime | None


class DriftOut(SheetRow):
    """A difference that stands."""

    id: int
    code: str
    connection: str
    title: str
    expected: str
    found: str
    cause: str
    since: datetime
    seen_at: datetime
    item_id: int | None
    listing_id: int | None
    order_id: int | None
    can_take: bool


class CellOut(BaseModel):
    """What one connection shows of an item."""

    connection_id: int
    listing_id: int
    shown: Quantity | None
    offered: Quantity | None
    state: Annotated[str, words(Listing.Offer)]


class AgreeRow(SheetRow):
    """An item across the three books."""

    item_id: int
    sku: str
    title: str
    kind: Annotated[str, words(Item.Kind)]
    cells: list[CellOut]
    holds: Quantity | None
    worth: Money | None
    booked: Money | None
    state: Annotated[str, words(Listing.Offer)]


class ColumnOut(Schema):
    """A connection that shows quantities."""

    id: int
    name: str


class AgreementOut(Schema):
    """The agreement sheet without its items."""

    at: datetime | None
    checking: bool
    beams: list[BeamOut]
    drifts: list[DriftOut]
    healed_today: int
    columns: list[ColumnOut]
    worth: Money | None
    booked: Money | None


class AgreePage(Schema):
    """A page of items across the three books."""

    rows: list[AgreeRow]
    next: str
