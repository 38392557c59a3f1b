"""Many series side by side, with what is not known about them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from yuvrel.core.errors import BadInputError

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Mask = NDArray[np.bool_]

# Of a period with less than this share in stock the sold units say too little about the whole of it.
LEAST_SEEN = 0.25


@dataclass(frozen=True)
class Series:
    """Demand of n series over T periods, the last column the newest.

    `values`: n × T, units a whole period would have sold; 0 where nothing is known.
    `weight`: n × T, how much of the period was seen, 0 to 1. Leading zeros: not yet on sale.
    `season`: periods after which a pattern may repeat (12 months, 52 weeks, 7 days); 1 for none.
    """

    values: Floats
    weight: Floats
    season: int = 1

    @property
    def count(self) -> int:
        """Series."""
        return self.values.shape[0]

    @property
    def length(self) -> int:
        """Periods."""
        return self.values.shape[1]

    @property
    def known(self) -> Mask:
        """Where demand was seen."""
        return self.weight > 0

    @property
    def start(self) -> Ints:
        """The first period of each series that was seen; T where none was."""
        known = self.known
        return np.where(known.any(axis=1), known.argmax(axis=1), self.length).astype(np.int64)

    @property
    def mean(self) -> Floats:
        """Mean demand per period over what was seen: Σ(weight × value) ÷ Σ weight; 0 for a series never seen."""
        total = self.weight.sum(axis=1)
        return np.divide((self.values * self.weight).sum(axis=1), total, out=np.zeros(self.count), where=total > 0)

    def until(self, origin: int) -> Series:
        """What was known before period `origin`."""
        return replace(self, values=self.values[:, :origin], weight=self.weight[:, :origin])

    def rows(self, which: Mask | Ints | slice) -> Series:
        """Some of the series."""
        return replace(self, values=self.values[which], weight=self.weight[which])

    def filled(self) -> Floats:
        """Values with unknown periods taken from the last known one (before the first: from the first)."""
        places = np.where(self.known, np.arange(self.length), -1)
        places = np.maximum.accumulate(places, axis=1)
        first = np.minimum(self.start, max(0, self.length - 1))
        places = np.where(places < 0, first[:, None], places)
        return np.take_along_axis(self.values, places, axis=1)


def make_series(units: Floats, seen: Floats | Mask | None = None, season: int = 1) -> Series:
    """Series from units sold and the share of each period in which they could be sold.

    `units`: n × T, units sold in each period. `seen`: n × T, share of the period in stock (0-1, or
    True/False); left out, everything was seen. Units sold in part of a period are scaled up to the
    whole of it: 3 units in half a week are seen as 6 a week with half the weight. Units recorded in
    a period that was not in stock at all (a sale below zero) count, and so does their period. No
    periods at all are one of which nothing is known.

    Raises BadInputError, naming what is wrong, on NaN, infinite, negative or enormous demand (above 1e12), on shares
    outside 0 to 1, on shapes that differ and on a season below 1.
    """
    units = np.asarray(units, dtype=np.float64)
    share = np.ones(units.shape) if seen is None else np.asarray(seen, dtype=np.float64)
    if units.ndim != 2 or share.shape != units.shape:
        raise BadInputError("Demand and its mask must be tables of one shape.", field="units")
    if season < 1:
        raise BadInputError("A season is at least one period long.", field="season")
    if units.shape[1] == 0:
        units, share = np.zeros((len(units), 1)), np.zeros((len(units), 1))
    _finite(units, "Demand", "units")
    _finite(share, "The share of a period in stock", "seen")
    if (share > 1).any():
        raise BadInputError("The share of a period in stock cannot be above 1.", field="seen")
    share = np.where((units > 0) & (share == 0), 1.0, share)
    values = np.divide(units, share, out=np.zeros_like(units), where=share > 0)
    return Series(values, share, season)


def steady(series: Series) -> Series:
    """The series without the periods of which too little was seen to judge the whole."""
    enough = series.weight >= LEAST_SEEN
    if enough.all() or not (series.known & ~enough).any():
        return series
    return replace(series, values=np.where(enough, series.values, 0.0), weight=np.where(enough, series.weight, 0.0))


# Beyond this nothing is a demand: sums of squares over years still are numbers.
MOST_DEMAND = 1e12


TAMED = 12


def tame(series: Series, most: Floats) -> Series:
    """The series with the influence of one enormous value held: at most `most` (n) times the second largest.

    A level that really jumped shows itself twice. With fewer than TAMED periods of demand nothing is held: what is
    usual is not known yet.
    """
    if series.length < TAMED:
        return series
    top = np.sort(np.where(series.known, series.values, 0.0), axis=1)[:, -TAMED:]
    limit = np.where(top[:, 0] > 0, most * top[:, -2], np.inf)[:, None]
    if not (series.values > limit).any():
        return series
    return replace(series, values=np.minimum(series.values, limit))


def _finite(table: Floats, what: str, field: str) -> None:
    if np.isnan(table).any():
        raise BadInputError(f"{what} holds a value that is not a finite number (NaN).", field=field)
    if np.isinf(table).any():
        raise BadInputError(f"{what} holds a value that is not a finite number (infinite).", field=field)
    if (table < 0).any():
        raise BadInputError(f"{what} cannot be negative.", field=field)
    if (table > MOST_DEMAND).any():
        raise BadInputError(f"{what} cannot be above {MOST_DEMAND:.0e} units a period.", field=field)


def scale_of(series: Series, season: int | None = None) -> Floats:
    """Mean absolute difference from one season before, per series: the divisor of MASE.

    Source: Hyndman and Koehler, Another look at measures of forecast accuracy, International
    Journal of Forecasting 22 (2006). Falls back to one period before where no season was seen
    twice, and to the mean demand (or 1) where nothing varies, so that it is never zero.
    """
    lags = [season or series.season, 1] if (season or series.season) > 1 else [1]
    found = np.zeros(series.count)
    for lag in lags:
        if lag >= series.length:
            continue
        both = series.known[:, lag:] & series.known[:, :-lag]
        apart = np.abs(series.values[:, lag:] - series.values[:, :-lag])
        pairs = both.sum(axis=1)
        mean = np.divide((apart * both).sum(axis=1), pairs, out=np.zeros(series.count), where=pairs > 0)
        found = np.where(found > 0, found, mean)
    found = np.where(found > 0, found, series.mean)
    return np.where(found > 0, found, 1.0)
