"""What a purchase order comes to, and what of it is still to come."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

from .money import ZERO, round_money, spoken
from .working import Step, Working, plain


@dataclass(frozen=True)
class PurchasedLine:
    """Units ordered and received of a line, and the price of one in the order's currency."""

    title: str
    quantity: Decimal
    received: Decimal
    price: Decimal


@dataclass(frozen=True)
class Purchase:
    """In the order's currency: what was ordered, what of it was received, what is to come; `in_base`: the latter in the
    company's, where a rate is known."""

    ordered: Decimal
    received: Decimal
    to_come: Decimal
    in_base: Decimal | None
    working: Working


def purchase(lines: Sequence[PurchasedLine], subject: str, currency: str, base: str, rate: Decimal | None) -> Purchase:
    """Each line is rounded by itself, what was received of it at the price ordered; `rate`: units of `currency` for one of
    `base`, None where none is known."""
    ordered = received = ZERO
    steps, came = [], []
    for line in lines:
        amount = round_money(line.quantity * line.price, currency)
        ordered += amount
        steps.append(Step(line.title, amount, f"{spoken(line.quantity)} × {plain(line.price)}", op="+"))
        if line.received:
            arrived = round_money(line.received * line.price, currency)
            received += arrived
            came.append(Step(f"{line.title}, received", arrived, f"{spoken(line.received)} × {plain(line.price)}", op="−"))
    to_come = ordered - received
    if came:
        steps += [Step("Ordered", ordered, kind="subtotal"), *came]
    if rate is None or currency == base:
        in_base = to_come if currency == base else None
        steps.append(Step("To come", to_come, kind="result", unit=currency))
    else:
        in_base = round_money(to_come / rate, base)
        steps.append(Step("To come", to_come, kind="subtotal", unit=currency))
        steps.append(Step("Rate", rate, f"{currency} for one {base}, today", op="÷"))
        steps.append(Step(f"In {base}", in_base, kind="result", unit=base))
    note = "" if currency == base else "Goods come in at the rate of the day on which they arrive."
    return Purchase(ordered, received, to_come, in_base, Working("What is still to come?", subject, tuple(steps), note))
