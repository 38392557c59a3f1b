"""What is given back of a sale: goods by line as they were sold, charges by choice, less a fee for taking them back.

A discount on the whole order made every line of goods cheaper, so each is credited at what it came to after its share of
the discount; tax at the rate of the sale.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from .errors import BadInputError
from .money import ZERO, allocate, round_money, split_tax, spoken
from .working import Step, Working

GOODS = ("item", "service")


@dataclass(frozen=True)
class Sold:
    """A line of an order: ordered, left, and what of it was credited before. Amounts in the company's currency, `net`
    without tax; `shipped` of a charge: 1 once it is invoiced."""

    id: int
    kind: str
    title: str
    quantity: Decimal
    shipped: Decimal
    net: Decimal
    tax: Decimal
    tax_percent: Decimal = ZERO
    credited: Decimal = ZERO
    credited_net: Decimal = ZERO
    credited_tax: Decimal = ZERO


@dataclass(frozen=True)
class Wanted:
    """What of a line is to be credited: units, or an amount with tax, or both; units alone bring what they were sold at.
    `slack`: by how much an amount that has been paid may go beyond what is left of the line, where others share a discount
    over lines with other cents."""

    quantity: Decimal = ZERO
    gross: Decimal | None = None
    slack: Decimal = ZERO


@dataclass(frozen=True)
class Part:
    """What of a line is credited."""

    line_id: int
    quantity: Decimal
    net: Decimal
    tax: Decimal

    @property
    def gross(self) -> Decimal:
        """With tax."""
        return self.net + self.tax


@dataclass(frozen=True)
class Credit:
    """What one credit note comes to, net of tax: goods, shipping and surcharges given back, and the fee kept; `tax` is what
    all of it brings back of the output tax."""

    goods: Decimal = ZERO
    shipping: Decimal = ZERO
    surcharge: Decimal = ZERO
    fee: Decimal = ZERO
    tax: Decimal = ZERO

    @property
    def net(self) -> Decimal:
        """Without tax."""
        return self.goods + self.shipping + self.surcharge - self.fee

    @property
    def total(self) -> Decimal:
        """What the customer gets back."""
        return self.net + self.tax


def worth(lines: Sequence[Sold], currency: str = "EUR") -> dict[int, tuple[Decimal, Decimal]]:
    """(net, tax) of each line after its share of the order's discounts: their net is borne by the nets of the goods, their
    tax by the taxes.

    Largest remainders, so that the lines add up to the order. Check: 60.00 and 40.00 less 10.00 → 54.00 and 36.00.
    """
    goods = [line for line in lines if line.kind in GOODS]
    off_net = sum((line.net for line in lines if line.kind == "discount"), ZERO)
    off_tax = sum((line.tax for line in lines if line.kind == "discount"), ZERO)
    nets = allocate(off_net, [max(line.net, ZERO) for line in goods], currency) if goods else []
    taxes = allocate(off_tax, [max(line.tax, ZERO) for line in goods], currency) if goods else []
    found = {line.id: (line.net, line.tax) for line in lines if line.kind not in ("discount", *GOODS)}
    found |= {line.id: (line.net + net, line.tax + tax) for line, net, tax in zip(goods, nets, taxes, strict=True)}
    return found


def _up_to(whole: Decimal, units: Decimal, of: Decimal, currency: str) -> Decimal:
    """What the first `units` of a line come to; all of them come to the whole."""
    return whole if units == of else round_money(whole * units / of, currency)


def left(line: Sold, amounts: tuple[Decimal, Decimal], currency: str = "EUR") -> tuple[Decimal, Decimal]:
    """(net, tax) of what has left of a line and was not credited yet; never below zero."""
    net, tax = (_up_to(whole, line.shipped, line.quantity, currency) for whole in amounts)
    return max(net - line.credited_net, ZERO), max(tax - line.credited_tax, ZERO)


def credit_part(line: Sold, amounts: tuple[Decimal, Decimal], wanted: Wanted, currency: str = "EUR") -> Part:
    """What of one line is credited. `amounts`: what the line is `worth`.

    Units bring what they were sold at; the last ones bring what is left, so that a line is never credited twice and nothing
    of it remains. Raises BadInputError naming the field for more units than have left, or more money than is left.
    """
    field = f"lines.{line.id}"
    units = line.shipped - line.credited
    if wanted.quantity < 0 or wanted.quantity > units:
        raise BadInputError(
            f"{line.title}: {spoken(max(units, ZERO))} can be credited, not {spoken(wanted.quantity)}.", field=field
        )
    net_left, tax_left = left(line, amounts, currency)
    if wanted.gross is None:
        after = line.credited + wanted.quantity
        bare = [_up_to(a, after, line.quantity, currency) - _up_to(a, line.credited, line.quantity, currency) for a in amounts]
        last = after == line.shipped and wanted.quantity > 0
        net, tax = (net_left, tax_left) if last else (min(bare[0], net_left), min(bare[1], tax_left))
        return Part(line.id, wanted.quantity, net, tax)
    if wanted.gross < 0 or wanted.gross > net_left + tax_left + wanted.slack:
        raise BadInputError(
            f"{line.title}: {net_left + tax_left} can be credited with tax, not {spoken(wanted.gross)}.", field=field
        )
    if wanted.gross == net_left + tax_left:
        return Part(line.id, wanted.quantity, net_left, tax_left)
    whole = sum(amounts, ZERO)
    tax = round_money(wanted.gross * amounts[1] / whole, currency) if whole else ZERO
    if not wanted.slack:
        tax = min(tax, tax_left)
    return Part(line.id, wanted.quantity, wanted.gross - tax, tax)


def credit_parts(
    lines: Sequence[Sold], wanted: Mapping[int, Wanted], fee: Decimal = ZERO, currency: str = "EUR"
) -> tuple[list[Part], Credit]:
    """The lines of a credit note and what it comes to. `fee`: kept for taking the goods back, with tax at the rate of the
    dearest line that is credited.

    Raises BadInputError for a line that is not the order's, for a discount, for nothing to credit, and for a fee that is
    more than what is given back.
    """
    known = {line.id: line for line in lines}
    amounts = worth(lines, currency)
    parts = []
    for line_id, want in wanted.items():
        line = known.get(line_id)
        if line is None or line.kind == "discount":
            raise BadInputError("That line is not one that can be credited.", field=f"lines.{line_id}")
        part = credit_part(line, amounts[line_id], want, currency)
        if part.quantity or part.gross:
            parts.append(part)
    if not parts:
        raise BadInputError("Enter what is credited.", field="lines")
    gross = sum((part.gross for part in parts), ZERO)
    if fee < 0 or fee > gross:
        raise BadInputError(f"A fee lies between nothing and the {gross} given back.", field="fee")
    dearest = max(parts, key=lambda part: (part.gross, -part.line_id))
    fee_net, fee_tax = split_tax(fee, known[dearest.line_id].tax_percent, currency)

    def net(*kinds: str) -> Decimal:
        return sum((part.net for part in parts if known[part.line_id].kind in kinds), ZERO)

    tax = sum((part.tax for part in parts), ZERO) - fee_tax
    return parts, Credit(net(*GOODS), net("shipping"), net("surcharge"), fee_net, tax)


def cost_back(cost: Decimal, left_units: Decimal, back: Decimal, worth_back: Decimal, units: Decimal, currency: str) -> Decimal:
    """The cost at which `units` come back: their share of the `cost` at which `left_units` left, rounded half up; the last
    ones bring what is left of it. `back` and `worth_back`: what came back before.

    Check: 3 left at 10.00; they come back one by one at 3.33, 3.33 and 3.34.
    """
    if back + units >= left_units:
        return cost - worth_back
    return min(round_money(cost * units / left_units, currency), cost - worth_back)


def credit_working(
    subject: str, parts: Sequence[tuple[str, Decimal, Decimal]], fee: Decimal, total: Decimal, currency: str
) -> Working:
    """The sum behind a credit note. `parts`: (title, units, amount with tax)."""
    steps = [
        Step(title, gross, f"{spoken(units)} at what they were sold for" if units else "of the price", op="+")
        for title, units, gross in parts
    ]
    if fee:
        steps.append(Step("Kept for taking it back", fee, op="-"))
    return Working("What is given back?", subject, (*steps, Step("Credited", total, kind="result", unit=currency)))
