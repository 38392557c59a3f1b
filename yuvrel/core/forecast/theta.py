"""The Theta family: a smoothed level with a part of the long-run line added.

Source: Assimakopoulos and Nikolopoulos, The theta model, International Journal of Forecasting 16
(2000); in the dynamic form of Fiorucci et al., International Journal of Forecasting 32 (2016),
where the line is the least-squares line of what was seen so far.
"""

from __future__ import annotations

from collections import deque

import numpy as np

from .season import without_season
from .series import Floats, Series
from .smoothing import CELLS, first_line, leads_for, weigh

ALPHAS = (0.02, 0.05, 0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.98)
THETAS = (1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 6.0)


class _Line:
    """The least-squares line through what was seen so far, of every series."""

    def __init__(self, count: int) -> None:
        self.n, self.t, self.y, self.tt, self.ty = (np.zeros((count, 1)) for _ in range(5))
        self.intercept, self.slope = np.zeros((count, 1)), np.zeros((count, 1))

    def take(self, time: Floats, value: Floats, weight: Floats) -> None:
        """Add one point to each line; `time` is 1 at a series' first period."""
        self.n += weight
        self.t += weight * time
        self.y += weight * value
        self.tt += weight * time * time
        self.ty += weight * time * value
        spread = self.n * self.tt - self.t * self.t
        clear = spread > 1e-9
        self.slope = np.where(clear, (self.n * self.ty - self.t * self.y) / np.where(clear, spread, 1.0), 0.0)
        self.intercept = (self.y - self.slope * self.t) / np.maximum(self.n, 1e-9)


class _States:
    """The level under every setting, and the line."""

    def __init__(self, series: Series, alphas: tuple[float, ...], thetas: tuple[float, ...], leads: tuple[int, ...]) -> None:
        self.series, self.line = series, _Line(series.count)
        table = np.array([(a, 1 - 1 / q) for a in alphas for q in thetas]).T
        self.alpha, self.share = table[0][None], table[1][None]
        level, _ = first_line(series, 6)
        shape = (series.count, table.shape[1])
        self.level = np.broadcast_to(level[:, None], shape).copy()
        self.fading = np.ones(shape)
        self.squares = np.zeros(shape)
        self.waiting: dict[int, deque[Floats]] = {lead: deque() for lead in leads}
        self.start = series.start[:, None]

    def ahead(self) -> Floats:
        """The next period under every setting."""
        drift = self.fading * self.line.intercept + (1 - self.fading * (1 - self.alpha)) / self.alpha * self.line.slope
        return self.level + self.share * drift

    def step(self, at: int) -> None:
        """Score what was forecast for period `at`, then take it in."""
        value, weight = self.series.values[:, at : at + 1], self.series.weight[:, at : at + 1]
        base = self.ahead()
        for lead, waiting in self.waiting.items():
            waiting.append(base + self.share * (lead - 1) * self.line.slope)
            if len(waiting) == lead:
                error = value - waiting.popleft()
                # The first periods of a series have no line to judge yet.
                self.squares += weight * (at - lead + 1 - self.start >= (1 if lead == 1 else 3)) * error * error
        live = self.start <= at
        self.level = np.where(live, self.level + self.alpha * weight * (value - self.level), self.level)
        self.fading = np.where(live, self.fading * (1 - self.alpha), self.fading)
        self.line.take((at - self.start + 1).astype(np.float64), value, weight)

    def forecast(self, horizon: int, seen: Floats, sharp: float) -> Floats:
        """n × horizon, the mean over the settings: a level and the line's slope, as much of it as theta leaves."""
        weights = weigh(self.squares, seen, sharp)
        # Through fewer than three points there is no line: the level stands alone.
        level = (weights * np.where(self.line.n >= 3, self.ahead(), self.level)).sum(axis=1)
        slope = (weights * self.share).sum(axis=1) * np.where(self.line.n >= 3, self.line.slope, 0.0)[:, 0]
        return level[:, None] + slope[:, None] * np.arange(horizon)


def flat_theta(
    series: Series,
    origins: tuple[int, ...],
    horizon: int,
    *,
    alphas: tuple[float, ...] = ALPHAS,
    thetas: tuple[float, ...] = THETAS,
    leads: tuple[int, ...] | None = None,
    sharp: float | None = None,
) -> Floats:
    """The dynamic Theta model of series without a season: n × origins × horizon.

    ŷ(t+h) = ℓ_t + (1 - 1/θ)((1-α)^t A_t + ((h-1) + (1 - (1-α)^(t+1)) ÷ α) B_t), ℓ smoothed by α, A and
    B the running line. α and θ are weighed by their errors before each origin, as in `smooth`.
    """
    leads = leads or leads_for(series.season)
    sharp = sharp or (3.0 if series.season > 1 else 50.0)
    chunk = max(16, CELLS // (len(alphas) * len(thetas)))
    found = np.zeros((series.count, len(origins), horizon))
    for begin in range(0, series.count, chunk):
        part = slice(begin, begin + chunk)
        some = series.rows(part)
        states, seen = _States(some, alphas, thetas, leads), np.cumsum(some.weight, axis=1)
        for at in range(origins[-1] + 1):
            for k in [k for k, origin in enumerate(origins) if origin == at]:
                found[part, k] = states.forecast(horizon, seen[:, at - 1], sharp)
            if at < origins[-1]:
                states.step(at)
    return found


def theta(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """The dynamic Theta model, with a season taken out where the test finds one."""
    return without_season(flat_theta, series, origins, horizon)
