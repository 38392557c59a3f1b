"""What repeats from one cycle to the next: the test for it, and the indices that take it out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from .series import Floats, Mask, Series

# A one-sided test at 90 %, as is usual for the Theta method.
LIMIT = 1.645
LEAST_INDEX = 0.01
Paths = Floats
Engine = Callable[[Series, tuple[int, ...], int], Paths]


def is_seasonal(series: Series, limit: float = LIMIT) -> Mask:
    """Whether the autocorrelation at one season's lag stands out, for each series.

    |r_m| > limit × √((1 + 2 Σ r_k², k < m) ÷ periods seen), and more than two cycles were seen.
    Source: Fiorucci et al., Models for optimising the theta method, International Journal of
    Forecasting 32 (2016), section 3.
    """
    m, known = series.season, series.known
    seen = known.sum(axis=1)
    if m == 1 or series.length <= 2 * m:
        return np.zeros(series.count, dtype=np.bool_)
    plain_mean = (series.values * known).sum(axis=1) / np.maximum(seen, 1)
    apart = np.where(known, series.values - plain_mean[:, None], 0.0)
    total = (apart**2).sum(axis=1)
    total = np.where(total > 0, total, 1.0)
    r = np.stack([(apart[:, k:] * apart[:, :-k]).sum(axis=1) / total for k in range(1, m + 1)], axis=1)
    bound = limit * np.sqrt((1 + 2 * (r[:, :-1] ** 2).sum(axis=1)) / np.maximum(seen, 1))
    return (np.abs(r[:, -1]) > bound) & (seen > 2 * m)


def indices(series: Series, *, multiplicative: bool) -> Floats:
    """Seasonal indices, n × season; column j belongs to the periods t with t mod season = j.

    Classical decomposition: the mean of each period's ratio to (difference from) a centred moving
    average over one season, set to a mean of 1 (0), then shrunk towards no season by how uncertain
    they are. Source of the shrinkage: James and Stein's estimator as used in Miller and Williams,
    Shrinkage estimators of time series seasonal factors, International Journal of Forecasting 19
    (2003). Unknown periods take no part; for the moving average they are filled from before, and
    again with the season found the first time.
    """
    level = series.filled()
    found = _indices(series, level, multiplicative)
    gaps = ~series.known & (np.arange(series.length) >= series.start[:, None])
    if gaps.any():
        index = found[:, np.arange(series.length) % series.season]
        flat = Series(
            np.where(series.known, series.values / index if multiplicative else series.values - index, 0.0), series.weight
        )
        again = flat.filled() * index if multiplicative else flat.filled() + index
        found = _indices(series, np.where(gaps, again, level), multiplicative)
    return found


def _indices(series: Series, level: Floats, multiplicative: bool) -> Floats:
    m, length = series.season, series.length
    neutral = 1.0 if multiplicative else 0.0
    average = _centred_average(level, m)
    usable = series.known & (average > 0) & (np.arange(length) >= series.start[:, None] + m // 2)
    safe = np.where(usable, average, 1.0)
    parts = np.where(usable, series.values / safe if multiplicative else series.values - safe, 0.0)
    sums = np.stack([parts[:, j::m].sum(axis=1) for j in range(m)], axis=1)
    counts = np.stack([usable[:, j::m].sum(axis=1) for j in range(m)], axis=1)
    means = np.where(counts > 0, sums / np.maximum(counts, 1), neutral)
    if multiplicative:
        level_of = means.mean(axis=1, keepdims=True)
        means = means / np.where(level_of > 0, level_of, 1.0)
        means = np.where(level_of > 0, means, 1.0)
    else:
        means = means - means.mean(axis=1, keepdims=True)
    left = np.where(usable, parts - means[:, np.arange(length) % m], 0.0)
    noise = (left**2).sum(axis=1) / np.maximum(usable.sum(axis=1) - m, 1)
    cycles = np.maximum(usable.sum(axis=1) / m, 1)
    signal = ((means - neutral) ** 2).sum(axis=1) / max(m - 1, 1)
    ratio = np.divide(noise / cycles, signal, out=np.ones(series.count), where=signal > 0)
    keep = 1 - np.clip(ratio * max(m - 3, 0) / max(m - 1, 1), 0, 1)
    return np.maximum(neutral + (means - neutral) * keep[:, None], LEAST_INDEX if multiplicative else -np.inf)


def _centred_average(values: Floats, m: int) -> Floats:
    """Moving average over one season, centred (2 × m for even m); 0 where it does not reach."""
    kernel = np.ones(m + 1 - m % 2)
    if m % 2 == 0:
        kernel[[0, -1]] = 0.5
    kernel /= m
    width, length = len(kernel), values.shape[1]
    found = np.zeros_like(values)
    if length >= width:
        found[:, width // 2 : length - width // 2] = sliding_window_view(values, width, axis=1) @ kernel
    return found


def without_season(
    engine: Engine, series: Series, origins: tuple[int, ...], horizon: int, *, multiplicative: bool = True
) -> Paths:
    """Run an engine on the series with its season taken out, and put the season back.

    The season is worked out once, from what was known before the first origin, so that no origin
    looks ahead.
    """
    before = series.until(origins[0])
    tested = is_seasonal(before)
    if not tested.any():
        return engine(series, origins, horizon)
    neutral = 1.0 if multiplicative else 0.0
    index = np.where(tested[:, None], indices(before, multiplicative=multiplicative), neutral)
    along = index[:, np.arange(series.length) % series.season]
    ahead = index[:, (np.asarray(origins)[:, None] + np.arange(horizon)) % series.season]
    if multiplicative:
        flat = Series(series.values / along, series.weight, series.season)
        return engine(flat, origins, horizon) * ahead
    flat = Series(np.where(series.known, series.values - along, 0.0), series.weight, series.season)
    return engine(flat, origins, horizon) + ahead
