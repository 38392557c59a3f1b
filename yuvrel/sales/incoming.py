"""An order as the sales app takes it: items resolved, amounts with tax, nothing of a protocol left."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from yuvrel.core.bounds import QUANTITY_PLACES
from yuvrel.core.errors import BadInputError
from yuvrel.core.money import minor_unit
from yuvrel.core.orders import ChannelLine, LineKind, check_line, total_difference

from .past_zero import Allowance


@dataclass(frozen=True)
class IncomingLine:
    """`item_id` is None for shipping, discounts and surcharges, and for goods nobody knows here. `units`: of the item for
    one that the channel counts; `quantity` is in units of the item."""

    kind: LineKind
    title: str
    quantity: Decimal
    amount: Decimal
    tax_percent: Decimal
    external_id: str = ""
    sku: str = ""
    item_id: int | None = None
    decimals: int = 0
    past_zero: Allowance | None = None
    units: int = 1

    @property
    def counted_in(self) -> int:
        """Decimals of its quantity; of goods nobody knows here, as many as there can be."""
        return self.decimals if self.item_id is not None else QUANTITY_PLACES

    def facts(self) -> ChannelLine:
        """What the core checks."""
        return ChannelLine(self.kind, self.title, self.amount, self.quantity, self.sku, self.tax_percent)


@dataclass(frozen=True)
class IncomingPayment:
    """How a part is paid; `account`: the code of the clearing account it settles through, empty for the first."""

    external_id: str
    method: str
    amount: Decimal
    authorised: bool = False
    account: str = ""
    stated: Decimal | None = None


@dataclass(frozen=True)
class Stated:
    """What the channel said of an order in another currency, and the rate: of that currency for one of the company's."""

    currency: str
    total: Decimal
    rate: Decimal


@dataclass(frozen=True)
class IncomingOrder:
    """One version of an order from a connection.

    `held`: why it is to wait, whatever else it says; `nameless`: whether lines that no item is known for are taken in and
    pointed out, instead of holding the order; `goods_wait`: whether what a cancelled one reserves stays so until it was
    put back; `gather`: with what the
    ledger is told of it, a day at a time; `sells_in`: the currency besides the company's in which the connection sells;
    `send_by`: the day until which it has to leave; `penalty`: what the channel charges for it being late or cancelled;
    `stated`: what the channel said of an order in it that was converted; `no_rate`: why it could not be.
    """

    connection_id: int
    location_id: int
    prefix: str
    external_id: str
    number: str
    version: int
    placed_at: datetime
    currency: str
    total: Decimal
    lines: Sequence[IncomingLine]
    paid: bool = True
    cancelled: bool = False
    goods_wait: bool = False
    backorders: bool = True
    nameless: bool = False
    held: str = ""
    payments: Sequence[IncomingPayment] = ()
    sells_in: str = ""
    gather: str = ""
    send_by: date | None = None
    penalty: Decimal = Decimal(0)
    stated: Stated | None = None
    no_rate: str = ""
    customer: dict[str, Any] = field(default_factory=dict)
    ship_to: dict[str, Any] = field(default_factory=dict)

    @property
    def shipping_method(self) -> str:
        """How it is to be sent, in the channel's words."""
        return next((line.title for line in self.lines if line.kind == "shipping"), "")[:80]

    @property
    def unknown(self) -> str:
        """Goods that no item is linked to, as a sentence; empty when there are none."""
        found = [line for line in self.lines if line.kind in ("item", "service") and line.item_id is None]
        return f"No item is linked to {', '.join(line.sku or line.title for line in found[:3])}." if found else ""

    @property
    def full_number(self) -> str:
        """Our number: the connection's prefix and the channel's number."""
        return f"{self.prefix}{self.number}"


def fits(quantity: Decimal, decimals: int) -> bool:
    """Whether an item counted with so many decimals can have such a quantity at all."""
    return quantity > 0 and quantity == quantity.quantize(Decimal(1).scaleb(-decimals))


def _no_currency(theirs: str, ours: str) -> str:
    return f"It is in {theirs}, and this connection sells in {ours}. Its rules say in which other currency it may sell."


def faults(order: IncomingOrder, base_currency: str) -> tuple[str, str]:
    """(why the order must be held, the field), or two empty texts when it is sound."""
    try:
        minor_unit(order.currency)
        if order.currency != base_currency:
            return order.no_rate or _no_currency(order.currency, base_currency), "currency"
        if not order.lines:
            return "It has no lines.", "lines"
        if order.total < 0:
            return f"Its total of {order.total} is negative.", "total"
        for line in order.lines:
            check_line(line.facts(), line.counted_in, order.currency)
    except BadInputError as error:
        return error.detail, error.field
    if order.unknown and not order.nameless:
        return order.unknown, "item"
    off = total_difference([line.facts() for line in order.lines], order.total)
    if off:
        return f"Its lines add up to {abs(off)} {'more' if off > 0 else 'less'} than its total of {order.total}.", "total"
    return (order.held, "status") if order.held else ("", "")
