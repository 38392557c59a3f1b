"""Orders in a currency other than the company's: taken in at the rate of their day, which they keep.

What is paid in advance is recognised at the rate of the day it was paid (IFRIC 22, paragraph 8); an order that is paid
when it is placed, or with its shipment a few days later, is booked at the rate of the day it was placed (IAS 21, paragraph
22: a rate that approximates the actual one).
"""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

from yuvrel.books.rates import rate_on
from yuvrel.core.currency import lines_at_rate, parts_at_rate
from yuvrel.core.errors import RefusedError
from yuvrel.core.money import round_money, split_tax
from yuvrel.people.queries import company, company_day

from .incoming import IncomingOrder, Stated
from .models import OrderLine, Payment, SalesOrder


def in_our_currency(order: SalesOrder | None, incoming: IncomingOrder) -> IncomingOrder:
    """A version of an order in the company's currency, at the rate the order has, else that of the day it was placed.

    One in a currency that the connection does not sell in stays as it is, and so does one without a rate, which says so.
    """
    base = company().base_currency
    if incoming.currency == base or incoming.currency != incoming.sells_in:
        return incoming
    kept = order is not None and order.stated_currency == incoming.currency
    try:
        rate = order.rate if order is not None and kept else rate_on(incoming.currency, company_day(incoming.placed_at), base)
    except RefusedError as error:
        return replace(incoming, no_rate=error.detail)
    amounts, total = lines_at_rate([line.amount for line in incoming.lines], incoming.total, rate, base)
    paid = parts_at_rate([one.amount for one in incoming.payments], incoming.total, rate, base, total)
    payments = [replace(one, amount=part, stated=one.amount) for one, part in zip(incoming.payments, paid, strict=True)]
    return replace(
        incoming,
        currency=base,
        total=total,
        lines=[replace(line, amount=amount) for line, amount in zip(incoming.lines, amounts, strict=True)],
        payments=payments,
        penalty=round_money(incoming.penalty / rate, base),
        stated=Stated(incoming.currency, incoming.total, rate),
    )


def state(order: SalesOrder, incoming: IncomingOrder) -> None:
    """Write what a version comes to, and what the channel said of it; the caller saves."""
    order.currency, order.total = incoming.currency, incoming.total
    told = incoming.stated
    order.stated_currency, order.stated_total = (told.currency, told.total) if told else ("", None)
    order.rate = told.rate if told else Decimal(1)
    order.send_by, order.penalty = incoming.send_by, incoming.penalty


def convert(order: SalesOrder) -> None:
    """Bring an order that was kept in its own currency into the company's, at the rate of the day it was placed.

    For one that was held and is released now that there is a rate; nothing of it is posted yet. Raises RefusedError while
    there is none.
    """
    base = company().base_currency
    if order.currency == base:
        return
    rate = rate_on(order.currency, company_day(order.placed_at), base)
    lines = list(order.lines.order_by("pk"))  # type: ignore[attr-defined]
    grosses, total = lines_at_rate([line.net + line.tax for line in lines], order.total, rate, base)
    for line, gross in zip(lines, grosses, strict=True):
        line.net, line.tax = split_tax(gross, line.tax_percent, base)
    OrderLine.objects.bulk_update(lines, ["net", "tax"])
    payments = list(order.payments.all())  # type: ignore[attr-defined]
    paid = parts_at_rate([one.amount for one in payments], order.total, rate, base, total)
    for one, part in zip(payments, paid, strict=True):
        one.stated, one.amount = one.amount, part
    Payment.objects.bulk_update(payments, ["stated", "amount"])
    order.stated_currency, order.stated_total, order.rate = order.currency, order.total, rate
    order.currency, order.total = base, total
    order.net = sum((line.net for line in lines), Decimal(0))


def stated_part(order: SalesOrder, payment: Payment, amount: Decimal) -> Decimal | None:
    """What a part taken of a payment is in the channel's currency; the last part is all that is left there. None where
    the order is in the company's currency."""
    if payment.stated is None:
        return None
    told = sum((row.stated or Decimal(0) for row in payment.captures.all()), Decimal(0))  # type: ignore[attr-defined]
    left: Decimal = payment.stated - told
    if amount == payment.amount - payment.taken:
        return left
    return min(left, round_money(amount * order.rate, order.stated_currency))
