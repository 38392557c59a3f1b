"""An order's arithmetic: its lines against the channel's total, its profit, its parts when shipped."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from .errors import BadInputError
from .money import ZERO, minor_unit, round_money, split_tax, spoken
from .postings import Revenue
from .working import Step, Working

LineKind = Literal["item", "service", "shipping", "discount", "surcharge"]
KINDS: tuple[LineKind, ...] = ("item", "service", "shipping", "discount", "surcharge")


@dataclass(frozen=True)
class ChannelLine:
    """A line as the channel states it; `amount` is tax-inclusive and negative for a discount."""

    kind: LineKind
    title: str
    amount: Decimal
    quantity: Decimal = Decimal(1)
    sku: str = ""
    tax_percent: Decimal = ZERO

    def taxed(self, currency: str = "EUR") -> tuple[Decimal, Decimal]:
        """(net, tax); the two add up to the amount."""
        return split_tax(self.amount, self.tax_percent, currency)


def check_line(line: ChannelLine, decimals: int = 0, currency: str = "EUR") -> None:
    """Raises BadInputError, naming the field, when a line cannot be a line of an order."""
    if line.kind not in KINDS:
        raise BadInputError(f"{line.kind!r} is not a kind of order line.", field="kind")
    if line.kind in ("item", "service") and line.quantity <= 0:
        raise BadInputError(f"{line.title!r} has a quantity of {line.quantity}; it must be greater than zero.", field="quantity")
    if line.quantity != line.quantity.quantize(Decimal(1).scaleb(-decimals)):
        raise BadInputError(
            f"{line.title!r} has a quantity of {line.quantity}; {decimals} decimals are allowed.",
            field="quantity",
        )
    if line.kind == "discount" and line.amount > 0:
        raise BadInputError(f"Discount {line.title!r} would raise the price.", field="amount")
    if line.kind != "discount" and line.amount < 0:
        raise BadInputError(f"{line.title!r} has a negative amount.", field="amount")
    if line.amount != line.amount.quantize(minor_unit(currency)):
        raise BadInputError(f"{line.title!r} has a fraction of a cent.", field="amount")


def total_difference(lines: Sequence[ChannelLine], stated: Decimal) -> Decimal:
    """Σ lines - the channel's total: zero when the order adds up to the cent."""
    return sum((line.amount for line in lines), ZERO) - stated


@dataclass(frozen=True)
class BookedLine:
    """A line as it stands on our order: whole quantity and amounts, and how much is invoiced."""

    id: int
    kind: LineKind
    quantity: Decimal
    net: Decimal
    tax: Decimal
    invoiced: Decimal = ZERO
    invoiced_net: Decimal = ZERO
    invoiced_tax: Decimal = ZERO


@dataclass(frozen=True)
class InvoicePart:
    """What of a line goes on this invoice."""

    line_id: int
    quantity: Decimal
    net: Decimal
    tax: Decimal


def invoice_parts(
    lines: Sequence[BookedLine], shipped: dict[int, Decimal], currency: str = "EUR"
) -> tuple[list[InvoicePart], Revenue]:
    """The lines of the invoice for a shipment, and its revenue.

    A part of a line takes its proportion, rounded half up; the last part takes what is left, so
    that the invoices of an order add up to the order. Shipping, surcharges and discounts go on
    the first invoice. Raises BadInputError when more is shipped than is left of a line.
    """
    parts: list[InvoicePart] = []
    sums = {kind: ZERO for kind in KINDS}
    tax = ZERO
    for line in lines:
        left = line.quantity - line.invoiced
        goods = line.kind in ("item", "service")
        quantity = shipped.get(line.id, ZERO) if goods else left
        if quantity > left:
            raise BadInputError(f"{quantity} is more than the {left} left to ship.", field="quantity")
        if quantity <= 0:
            continue
        part = _part(line, quantity, last=quantity == left, currency=currency)
        parts.append(part)
        sums[line.kind] += part.net
        tax += part.tax
    revenue = Revenue(
        sales=sums["item"] + sums["service"],
        shipping=sums["shipping"],
        surcharge=sums["surcharge"],
        discount=-sums["discount"],
        tax=tax,
    )
    return parts, revenue


def _part(line: BookedLine, quantity: Decimal, *, last: bool, currency: str) -> InvoicePart:
    if last:
        return InvoicePart(line.id, quantity, line.net - line.invoiced_net, line.tax - line.invoiced_tax)
    share = quantity / line.quantity
    return InvoicePart(line.id, quantity, round_money(line.net * share, currency), round_money(line.tax * share, currency))


@dataclass(frozen=True)
class Profit:
    """An order's contribution; `charged`: all of it without tax, less what was given back; `margin_percent` of that, None
    when nothing was."""

    net_revenue: Decimal
    charged: Decimal
    cost: Decimal
    fees: Decimal
    contribution: Decimal
    margin_percent: Decimal | None
    working: Working


def profit(
    *,
    goods: Decimal,
    discount: Decimal,
    charged: Decimal,
    cost: Decimal,
    basis: str,
    fee_rate: Decimal,
    fee_fixed: Decimal,
    gross: Decimal,
    carrier: Decimal = ZERO,
    penalty: Decimal = ZERO,
    credited: Decimal = ZERO,
    cost_back: Decimal = ZERO,
    subject: str = "",
    currency: str = "EUR",
) -> Profit:
    """Net revenue + charges - credits - cost + cost of what came back - channel fees - penalty - carrier cost =
    contribution.

    `credited`: given back without tax; `cost_back`: of what came back and is still ours. `penalty`: what the channel charges
    for being late; `goods`, `discount` (positive) and `charged` (shipping and
    surcharges) are net of tax; `gross` is what the customer pays, on which the channel's fee is taken. The basis of the cost
    is named, never implied. The margin is the contribution's share of all that was charged without tax.
    """
    net = goods - discount
    revenue = net + charged - credited
    fees = round_money(gross * fee_rate / 100, currency) + fee_fixed
    contribution = revenue - cost + cost_back - fees - penalty - carrier
    margin = (contribution * 100 / revenue).quantize(Decimal("0.1")) if revenue else None
    steps = (
        Step("Goods, net of tax", goods),
        Step("Discounts", discount, op="-"),
        Step("Net revenue", net, kind="subtotal"),
        Step("Shipping and surcharges charged", charged, op="+"),
        *([Step("Credited", credited, "given back, without tax", op="-")] if credited else []),
        Step("Charged without tax", revenue, kind="subtotal"),
        Step("Cost of goods", cost, basis, op="-"),
        *([Step("Cost of what came back", cost_back, "at the cost at which it left", op="+")] if cost_back else []),
        Step("Channel fees", fees, f"{spoken(fee_rate)} % of {gross} + {fee_fixed}", op="-"),
        *([Step("Penalty", penalty, "charged by the channel for being late or cancelled", op="-")] if penalty else []),
        Step("Carrier", carrier, op="-"),
        Step("Contribution", contribution, f"{margin} % of what was charged" if margin is not None else "", kind="result"),
    )
    return Profit(net, revenue, cost - cost_back, fees, contribution, margin, Working("What did it earn?", subject, steps))
