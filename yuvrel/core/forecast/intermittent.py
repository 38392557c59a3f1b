"""Demand with many empty periods: size and rhythm apart, or seen over longer periods."""

from __future__ import annotations

import numpy as np

from .series import Floats, Series
from .smoothing import LEVEL, smooth, weigh

ALPHA = 0.1
TSB_SETTINGS = tuple((size, chance) for size in (0.05, 0.1, 0.2) for chance in (0.02, 0.05, 0.1, 0.2, 0.3))
LONGEST_BLOCK = 26


def croston_sba(series: Series, origins: tuple[int, ...], horizon: int, alpha: float = ALPHA) -> Floats:
    """Croston's method with the Syntetos-Boylan correction: n × origins × horizon, flat.

    Size z and interval p are smoothed by `alpha` at each demand; the rate is (1 - α/2) z ÷ p.
    Sources: Croston, Operational Research Quarterly 23 (1972); Syntetos and Boylan, The accuracy of
    intermittent demand estimates, International Journal of Forecasting 21 (2005). An unknown period
    does not lengthen an interval.
    """
    count = series.count
    size, interval, since = np.zeros(count), np.ones(count), np.ones(count)
    begun = np.zeros(count, dtype=np.bool_)
    found = []
    for at in range(origins[-1] + 1):
        found += [np.where(begun, (1 - alpha / 2) * size / interval, 0.0)] * origins.count(at)
        if at == origins[-1]:
            break
        value, weight = series.values[:, at], series.weight[:, at]
        hit = (value > 0) & (weight > 0)
        size = np.where(hit, np.where(begun, size + alpha * (value - size), value), size)
        interval = np.where(hit, np.where(begun, interval + alpha * (since - interval), since), interval)
        begun |= hit
        since = np.where(hit, 1.0, since + np.where(at >= series.start, weight, 0.0))
    return np.repeat(np.stack(found, axis=1)[:, :, None], horizon, axis=2)


def tsb(
    series: Series, origins: tuple[int, ...], horizon: int, settings: tuple[tuple[float, float], ...] = TSB_SETTINGS
) -> Floats:
    """Size of a demand × chance of one, the chance smoothed in every period: n × origins × horizon, flat.

    Source: Teunter, Syntetos and Babai, Intermittent demand: linking forecasting to inventory
    obsolescence, European Journal of Operational Research 214 (2011). `settings`: pairs (smoothing
    of the size, of the chance), weighed by their squared errors before each origin.
    """
    table = np.array(settings).T
    a, b = table[0][None], table[1][None]
    known = series.known
    hits = (series.values > 0) & known
    first = np.where(hits.any(axis=1), hits.argmax(axis=1), series.length - 1 if series.length else 0)
    rows = np.arange(series.count)
    start = series.values[rows, first] if series.length else np.zeros(series.count)
    size = np.broadcast_to(start[:, None], (series.count, table.shape[1])).copy()
    chance = np.ones_like(size)
    begun = np.zeros((series.count, 1), dtype=np.bool_)
    squares, seen, found = np.zeros_like(size), np.zeros(series.count), []
    for at in range(origins[-1] + 1):
        if at in origins:
            rate = (weigh(squares, seen, 1.0) * size * chance).sum(axis=1)
            found += [np.where(begun[:, 0], rate, 0.0)] * origins.count(at)
        if at == origins[-1]:
            break
        value, weight = series.values[:, at : at + 1], series.weight[:, at : at + 1]
        hit = (value > 0) & (weight > 0)
        squares += np.where(begun, weight * (value - size * chance) ** 2, 0.0)
        seen = seen + np.where(begun[:, 0], weight[:, 0], 0.0)
        size = np.where(hit & begun, size + a * (value - size), size)
        chance = np.where(begun, chance + b * weight * (hit - chance), chance)
        # The interval to the first demand is the first estimate of its chance.
        if (hit & ~begun).any():
            waited = np.maximum(series.weight[:, : at + 1].sum(axis=1, keepdims=True), 1.0)
            chance = np.where(hit & ~begun, 1 / waited, chance)
        begun |= hit
    return np.repeat(np.stack(found, axis=1)[:, :, None], horizon, axis=2)


def aggregated(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """Simple exponential smoothing of sums over blocks as long as the mean interval between demands.

    Source: Nikolopoulos et al., An aggregate-disaggregate intermittent demand approach (ADIDA),
    Journal of the Operational Research Society 62 (2011). Blocks end at the origin; the rate of a
    block is spread evenly over its periods. n × origins × horizon, flat.
    """
    found = np.zeros((series.count, len(origins), horizon))
    for place, origin in enumerate(origins):
        past = series.until(origin)
        hits = ((past.values > 0) & past.known).sum(axis=1)
        mean_interval = np.divide(past.weight.sum(axis=1), hits, out=np.ones(series.count), where=hits > 0)
        length = np.clip(np.rint(mean_interval), 1, min(LONGEST_BLOCK, max(1, origin // 2))).astype(np.int64)
        for k in np.unique(length):
            rows = length == k
            blocks = in_blocks(past.rows(rows), int(k))
            found[rows, place] = smooth(blocks, (blocks.length,), 1, LEVEL, multiplicative=False)[:, 0]
    return found


def in_blocks(series: Series, length: int) -> Series:
    """Means over blocks of `length` periods, the last block ending with the last period."""
    blocks = series.length // length
    shape = (series.count, blocks, length)
    begin = series.length - blocks * length
    weight = series.weight[:, begin:].reshape(shape)
    total = (series.values[:, begin:].reshape(shape) * weight).sum(axis=2)
    seen = weight.sum(axis=2)
    return Series(np.divide(total, seen, out=np.zeros_like(total), where=seen > 0), seen / length)
