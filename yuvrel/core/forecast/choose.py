"""Which method for which series: by what each would have said of the series' own past."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yuvrel.core.errors import BadInputError

from . import intermittent, means, regression, smoothing, theta
from .series import Floats, Ints, Mask, Series, scale_of, steady
from .spread import Spread, measure, stretches

LEAST_ORIGINS, MOST_ORIGINS = 5, 13
LEVELS = (0.05, 0.1, 0.5, 0.8, 0.9, 0.95, 0.98)
# A period without demand in more than a quarter of those seen: Syntetos and Boylan's 1.32 between demands.
INTERMITTENT = 1 - 1 / 1.32
# Shorter pasts are not worth a test; the mean is taken.
LEAST_PAST = 8
# Nothing sold for so long that it would have happened by chance one time in seven: it has stopped.
STOPPED = 0.15
OWN_SHARE = 0.3
PRIOR_SERIES = 10.0
SHARPNESS = 20.0
NOISE_FLOOR = 0.02
DEFAULT_LEAD = 0.03


@dataclass(frozen=True)
class Method:
    """A forecasting method: `paths` gives n × origins × horizon from what was known before each origin."""

    name: str
    words: str
    paths: Callable[[Series, tuple[int, ...], int], Floats]
    members: tuple[str, ...] = ()


def _multiplied(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    return smoothing.seasonal(series, origins, horizon, multiplicative=True)


def _added(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    return smoothing.seasonal(series, origins, horizon, multiplicative=False)


def _blended(series: Series, origins: tuple[int, ...], horizon: int) -> Floats:
    return blend(several(METHODS["blend"].members, series, origins, horizon))


def several(names: tuple[str, ...], series: Series, origins: tuple[int, ...], horizon: int) -> dict[str, Floats]:
    """The paths of several methods, each worked out once: without a season to follow three of them are the same."""
    found: dict[str, Floats] = {}
    followed = smoothing.follows(series, origins[0]).any()
    for name in dict.fromkeys(part for wanted in names for part in (METHODS[wanted].members or (wanted,))):
        same = "damped" if name.startswith("seasonal") and not followed else name
        if same not in found:
            found[same] = np.maximum(METHODS[same].paths(series, origins, horizon), 0.0)
        found[name] = found[same]
    if "blend" in names:
        found["blend"] = blend(found)
    return found


def blend(paths: dict[str, Floats]) -> Floats:
    """Mean of the Theta model, seasonal smoothing (half multiplied, half added) and autoregression.

    Simple means of unlike methods are hard to beat: Makridakis and Hibon, The M3-Competition,
    International Journal of Forecasting 16 (2000), conclusion 3.
    """
    followed = (paths["seasonal times"] + paths["seasonal plus"]) / 2
    mean: Floats = (paths["theta"] + followed + paths["autoregression"]) / 3
    return mean


METHODS = {
    method.name: method
    for method in (
        Method("velocity", "the mean over its whole past", means.velocity),
        Method("moving mean", "the mean of late", means.moving_mean),
        Method("level", "a smoothed level", smoothing.simple),
        Method("damped", "a level and a fading trend", smoothing.damped),
        Method("theta", "a level and a part of the long-run line", theta.theta),
        Method("last season", "the same season last year times growth", means.last_season),
        Method("seasonal times", "a level, a trend and a season that multiplies", _multiplied),
        Method("seasonal plus", "a level, a trend and a season that is added", _added),
        Method("autoregression", "its own last changes", regression.autoregression),
        Method("sba", "size and rhythm of its orders apart", intermittent.croston_sba),
        Method("tsb", "size and chance of an order", intermittent.tsb),
        Method("aggregated", "sums over longer periods", intermittent.aggregated),
        Method(
            "blend",
            "the mean of three unlike methods",
            _blended,
            ("theta", "seasonal times", "seasonal plus", "autoregression"),
        ),
    )
}
REGULAR = (
    "blend",
    "velocity",
    "moving mean",
    "level",
    "damped",
    "theta",
    "last season",
    "seasonal times",
    "seasonal plus",
    "autoregression",
)
SPARSE = ("velocity", "moving mean", "sba", "tsb", "aggregated", "level")


def forecast_by(name: str, series: Series, horizon: int) -> Floats:
    """Mean demand of the next `horizon` periods by one method, n × horizon, never below zero."""
    paths = METHODS[name].paths(steady(series), (series.length,), horizon)[:, 0]
    ever = np.any(series.known, axis=1, keepdims=True)
    return np.where(ever, np.maximum(paths, 0.0), 0.0)


@dataclass(frozen=True)
class Trial:
    """What each method said before each origin: name -> n × origins × horizon, and what came.

    `weight`: how much of each actual was seen; 0 beyond the end and where the past was too short.
    """

    paths: dict[str, Floats]
    actual: Floats
    weight: Floats
    scale: Floats

    def squares(self, name: str) -> Floats:
        """Mean squared error ÷ scale², per series; 0 where nothing was tested."""
        return self._mean((self.paths[name] - self.actual) ** 2) / self.scale**2

    def mase(self, name: str) -> Floats:
        """Mean absolute scaled error (Hyndman and Koehler 2006), per series; 0 where nothing was tested."""
        return self._mean(np.abs(self.paths[name] - self.actual)) / self.scale

    def bias(self, name: str) -> Floats:
        """Mean error (forecast less actual) ÷ scale, per series."""
        return self._mean(self.paths[name] - self.actual) / self.scale

    def _mean(self, table: Floats) -> Floats:
        total = self.weight.sum(axis=(1, 2))
        found: Floats = np.divide((table * self.weight).sum(axis=(1, 2)), total, out=np.zeros(len(total)), where=total > 0)
        return found


def origins_for(length: int, horizon: int) -> int:
    """How many origins a test has: so many that their windows fill the newer half of the past, 5 to 13."""
    return int(np.clip(length // 2 // horizon, LEAST_ORIGINS, MOST_ORIGINS))


def origins_of(length: int, past: int, horizon: int) -> tuple[int, ...]:
    """Origins spread evenly over the newer half of a past of `past` periods that ends at `length`.

    The windows after them follow one another, or overlap where the past is short. Evenly, so that a
    short horizon is tried in all the seasons of that half.
    """
    count = origins_for(length, horizon)
    span = past - max(LEAST_PAST, past // 2)
    if span <= 0:
        return ()
    step = max(1, span // count)
    return tuple(length - step * k for k in range(count, 0, -1) if step * k <= span)


def rolling_test(series: Series, horizon: int, names: tuple[str, ...], past: int | None = None) -> Trial:
    """Each method at each origin of the newer half of the past, knowing only what came before.

    `past`: periods of history the series have (the shortest of them). A series takes part in an
    origin when LEAST_PAST of its periods were seen before it.
    """
    origins = origins_of(series.length, series.length if past is None else past, horizon)
    shape = (series.count, origins_for(series.length, horizon), horizon)
    actual, weight = np.zeros(shape), np.zeros(shape)
    paths = {name: np.zeros(shape) for name in names}
    for place, origin in enumerate(origins):
        ahead = slice(origin, min(series.length, origin + horizon))
        enough: Mask = np.asarray(series.known[:, :origin].sum(axis=1) >= LEAST_PAST)
        actual[:, place, : ahead.stop - origin] = series.values[:, ahead]
        weight[:, place, : ahead.stop - origin] = series.weight[:, ahead] * enough[:, None]
    if origins:
        said = several(names, series, origins, horizon)
        for name in names:
            paths[name][:, : len(origins)] = said[name]
    return Trial(paths, actual, weight, scale_of(series))


@dataclass(frozen=True)
class Choice:
    """The method chosen for each series, why, and how the others did.

    `sure`: 0 to 1, the chosen method's share when the candidates are weighed by their errors.
    `why`: a key of WHY. `mase`, `bias`: by name, n each; only methods that were tried on a series
    have a figure other than 0 there (`tried`: name -> which).
    """

    names: list[str]
    why: list[str]
    sure: Floats
    mase: dict[str, Floats]
    bias: dict[str, Floats]
    tried: dict[str, Mask]

    def sentence(self, row: int) -> str:
        """What was chosen for one series, why, and how sure that is."""
        name = self.names[row]
        if self.why[row] == "borrowed":
            words = WHY["borrowed"]
            return f"{words[0].upper()}{words[1:]}."
        text = f"{name.capitalize()}: {METHODS[name].words}; {WHY[self.why[row]]}"
        if self.why[row] not in ("test", "default"):
            return f"{text}."
        sure = float(self.sure[row])
        word = "clearly ahead" if sure >= 0.6 else "ahead" if sure >= 0.35 else "about level with others"
        return f"{text} (MASE {self.mase[name][row]:.2f}, {word})."


WHY = {
    "test": "it did best when tried on the past",
    "default": "nothing did clearly better when tried on the past",
    "asked": "as asked",
    "short": "its past is too short for a test",
    "stopped": "nothing has been sold for longer than chance explains",
    "borrowed": "its own level with the shape of its category, as its past is too short to have one",
    "never": "it was never in stock",
}


@dataclass(frozen=True)
class Forecast:
    """Means and spread of the next periods of n series, and what was chosen.

    `mean`: n × horizon, units a period, never below zero.
    """

    mean: Floats
    spread: Spread
    choice: Choice

    def quantiles(self, level: float) -> Floats:
        """Quantile of each period's demand, n × horizon. Raises BadInputError unless 0 < level < 1."""
        return self.spread.quantiles(self.mean, level)

    def totals(self, level: float) -> Floats:
        """Quantile of the demand summed from now up to each period, n × horizon."""
        return self.spread.quantiles(self.mean, level, total=True)


def is_sparse(series: Series) -> Mask:
    """Whether demands are more than 1.32 periods apart (Syntetos and Boylan's cut-off), since the first seen period."""
    seen = series.weight.sum(axis=1)
    hits = ((series.values > 0) * series.weight).sum(axis=1)
    return hits < (1 - INTERMITTENT) * seen


def has_stopped(series: Series) -> Mask:
    """Whether nothing was sold for so long that it would happen one time in seven at the rate before.

    (1 - p)^k < 0.15, p the share of periods with demand up to the last one, k the periods seen since.
    """
    hits = (series.values > 0) & series.known
    places = np.arange(series.length)
    last = np.where(hits.any(axis=1), (hits * (places + 1)).max(axis=1, initial=0), 0)
    after = places >= last[:, None]
    since = (series.weight * after).sum(axis=1)
    before = (series.weight * ~after).sum(axis=1)
    chance = np.clip(np.divide(hits.sum(axis=1), before, out=np.ones(series.count), where=before > 0), 0, 0.999)
    stopped: Mask = (since >= LEAST_PAST // 2) & ((1 - chance) ** since < STOPPED) & hits.any(axis=1)
    return stopped


def forecast(given: Series, horizon: int, method: str = "auto") -> Forecast:
    """Forecast n series over `horizon` periods by one method, or by the one that suits each best.

    The choice is by a rolling-origin test on each series' own past: mean squared errors relative
    to the default's, held towards what the series of its kind show together, and towards the
    default where there is little of either. Raises BadInputError for an unknown method or a
    horizon below 1.
    """
    if horizon < 1:
        raise BadInputError("A forecast reaches at least one period ahead.", field="horizon")
    if method != "auto" and method not in METHODS:
        raise BadInputError(f"There is no forecasting method {method!r}.", field="method")
    return _Chooser(given, horizon, method).run()


class _Chooser:
    """The steps of one forecast over a batch."""

    def __init__(self, given: Series, horizon: int, method: str) -> None:
        self.given, self.series, self.horizon, self.method = given, steady(given), horizon, method
        n = given.count
        self.names, self.why = ["velocity"] * n, ["short"] * n
        self.sure = np.ones(n)
        self.origins = origins_for(given.length, horizon)
        shape = (n, self.origins, horizon)
        self.said, self.actual, self.weight = np.zeros(shape), np.zeros(shape), np.zeros(shape)
        self.scale = scale_of(self.series)
        # Periods between two origins of each series' test.
        self.step = np.full(n, horizon)
        self.mase: dict[str, Floats] = {}
        self.bias: dict[str, Floats] = {}
        self.tried: dict[str, Mask] = {}

    def run(self) -> Forecast:
        """Test, choose, forecast, and measure how far off it is."""
        sparse = is_sparse(self.series)
        kinds = [(~sparse, REGULAR), (sparse, SPARSE)] if self.method == "auto" else [(sparse | ~sparse, (self.method,))]
        stretch, total_stretch = np.ones((2, self.given.count, len(LEVELS), self.horizon))
        parts = []
        for which, names in kinds:
            rows = np.nonzero(which)[0]
            if len(rows):
                self._test_and_choose(rows, names)
                parts.append(rows)
        mean = self._means()
        spread = self._with_fallback(measure(self.said - self.actual, self.weight, self.scale), mean)
        others = self._without_each()
        for rows in parts:
            stretch[rows], total_stretch[rows] = self._stretch(rows, others)
        choice = Choice(self.names, self.why, self.sure, self.mase, self.bias, self.tried)
        return Forecast(mean, Spread(spread.single, spread.total, LEVELS, stretch, total_stretch), choice)

    def _groups(self, rows: Ints) -> list[tuple[int, Ints]]:
        """Rows with pasts of about the same length, with the shortest of them."""
        length = self.series.length
        past = length - self.series.start[rows]
        step = max(1, length // 8)
        band = past // step
        return [(int(past[band == k].min()), rows[band == k]) for k in np.unique(band)]

    def _test_and_choose(self, rows: Ints, names: tuple[str, ...]) -> None:
        n = len(rows)
        place = {int(row): at for at, row in enumerate(rows)}
        squares, told = np.zeros((n, len(names))), np.zeros(n)
        trials = []
        for past, group in self._groups(rows):
            trial = rolling_test(self.series.rows(group), self.horizon, names, past)
            at = np.array([place[int(row)] for row in group])
            origins = origins_of(self.series.length, past, self.horizon)
            self.step[group] = np.diff(origins)[0] if len(origins) > 1 else self.horizon
            squares[at] = np.stack([trial.squares(name) for name in names], axis=1)
            told[at] = (trial.weight > 0).any(axis=2).sum(axis=1)
            trials.append((group, at, trial))
            for name in names:
                self._note(name, group, trial)
        score, told = self._scores(squares, told, names), told
        best = score.argmin(axis=1)
        weights = np.exp(-SHARPNESS * (score - score.min(axis=1, keepdims=True)))
        sure = weights[np.arange(n), best] / weights.sum(axis=1)
        stopped = has_stopped(self.series.rows(rows)) if self.method == "auto" else np.zeros(n, dtype=np.bool_)
        for group, at, trial in trials:
            for row, k in zip(group, at, strict=True):
                self._take(int(row), names[best[k]], float(sure[k]), bool(told[k] > 0), bool(stopped[k]), best[k] == 0)
            picked = np.array([names.index(self.names[row]) if self.names[row] in names else 0 for row in group])
            for k, name in enumerate(names):
                self.said[group[picked == k]] = trial.paths[name][picked == k]
            self.actual[group], self.weight[group] = trial.actual, trial.weight

    def _note(self, name: str, group: Ints, trial: Trial) -> None:
        n = self.given.count
        self.mase.setdefault(name, np.zeros(n))[group] = trial.mase(name)
        self.bias.setdefault(name, np.zeros(n))[group] = trial.bias(name)
        self.tried.setdefault(name, np.zeros(n, dtype=np.bool_))[group] = trial.weight.sum(axis=(1, 2)) > 0

    def _scores(self, squares: Floats, told: Floats, names: tuple[str, ...]) -> Floats:
        """Logarithms of each method's squared error relative to the default's, held back; less is better.

        The default is the first of the regular methods, and for sparse demand what the candidates do on average.
        """
        logs = np.log(squares + NOISE_FLOOR)
        base = logs[:, :1] if names[0] == "blend" else logs.mean(axis=1, keepdims=True)
        relative = (logs - base) * (told > 0)[:, None]
        n = float((told > 0).sum())
        shared = relative.sum(axis=0) / max(n, 1.0) * (n / (n + PRIOR_SERIES))
        score: Floats = shared + OWN_SHARE * (told / self.origins)[:, None] * (relative - shared)
        if names[0] == "blend":
            score[:, 0] -= DEFAULT_LEAD
        return score

    def _take(self, row: int, name: str, sure: float, tested: bool, stopped: bool, default: bool) -> None:
        if self.method != "auto":
            self.names[row], self.why[row] = self.method, "asked"
        elif stopped:
            self.names[row], self.why[row] = "moving mean", "stopped"
        elif tested:
            self.names[row], self.sure[row] = name, sure
            self.why[row] = "default" if default and name == "blend" else "test"
        elif not self.given.known[row].any():
            self.why[row] = "never"

    def _means(self) -> Floats:
        found = np.zeros((self.given.count, self.horizon))
        names = np.array(self.names)
        for name in np.unique(names):
            rows = np.nonzero(names == name)[0]
            # Velocity counts every hour in stock; the others leave out periods hardly seen.
            source = self.given if name == "velocity" else self.series
            found[rows] = forecast_by(str(name), source.rows(rows), self.horizon)
        return found

    def _with_fallback(self, spread: Spread, mean: Floats) -> Spread:
        """Where no test told how far off a forecast is: the series' own variation, at least that of chance."""
        series = self.given
        apart = np.where(series.known, series.values - series.mean[:, None], 0.0)
        variance = (apart**2 * series.weight).sum(axis=1) / np.maximum(series.weight.sum(axis=1) - 1, 1)
        least = np.sqrt(np.maximum(variance, mean.mean(axis=1)))[:, None]
        untold = (self.weight.sum(axis=(1, 2)) == 0)[:, None]
        steps = np.sqrt(np.arange(1, self.horizon + 1))
        single = np.where(untold, np.maximum(spread.single, least), spread.single)
        total = np.where(untold, np.maximum(spread.total, least * steps), spread.total)
        return Spread(single, total)

    def _without_each(self) -> tuple[Floats, Floats]:
        """Deviations as the errors in the other windows tell them, n × origins × horizon, single and total.

        Judged by the very errors they were taken from, they would seem wide enough and not be. Windows
        that overlap are no others.
        """
        single, total = [], []
        for left_out in range(self.origins):
            apart = np.abs(np.arange(self.origins) - left_out)[None] * self.step[:, None] >= self.horizon
            weight = self.weight * apart[:, :, None]
            spread = measure(self.said - self.actual, weight, self.scale)
            single.append(spread.single)
            total.append(spread.total)
        return np.stack(single, axis=1), np.stack(total, axis=1)

    def _stretch(self, rows: Ints, others: tuple[Floats, Floats]) -> tuple[Floats, Floats]:
        """Factors on the deviations with which the quantiles of the test hold, for the series of one kind."""
        said, actual, weight = self.said[rows], self.actual[rows], self.weight[rows]
        whole = (weight >= 0.99).cumprod(axis=2).astype(np.float64)
        single = stretches(actual, said, others[0][rows], weight, LEVELS)
        sums = stretches(np.cumsum(actual, axis=2), np.cumsum(said, axis=2), others[1][rows], whole, LEVELS)
        return single, sums
