"""Demand to come for one item at one place: the path day by day, and how sure it is."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.special import ndtri

from .demand import Velocity, velocity_sentence
from .errors import BadInputError
from .forecast import Forecast, quantile
from .forecast.series import Floats
from .history import DAYS, Period

# Beyond the forecast's reach the mean of its last weeks goes on.
TAIL_DAYS = 28


def safety_stock(level: float, daily_mean: float, daily_deviation: float, lead_days: float, lead_deviation: float = 0.0) -> float:
    """z × √(L × σ_d² + d² × σ_L²), in units.

    Source: Snyder and Shen, Fundamentals of Supply Chain Theory, 2nd ed. (Wiley 2019),
    safety stock with random lead time; z is the standard normal quantile of `level`.
    Check: N(50, 8) a day, lead time N(7, 1.5), 0.95 -> 128.18.
    """
    deviation = math.sqrt(lead_days * daily_deviation**2 + daily_mean**2 * lead_deviation**2)
    return max(0.0, float(ndtri(level)) * deviation)


@dataclass(frozen=True)
class Outlook:
    """Mean demand of the days to come, and the deviation of the sum to each day's end.

    `mean`, `deviation`: day 1 to H, in units. `levels`, `factors`: levels × H, what the past test says
    the deviation must be multiplied by; without them (`flat`) the sum is taken to be normal.
    """

    mean: Floats
    deviation: Floats
    sentence: str = ""
    levels: tuple[float, ...] = ()
    factors: Floats | None = field(default=None, repr=False)

    @property
    def measured(self) -> bool:
        """Whether the deviations come from forecasts tried on the past."""
        return self.factors is not None

    @cached_property
    def _sums(self) -> Floats:
        return np.concatenate(([0.0], np.cumsum(self.mean)))

    @cached_property
    def tail(self) -> float:
        """Mean demand a day beyond the path."""
        return float(self.mean[-TAIL_DAYS:].mean()) if len(self.mean) else 0.0

    @property
    def reach(self) -> int:
        """Days the path covers."""
        return len(self.mean)

    def total(self, days: float) -> float:
        """Mean demand of the next `days` days (fractions count in part)."""
        if days <= self.reach:
            return float(np.interp(max(0.0, days), np.arange(self.reach + 1), self._sums))
        return float(self._sums[-1]) + (days - self.reach) * self.tail

    def between(self, begin: float, end: float) -> float:
        """Mean demand from day `begin` to day `end`."""
        return self.total(end) - self.total(begin)

    def spread(self, days: float) -> float:
        """Deviation of the sum over `days`; beyond the path it grows with the square root."""
        if days <= 0 or self.reach == 0:
            return 0.0
        if days <= self.reach:
            squares = np.concatenate(([0.0], self.deviation**2))
            return math.sqrt(float(np.interp(days, np.arange(self.reach + 1), squares)))
        return float(self.deviation[-1]) * math.sqrt(days / self.reach)

    def until(self, units: float) -> float | None:
        """Days until that many units have sold by the mean path; None when they never will."""
        if units <= 0:
            return 0.0
        if units <= self._sums[-1]:
            after = int(np.searchsorted(self._sums, units))
            step = self._sums[after] - self._sums[after - 1]
            return after - 1 + float((units - self._sums[after - 1]) / step)
        return None if self.tail <= 0 else self.reach + float(units - self._sums[-1]) / self.tail

    def safety(self, level: float, days: float, lead_deviation: float = 0.0, *, normal: bool = False) -> float:
        """Units above the mean so that demand over `days` is covered with probability `level`; never below zero.

        From the calibrated errors of the sum over those days; with `normal`, or without calibrated
        errors, z × √(σ² + d² × σ_L²), d the mean demand a day (`safety_stock`). An
        uncertain lead time widens both the same way. Raises BadInputError unless 0 < level < 1.
        """
        if not 0 < level < 1:
            raise BadInputError("A service level lies between 0 and 1.", field="level")
        mean = self.total(days)
        daily = mean / days if days > 0 else self.tail
        of_demand, of_lead = self.spread(days), daily * lead_deviation
        factors = self.factors
        if normal or factors is None:
            return safety_stock(level, daily, of_demand / math.sqrt(days), days, lead_deviation) if days > 0 else 0.0
        at = min(self.reach, max(1, math.ceil(days))) - 1
        wide = math.hypot(of_demand * float(np.interp(level, self.levels, factors[:, at])), of_lead)
        return max(0.0, float(quantile(np.array([mean]), np.array([wide]), level)[0]) - mean)


def flat(velocity: Velocity, days: int = TAIL_DAYS) -> Outlook:
    """The same mean every day: what a velocity says."""
    deviation = float(velocity.deviation) * np.sqrt(np.arange(1, days + 1))
    return Outlook(np.full(days, float(velocity.per_day)), deviation, velocity_sentence(velocity))


def outlook_of(forecast: Forecast, row: int, period: Period) -> Outlook:
    """One row of a forecast, spread evenly over the days of its periods.

    Within a period the variance of the sum grows evenly from the period before.
    """
    width = DAYS[period]
    horizon = forecast.mean.shape[1]
    reach = int(horizon * width)
    edges, days = np.arange(horizon + 1) * width, np.arange(1, reach + 1)
    sums = np.interp(days, edges, np.concatenate(([0.0], np.cumsum(forecast.mean[row]))))
    squares = np.interp(days, edges, np.concatenate(([0.0], forecast.spread.total[row] ** 2)))
    place = np.minimum((np.ceil(days / width) - 1).astype(int), horizon - 1)
    factors = forecast.spread.total_stretch
    return Outlook(
        np.diff(sums, prepend=0.0),
        np.sqrt(squares),
        forecast.choice.sentence(row),
        forecast.spread.levels,
        np.ones((1, reach)) if factors is None else factors[row][:, place],
    )
