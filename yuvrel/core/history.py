"""Demand history: from dated order lines and stock levels to series by day, week or month."""

from __future__ import annotations

import calendar
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Literal

import numpy as np

from .errors import BadInputError
from .forecast.series import Floats, Ints, Series, make_series

Key = tuple[int, int]
Period = Literal["day", "week", "month"]
SEASONS: dict[Period, int] = {"day": 7, "week": 52, "month": 12}
DAYS: dict[Period, float] = {"day": 1.0, "week": 7.0, "month": 365.25 / 12}

# An order line is taken for a one-off when it stands this many robust deviations above the usual, in logarithms.
BULK_DEVIATIONS = 4.0
LEAST_DEVIATION = 0.4
LEAST_LINES = 10
ROBUST = 1.4826


@dataclass(frozen=True)
class SoldLine:
    """One line of an order: what was asked for, on the day it was asked for. `ref` names it to the caller; `whole_day`:
    not one order but all of a day together, of which none can be told to be a one-off."""

    item: int
    location: int
    day: date
    quantity: float
    order: str = ""
    returned: bool = False
    ref: int = 0
    whole_day: bool = False


@dataclass(frozen=True)
class Bulk:
    """An order line far above what is usual for its item and location, or one that somebody decided about.

    `aside`: whether it is left out of the demand. `by_hand`: whether a person said so.
    """

    line: SoldLine
    usual: float
    limit: float
    aside: bool = False
    by_hand: bool = False

    @property
    def sentence(self) -> str:
        """In words."""
        above = f"anything above {self.limit:.0f} counts as a one-off" if np.isfinite(self.limit) else "too few to tell one-offs"
        return (
            f"{self.line.quantity:g} on {self.line.day.isoformat()}{f' ({self.line.order})' if self.line.order else ''}: "
            f"an order is usually {self.usual:g}, and {above}."
        )


Parts = Mapping[int, Sequence[tuple[int, float]]]


def parts_of(bundle: int, parts: Parts) -> dict[int, float]:
    """Units of each stocked item in one bundle, through bundles of bundles.

    Raises BadInputError for a bundle that contains itself.
    """
    found: dict[int, float] = {}

    def add(item: int, quantity: float, path: tuple[int, ...]) -> None:
        if item in path:
            raise BadInputError(f"Bundle {item} contains itself: {' > '.join(map(str, [*path, item]))}.", field="parts")
        if item not in parts:
            found[item] = found.get(item, 0.0) + quantity
            return
        for part, each in parts[item]:
            add(part, quantity * each, (*path, item))

    add(bundle, 1.0, ())
    return found


def in_parts(units: Mapping[int, Decimal], parts: Parts) -> dict[int, Decimal]:
    """Promised units by item with those of bundles as units of their components: backorders, pre-orders.

    Raises BadInputError for a bundle that contains itself.
    """
    found: dict[int, Decimal] = {}
    for item, quantity in units.items():
        for part, each in (parts_of(item, parts) if item in parts else {item: 1.0}).items():
            found[part] = found.get(part, Decimal(0)) + quantity * Decimal(str(each))
    return found


def exploded(lines: Iterable[SoldLine], parts: Parts) -> list[SoldLine]:
    """The lines with bundles replaced by their components, and returns left out.

    A return is not negative demand: the customer did want it. Raises BadInputError for a quantity
    that is not a finite number above zero, and for a bundle that contains itself.
    """
    known = {bundle: parts_of(bundle, parts) for bundle in parts}
    found = []
    for line in lines:
        if line.returned:
            continue
        if not np.isfinite(line.quantity) or line.quantity <= 0:
            raise BadInputError(f"A sold quantity of {line.quantity:g} cannot be.", field="quantity")
        if line.item not in known:
            found.append(line)
            continue
        for part, each in known[line.item].items():
            found.append(replace(line, item=part, quantity=line.quantity * each))
    return found


def bulk_lines(lines: Iterable[SoldLine], *, set_aside: bool = False, decided: Mapping[int, bool] | None = None) -> list[Bulk]:
    """One-off bulk orders: lines whose quantity is far above the median of their item and location.

    log q > log median + 4 × max(1.4826 × median absolute deviation of log q, 0.4): at least about
    five times the usual. Only where ten lines or more say what is usual. `set_aside`: whether those
    are left out of the demand; `decided`: by `ref`, what somebody said instead, also of other lines.
    Source of the robust deviation: Iglewicz and Hoaglin, How to detect and handle outliers (ASQC 1993).
    """
    said = decided or {}
    by_key: dict[Key, list[SoldLine]] = {}
    for line in lines:
        if not line.whole_day:
            by_key.setdefault((line.item, line.location), []).append(line)
    found = []
    for group in by_key.values():
        logs = np.log([line.quantity for line in group])
        middle = float(np.median(logs))
        deviation = max(ROBUST * float(np.median(np.abs(logs - middle))), LEAST_DEVIATION)
        limit = float(np.exp(middle + BULK_DEVIATIONS * deviation)) if len(group) >= LEAST_LINES else float("inf")
        found += [
            Bulk(line, float(np.exp(middle)), limit, said.get(line.ref, set_aside), line.ref in said)
            for line in group
            if line.quantity > limit or line.ref in said
        ]
    return found


def daily_units(lines: Iterable[SoldLine], keys: Sequence[Key], start: date, days: int) -> Floats:
    """Units by key and day, n × days from `start`; lines outside are left out."""
    row = {key: at for at, key in enumerate(keys)}
    units = np.zeros((len(keys), days))
    for line in lines:
        at, day = row.get((line.item, line.location)), (line.day - start).days
        if at is not None and 0 <= day < days:
            units[at, day] += line.quantity
    return units


def share_in_stock(opening: float, times: Sequence[float], changes: Sequence[float], days: int) -> Floats:
    """Share of each day on which there was something to sell, from the level before and its changes.

    `times`: days since the start as fractions (1.5 = noon of the second day), in any order; changes at
    one moment count together. A day on which the last unit went at noon was seen by half.
    Raises BadInputError when times and changes differ in number or are not finite.
    """
    if len(times) != len(changes) or not (np.isfinite(times).all() and np.isfinite(changes).all()):
        raise BadInputError("Each change of stock has one time.", field="times")
    at = np.clip(np.asarray(times, dtype=np.float64), 0, days)
    order = np.argsort(at, kind="stable")
    at = np.concatenate(([0.0], at[order], [float(days)]))
    level = opening + np.concatenate(([0.0], np.cumsum(np.asarray(changes, dtype=np.float64)[order])))
    # Time in stock up to each change; in between it grows evenly or not at all.
    stocked = np.concatenate(([0.0], np.cumsum(np.diff(at) * (level > 0))))
    edges = np.arange(days + 1)
    share = np.diff(np.interp(edges, at, stocked))
    return np.clip(share, 0.0, 1.0)


def seen_before_the_books(seen: Floats, past_sale: Sequence[int], first_move: Sequence[int]) -> Floats:
    """The share of each day in stock, where a part of the time lies before stock was kept here.

    `seen`: n × days. By row, `past_sale`: the day of the first sale that was taken in as history, `first_move`: the day
    of the first stock move, or 0 where stock was there before; the number of days for none. Between the two nothing is
    known of the stock but that it sold, so those days count as in stock: an item just taken over is not one that was
    sold out until now.
    """
    day = np.arange(seen.shape[1])
    begins, ends = np.asarray(past_sale, np.int64)[:, None], np.asarray(first_move, np.int64)[:, None]
    return np.where((day >= begins) & (day < ends), 1.0, seen)


def in_periods(units: Floats, seen: Floats, end: date, period: Period) -> tuple[Floats, Floats]:
    """Daily units and shares as those of whole periods, the newest last; `end` is the day after the last column.

    Weeks are runs of seven days that end at `end`, months those of the calendar; an unfinished
    newest month and unfinished oldest periods are left out.
    """
    days = units.shape[1]
    if period == "day":
        return units, seen
    edges = _week_edges(days) if period == "week" else _month_edges(days, end)
    if len(edges) < 2:
        return units[:, :0], seen[:, :0]
    sums = np.add.reduceat(np.pad(units, ((0, 0), (0, 1))), edges, axis=1)[:, :-1]
    share = np.add.reduceat(np.pad(seen, ((0, 0), (0, 1))), edges, axis=1)[:, :-1] / np.diff(edges)
    return sums, np.clip(share, 0.0, 1.0)


def _week_edges(days: int) -> Ints:
    return np.arange(days % 7, days + 1, 7)


def _month_edges(days: int, end: date) -> Ints:
    start = end - timedelta(days=days)
    edges = [(start.replace(day=1) - start).days if start.day == 1 else _next_month(start, start)]
    while edges[-1] <= days:
        edges.append(_next_month(start + timedelta(days=edges[-1]), start))
    return np.array(edges[:-1], dtype=np.int64)


def _next_month(day: date, start: date) -> int:
    """Days from `start` to the first of the month after `day`."""
    last = day.replace(day=calendar.monthrange(day.year, day.month)[1])
    return (last - start).days + 1


def take_over(units: Floats, seen: Floats, successors: Mapping[int, int]) -> tuple[Floats, Floats]:
    """Let successors (row -> row of the predecessor) take over their predecessors' history.

    Units of both add up: who asked for the old one would have asked for the new; a day counts as
    seen when either was in stock. Chains are followed to their first item. Raises BadInputError
    for an item that succeeds itself.
    """
    new_units, new_seen = units.copy(), seen.copy()
    for row in successors:
        chain = [row]
        while chain[-1] in successors:
            before = successors[chain[-1]]
            if before in chain:
                raise BadInputError("An item cannot succeed itself.", field="successors")
            chain.append(before)
        new_units[row] = units[chain].sum(axis=0)
        new_seen[row] = seen[chain].max(axis=0)
    return new_units, new_seen


@dataclass(frozen=True)
class History:
    """Series by key, with the one-offs that were found and whether they were set aside."""

    keys: tuple[Key, ...]
    series: Series
    period: Period
    bulk: tuple[Bulk, ...]
    set_aside: bool


def history(
    lines: Iterable[SoldLine],
    keys: Sequence[Key],
    end: date,
    days: int,
    *,
    period: Period = "week",
    parts: Parts | None = None,
    seen: Floats | None = None,
    successors: Mapping[Key, Key] | None = None,
    set_bulk_aside: bool = False,
    decided: Mapping[int, bool] | None = None,
) -> History:
    """Demand series of `keys` over the `days` before `end`.

    `seen`: n × days, share of each day in stock (`share_in_stock`); all of it when left out.
    `successors`: key -> key it takes over from. One-offs are reported either way, and left out of
    the series with `set_bulk_aside` or as `decided` says (`bulk_lines`). Raises BadInputError as the steps do.
    """
    start = end - timedelta(days=days)
    single = exploded(lines, parts or {})
    bulk = bulk_lines(single, set_aside=set_bulk_aside, decided=decided)
    left_out = {id(found.line) for found in bulk if found.aside}
    single = [line for line in single if id(line) not in left_out]
    units = daily_units(single, keys, start, days)
    share = np.ones_like(units) if seen is None else np.asarray(seen, dtype=np.float64)
    if share.shape != units.shape:
        raise BadInputError("Demand and its mask must be tables of one shape.", field="seen")
    # A sale below zero says there was demand to see.
    share = np.where((units > 0) & (share == 0), 1.0, share)
    row = {key: at for at, key in enumerate(keys)}
    units, share = take_over(units, share, {row[new]: row[old] for new, old in (successors or {}).items()})
    sums, shares = in_periods(units, share, end, period)
    return History(tuple(keys), make_series(sums, shares, SEASONS[period]), period, tuple(bulk), set_bulk_aside)
