"""Documents of one currency in another, at a rate, so that lines, total and payments come to one another to the cent."""

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


def lines_at_rate(amounts: Sequence[Decimal], total: Decimal, rate: Decimal, currency: str) -> tuple[list[Decimal], Decimal]:
    """The lines of a document, each rounded for itself, and what the document comes to: their sum, and what its stated
    `total` differs from theirs. So a line that stays the same comes to the same whatever else is on the document.

    Check: 10.00, 10.00 and 10.00 at 3 → 3.33 each, together 9.99.
    """
    found = [at_rate(amount, rate, currency) for amount in amounts]
    return found, sum(found, ZERO) + at_rate(total - sum(amounts, ZERO), rate, currency)


def parts_at_rate(amounts: Sequence[Decimal], total: Decimal, rate: Decimal, currency: str, whole: Decimal) -> list[Decimal]:
    """What a document is paid with: where the parts cover its stated `total`, they come to what it comes to (`whole`), and
    what rounding leaves over goes to the largest, the first among equals, since there it is least.

    Check: 20.00 and 10.00 of 30.00, which comes to 9.99 at 3 → 6.66 and 3.33.
    """
    found = [at_rate(amount, rate, currency) for amount in amounts]
    if found and sum(amounts, ZERO) == total:
        largest = max(range(len(found)), key=lambda n: (abs(amounts[n]), -n))
        found[largest] += whole - sum(found, ZERO)
    return found
