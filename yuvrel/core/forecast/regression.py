"""Autoregression: the next change as a weighted sum of the last ones, the weights held small."""

from __future__ import annotations

import numpy as np

from .season import without_season
from .series import Floats, Mask, Series

RIDGE = 2.0
FADE = 0.9
# No forecast above the highest past value times e².
MOST_RISE = 2.0


def lags_for(season: int, length: int) -> int:
    """How many changes back: a season and one more for months, two seasons for quarters, few without."""
    wanted = 2 if season == 1 else min(13, 2 * season) if season <= 24 else 4
    return max(1, min(wanted, length // 3))


def autoregression(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """Ridge autoregression on the changes of the (logarithm of the) series: n × origins × horizon.

    x_t = z_t - z_(t-1) - mean; x_t = Σ b_k x_(t-k), b by least squares with the penalty
    RIDGE × k × var(x) × b_k², which holds later lags smaller (Hoerl and Kennard, Ridge regression,
    Technometrics 12, 1970). The mean change is carried forward, less by what chance explains,
    and fades by 0.9 a period. Logarithms where every known value is above zero.
    """
    return without_season(_autoregression, series, origins, horizon)


def _autoregression(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    return np.stack([_one_origin(series.until(origin), horizon) for origin in origins], axis=1)


def _one_origin(series: Series, horizon: int) -> Floats:
    if series.length < 4:
        return np.repeat(series.mean[:, None], horizon, axis=1)
    filled = series.filled()
    size = np.where(series.mean > 0, series.mean, 1.0)[:, None]
    logs: Mask = np.all(np.where(series.known, series.values, np.inf) > 0, axis=1) & np.any(series.known, axis=1)
    z = np.where(logs[:, None], np.log(np.maximum(filled, 1e-12 * size) / size), filled / size)
    top = z.max(axis=1)[:, None]
    steps = np.diff(z, axis=1)
    # A change is known where both its ends are.
    live = series.known[:, 1:] & (np.arange(steps.shape[1]) >= series.start[:, None])
    n = np.maximum(live.sum(axis=1), 1)
    mean = np.where(live, steps, 0.0).sum(axis=1) / n
    x = np.where(live, steps - mean[:, None], 0.0)
    variance = (x**2).sum(axis=1) / n
    weights = _weights(x, live, variance, lags_for(series.season, series.length))
    past = [x[:, -1 - k] for k in range(weights.shape[1])]
    chance = np.divide(variance / n, mean**2, out=np.ones_like(mean), where=mean != 0)
    drift = mean * np.clip(1 - chance, 0, 1)
    level, found = z[:, -1], []
    for ahead in range(horizon):
        step = sum((weights[:, k] * past[k] for k in range(len(past))), np.zeros(series.count))
        past = [step, *past[:-1]]
        level = level + step + drift * FADE**ahead
        found.append(level)
    path = np.stack(found, axis=1)
    return size * np.where(logs[:, None], np.exp(np.minimum(path, top + MOST_RISE)), path)


def _weights(x: Floats, live: Mask, variance: Floats, lags: int) -> Floats:
    """Ridge regression of each series on its own last changes: n × lags."""
    length = x.shape[1]
    lagged = np.stack([x[:, lags - 1 - k : length - 1 - k] for k in range(lags)], axis=2)
    used = live[:, lags:]
    lagged = lagged * used[:, :, None]
    target = x[:, lags:] * used
    gram = lagged.transpose(0, 2, 1) @ lagged
    cross = (lagged.transpose(0, 2, 1) @ target[:, :, None])[:, :, 0]
    penalty = RIDGE * np.where(variance > 0, variance, 1.0)[:, None] * np.arange(1, lags + 1)
    gram = gram + penalty[:, :, None] * np.eye(lags)
    return np.asarray(np.linalg.solve(gram, cross[:, :, None])[:, :, 0], dtype=np.float64)
