"""New items: their own level, and the shape of their category until they have one themselves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from .choose import LEAST_TEST, Forecast, forecast, forecast_by
from .series import Floats, Ints, Mask, Series


def forecast_with_categories(series: Series, horizon: int, categories: Sequence[int], method: str = "auto") -> Forecast:
    """As `forecast`, but a series with fewer than twelve seen periods follows the shape of its category.

    The category's demand is the sum of its older series, each divided by its own mean. A new one's
    level is what it sold in the periods it was seen ÷ what the category sold in them, and its
    forecast that level × the category's forecast: so a lawn chair new in May is not expected to
    sell in December what it sold in its first weeks. `why` says "borrowed".
    """
    found = forecast(series, horizon, method)
    if method != "auto":
        return found
    group = np.asarray(categories, dtype=np.int64)
    young = (series.known.sum(axis=1) < LEAST_TEST) & series.known.any(axis=1)
    mean, single, total = found.mean.copy(), found.spread.single.copy(), found.spread.total.copy()
    names, why = list(found.choice.names), list(found.choice.why)
    for category in np.unique(group[young]):
        older = (group == category) & ~young & (series.mean > 0)
        if not older.any():
            continue
        whole, path = _shape(series, older, horizon)
        for row in np.nonzero(young & (group == category))[0]:
            level = _level(series, int(row), whole)
            if level is None:
                continue
            before = mean[row].copy()
            mean[row] = level * path
            grown = np.maximum(1.0, np.divide(mean[row], before, out=np.ones(horizon), where=before > 0))
            single[row] *= grown
            total[row] *= grown
            names[row], why[row] = "velocity", "borrowed"
    spread = replace(found.spread, single=single, total=total)
    return Forecast(mean, spread, replace(found.choice, names=names, why=why))


def _shape(series: Series, older: Mask | Ints, horizon: int) -> tuple[Floats, Floats]:
    """The category's mean demand, relative to each item's own, by period; and its forecast."""
    some = series.rows(older)
    relative = some.values / some.mean[:, None]
    weight = some.weight.sum(axis=0)
    whole = np.divide((relative * some.weight).sum(axis=0), weight, out=np.ones(series.length), where=weight > 0)
    together = Series(whole[None], np.minimum(weight, 1.0)[None], series.season)
    return whole, forecast_by("blend", together, horizon)[0]


def _level(series: Series, row: int, whole: Floats) -> float | None:
    """Sold ÷ what the category sold in the same periods; None where the category sold nothing in them."""
    weight = series.weight[row]
    expected = float((weight * whole).sum())
    return float((weight * series.values[row]).sum()) / expected if expected > 0 else None
