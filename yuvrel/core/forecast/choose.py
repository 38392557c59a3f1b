"""Which method for which series: by what each would have said of the series' own past."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from yuvrel.core.errors import BadInputError

from . import intermittent, means, regression, smoothing, theta
from .season import is_seasonal
from .series import Floats, Ints, Mask, Series, scale_of, steady, tame
from .spread import Spread, measure, stretches, with_fallback

LEAST_ORIGINS, MOST_ORIGINS = 5, 13
LEVELS = (0.05, 0.1, 0.5, 0.8, 0.9, 0.95, 0.98)
# A period without demand in more than a quarter of those seen: Syntetos and Boylan's 1.32 between demands.
INTERMITTENT = 1 - 1 / 1.32
# An origin with fewer periods seen before it tests nothing; a past with fewer than LEAST_TEST is not tested at all:
# one test of one week after nine decides by chance.
LEAST_PAST = 8
LEAST_TEST = 12
# Nothing sold for so long that it would have happened by chance one time in seven: it has stopped.
STOPPED = 0.15
# A season ago, less than this share of the mean is next to nothing.
QUIET = 0.1
# How far a series' own errors count beside those of its kind: chosen on M1; with long weekly pasts, on simulated mixtures.
OWN_SHARE, OWN_SHARE_WEEKLY, WEEKLY = 0.3, 0.6, 52
PRIOR_SERIES = 10.0
# Weights of the candidates are exp(-sharpness × score): chosen on M1 and on simulated demand.
SHARPNESS = {"regular": 10.0, "sparse": 40.0}
# How many times the second largest value a single one may count as: more is an accident, or a one-off order.
MOST_SINGLE = {"regular": 2.0, "sparse": 4.0}
# A candidate with less weight than this is left out, and not worked out.
LEAST_WEIGHT = 0.001
# Once an item has gone silent it is expected to be gone after so many periods; one in ENDS periods is an item's last.
GONE, ENDS = 13, 150.0
NOISE_FLOOR = 0.02
# How far ahead the default is, and by how much more the fewer origins tell.
DEFAULT_LEAD, LEAD_UNTOLD = 0.03, 0.1
# How far ahead of the other candidates for sparse demand the long-run average is: chosen on simulated demand.
LONG_RUN_LEAD = 0.05
# These say what the velocity says until a whole season is behind them.
A_SEASON_BACK = ("last season", "own years")
HIGH = 0.9


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
        Method("velocity", "the average over its whole history", means.velocity),
        Method("moving mean", "the recent average", means.moving_mean),
        Method("level", "a smoothed level", smoothing.simple),
        Method("damped", "a level and a fading trend", smoothing.damped),
        Method("theta", "a level and part of the long-run trend", theta.theta),
        Method("last season", "the same season last year times growth", means.last_season),
        Method("seasonal times", "a level, a trend and a season that multiplies", _multiplied),
        Method("seasonal plus", "a level, a trend and a season that is added", _added),
        Method("autoregression", "its own last changes", regression.autoregression),
        Method("sba", "size and rhythm of its orders apart", intermittent.croston_sba),
        Method("tsb", "size and chance of an order", intermittent.tsb),
        Method("aggregated", "sums over longer periods", intermittent.aggregated),
        Method("own years", "its mean with the shape of its own years", means.own_years),
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
SPARSE = ("velocity", "moving mean", "sba", "tsb", "aggregated", "level", "own years")


def forecast_by(name: str, series: Series, horizon: int) -> Floats:
    """Mean demand of the next `horizon` periods by one method, n × horizon, never below zero."""
    paths = METHODS[name].paths(steady(series), (series.length,), horizon)[:, 0]
    ever = np.any(series.known, axis=1, keepdims=True)
    return np.where(ever, np.maximum(paths, 0.0), 0.0)


@dataclass(frozen=True)
class Trial:
    """What each method said before each origin: name -> n × origins × horizon, and what came.

    `weight`: how much of each actual was seen; 0 beyond the end and where the past was too short. `ahead`: what each
    says of the periods to come, name -> n × horizon, worked out in the same pass; none where nothing was tested.
    """

    paths: dict[str, Floats]
    actual: Floats
    weight: Floats
    scale: Floats
    ahead: dict[str, Floats]

    def of_origins(self, used: Mask) -> Trial:
        """The same with some of the origins alone, n × origins."""
        return replace(self, weight=self.weight * used[:, :, None])

    def squares(self, name: str) -> Floats:
        """Sum of squared errors ÷ scale², per series and origin."""
        found: Floats = (((self.paths[name] - self.actual) ** 2) * self.weight).sum(axis=2) / self.scale[:, None] ** 2
        return found

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


@dataclass(frozen=True)
class Tests:
    """What the candidates `names` for some series of one kind did in their tests.

    `rows`: which series of the batch, n. `squares`: squared errors, n × names × origins; `seen`: how much of what came was
    seen, n × origins; `a_season_in`: which origins have more than a season of past before them, n × origins.
    """

    rows: Ints
    names: tuple[str, ...]
    squares: Floats
    seen: Floats
    a_season_in: Mask

    @property
    def kind(self) -> str:
        """Regular or sparse: its candidates say which."""
        return "regular" if self.names[0] == "blend" else "sparse"

    def relative(self, used: Mask) -> tuple[Floats, Floats]:
        """(logarithms of each candidate's mean squared error at the origins in `used`, relative to the default's; at how
        many origins something was seen), n × names both. 0 where nothing was."""
        counted = self.seen * used
        told = counted.sum(axis=1)
        mean = np.divide(
            (self.squares * used[:, None, :]).sum(axis=2),
            told[:, None],
            out=np.zeros(self.squares.shape[:2]),
            where=told[:, None] > 0,
        )
        logs = np.log(mean + NOISE_FLOOR)
        base = logs[:, :1] if self.kind == "regular" else logs.mean(axis=1, keepdims=True)
        origins = np.repeat((counted > 0).sum(axis=1).astype(np.float64)[:, None], len(self.names), axis=1)
        return (logs - base) * (told > 0)[:, None], origins


def origins_for(length: int, horizon: int) -> int:
    """How many origins a test has: so many that their windows fill the newer half of the past, 5 to 13."""
    return int(np.clip(length // 2 // horizon, LEAST_ORIGINS, MOST_ORIGINS))


def origins_of(length: int, past: int, horizon: int) -> tuple[int, ...]:
    """Origins spread evenly over the newer half of a past of `past` periods that ends at `length`.

    The windows after them follow one another, or overlap where the past is short. Evenly, so that a
    short horizon is tried in all the seasons of that half.
    """
    count = origins_for(length, horizon)
    if past < LEAST_TEST:
        return ()
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
        window = slice(origin, min(series.length, origin + horizon))
        enough: Mask = np.asarray(series.known[:, :origin].sum(axis=1) >= LEAST_PAST)
        actual[:, place, : window.stop - origin] = series.values[:, window]
        weight[:, place, : window.stop - origin] = series.weight[:, window] * enough[:, None]
    ahead: dict[str, Floats] = {}
    if origins:
        said = several(names, series, (*origins, series.length), horizon)
        for name in names:
            paths[name][:, : len(origins)] = said[name][:, :-1]
            ahead[name] = said[name][:, -1]
    return Trial(paths, actual, weight, scale_of(series), ahead)


# These take the season out as it stood before the first origin of a test: what they say of the time to come is worked
# out anew with the season as it stands now, where there is one.
WITH_A_SEASON = ("theta", "seasonal times", "seasonal plus", "autoregression", "blend")


def has_a_season(series: Series) -> Mask:
    """Whether a season is followed or taken out of each series by the methods above."""
    found: Mask = smoothing.follows(series, series.length) | is_seasonal(series)
    return found


# What each method adds to a forecast, as a buyer would say it.
SAID = {
    "velocity": "its long-run average",
    "moving mean": "its recent average",
    "level": "its recent level",
    "damped": "a fading trend",
    "theta": "a long-run trend",
    "last season": "last year's season",
    "seasonal times": "its season",
    "seasonal plus": "its season",
    "autoregression": "its latest changes",
    "sba": "the size and rhythm of its orders",
    "tsb": "the size and chance of its orders",
    "aggregated": "sums over longer periods",
    "own years": "the shape of its own years",
    "blend": "an even mix of trend, season and latest changes",
}
MOSTLY, SOME = 0.5, 0.15


@dataclass(frozen=True)
class Choice:
    """How the candidates were weighed for each series, why, and how each did.

    `names`: the candidate of the largest weight; `sure`: that weight, 0 to 1. `weights`: by name, n each. `why`: a
    key of WHY. `mase`, `bias`: by name, n each; only methods that were tried on a series have a figure other than 0
    there (`tried`: name -> which).
    """

    names: list[str]
    why: list[str]
    sure: Floats
    weights: dict[str, Floats]
    mase: dict[str, Floats]
    bias: dict[str, Floats]
    tried: dict[str, Mask]

    def sentence(self, row: int) -> str:
        """How one series was forecast, and why, as a buyer reads it."""
        name, why = self.names[row], self.why[row]
        if why != "test":
            words = WHY[why]
            text = words if why in ("borrowed", "never") else f"{SAID[name]}; {words}"
            return f"{text[0].upper()}{text[1:]}."
        shares: dict[str, float] = {}
        for candidate, weights in self.weights.items():
            shares[SAID[candidate]] = shares.get(SAID[candidate], 0.0) + float(weights[row])
        ranked = sorted(shares.items(), key=lambda pair: -pair[1])
        first, *rest = [said for said, share in ranked if share >= SOME] or [ranked[0][0]]
        text = f"{'mostly ' if ranked[0][1] >= MOSTLY else 'most of all '}{first}"
        if rest:
            text += f", some of {' and '.join(rest[:2])}"
        return f"{text[0].upper()}{text[1:]} (MASE {self.mase[name][row]:.2f} on its own history)."


WHY = {
    "test": "weighed by how each method did on its own history",
    "asked": "as asked",
    "short": "its history is too short to test a method on",
    "stopped": "nothing has been sold for longer than chance explains, so it fades",
    "borrowed": "its own level with the shape of its category, as its history is too short to have one",
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
    regular: Mask | None = None

    def quantiles(self, level: float) -> Floats:
        """Quantile of each period's demand, n × horizon. Raises BadInputError unless 0 < level < 1.

        Of regular demand the quantiles from HIGH on are never below the mean.
        """
        return self._not_below(self.spread.quantiles(self.mean, level), self.mean, level)

    def totals(self, level: float) -> Floats:
        """Quantile of the demand summed from now up to each period, n × horizon."""
        return self._not_below(self.spread.quantiles(self.mean, level, total=True), np.cumsum(self.mean, axis=1), level)

    def _not_below(self, found: Floats, mean: Floats, level: float) -> Floats:
        if level < HIGH or self.regular is None:
            return found
        return np.where(self.regular[:, None], np.maximum(found, mean), found)


def is_sparse(series: Series) -> Mask:
    """Whether demands are more than 1.32 periods apart (Syntetos and Boylan's cut-off), since the first seen period."""
    seen = series.weight.sum(axis=1)
    hits = ((series.values > 0) * series.weight).sum(axis=1)
    return hits < (1 - INTERMITTENT) * seen


def silence_of(series: Series) -> tuple[Ints, Floats, Mask]:
    """(periods, alive, sparse): periods seen since the last demand of each series, when that is longer than chance
    explains, else 0; how likely it is to be chance after all, an ending being expected once in ENDS periods; and
    whether demand was sparse before.

    It is longer than chance explains when (1 - p)^k < 0.15, p the share of periods with demand up to the last one, k
    the periods seen since. A silence that fell into the same time of the season before is no surprise and counts as
    none.
    """
    hits = (series.values > 0) & series.known
    places = np.arange(series.length)
    last = np.where(hits.any(axis=1), (hits * (places + 1)).max(axis=1, initial=0), 0)
    after = places >= last[:, None]
    since = (series.weight * after).sum(axis=1)
    before = (series.weight * ~after).sum(axis=1)
    share = np.clip(np.divide(hits.sum(axis=1), before, out=np.ones(series.count), where=before > 0), 0, 0.999)
    by_chance = (1 - share) ** since
    silent = (by_chance < STOPPED) & (since >= 1) & hits.any(axis=1) & ~_was_silent_before(series, after)
    alive = by_chance / (by_chance + since / ENDS + 1e-300)
    return np.where(silent, np.ceil(since), 0).astype(np.int64), np.where(silent, alive, 1.0), share < 1 - INTERMITTENT


def left_of(silence: Ints, alive: Floats) -> Floats:
    """What is left of what regular demand was expected to be, 0 to 1: all of it if the silence is chance, else half as
    much with each period; nothing after GONE."""
    share: Floats = np.clip(1 - silence / GONE, 0, 1) * (alive + (1 - alive) * 0.5**silence)
    return share


def _was_silent_before(series: Series, after: Mask) -> Mask:
    """Whether next to nothing was sold at the time of the silence one season before, and something around it."""
    m = series.season
    if m == 1 or series.length <= m:
        return np.zeros(series.count, dtype=np.bool_)
    then = np.zeros_like(after)
    then[:, : series.length - m] = after[:, m:]
    seen = (series.weight * then).sum(axis=1)
    sold = np.divide((series.values * series.weight * then).sum(axis=1), seen, out=np.full(series.count, np.inf), where=seen > 0)
    quiet: Mask = (sold <= QUIET * series.mean) & (seen >= 0.5 * after.sum(axis=1))
    return quiet


def forecast(given: Series, horizon: int, method: str = "auto") -> Forecast:
    """Forecast n series over `horizon` periods by one method, or by all candidates weighed.

    The weights come from a rolling-origin test on each series' own past: mean squared errors relative to the
    default's, held towards what the series of its kind show together, and towards the default where there is little
    of either. A single enormous value counts as little more than the second largest. Raises BadInputError for an
    unknown method or a horizon below 1.
    """
    if horizon < 1:
        raise BadInputError("A forecast reaches at least one period ahead.", field="horizon")
    if method != "auto" and method not in METHODS:
        raise BadInputError(f"There is no forecasting method {method!r}.", field="method")
    tamed = tame(given, np.where(is_sparse(given), MOST_SINGLE["sparse"], MOST_SINGLE["regular"]))
    found = _Chooser(tamed, horizon, method).run()
    return found if method != "auto" else _fade(tamed, horizon, found)


def _fade(series: Series, horizon: int, found: Forecast) -> Forecast:
    """Let what has gone silent fade from what was expected when it began: nothing is left after GONE periods.

    The longer the silence the less is expected, and the nearer its spread is to nothing, whatever the candidates make
    of the empty periods themselves. Sparse demand is expected at the lower of that and its mean of late, which the
    empty periods bring down.
    """
    silence, alive, sparse = silence_of(series)
    mean, single, total = found.mean.copy(), found.spread.single.copy(), found.spread.total.copy()
    quiet = np.nonzero((silence >= LEAST_PAST // 2) & sparse)[0]
    if len(quiet):
        late = np.minimum(forecast_by("moving mean", series.rows(quiet), horizon), mean[quiet])
        late = alive[quiet][:, None] * mean[quiet] + (1 - alive[quiet][:, None]) * late
        # The spread of a sum of chance orders goes with the root of their number.
        ratio = np.sqrt(np.divide(late, mean[quiet], out=np.zeros_like(late), where=mean[quiet] > 0))
        mean[quiet], single[quiet], total[quiet] = late, single[quiet] * ratio, total[quiet] * ratio
    for periods in np.unique(silence[(silence > 0) & ~sparse]):
        rows = np.nonzero((silence == periods) & ~sparse)[0]
        share = left_of(silence[rows], alive[rows])[:, None]
        before = _Chooser(series.rows(rows).until(max(1, series.length - int(periods))), horizon, "auto").run()
        mean[rows] = share * before.mean
        single[rows], total[rows] = share * before.spread.single, share * before.spread.total
    rows = np.union1d(quiet, np.nonzero((silence > 0) & ~sparse)[0])
    if not len(rows):
        return found
    names, why, sure = list(found.choice.names), list(found.choice.why), found.choice.sure.copy()
    weights = {name: table.copy() for name, table in found.choice.weights.items()}
    for row in rows:
        names[row], why[row], sure[row] = "moving mean", "stopped", 1.0
    for name, table in weights.items():
        table[rows] = float(name == "moving mean")
    spread = replace(found.spread, single=single, total=total)
    choice = replace(found.choice, names=names, why=why, sure=sure, weights=weights)
    return replace(found, mean=mean, spread=spread, choice=choice)


class _Chooser:
    """The steps of one forecast over a batch."""

    def __init__(self, given: Series, horizon: int, method: str) -> None:
        self.given, self.series, self.horizon, self.method = given, steady(given), horizon, method
        n = given.count
        self.why = ["short"] * n
        self.weights: dict[str, Floats] = {"velocity" if method == "auto" else method: np.ones(n)}
        self.origins = origins_for(given.length, horizon)
        shape = (n, self.origins, horizon)
        self.said, self.actual, self.weight = np.zeros(shape), np.zeros(shape), np.zeros(shape)
        self.scale = scale_of(self.series)
        # Periods between two origins of each series' test.
        self.step = np.full(n, horizon)
        self.ahead: dict[str, tuple[Floats, Mask]] = {}
        self.mase: dict[str, Floats] = {}
        self.bias: dict[str, Floats] = {}
        self.tried: dict[str, Mask] = {}

    def run(self) -> Forecast:
        """Test, weigh, forecast, and measure how far off it is."""
        n = self.given.count
        sparse = is_sparse(self.series)
        kinds = [(~sparse, REGULAR), (sparse, SPARSE)]
        if self.method != "auto":
            kinds = [(np.ones(n, dtype=np.bool_), (self.method,))]
        stretch, total_stretch = np.ones((2, n, len(LEVELS), self.horizon))
        parts = []
        for which, names in kinds:
            rows = np.nonzero(which)[0]
            if len(rows):
                self._test_and_weigh(rows, names)
                parts.append(rows)
        mean = self._means()
        spread = with_fallback(measure(self.said - self.actual, self.weight, self.scale), mean, self.given, self.weight)
        others = self._without_each()
        for rows in parts:
            stretch[rows], total_stretch[rows] = self._stretch(rows, others)
        full = Spread(spread.single, spread.total, LEVELS, stretch, total_stretch)
        return Forecast(mean, full, self._choice(), ~sparse)

    def _choice(self) -> Choice:
        names = list(self.weights)
        table = np.stack([self.weights[name] for name in names], axis=1) if self.given.count else np.zeros((0, len(names)))
        best = table.argmax(axis=1)
        sure = table[np.arange(len(best)), best]
        return Choice([names[k] for k in best], self.why, sure, self.weights, self.mase, self.bias, self.tried)

    def _groups(self, rows: Ints) -> list[tuple[int, Ints]]:
        """Rows with pasts of about the same length, with the shortest of them."""
        length = self.series.length
        past = length - self.series.start[rows]
        step = max(1, length // 8)
        # A past that is too short for a test is of a kind of its own, so that it takes nobody's test away.
        band = np.where(past < LEAST_TEST, -1, past // step)
        return [(int(past[band == k].min()), rows[band == k]) for k in np.unique(band)]

    def _test_and_weigh(self, rows: Ints, names: tuple[str, ...]) -> None:
        n = len(rows)
        place = {int(row): at for at, row in enumerate(rows)}
        squares = np.zeros((n, len(names), self.origins))
        seen = np.zeros((n, self.origins))
        a_season_in = np.zeros((n, self.origins), dtype=np.bool_)
        trials = []
        for past, group in self._groups(rows):
            trial = rolling_test(self.series.rows(group), self.horizon, names, past)
            at = np.array([place[int(row)] for row in group])
            origins = origins_of(self.series.length, past, self.horizon)
            self.step[group] = np.diff(origins)[0] if len(origins) > 1 else self.horizon
            squares[at] = np.stack([trial.squares(name) for name in names], axis=1)
            seen[at] = trial.weight.sum(axis=2)
            past_at = np.array(origins, dtype=np.int64)[None] - self.series.start[group][:, None]
            a_season_in[at, : len(origins)] = (past_at > self.series.season) & (self.series.season > 1)
            trials.append((group, at, trial))
            for name in names:
                self._note(name, group, trial.of_origins(a_season_in[at]) if name in A_SEASON_BACK else trial)
                self._keep_ahead(name, group, trial)
        tests = Tests(rows, names, squares, seen, a_season_in)
        weights = self._weights(tests, np.ones((n, self.origins), dtype=np.bool_))
        tested: Mask = np.asarray((seen > 0).any(axis=1))
        for name in names:
            self.weights.setdefault(name, np.zeros(self.given.count))
        for k, row in enumerate(rows):
            self._take(int(row), weights[k] if tested[k] else None, names)
        self._say(tests, trials)

    def _say(self, tests: Tests, trials: list[tuple[Ints, Ints, Trial]]) -> None:
        """What would have been said before each origin, by weights that come only from origins whose windows do not
        overlap its own: judged by the very errors they were weighed by, forecasts would seem better than they are."""
        steps = self.step[tests.rows]
        for origin in range(self.origins):
            apart = np.abs(np.arange(self.origins) - origin)[None] * steps[:, None] >= self.horizon
            weights = self._weights(tests, apart)
            for group, at, trial in trials:
                parts = (weights[at, k][:, None] * trial.paths[name][:, origin] for k, name in enumerate(tests.names))
                self.said[group, origin] = sum(parts, np.zeros((len(group), self.horizon)))
        for group, _, trial in trials:
            self.actual[group], self.weight[group] = trial.actual, trial.weight

    def _note(self, name: str, group: Ints, trial: Trial) -> None:
        n = self.given.count
        self.mase.setdefault(name, np.zeros(n))[group] = trial.mase(name)
        self.bias.setdefault(name, np.zeros(n))[group] = trial.bias(name)
        self.tried.setdefault(name, np.zeros(n, dtype=np.bool_))[group] = trial.weight.sum(axis=(1, 2)) > 0

    def _keep_ahead(self, name: str, group: Ints, trial: Trial) -> None:
        """Keep what the pass of the test says of the time to come, where working it out alone would say the same."""
        if name not in trial.ahead or name == "velocity":
            return
        same = ~has_a_season(self.series.rows(group)) if name in WITH_A_SEASON else np.ones(len(group), dtype=np.bool_)
        paths, ready = self.ahead.setdefault(
            name, (np.zeros((self.given.count, self.horizon)), np.zeros(self.given.count, dtype=np.bool_))
        )
        paths[group[same]], ready[group[same]] = trial.ahead[name][same], True

    def _weights(self, tests: Tests, used: Mask) -> Floats:
        """Weights of the candidates, n × names, from the errors at the origins in `used` (n × origins)."""
        if len(tests.names) == 1:
            return np.ones((len(tests.rows), 1))
        score = self._scores(tests, used)
        found: Floats = np.exp(-SHARPNESS[tests.kind] * (score - score.min(axis=1, keepdims=True)))
        found /= found.sum(axis=1, keepdims=True)
        found = np.where(found < LEAST_WEIGHT, 0.0, found)
        return found / found.sum(axis=1, keepdims=True)

    def _own_share(self, rows: Ints, told: Floats) -> Floats:
        """How far the own errors of regular series count: of weekly demand the further, the more windows were tested
        that do not overlap."""
        if self.series.season != WEEKLY:
            return np.full(len(rows), OWN_SHARE)
        windows = 1 + (told - 1) * np.minimum(1.0, self.step[rows] / self.horizon)
        share: Floats = OWN_SHARE + (OWN_SHARE_WEEKLY - OWN_SHARE) * np.clip((windows - 2) / 2, 0, 1)
        return share

    def _scores(self, tests: Tests, used: Mask) -> Floats:
        """Logarithms of each method's squared error relative to the default's, held back; less is better.

        The default is the first of the regular methods, and for sparse demand what the candidates do on average. What
        looks a season back is judged by the origins that have one before them, against the others there.
        """
        relative, told = tests.relative(used)
        late, told_late = tests.relative(used & tests.a_season_in)
        looks_back = np.array([name in A_SEASON_BACK for name in tests.names])
        relative, told = np.where(looks_back, late, relative), np.where(looks_back, told_late, told)
        n = (told > 0).sum(axis=0)
        shared = relative.sum(axis=0) / np.maximum(n, 1) * (n / (n + PRIOR_SERIES))
        all_told = told.max(axis=1)
        own = self._own_share(tests.rows, all_told) if tests.kind == "regular" else np.full(len(tests.rows), OWN_SHARE)
        score: Floats = shared + own[:, None] * told / self.origins * (relative - shared)
        if tests.kind == "regular":
            score[:, 0] -= DEFAULT_LEAD + LEAD_UNTOLD / np.maximum(all_told, 1.0)
        else:
            score[:, tests.names.index("velocity")] -= LONG_RUN_LEAD
        # Before a season has passed it says what the velocity says; where nobody's test could try it, nothing speaks for it.
        without = self.series.length - self.series.start[tests.rows] <= self.series.season
        score[looks_back[None] & (without[:, None] | (n == 0)[None])] = np.inf
        return score

    def _take(self, row: int, weights: Floats | None, names: tuple[str, ...]) -> None:
        if self.method != "auto":
            self.why[row] = "asked"
        elif weights is not None:
            self.weights["velocity"][row] = 0.0
            for name, weight in zip(names, weights, strict=True):
                self.weights[name][row] = weight
            self.why[row] = "test"
        elif not self.given.known[row].any():
            self.why[row] = "never"

    def _means(self) -> Floats:
        found = np.zeros((self.given.count, self.horizon))
        needed = {name: np.nonzero(weights > 0)[0] for name, weights in self.weights.items()}
        for name, rows in needed.items():
            paths, ready = self.ahead.get(name, (found, np.zeros(self.given.count, dtype=np.bool_)))
            known, rows = rows[ready[rows]], rows[~ready[rows]]
            found[known] += self.weights[name][known][:, None] * paths[known]
            if len(rows):
                # Velocity counts every hour in stock; the others leave out periods hardly seen.
                source = self.given if name == "velocity" else self.series
                found[rows] += self.weights[name][rows][:, None] * forecast_by(name, source.rows(rows), self.horizon)
        return found

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
