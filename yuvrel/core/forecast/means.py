"""Means: velocity, the mean of late, and the same season last year times growth."""

from __future__ import annotations

import numpy as np

from .series import Floats, Mask, Series

MOST_GROWTH = 2.0
WINDOWS = {7: 28, 12: 6, 52: 13}


def window_for(season: int) -> int:
    """Periods in the mean of late: 28 days, 13 weeks, 6 months; 13 where the season is something else."""
    return WINDOWS.get(season, 13)


def velocity(series: Series, origins: tuple[int, ...], horizon: int, window: int | None = None) -> Floats:
    """Units ÷ time in stock over the last `window` periods (all when None): n × origins × horizon, flat.

    Σ(weight × value) ÷ Σ weight, so that half a week in stock counts as half a week. A series
    with nothing seen in the window is taken over all of its past; one never seen sells 0.
    """
    found = []
    for origin in origins:
        past = series.until(origin)
        mean = past.mean
        if window is not None and window < origin:
            late = Series(past.values[:, -window:], past.weight[:, -window:])
            mean = np.where(late.known.any(axis=1), late.mean, mean)
        found.append(mean)
    return np.repeat(np.stack(found, axis=1)[:, :, None], horizon, axis=2)


def moving_mean(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """Velocity over the last weeks or months (`window_for`)."""
    return velocity(series, origins, horizon, window_for(series.season))


def last_season(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """The same period one season ago × growth: n × origins × horizon.

    Growth: the mean of the last season ÷ that of the season before, over the places of the season
    seen in both, held between ½ and 2; 1 where fewer than half of the places were. In seasons of
    more than 24 periods the period's neighbours take part by a quarter each, as a single week is
    mostly chance. Where a season ago nothing was seen, the mean of the last season stands in; before an origin that
    lies within the first season there is none, and the velocity does.
    """
    m = series.season
    found = velocity(series, origins, horizon)
    for place, origin in enumerate(origins):
        if 1 < m < origin:
            found[:, place] = _last_season(series.until(origin), horizon)
    return found


# Periods on either side of a week that say something about it too, and years of shape that the even rate counts as.
YEARLY_SIDE, YEARLY_PRIOR = 3, 1.0


def own_years(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """Velocity × the shape of its own years, for demand with many empty periods: n × origins × horizon.

    The shape: mean demand around each place of the season over all past seasons (a triangle of
    YEARLY_SIDE periods to either side) ÷ the mean, held towards an even rate as if one more season had shown that.
    An item that sells each December is expected in December. Before a whole season was seen, the velocity alone.
    """
    m = series.season
    found = velocity(series, origins, horizon)
    for place, origin in enumerate(origins):
        if m > 2 * YEARLY_SIDE and origin > m:
            found[:, place] *= _yearly_shape(series.until(origin))[:, (origin + np.arange(horizon)) % m]
    return found


def _yearly_shape(past: Series) -> Floats:
    m = past.season
    phase = np.arange(past.length) % m
    weight, total = np.zeros((past.count, m)), np.zeros((past.count, m))
    for j in range(m):
        weight[:, j] = past.weight[:, phase == j].sum(axis=1)
        total[:, j] = (past.values * past.weight)[:, phase == j].sum(axis=1)
    sides = range(-YEARLY_SIDE, YEARLY_SIDE + 1)
    share = {k: (YEARLY_SIDE + 1 - abs(k)) / (YEARLY_SIDE + 1) ** 2 for k in sides}
    around = sum((np.roll(total, k, axis=1) * share[k] for k in sides), np.zeros_like(total))
    seen = sum((np.roll(weight, k, axis=1) * share[k] for k in sides), np.zeros_like(weight))
    mean = np.where(past.mean > 0, past.mean, 1.0)[:, None]
    shape: Floats = (around / mean + YEARLY_PRIOR) / (seen + YEARLY_PRIOR)
    return shape


def _last_season(past: Series, horizon: int) -> Floats:
    m, length = past.season, past.length
    last = Series(past.values[:, length - m :], past.weight[:, length - m :], m)
    growth = np.ones(past.count)
    if length >= 2 * m:
        before = Series(past.values[:, length - 2 * m : length - m], past.weight[:, length - 2 * m : length - m], m)
        growth = _growth(last, before)
    weight, total = last.weight, last.values * last.weight
    if m > 24:
        weight, total = _with_neighbours(weight), _with_neighbours(total)
    mean = np.where(last.known.any(axis=1), last.mean, past.mean)
    shape = np.divide(total, weight, out=np.broadcast_to(mean[:, None], total.shape).copy(), where=weight > 0)
    return shape[:, np.arange(horizon) % m] * growth[:, None]


def _growth(last: Series, before: Series) -> Floats:
    both: Mask = last.known & before.known
    now = (last.values * both).sum(axis=1)
    then = (before.values * both).sum(axis=1)
    sure = (both.sum(axis=1) >= last.season / 2) & (then > 0)
    ratio = np.divide(now, then, out=np.ones(last.count), where=sure)
    return np.clip(ratio, 1 / MOST_GROWTH, MOST_GROWTH)


def _with_neighbours(table: Floats) -> Floats:
    return table / 2 + np.roll(table, 1, axis=1) / 4 + np.roll(table, -1, axis=1) / 4
