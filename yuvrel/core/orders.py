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


@dataclass(frozen=True, kw_only=True)
class Profit:
    """What an order earned: net revenue + extras - credits - cost + cost of what came back - channel fees - penalty -
    carrier = contribution.

    `goods`, `discount` (positive) and `extras` (shipping and surcharges charged) are net of tax; `credited`: given back
    without tax; `cost_back`: of what came back and is still ours; `penalty`: what the channel charges for being late or
    cancelled; `gross`: what the customer pays, on which the channel's fee is taken. `basis` names what the cost goes by,
    never implied. Money in `currency`, rounded half up where it is worked out.
    """

    goods: Decimal
    discount: Decimal
    extras: Decimal
    goods_cost: Decimal
    basis: str
    fee_rate: Decimal
    fee_fixed: Decimal
    gross: Decimal
    carrier: Decimal = ZERO
    penalty: Decimal = ZERO
    credited: Decimal = ZERO
    cost_back: Decimal = ZERO
    subject: str = ""
    currency: str = "EUR"

    @property
    def net_revenue(self) -> Decimal:
        """The goods, less discounts, without tax."""
        return self.goods - self.discount

    @property
    def charged(self) -> Decimal:
        """All that was charged without tax, less what was given back."""
        return self.net_revenue + self.extras - self.credited

    @property
    def cost(self) -> Decimal:
        """Of the goods, less what came back."""
        return self.goods_cost - self.cost_back

    @property
    def fees(self) -> Decimal:
        """What the channel keeps."""
        return round_money(self.gross * self.fee_rate / 100, self.currency) + self.fee_fixed

    @property
    def contribution(self) -> Decimal:
        """What is left."""
        return self.charged - self.cost - self.fees - self.penalty - self.carrier

    @property
    def margin_percent(self) -> Decimal | None:
        """The contribution's share of all that was charged, to one decimal; None when nothing was."""
        return (self.contribution * 100 / self.charged).quantize(Decimal("0.1")) if self.charged else None

    @property
    def working(self) -> Working:
        """The sum, line by line."""
        margin = self.margin_percent
        steps = (
            Step("Goods, net of tax", self.goods),
            Step("Discounts", self.discount, op="-"),
            Step("Net revenue", self.net_revenue, kind="subtotal"),
            Step("Shipping and surcharges charged", self.extras, op="+"),
            *([Step("Credited", self.credited, "given back, without tax", op="-")] if self.credited else []),
            Step("Charged without tax", self.charged, kind="subtotal"),
            Step("Cost of goods", self.goods_cost, self.basis, op="-"),
            *([Step("Cost of what came back", self.cost_back, "at the cost at which it left", op="+")] if self.cost_back else []),
            Step("Channel fees", self.fees, f"{spoken(self.fee_rate)} % of {self.gross} + {self.fee_fixed}", op="-"),
            *(
                [Step("Penalty", self.penalty, "charged by the channel for being late or cancelled", op="-")]
                if self.penalty
                else []
            ),
            Step("Carrier", self.carrier, op="-"),
            Step(
                "Contribution", self.contribution, f"{margin} % of what was charged" if margin is not None else "", kind="result"
            ),
        )
        return Working("What did it earn?", self.subject, steps)
