"""Demand seen on the days on which there was something to sell."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

import numpy as np
from numpy.typing import NDArray

from .errors import BadInputError
from .money import spoken
from .working import Step, Working

Floats = NDArray[np.float64]
Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Velocity:
    """Units per day over the days in stock, with what it was computed from.

    `deviation` is the standard deviation of daily demand on those days (n - 1 in the divisor).
    """

    per_day: Decimal
    units: Decimal
    days: int
    days_in_stock: int
    deviation: Decimal

    @property
    def days_out(self) -> int:
        """Days on which nothing was available; demand on them is unknown."""
        return self.days - self.days_in_stock

    @property
    def naive_per_day(self) -> Decimal:
        """What counting the empty days as days without demand would have said."""
        return (self.units / self.days).quantize(Decimal("0.0001")) if self.days else Decimal(0)


def velocities(units: Floats, in_stock: Mask) -> list[Velocity]:
    """Velocity of each series: units sold on days in stock ÷ days in stock.

    `units`: n × days, units sold a day. `in_stock`: the same shape, True where the item could be
    sold. Units recorded on a masked day (a sale below zero) count, and so does their day.
    Check: 90 units over 90 days of which 15 without stock -> 1.2 a day.
    Raises BadInputError on NaN, infinite or negative demand, or on shapes that differ.
    """
    if units.shape != in_stock.shape or units.ndim != 2:
        raise BadInputError("Demand and its mask must be tables of one shape.", field="units")
    if not np.isfinite(units).all():
        raise BadInputError("Demand holds a value that is not a finite number.", field="units")
    if (units < 0).any():
        raise BadInputError("Demand cannot be negative.", field="units")
    seen = in_stock | (units > 0)
    counts = seen.sum(axis=1)
    totals = np.where(seen, units, 0.0).sum(axis=1)
    safe = np.maximum(counts, 1)
    means = totals / safe
    squares = np.where(seen, (units - means[:, None]) ** 2, 0.0).sum(axis=1)
    deviations = np.sqrt(squares / np.maximum(counts - 1, 1))
    days = units.shape[1]
    return [
        Velocity(_decimal(means[i]), _decimal(totals[i], "0.001"), days, int(counts[i]), _decimal(deviations[i]))
        for i in range(units.shape[0])
    ]


def _decimal(value: float, places: str = "0.0001") -> Decimal:
    return Decimal(str(round(float(value), 6))).quantize(Decimal(places))


def velocity_sentence(velocity: Velocity) -> str:
    """The velocity in words, and what the naive figure would have been."""
    if not velocity.days_in_stock:
        return "It was never in stock in the reference window, so its demand is unknown."
    text = (
        f"{spoken(velocity.per_day)} a day: {spoken(velocity.units)} sold on the "
        f"{velocity.days_in_stock} days it was in stock, of {velocity.days}."
    )
    if velocity.days_out:
        text += f" Counting the {velocity.days_out} empty days would have said {spoken(velocity.naive_per_day)}."
    return text


def velocity_working(velocity: Velocity, subject: str) -> Working:
    """The sum behind a velocity."""
    steps = (
        Step("Units sold", velocity.units, f"last {velocity.days} days"),
        Step("Days in stock", Decimal(velocity.days_in_stock), f"{velocity.days_out} days out left aside", op="÷"),
        Step("Per day", velocity.per_day, kind="result"),
    )
    return Working("How fast does it sell?", subject, steps, velocity_sentence(velocity))
