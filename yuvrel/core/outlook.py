"""Demand to come for one item at one place: the path day by day, and how sure it is."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal
from functools import cached_property
from typing import Any

import numpy as np
from scipy.special import ndtri

from .demand import Velocity, velocity_sentence
from .errors import BadInputError
from .forecast import Forecast, quantile
from .forecast.series import Floats
from .history import DAYS, Period
from .working import Step, Working

# Beyond the forecast's reach the mean of its last weeks goes on.
TAIL_DAYS = 28
WEEK = 7
CENT = Decimal("0.01")
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


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

    def a_day(self, days: int) -> Decimal:
        """Mean demand a day over the next `days` days, to 0.01; that beyond the path when there are none."""
        return _cents(self.total(days) / days if days else self.tail)

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

    def after(self, days: int) -> Outlook:
        """As it looks `days` days later, with nothing new known: the days gone by are dropped.

        Raises BadInputError when none are left.
        """
        if days <= 0:
            return self
        left = self.reach - days
        if left <= 0:
            raise BadInputError("This forecast lies wholly in the past.", field="days")
        factors = None if self.factors is None else self.factors[:, :left]
        return Outlook(self.mean[days:], self.deviation[:left], self.sentence, self.levels, factors)

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


@dataclass(frozen=True)
class Path:
    """One series' forecast in plain numbers, as it is kept: by whole periods of `width` days.

    `mean`: units a period. `total`: deviation of the sum to each period's end. `levels`, `factors`:
    levels × periods, what the past test says the deviation must be multiplied by. `low`, `high`: the
    10 % and the 90 % quantile of each period, for drawing.
    """

    width: float
    mean: list[float]
    total: list[float]
    levels: list[float]
    factors: list[list[float]]
    low: list[float]
    high: list[float]

    def outlook(self, sentence: str = "") -> Outlook:
        """Spread evenly over the days of its periods; within one the variance of the sum grows evenly."""
        horizon = len(self.mean)
        reach = int(horizon * self.width)
        edges, days = np.arange(horizon + 1) * self.width, np.arange(1, reach + 1)
        sums = np.interp(days, edges, np.concatenate(([0.0], np.cumsum(self.mean))))
        squares = np.interp(days, edges, np.concatenate(([0.0], np.square(self.total))))
        place = np.minimum((np.ceil(days / self.width) - 1).astype(int), horizon - 1)
        factors = np.asarray(self.factors, dtype=np.float64)[:, place]
        return Outlook(np.diff(sums, prepend=0.0), np.sqrt(squares), sentence, tuple(self.levels), factors)

    def as_dict(self) -> dict[str, Any]:
        """For storing; figures to six digits."""
        return {name: _short(value) for name, value in vars(self).items()}


def _short(value: Any) -> Any:
    return [_short(one) for one in value] if isinstance(value, list) else float(f"{value:.6g}")


def paths_of(forecast: Forecast, period: Period) -> list[Path]:
    """Every row of a forecast."""
    spread = forecast.spread
    count, horizon = forecast.mean.shape
    low, high = forecast.quantiles(0.1), forecast.quantiles(0.9)
    factors = np.ones((count, 1, horizon)) if spread.total_stretch is None else spread.total_stretch
    levels = list(spread.levels) or [0.5]
    return [
        Path(
            DAYS[period],
            forecast.mean[row].tolist(),
            spread.total[row].tolist(),
            levels,
            factors[row].tolist(),
            low[row].tolist(),
            high[row].tolist(),
        )
        for row in range(count)
    ]


def demand_working(outlook: Outlook, days: int, today: date, subject: str, *, a_day: bool = False) -> Working:
    """The demand of the next `days` days, week by week; units to 0.01, so rounded that the weeks add up.

    With `a_day` divided by the days (0.01 again; the mean beyond the forecast when there are none).
    """
    steps, total = [], Decimal(0)
    for begin in range(0, days, WEEK):
        end = min(days, begin + WEEK)
        until = _cents(outlook.total(end))
        first, last = today + timedelta(days=begin), today + timedelta(days=end - 1)
        note = "beyond the forecast, its last weeks go on" if begin >= outlook.reach else ""
        steps.append(Step(_span(first, last), until - total, note, op="+" if begin else ""))
        total = until
    steps.append(Step(f"Demand, {days} days", total, kind="subtotal" if a_day else "result"))
    if a_day:
        steps.append(Step("Days", Decimal(days), op="÷"))
        steps.append(Step("A day", outlook.a_day(days), kind="result"))
    return Working("How many will sell?", subject, tuple(steps), outlook.sentence)


def _cents(units: float) -> Decimal:
    return Decimal(str(round(units, 6))).quantize(CENT)


def _span(first: date, last: date) -> str:
    """A run of days in words: 24–30 Nov, 26 Nov – 2 Dec."""
    if first == last:
        return f"{last.day} {MONTHS[last.month - 1]}"
    if first.month == last.month:
        return f"{first.day}–{last.day} {MONTHS[last.month - 1]}"
    return f"{first.day} {MONTHS[first.month - 1]} – {last.day} {MONTHS[last.month - 1]}"
