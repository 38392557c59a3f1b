"""What a supplier may ask: all-units prices from quantities on."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal
from itertools import pairwise

from .errors import BadInputError

MOST_BREAKS = 12


def price_breaks(given: Iterable[tuple[Decimal, Decimal]]) -> list[tuple[Decimal, Decimal]]:
    """(from quantity, price of one) in order of quantity, as given but sorted.

    Raises BadInputError unless the first begins at 0, no two at the same quantity, and no price is below zero.
    """
    prices = sorted(given)
    if not prices or len(prices) > MOST_BREAKS:
        raise BadInputError(f"Give 1 to {MOST_BREAKS} prices.", field="prices")
    if prices[0][0] != 0:
        raise BadInputError("The first price break must start at 0.", field="prices")
    if any(price < 0 for _, price in prices):
        raise BadInputError("A price cannot be negative.", field="prices")
    if any(one == other for (one, _), (other, _) in pairwise(prices)):
        raise BadInputError("Two price breaks start at the same quantity.", field="prices")
    return prices
