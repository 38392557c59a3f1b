"""Amounts of one currency in another, at a rate, without losing a cent of their sum."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from .errors import BadInputError
from .money import ZERO, round_money


def at_rate(amount: Decimal, rate: Decimal, currency: str) -> Decimal:
    """`amount` of another currency in `currency`, rounded half up to its minor unit.

    `rate`: units of the other for one of `currency`. Raises BadInputError for a rate that is not above zero.
    Check: 45.00 at 0.8531 → 52.75 (52.7487…).
    """
    if rate <= 0:
        raise BadInputError("A rate must be greater than zero.", field="rate")
    return round_money(amount / rate, currency)


def all_at_rate(amounts: Sequence[Decimal], rate: Decimal, currency: str) -> list[Decimal]:
    """The same of several amounts, which together come to their sum at that rate: what rounding leaves over goes to the
    largest of them, the first among equals, since there it is least.

    Check: 10.00, 10.00 and 10.00 at 3 → 3.34, 3.33, 3.33, together 10.00.
    """
    found = [at_rate(amount, rate, currency) for amount in amounts]
    if found:
        largest = max(range(len(found)), key=lambda n: (abs(amounts[n]), -n))
        found[largest] += at_rate(sum(amounts, ZERO), rate, currency) - sum(found, ZERO)
    return found
