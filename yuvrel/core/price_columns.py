"""Prices of many items in many lists at once, in whole minor units; equal to `PriceBook.price` for every one.

Columns are 64-bit integers; where a product might not fit, that step is done in integers of any size.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from math import gcd

import numpy as np
import numpy.typing as npt

from .money import minor_unit
from .price_change import PriceRule
from .pricing import MOST_PRICE, ONE, Method, PriceList, Rounding, ending_step, in_order_of_parents, rate_of

Ints = npt.NDArray[np.int64]
NONE = -1
BELOW, ABOVE = -2, -3
NO_FLOOR = -(2**40)
FITS = 2**62
COST_UNITS = 10**6
RATE_UNITS = 10**6


@dataclass(frozen=True)
class ItemColumns:
    """n items: per cent of tax in hundredths, costs of one in millionths of the company's currency (0: not known)."""

    tax: Ints
    average: Ints
    last: Ints

    @property
    def count(self) -> int:
        """How many items."""
        return len(self.tax)


@dataclass(frozen=True)
class EntryColumns:
    """Typed prices as columns of equal length: the list's key, the item's number from 0, the price in minor units of
    the list, the quantity it begins at in thousandths, the day it starts (an ordinal; 0 where it is not dated), its own
    key, and the price to show before it (NONE: none). Only those in force on the day belong here."""

    list: Ints
    item: Ints
    price: Ints
    from_quantity: Ints
    starts: Ints
    key: Ints
    previous: Ints

    @classmethod
    def of(cls, rows: Sequence[tuple[int, int, int, int, int, int, int]]) -> EntryColumns:
        """From rows in that order."""
        return cls(*np.array(rows, np.int64).reshape(len(rows), 7).T)

    def only(self, chosen: npt.NDArray[np.bool_]) -> EntryColumns:
        """Those that are chosen."""
        return EntryColumns(*(column[chosen] for column in vars(self).values()))

    def and_also(self, more: EntryColumns) -> EntryColumns:
        """With others behind them."""
        return EntryColumns(*(np.concatenate(both) for both in zip(vars(self).values(), vars(more).values(), strict=True)))


@dataclass(frozen=True)
class TogetherColumns:
    """Bundles that cost what their parts do, a row for each part: the number of the bundle and of the part, how many in
    one in thousandths; by item, hundredths of a per cent taken off the sum. `steps`: rows by depth, parts that are such
    bundles themselves before what holds them."""

    bundle: Ints
    part: Ints
    each: Ints
    off: Ints
    steps: tuple[Ints, ...]

    @classmethod
    def of(cls, made: Mapping[int, tuple[Sequence[tuple[int, int]], int]], count: int) -> TogetherColumns:
        """From (part, how many in one) and what is taken off, by bundle, of `count` items."""
        depths: dict[int, int] = {}

        def depth(item: int) -> int:
            if item not in made:
                return 0
            if item not in depths:
                depths[item] = 1 + max((depth(part) for part, _ in made[item][0]), default=0)
            return depths[item]

        rows = [(bundle, part, each, depth(bundle)) for bundle, (parts, _) in made.items() for part, each in parts]
        bundle, part, each, level = np.array(rows, np.int64).reshape(len(rows), 4).T
        off = np.zeros(count, np.int64)
        for key, (_, taken) in made.items():
            off[key] = taken
        return cls(bundle, part, each, off, tuple(np.nonzero(level == n)[0] for n in np.unique(level)))

    def prices(self, own: Ints, most: int) -> Ints:
        """The prices of all items, with what the parts come to where a bundle has none of its own."""
        found = own.copy()
        for rows in self.steps:
            bundles = np.unique(self.bundle[rows])
            bundles = bundles[own[bundles] == NONE]
            if not len(bundles):
                continue
            price = found[self.part[rows]]
            most_each = int(price.max()) * int(self.each[rows].max()) * len(rows)
            number = object if most_each >= FITS else np.int64
            total, silent = np.zeros(len(own), number), np.zeros(len(own), np.bool_)
            np.add.at(total, self.bundle[rows], np.maximum(price, 0).astype(number) * self.each[rows])
            np.logical_or.at(silent, self.bundle[rows], price == NONE)
            came = scaled(total[bundles], 10_000 - self.off[bundles], 10_000 * 1000)
            found[bundles] = np.where(silent[bundles] | (came <= 0) | (came >= most), NONE, came)
        return found


def exponent_of(currency: str) -> int:
    """Decimals of a currency."""
    return -int(minor_unit(currency).as_tuple().exponent)


def scaled(values: Ints, numerator: int | Ints, denominator: int | Ints) -> Ints:
    """values × numerator ÷ denominator, rounded half up; values and factors are not below zero."""
    if isinstance(numerator, int) and isinstance(denominator, int):
        common = gcd(numerator, denominator)
        numerator, denominator = numerator // common, denominator // common
    most = max(1, int(values.max(initial=0))) * int(np.max(numerator)) * 2 + int(np.max(denominator))
    if most >= FITS:
        exact = (values.astype(object) * numerator * 2 + denominator) // (denominator * 2)
        return np.asarray(np.minimum(exact, FITS), np.int64)
    return np.asarray((values * numerator * 2 + denominator) // (denominator * 2), np.int64)


def ended(values: Ints, ending: Decimal, rounding: Rounding, currency: str) -> Ints:
    """`with_ending` for many amounts in minor units."""
    units = 10 ** exponent_of(currency)
    step = int(ending_step(ending, currency)) * units
    over = (values - int(ending * units)) % step
    below, above = values - over, values - over + step
    down = np.full(values.shape, rounding == Rounding.DOWN)
    if rounding == Rounding.NEAREST:
        down = over * 2 < step
    return np.where(over == 0, values, np.where(down & (below > 0), below, above))


def price_columns(
    lists: Sequence[PriceList],
    items: ItemColumns,
    entries: EntryColumns,
    day: date,
    *,
    quantity: int = 1000,
    base: int = 0,
    together: TogetherColumns | None = None,
) -> dict[int, Ints]:
    """By list: the price of each item in minor units of the list's currency, NONE where it is silent.

    `quantity` in thousandths; in the list `base`, bundles of `together` cost what one of each part does. Raises
    BadInputError for lists in a circle.
    """
    typed = _typed(entries, items.count, quantity, entries.price)
    found: dict[int, Ints] = {}
    by_key = {one.key: one for one in lists}
    silent = np.full(items.count, NONE, np.int64)
    for one in in_order_of_parents(lists):
        if not one.speaks(day):
            found[one.key] = silent
            continue
        worked = silent
        if one.method == Method.DERIVED:
            worked = _derived(one, by_key[one.parent], found[one.parent], items)
        elif one.method != Method.TYPED:
            worked = _from_cost(one, items)
        own = typed.get(one.key)
        found[one.key] = worked if own is None else np.where(own != NONE, own, worked)
        if one.key == base and together is not None:
            singly = found[base] if quantity == 1000 else _typed(entries, items.count, 1000, entries.price).get(base, silent)
            most = int(MOST_PRICE) * 10 ** exponent_of(one.currency)
            of_parts = together.prices(singly, most)
            found[base] = np.where(found[base] == NONE, of_parts, found[base])
    return found


def previous_columns(
    prices: Mapping[int, Ints], undated: Mapping[int, Ints], entries: EntryColumns, count: int, quantity: int = 1000
) -> dict[int, Ints]:
    """By list, the higher price that stood before each price, NONE where there is none; `undated`: what the lists say
    without dated entries."""
    typed = _typed(entries, count, quantity, entries.previous)
    found = {}
    for key, now in prices.items():
        own = typed.get(key)
        before = undated[key] if own is None else np.where(own != NONE, own, undated[key])
        found[key] = np.where((now != NONE) & (before > now), before, NONE)
    return found


def _typed(entries: EntryColumns, count: int, quantity: int, worth: Ints) -> dict[int, Ints]:
    """By list, what the entry of each item is worth: of several the one that begins at the highest quantity, then the
    newest."""
    fits = entries.from_quantity <= quantity
    order = np.lexsort((entries.key, entries.starts, entries.from_quantity, entries.list))
    order = order[fits[order]]
    keys, first = np.unique(entries.list[order], return_index=True)
    edges = [*first.tolist(), len(order)]
    found = {}
    for n, key in enumerate(keys.tolist()):
        rows = order[edges[n] : edges[n + 1]]
        column = np.full(count, NONE, np.int64)
        # The last of several to one place stays.
        column[entries.item[rows]] = worth[rows]
        found[key] = column
    return found


def _derived(one: PriceList, parent: PriceList, above: Ints, items: ItemColumns) -> Ints:
    there = above != NONE
    amount = np.where(there, above, 0)
    if parent.taxed and not one.taxed:
        amount = scaled(amount, 10_000, 10_000 + items.tax)
    if not parent.taxed and one.taxed:
        amount = scaled(amount, 10_000 + items.tax, 10_000)
    if one.currency != parent.currency or one.rate != 1:
        shift = exponent_of(one.currency) - exponent_of(parent.currency)
        amount = scaled(amount, int(one.rate * RATE_UNITS) * 10 ** max(0, shift), RATE_UNITS * 10 ** max(0, -shift))
    if one.percent:
        amount = scaled(amount, 10_000 + int(one.percent * 100), 10_000)
    amount = amount + int(one.amount * 10 ** exponent_of(one.currency))
    return _bounded(one, amount, there)


def _from_cost(one: PriceList, items: ItemColumns) -> Ints:
    cost = items.average if one.basis == "average" else items.last
    return _bounded(one, _cost_price(one, one.method, one.percent, items, one.rate), cost > 0)


def _cost_price(one: PriceList, method: Method, value: Decimal, items: ItemColumns, rate: Decimal) -> Ints:
    """The price at which `value` is the margin or the markup, with the tax if the list holds it; no ending yet."""
    cost = items.average if one.basis == "average" else items.last
    percent = int(value * 100)
    above, below = (10_000, 10_000 - percent) if method == Method.MARGIN else (10_000 + percent, 10_000)
    shift = exponent_of(one.currency)
    amount = scaled(cost, above * int(rate * RATE_UNITS) * 10**shift, below * RATE_UNITS * COST_UNITS)
    return scaled(amount, 10_000 + items.tax, 10_000) if one.taxed else amount


def _bounded(one: PriceList, amount: Ints, there: npt.NDArray[np.bool_]) -> Ints:
    if one.ending is not None:
        amount = np.where(amount > 0, ended(np.maximum(amount, 0), one.ending, one.rounding, one.currency), amount)
    most = int(MOST_PRICE) * 10 ** exponent_of(one.currency)
    return np.where(there & (amount >= 0) & (amount < most), amount, NONE)


def in_terms(prices: Ints, taxed: bool, wanted: bool, tax: Ints) -> Ints:
    """Prices that hold the tax or not, as they are wanted; NONE stays."""
    if taxed == wanted:
        return prices
    there = np.maximum(prices, 0)
    other = scaled(there, 10_000 + tax, 10_000) if wanted else scaled(there, 10_000, 10_000 + tax)
    return np.where(prices == NONE, NONE, other)


def under_floor(net: Ints, cost: Ints, floors: Ints, currency: str = "EUR") -> npt.NDArray[np.bool_]:
    """Whether the margin of each net price (in minor units, NONE: none) over its cost (in millionths of the same
    currency, 0: not known) is below its floor, in hundredths of a per cent (NO_FLOOR: none); exact."""
    worth = np.maximum(net, 0) * (COST_UNITS // 10 ** exponent_of(currency))
    judged = (net > 0) & (cost > 0) & (floors != NO_FLOOR)
    return np.asarray(judged & ((worth - cost) * 10_000 < floors * worth), np.bool_)


def costs_by_list(
    lists: Mapping[int, PriceList], order: Sequence[int], whose: Ints, cost: Ints, currency: str, base: str
) -> Ints:
    """What one of each item costs in `currency`, in its millionths, by the rate of the list that speaks for it; 0 (not
    known) where that list has no rate.

    `order`: lists in `currency`; `whose`: the list that speaks for each item, 0 for none; `cost`: of one, in millionths
    of the company's currency.
    """
    found = cost if currency == base else np.zeros_like(cost)
    for key in order:
        rate = rate_of(lists, key, base)
        if rate is None:
            found = np.where(whose == key, 0, found)
        elif rate != 1:
            found = np.where(whose == key, scaled(cost, int(rate * RATE_UNITS), RATE_UNITS), found)
        else:
            found = np.where(whose == key, cost, found)
    return found


def floor_units(floors: Sequence[Decimal | None]) -> Ints:
    """Floors as `under_floor` takes them."""
    return np.array([NO_FLOOR if value is None else int(value * 100) for value in floors], np.int64)


def first_that_speaks(columns: Mapping[int, Ints], order: Sequence[int], count: int) -> tuple[Ints, Ints]:
    """(price, list that gave it) for each item, the first of `order` that is not silent; NONE and 0 where all are."""
    price = np.full(count, NONE, np.int64)
    whose = np.zeros(count, np.int64)
    for key in reversed(order):
        speaks = columns[key] != NONE
        price = np.where(speaks, columns[key], price)
        whose = np.where(speaks, key, whose)
    return price, whose


def changed_columns(now: Ints, rule: PriceRule, one: PriceList, items: ItemColumns, rate: Decimal | None = ONE) -> Ints:
    """`changed_price` for many items of a list: NONE where there is nothing to go by, BELOW where it would fall below
    zero, ABOVE where it would be larger than can be kept."""
    if rule.by in ("margin", "markup"):
        if rate is None:
            return np.full(items.count, NONE, np.int64)
        there = (items.average if one.basis == "average" else items.last) > 0
        amount = _cost_price(one, Method(rule.by), rule.value, items, rate)
    else:
        there = now != NONE
        amount = np.maximum(now, 0)
        if rule.by == "percent":
            amount = scaled(amount, 10_000 + int(rule.value * 100), 10_000)
        elif rule.by == "amount":
            amount = amount + int(rule.value * 10 ** exponent_of(one.currency))
    if rule.ending is not None:
        amount = np.where(amount > 0, ended(np.maximum(amount, 0), rule.ending, rule.rounding, one.currency), amount)
    most = int(MOST_PRICE) * 10 ** exponent_of(one.currency)
    judged = np.where(amount < 0, BELOW, np.where(amount >= most, ABOVE, amount))
    return np.where(there, judged, NONE)
