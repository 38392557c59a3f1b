"""Demand of known make, to try forecasts on: what the true rate is, is known here and nowhere else."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.random import Generator
from numpy.typing import NDArray

Floats = NDArray[np.float64]
# Mean of the heavy-tailed sizes: how much they vary is set by this many failures (negative binomial).
SIZE_SHAPE = 2.0
YEAR = 52


def _chance(n: int, rng: Generator) -> Floats:
    return np.asarray(rng.uniform(0.08, 0.5, n)[:, None], dtype=np.float64)


def _sizes(n: int, periods: int, rng: Generator) -> Floats:
    mean = rng.uniform(1, 6, n)[:, None]
    return np.asarray(1 + rng.negative_binomial(SIZE_SHAPE, SIZE_SHAPE / (SIZE_SHAPE + mean), (n, periods)), dtype=np.float64)


def steady(n: int, periods: int, rng: Generator) -> Floats:
    """The same chance of an order every week, sizes that lean to the right."""
    return (rng.random((n, periods)) < _chance(n, rng)) * _sizes(n, periods, rng)


def single(n: int, periods: int, rng: Generator) -> Floats:
    """Single units at a constant rate (Poisson)."""
    return rng.poisson(np.broadcast_to(rng.uniform(0.1, 1.5, n)[:, None], (n, periods))).astype(np.float64)


def drifting(n: int, periods: int, rng: Generator) -> Floats:
    """A rate that wanders."""
    rate = _chance(n, rng) * rng.uniform(1, 6, n)[:, None] * np.exp(np.cumsum(rng.normal(0, 0.06, (n, periods)), axis=1))
    return rng.negative_binomial(1.5, 1.5 / (1.5 + rate)).astype(np.float64)


def fading(n: int, periods: int, rng: Generator) -> Floats:
    """Orders that die away from some week on."""
    end = rng.uniform(0.3, 0.9, n)[:, None] * periods
    week = np.arange(periods)[None]
    chance = _chance(n, rng) * np.where(week < end, 1.0, np.exp(-(week - end) / 8))
    return (rng.random((n, periods)) < chance) * _sizes(n, periods, rng)


def clumped(n: int, periods: int, rng: Generator) -> Floats:
    """Orders in clumps: a busy state that is entered and left by chance."""
    busy, state = np.zeros((n, periods), dtype=np.bool_), rng.random(n) < 0.4
    for at in range(periods):
        state = np.where(state, rng.random(n) < 0.92, rng.random(n) < 0.05)
        busy[:, at] = state
    return (busy & (rng.random((n, periods)) < 0.6)) * _sizes(n, periods, rng)


def seasonal(n: int, periods: int, rng: Generator) -> Floats:
    """A chance that goes up and down with the year."""
    phase = rng.uniform(0, YEAR, n)[:, None]
    swing = 1 + 0.9 * np.sin(2 * np.pi * (np.arange(periods)[None] + phase) / YEAR)
    return (rng.random((n, periods)) < np.clip(_chance(n, rng) * swing, 0, 1)) * _sizes(n, periods, rng)


def shifted(n: int, periods: int, rng: Generator) -> Floats:
    """A chance that jumps once, up or down."""
    when = rng.integers(30, periods - 15, n)[:, None]
    factor = rng.choice([0.35, 2.5], n)[:, None]
    chance = np.clip(_chance(n, rng) * np.where(np.arange(periods)[None] >= when, factor, 1.0), 0, 0.95)
    return (rng.random((n, periods)) < chance) * _sizes(n, periods, rng)


INTERMITTENT: dict[str, Callable[[int, int, Generator], Floats]] = {
    make.__name__: make for make in (steady, single, drifting, fading, clumped, seasonal, shifted)
}


def skewed(n: int, periods: int, rng: Generator, swing: tuple[float, float], shape: tuple[float, float]) -> tuple[Floats, Floats]:
    """(mean, shape) of weekly negative binomial demand with a yearly season; n × periods and n × 1.

    `swing`: how far the season goes, as a share of the mean; `shape`: the smaller, the more skewed.
    """
    base = rng.lognormal(2.2, 0.9, n)[:, None]
    depth, phase = rng.uniform(*swing, n)[:, None], rng.uniform(0, YEAR, n)[:, None]
    season = 1 + depth * np.sin(2 * np.pi * (np.arange(periods)[None] + phase) / YEAR)
    return base * season, rng.uniform(*shape, n)[:, None]


def draw(mean: Floats, shape: Floats, rng: Generator) -> Floats:
    """Negative binomial demand with that mean and shape."""
    return rng.negative_binomial(shape, shape / (shape + mean)).astype(np.float64)


def retail(n: int, weeks: int, rng: Generator) -> tuple[Floats, Floats]:
    """(units, share in stock) of a shop's items: wandering levels, a season, weeks without stock."""
    level = rng.lognormal(2.5, 1.2, n)[:, None] * np.exp(np.cumsum(rng.normal(0, 0.04, (n, weeks)), axis=1))
    phase, depth = rng.uniform(0, YEAR, (n, 1)), 0.4 * rng.random((n, 1))
    season = 1 + depth * np.sin(2 * np.pi * (np.arange(weeks)[None] + phase) / YEAR)
    units = draw(level * season, np.full((n, 1), 3.0), rng)
    seen = (rng.random((n, weeks)) > 0.05).astype(np.float64)
    return units * seen, seen
