"""How far off forecasts are: measured on the past, for one period and for sums over several."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.special import gammainc, gammaincinv, ndtri

from yuvrel.core.errors import BadInputError

from .series import Floats, Mask, Series

# A series' own errors count beside the size that its past and the errors of all let expect, as if so many windows had
# shown that; of sums a window tells less than of single periods. Chosen on M1 and on simulated demand.
PRIOR_WINDOWS, PRIOR_WINDOWS_OF_SUMS = 8.0, 30.0
LEAST_SHARE = 0.02
# The built-in shape over the leads: how much of the squared error each further lead adds, and how much it counts.
GROWTH, PRIOR_ERRORS = 0.02, 60.0
# Fewer errors than this say nothing about the shape of their tails.
ENOUGH = 200
# More are not needed to place a quantile.
MOST = 1500
# From thirty deviations above zero on, the gamma distribution and the normal one are the same.
FAR = 900


@dataclass(frozen=True)
class Spread:
    """Standard deviations of the forecast error, n × horizon: of each period, and of the sum to its end.

    `stretch`, `total_stretch`: n × levels × horizon, factors on the deviations that make the quantiles
    of the past test hold (`stretches`); none before they are measured.
    """

    single: Floats
    total: Floats
    levels: tuple[float, ...] = ()
    stretch: Floats | None = None
    total_stretch: Floats | None = None

    def quantiles(self, mean: Floats, level: float, *, total: bool = False) -> Floats:
        """The level's quantile of each period's demand (of the sum to its end with `total`), n × horizon."""
        deviation, factors = (self.total, self.total_stretch) if total else (self.single, self.stretch)
        if factors is not None:
            # Further ahead is never surer.
            deviation = np.maximum.accumulate(deviation * self.factor(factors, level), axis=1)
        return quantile(np.cumsum(mean, axis=1) if total else mean, deviation, level)

    def factor(self, factors: Floats, level: float) -> Floats:
        """The factor for a level, straight between those measured."""
        at = float(np.interp(level, self.levels, np.arange(len(self.levels))))
        low, high = int(np.floor(at)), int(np.ceil(at))
        return factors[:, low] + (at - low) * (factors[:, high] - factors[:, low])


def quantile(mean: Floats, deviation: Floats, level: float) -> Floats:
    """Quantile of demand with this mean and standard deviation, never below zero.

    A gamma distribution with the same two moments: it cannot go below zero and leans to the right
    as demand does (Burgin, The gamma distribution and inventory control, Operational Research
    Quarterly 26, 1975). Where the mean is more than thirty deviations away from zero the normal
    one is the same. Raises BadInputError unless 0 < level < 1.
    """
    if not 0 < level < 1:
        raise BadInputError("A service level lies between 0 and 1.", field="level")
    mean = np.maximum(mean, 0.0)
    positive = (mean > 0) & (deviation > 0)
    near, shape = _gamma_shape(mean, deviation, positive)
    normal = mean + ndtri(level) * deviation
    skewed = gammaincinv(shape, level) * np.divide(mean, shape, out=np.zeros_like(mean), where=near)
    found: Floats = np.maximum(np.where(near, skewed, np.where(positive | (mean <= 0), normal, mean)), 0.0)
    return found


def _gamma_shape(mean: Floats, deviation: Floats, positive: Mask) -> tuple[Mask, Floats]:
    """Where the gamma distribution is taken, and its shape there."""
    shape = np.divide(mean, deviation, out=np.ones_like(mean), where=positive) ** 2
    return positive & (shape < FAR), np.clip(shape, 1e-4, FAR)


def stays_below(actual: Floats, mean: Floats, deviation: Floats, level: float) -> Mask:
    """actual <= quantile(mean, deviation, level), for means and deviations above zero, without turning the distribution round.

    Its cumulative function takes a tenth of the time of the inverse.
    """
    near, shape = _gamma_shape(mean, deviation, np.ones(mean.shape, dtype=bool))
    skewed = gammainc(shape, actual * shape / mean) <= level
    found: Mask = np.where(near, skewed, actual <= np.maximum(mean + ndtri(level) * deviation, 0.0))
    return found


def measure(errors: Floats, weight: Floats, scale: Floats) -> Spread:
    """Spread from the errors of a rolling-origin test.

    `errors`, `weight`: n × origins × horizon, forecast less actual, and how much of the actual was
    seen. `scale`: n, units that make the series comparable. A series' deviation is the square root
    of a mean of its own squared errors and of the profile of all series over the horizon; a short
    past leans on the others, a long one on itself. Sums are taken only where all was seen.
    """
    whole = (weight >= 0.99).cumprod(axis=2)
    sums = np.cumsum(errors * (weight > 0), axis=2)
    steps = np.arange(1, errors.shape[2] + 1, dtype=np.float64)
    return Spread(
        _deviation(errors, weight, scale, 1 + steps * GROWTH, PRIOR_WINDOWS),
        _deviation(sums, whole.astype(np.float64), scale, steps + steps**2 * GROWTH, PRIOR_WINDOWS_OF_SUMS),
    )


def _deviation(errors: Floats, weight: Floats, scale: Floats, prior: Floats, prior_windows: float) -> Floats:
    """Deviation by series and lead: own size × the common profile of growth over the leads."""
    horizon = errors.shape[2]
    squares = (errors / scale[:, None, None]) ** 2 * weight
    told = weight.sum(axis=(1, 2))
    profile = _profile(squares, weight, told, prior)
    own = np.divide((squares / profile).sum(axis=(1, 2)), told, out=np.ones(len(scale)), where=told > 0)
    windows = told / horizon
    typical = float(np.median(own[told > 0])) if (told > 0).any() else 1.0
    size = (own * windows + typical * prior_windows) / (windows + prior_windows) if len(scale) > 1 else own
    size = np.maximum(size, LEAST_SHARE * (own > 0))
    found: Floats = np.sqrt(size[:, None] * profile[None]) * scale[:, None]
    return found


def _profile(squares: Floats, weight: Floats, told: Floats, prior: Floats) -> Floats:
    """How squared errors grow over the leads, relative to each series' own mean, so that no series outweighs the rest.

    Held towards the built-in `prior` shape as if PRIOR_ERRORS errors of each lead had shown it: a few series tell
    little of it. Never falling; carried on in proportion to the lead where nothing was measured.
    """
    horizon = squares.shape[2]
    mean = np.divide(squares.sum(axis=(1, 2)), told, out=np.zeros(len(told)), where=told > 0)
    counted = weight * (mean > 0)[:, None, None]
    relative = squares / np.where(mean > 0, mean, 1.0)[:, None, None]
    by_lead = counted.sum(axis=(0, 1))
    shape = prior * (by_lead.sum() / max(float((prior * by_lead).sum()), 1e-12))
    profile = (relative.sum(axis=(0, 1)) + shape * PRIOR_ERRORS) / (by_lead + PRIOR_ERRORS)
    profile = np.where(by_lead > 0, np.maximum.accumulate(profile), 0.0)
    last = int(np.nonzero(by_lead > 0)[0].max(initial=-1))
    if last < 0 or profile[last] <= 0:
        return np.ones(horizon)
    profile = np.where(np.arange(horizon) > last, profile[last] * np.arange(1, horizon + 1) / (last + 1), profile)
    return np.maximum(profile, 1e-3 * profile[last])


# Of a mean of few periods little is known: its dispersion (variance ÷ mean) leans on that of the others, and on this
# where there are none, as if PRIOR_DISPERSION_PERIODS more had shown it.
PRIOR_DISPERSION, PRIOR_DISPERSION_PERIODS = 2.0, 6.0
LEAST_DISPERSION = 1.0


def with_fallback(spread: Spread, mean: Floats, series: Series, tested: Floats) -> Spread:
    """The spread, and where no test told how far off a forecast is, the series' own variation and how little is known
    of its mean.

    A mean m of n periods with variance v is itself off by v ÷ n: a period of the next is v (1 + 1/n) off, a sum over
    h of them h v + h² v ÷ n (the predictive variance of a mean, as in any handbook of sampling). v = dispersion × mean.
    """
    seen = series.weight.sum(axis=1)
    apart = np.where(series.known, series.values - series.mean[:, None], 0.0)
    squares = (apart**2 * series.weight).sum(axis=1)
    positive = (seen > 1) & (series.mean > 0)
    own = np.divide(squares, np.maximum(seen - 1, 1e-9) * series.mean, out=np.zeros(series.count), where=positive)
    typical = max(LEAST_DISPERSION, float(own[positive].mean())) if positive.sum() >= 10 else PRIOR_DISPERSION
    extra = PRIOR_DISPERSION_PERIODS
    dispersion = np.maximum(
        (own * np.maximum(seen - 1, 0) + typical * extra) / (np.maximum(seen - 1, 0) + extra), LEAST_DISPERSION
    )
    # What may be sold although nothing was yet: half a unit more in all that was seen.
    likely = np.maximum(mean.mean(axis=1), 0.0) + np.where(seen > 0, 0.5 / np.maximum(seen, 1), 0.0)
    # A dispersion told by few periods is itself uncertain, and its tail longer than a gamma distribution says.
    variance = dispersion * likely * (1 + 2 / np.maximum(seen, 1))
    horizon = mean.shape[1]
    steps = np.arange(1, horizon + 1)[None]
    unknown = variance[:, None] / np.maximum(seen, 1)[:, None]
    single = np.sqrt(variance[:, None] + unknown) * np.ones(horizon)
    total = np.sqrt(steps * variance[:, None] + steps**2 * unknown)
    untold: Mask = np.asarray(tested.sum(axis=(1, 2)) == 0)[:, None]
    ever: Mask = np.asarray(series.known.any(axis=1))[:, None]
    return Spread(
        np.where(untold, np.where(ever, single, 0.0), spread.single), np.where(untold, np.where(ever, total, 0.0), spread.total)
    )


def stretches(actual: Floats, mean: Floats, deviation: Floats, weight: Floats, levels: tuple[float, ...]) -> Floats:
    """Levels × horizon: the factor on the deviation with which that share of the test's actuals stayed below the quantile.

    All n × origins × horizon, from the test; the deviations must not know the errors they are judged
    by. Measured in each third of the horizon, straight between their middles. With few errors, and near the median,
    where the spread says little, the factors are 1.
    """
    horizon = actual.shape[2]
    third = -(-horizon // 3)
    parts = [slice(begin, min(horizon, begin + third)) for begin in range(0, horizon, third)]
    middles = [(part.start + part.stop - 1) / 2 for part in parts]
    measured = [_stretches(actual[..., part], mean[..., part], deviation[..., part], weight[..., part], levels) for part in parts]
    at = np.arange(horizon)
    return np.stack([np.interp(at, middles, [factors[k] for factors in measured]) for k in range(len(levels))])


def _stretches(actual: Floats, mean: Floats, deviation: Floats, weight: Floats, levels: tuple[float, ...]) -> Floats:
    used = np.nonzero(((weight >= 0.99) & (deviation > 0) & (mean > 0)).ravel())[0]
    found = np.ones(len(levels))
    if len(used) < ENOUGH:
        return found
    used = used[:: max(1, len(used) // MOST)]
    actual, mean, deviation = actual.ravel()[used], mean.ravel()[used], deviation.ravel()[used]
    for place, level in enumerate(levels):
        if abs(level - 0.5) > 0.2:
            found[place] = _stretch(actual, mean, deviation, level)
    return found


def _stretch(actual: Floats, mean: Floats, deviation: Floats, level: float) -> float:
    """The factor that comes nearest to the level; of equally near ones the nearest to 1.

    Looked for on a grid, then around the best: the quantile of very skewed demand falls when its
    deviation grows, so that halving an interval would go astray.
    """

    def miss(factor: float) -> tuple[float, float]:
        share = float(stays_below(actual, mean, deviation * factor, level).mean())
        return round(abs(share - level), 3), abs(math.log(factor))

    best = min(np.geomspace(0.4, 2.5, 11), key=miss)
    return float(min(np.geomspace(best / 1.15, best * 1.15, 7), key=miss))
