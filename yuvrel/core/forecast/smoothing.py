"""Exponential smoothing over a grid of parameters, all series and all settings in one pass.

Each setting keeps its own states and the sum of its squared errors; a forecast is the mean over
the settings, weighted by how well each did up to then. So a forecast at any origin on the way uses
only what was known there, and testing at many origins costs no more than one pass.

Source of the recursions: Hyndman, Koehler, Ord and Snyder, Forecasting with Exponential Smoothing
(Springer 2008), chapters 2 and 3: N,N; A_d,N; A_d,A and A_d,M in error-correction form. An unknown
period carries the states on without correcting them; one that was seen in part corrects in part.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from .season import LEAST_INDEX, indices, is_seasonal
from .series import Floats, Mask, Series

# Series × settings held at once: small enough to stay in the processor's cache.
CELLS = 40_000
HARD = 50.0


@dataclass(frozen=True)
class Grid:
    """Settings to try: smoothing of the level, of the trend (as a share of the level's), of the season; damping.

    `leads`: how many periods ahead the errors are taken that the settings are weighed by.
    `sharp`: how strongly the better settings are preferred: weight = (SSE ÷ least SSE)^(-sharp × n ÷ 2);
    1 is the likelihood's own, large values take the best alone.
    """

    alphas: tuple[float, ...]
    betas: tuple[float, ...] = (0.0,)
    gammas: tuple[float, ...] = (0.0,)
    phis: tuple[float, ...] = (0.0,)
    leads: tuple[int, ...] = (1,)
    sharp: float = HARD

    def table(self) -> Floats:
        """4 × settings: alpha, beta, gamma, phi."""
        rows = [(a, b, g, p) for a in self.alphas for b in self.betas for g in self.gammas for p in self.phis]
        return np.array(rows).T


LEVEL = Grid(alphas=(0.02, 0.05, 0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.98))
DAMPED = Grid(alphas=(0.05, 0.1, 0.2, 0.3, 0.45, 0.6, 0.8, 0.95), betas=(0.02, 0.1, 0.2, 0.4), phis=(0.8, 0.9, 0.95, 0.98))
SEASONAL = Grid(alphas=(0.05, 0.12, 0.25, 0.45, 0.7), betas=(0.0, 0.1), gammas=(0.03, 0.1, 0.3), phis=(0.8, 0.9, 0.97), sharp=1.0)


def leads_for(season: int) -> tuple[int, ...]:
    """One period ahead, and half a season: what is fitted to the next period alone runs away further out."""
    return (1,) if season == 1 else (1, max(2, min(6, season // 2)))


def weigh(squares: Floats, seen: Floats, sharp: float) -> Floats:
    """Weights of the settings from their sums of squared errors, n × settings; each row adds up to 1."""
    logs = np.log(np.maximum(squares, 1e-300))
    weights: Floats = np.exp(-sharp * seen[:, None] / 2 * (logs - logs.min(axis=1, keepdims=True)))
    return weights / weights.sum(axis=1, keepdims=True)


def first_line(series: Series, periods: int = 10) -> tuple[Floats, Floats]:
    """Level at the first known period and slope, by least squares over the first `periods` known ones."""
    after = np.arange(series.length)[None] - series.start[:, None]
    used = series.known & (after >= 0) & (after < periods)
    n = np.maximum(used.sum(axis=1), 1)
    t_mean = (after * used).sum(axis=1) / n
    mean = (series.values * used).sum(axis=1) / n
    t_apart = np.where(used, after - t_mean[:, None], 0.0)
    spread = (t_apart**2).sum(axis=1)
    slope = (t_apart * np.where(used, series.values - mean[:, None], 0.0)).sum(axis=1) / np.where(spread > 0, spread, 1.0)
    return mean - slope * t_mean, slope


class _States:
    """Level, trend and season of n series under every setting, stepping through time."""

    def __init__(self, series: Series, grid: Grid, season: Floats | None, multiplicative: bool, horizon: int) -> None:
        self.series, self.grid, self.multiplicative = series, grid, multiplicative
        table = grid.table()
        self.alpha, self.beta, self.gamma, self.phi = (row[None] for row in table)
        trended = bool((table[1] > 0).any() or (table[3] > 0).any())
        index = np.full((series.count, 1), 1.0 if multiplicative else 0.0) if season is None else season
        self.seasonal, self.cycle = season is not None, index.shape[1]
        along = index[:, np.arange(series.length) % self.cycle]
        flat = series.values / along if multiplicative else series.values - along
        level, slope = first_line(Series(np.where(series.known, flat, 0.0), series.weight), 10 if trended else 6)
        if not trended:
            level, slope = level + 2.5 * slope, np.zeros_like(slope)  # the mean of the first six
        shape = (series.count, table.shape[1])
        self.trend = np.broadcast_to(slope[:, None], shape).copy()
        self.level = np.broadcast_to(level[:, None], shape) - self.trend
        self.index = np.broadcast_to(index.T[:, :, None], (self.cycle, *shape)).copy() if self.seasonal else index.T[:, :, None]
        self.squares = np.zeros(shape)
        reach = max(max(grid.leads), horizon)
        self.damping = np.cumsum(self.phi.T ** np.arange(1, reach + 1), axis=1).T[:, None, :]
        self.floor = 1e-3 * np.where(series.known, series.values, 0.0).max(axis=1, initial=0.0)[:, None] + 1e-12
        self.start = series.start[:, None]
        self.waiting: dict[int, deque[Floats]] = {lead: deque() for lead in grid.leads}

    def ahead(self, at: int, lead: int) -> Floats:
        """Forecast of period `at` + `lead` - 1 made before period `at`, under every setting."""
        base = self.level + self.trend * self.damping[lead - 1]
        index = self.index[(at + lead - 1) % self.cycle]
        return base * index if self.multiplicative else base + index

    def score(self, at: int) -> None:
        """Add the squared errors of what was forecast for period `at`, by those made `leads` before it."""
        weight, value = self.series.weight[:, at : at + 1], self.series.values[:, at : at + 1]
        for lead, waiting in self.waiting.items():
            waiting.append(self.ahead(at, lead))
            if len(waiting) == lead:
                error = value - waiting.popleft()
                self.squares += weight * (self.start <= at - lead + (lead == 1)) * error * error

    def step(self, at: int) -> None:
        """Take in period `at`."""
        weight, value = self.series.weight[:, at : at + 1], self.series.values[:, at : at + 1]
        live = self.start <= at
        index = self.index[at % self.cycle]
        trend = self.phi * self.trend
        base = self.level + trend
        error = weight * (value - (base * index if self.multiplicative else base + index))
        change = error / np.maximum(index, 0.05) if self.multiplicative else error
        self.level = np.where(live, base + self.alpha * change, self.level)
        self.trend = np.where(live, trend + self.alpha * self.beta * change, self.trend)
        if self.seasonal and self.multiplicative:
            turn = self.gamma * (1 - self.alpha) * error / np.maximum(base, self.floor)
            self.index[at % self.cycle] = np.maximum(index + turn, LEAST_INDEX)
        elif self.seasonal:
            self.index[at % self.cycle] = index + self.gamma * (1 - self.alpha) * error

    def forecast(self, at: int, horizon: int, seen: Floats) -> Floats:
        """n × horizon from period `at` on, the mean over the settings."""
        weights = weigh(self.squares, seen, self.grid.sharp)
        return np.stack([(weights * self.ahead(at, lead)).sum(axis=1) for lead in range(1, horizon + 1)], axis=1)


def smooth(
    series: Series, origins: tuple[int, ...], horizon: int, grid: Grid, season: Floats | None = None, multiplicative: bool = True
) -> Floats:
    """Forecasts made before each origin: n × origins × horizon.

    `season`: first seasonal indices, n × season, which are then smoothed too; None for no season.
    A setting is weighed at an origin by the errors seen before it, over `grid.leads`.
    """
    settings = grid.table().shape[1] * (1 if season is None else 1 + season.shape[1] // 16)
    chunk = max(16, CELLS // settings)
    found = np.zeros((series.count, len(origins), horizon))
    for begin in range(0, series.count, chunk):
        part = slice(begin, begin + chunk)
        found[part] = _smooth(series.rows(part), origins, horizon, grid, None if season is None else season[part], multiplicative)
    return found


def _smooth(
    series: Series, origins: tuple[int, ...], horizon: int, grid: Grid, season: Floats | None, multiplicative: bool
) -> Floats:
    states = _States(series, grid, season, multiplicative, horizon)
    found = []
    seen = np.cumsum(series.weight, axis=1)
    begin = int(series.start.min(initial=series.length))
    for at in range(min(begin, origins[0]), origins[-1] + 1):
        if at in origins:
            found.append(states.forecast(at, horizon, seen[:, at - 1] if at else np.zeros(series.count)))
        if at < origins[-1]:
            states.score(at)
            states.step(at)
    return np.stack(found, axis=1)


def simple(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """Simple exponential smoothing: the level alone, carried forward flat."""
    return smooth(series, origins, horizon, LEVEL, multiplicative=False)


def damped(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    """Damped trend: level and a trend that fades by phi each period."""
    return smooth(series, origins, horizon, DAMPED, multiplicative=False)


def follows(series: Series, origin: int) -> Mask:
    """Whether two and a half cycles of a season were seen before the origin, for each series."""
    if series.season == 1:
        return np.zeros(series.count, dtype=np.bool_)
    enough: Mask = series.until(origin).known.sum(axis=1) >= 2.5 * series.season
    return enough


def seasonal(series: Series, origins: tuple[int, ...], horizon: int, *, multiplicative: bool) -> Floats:
    """Level, damped trend and a season that is smoothed as well, multiplied or added.

    Where fewer than two and a half cycles were seen before the first origin there is no season to
    follow; those series get the damped trend.
    """
    before = series.until(origins[0])
    enough = follows(series, origins[0])
    found = np.zeros((series.count, len(origins), horizon))
    if not enough.all():
        found[~enough] = damped(series.rows(~enough), origins, horizon)
    if enough.any():
        some, early = series.rows(enough), before.rows(enough)
        neutral = 1.0 if multiplicative else 0.0
        tested = is_seasonal(early)
        index = np.where(tested[:, None], indices(early, multiplicative=multiplicative), neutral)
        if multiplicative:
            index = np.maximum(index, 0.05)
        grid = Grid(SEASONAL.alphas, SEASONAL.betas, SEASONAL.gammas, SEASONAL.phis, leads_for(series.season), SEASONAL.sharp)
        found[enough] = smooth(some, origins, horizon, grid, index, multiplicative)
    return found
