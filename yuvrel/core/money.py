"""Money and quantities: exact decimals, rounded half up, split without losing a cent."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import ROUND_DOWN, ROUND_HALF_UP, Decimal, InvalidOperation
from functools import lru_cache

from iso4217 import Currency

from .errors import BadInputError

ZERO = Decimal(0)
UNIT_COST_PLACES = Decimal("0.000001")


@lru_cache(maxsize=256)
def minor_unit(currency: str) -> Decimal:
    """The smallest amount of `currency` as a Decimal (EUR -> 0.01, JPY -> 1).

    Source: ISO 4217 list one, through the package iso4217.
    Raises BadInputError when the code is not a currency of the standard.
    """
    try:
        exponent = Currency(currency).exponent
    except ValueError as error:
        raise BadInputError(f"{currency!r} is not a currency of ISO 4217.", field="currency") from error
    return Decimal(1).scaleb(-(exponent or 0))


def round_money(amount: Decimal, currency: str = "EUR") -> Decimal:
    """`amount` rounded half up (away from zero at the half) to the currency's minor unit."""
    return amount.quantize(minor_unit(currency), rounding=ROUND_HALF_UP)


def round_unit_cost(amount: Decimal) -> Decimal:
    """A cost per unit, rounded half up to six decimals."""
    return amount.quantize(UNIT_COST_PLACES, rounding=ROUND_HALF_UP)


def floor_to(value: Decimal, step: Decimal) -> Decimal:
    """`value` rounded down to a multiple of `step`; step must be positive."""
    if step <= 0:
        raise BadInputError("A step must be greater than zero.", field="step")
    return (value / step).to_integral_value(rounding=ROUND_DOWN) * step


def spoken(value: Decimal, *, signed: bool = False) -> str:
    """`value` as it stands in a sentence: no superfluous zeros, a true minus sign; with `signed` also a plus."""
    text = f"{value.normalize():{'+' if signed else ''}f}"
    return text.replace("-", "−")


def parse_decimal(text: str, field: str) -> Decimal:
    """A finite Decimal from `text`. Raises BadInputError naming `field`."""
    try:
        value = Decimal(text.strip())
    except InvalidOperation as error:
        raise BadInputError(f"{text!r} is not a number.", field=field) from error
    if not value.is_finite():
        raise BadInputError(f"{text!r} is not a finite number.", field=field)
    return value


PLACES = 12


def allocate(total: Decimal, weights: Sequence[Decimal], currency: str = "EUR") -> list[Decimal]:
    """Split `total` in proportion to `weights` so that the parts add up to it exactly.

    Largest-remainder method in the currency's minor unit, in which `total` is whole; ties go to the earlier part.
    Weights count to PLACES places. With all weights zero the split is even. Raises BadInputError on a negative weight
    or when there is nothing to split over.
    """
    if not weights:
        raise BadInputError("There is nothing to spread the amount over.", field="weights")
    if min(weights) < 0:
        raise BadInputError("A weight cannot be negative.", field="weights")
    unit = minor_unit(currency)
    # In whole numbers, where no share of a part is lost: minor units, and weights times a power of ten.
    units = int((total / unit).to_integral_value(rounding=ROUND_HALF_UP))
    shares = [int(weight.scaleb(PLACES)) for weight in weights]
    whole = sum(shares)
    if not whole:
        shares, whole = [1] * len(weights), len(weights)
    sign, count = (1, units) if units >= 0 else (-1, -units)
    parts = [count * share // whole for share in shares]
    left = count - sum(parts)
    if left:
        rests = [count * share % whole for share in shares]
        for index in sorted(range(len(parts)), key=rests.__getitem__, reverse=True)[:left]:
            parts[index] += 1
    return [sign * part * unit for part in parts]


def split_tax(gross: Decimal, rate_percent: Decimal, currency: str = "EUR") -> tuple[Decimal, Decimal]:
    """(net, tax) of a tax-inclusive amount; tax is the difference, so the two add up to `gross`."""
    net = round_money(gross * 100 / (100 + rate_percent), currency)
    return net, gross - net


def price_for_margin(cost: Decimal, margin_percent: Decimal, currency: str = "EUR") -> Decimal:
    """Net price at which (price - cost) / price is the margin. Refuses a margin of 100 % or more."""
    if margin_percent >= 100:
        raise BadInputError("A margin must be below 100 %.", field="margin")
    return round_money(cost * 100 / (100 - margin_percent), currency)
