"""Lists, entries and items as the core takes them: as a book for a few items, as columns for many."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

import numpy as np
from django.db.models import Q

from yuvrel.catalogue.kits import kits, parts_of
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.retail import made_of_priced, priced
from yuvrel.core import pricing as core
from yuvrel.core.money import ZERO, round_unit_cost
from yuvrel.core.price_columns import (
    COST_UNITS,
    NONE,
    EntryColumns,
    Ints,
    ItemColumns,
    TogetherColumns,
    exponent_of,
    previous_columns,
    price_columns,
)
from yuvrel.people.queries import company
from yuvrel.stock.models import ItemCost

from .models import PriceEntry, PriceList

Lists = Mapping[int, core.PriceList]


def base_list() -> PriceList:
    """The list of the company's own prices; made when it is first asked for."""
    found = PriceList.objects.filter(base=True).first()
    if found is None:
        facts = {"name": "Base prices", "currency": company().base_currency}
        found, _ = PriceList.objects.get_or_create(base=True, defaults=facts)
    return found


def as_core(row: PriceList) -> core.PriceList:
    """A list as the core takes it. Raises BadInputError naming what cannot be."""
    return core.PriceList(
        row.pk or 0,
        row.name,
        row.currency,
        row.taxed,
        core.Method(row.method),
        row.parent_id or 0,
        row.percent,
        row.amount,
        row.rate,
        row.ending,
        core.Rounding(row.rounding),
        "average" if row.basis == "average" else "last",
        row.starts_on,
        row.ends_on,
    )


def all_lists() -> dict[int, core.PriceList]:
    """Every list by its id, the base list among them."""
    base_list()
    return {row.pk: as_core(row) for row in PriceList.objects.order_by("pk")}


def costs_of(item_ids: Iterable[int]) -> dict[int, tuple[Decimal, Decimal]]:
    """(moving average, last cost) of one of each item, to six decimals; a kit costs what its parts do, and nothing is
    known (0) where one of them has no cost."""
    wanted = set(item_ids)
    made = kits(wanted)
    everything = {*wanted, *(part for of in made.values() for part, _ in of)}
    rows = ItemCost.objects.filter(item_id__any_of=everything).values_list("item_id", "last_average", "last_cost")
    own = {item: (average, last) for item, average, last in rows}
    found = {}
    for item in wanted:
        parts = [(own.get(part, (ZERO, ZERO)), each) for part, each in parts_of(made, item)]
        average, last = (
            ZERO if any(not of[n] for of, _ in parts) else round_unit_cost(sum((of[n] * each for of, each in parts), ZERO))
            for n in (0, 1)
        )
        found[item] = (average, last)
    return found


def load_book(item_ids: Iterable[int], lists: Lists | None = None, base: int | None = None) -> core.PriceBook:
    """Lists with what they say of some items, in a fixed number of queries."""
    wanted = set(item_ids)
    lists = all_lists() if lists is None else lists
    base = base_list().pk if base is None else base
    together = made_of_priced(wanted)
    wanted |= {part for of in together.values() for part, _, _ in of.parts}
    entries: dict[tuple[int, int], list[core.Entry]] = defaultdict(list)
    items: dict[int, core.ItemFacts] = {}
    costs = costs_of(wanted)
    rows = priced(Item.objects.filter(pk__any_of=wanted)).values_list("pk", "price", "product__tax_class__percent")
    for pk, price, tax in rows:
        average, last = costs[pk]
        items[pk] = core.ItemFacts(tax or ZERO, average or None, last or None)
        if price and pk not in together:
            entries[base, pk].append(core.Entry(base, pk, price))
    names = ("list_id", "item_id", "price", "from_quantity", "previous", "starts_on", "ends_on", "pk")
    for typed in PriceEntry.objects.filter(item_id__any_of=wanted).order_by("pk").values_list(*names):
        entries[typed[0], typed[1]].append(core.Entry(*typed))
    return core.PriceBook(lists, entries, items, company().base_currency, base, together)


@dataclass(frozen=True)
class Columns:
    """Many items: their ids in order, what they bring to prices, the entries in force on the day, and bundles (`of_parts`,
    by id) that cost what their parts do."""

    ids: list[int]
    items: ItemColumns
    entries: EntryColumns
    day: date
    base_currency: str
    base: int = 0
    together: TogetherColumns | None = None
    of_parts: frozenset[int] = frozenset()

    def prices(self, lists: Iterable[core.PriceList], quantity: int = 1000) -> dict[int, Ints]:
        """By list, the price of each item in minor units."""
        chosen = list(lists)
        return price_columns(
            chosen, self.items, self.entries, self.day, quantity=quantity, base=self.base, together=self.together
        )

    def undated(self) -> Columns:
        """The same without dated prices."""
        return replace(self, entries=self.entries.only(self.entries.starts == 0))

    def previous(self, lists: Iterable[core.PriceList], prices: Mapping[int, Ints]) -> dict[int, Ints]:
        """By list, the higher price that stood before each of `prices`."""
        return previous_columns(prices, self.undated().prices(lists), self.entries, self.items.count)


def load_columns(item_ids: Sequence[int] | None, lists: Lists, day: date) -> Columns:
    """What prices of these items, or of all in use, in these lists are worked out from; a fixed number of queries. Parts
    of bundles that cost what their parts do come along."""
    made = made_of_priced(item_ids)
    parts = {part for of in made.values() for part, _, _ in of.parts}
    if item_ids is not None:
        item_ids = sorted(parts.union(item_ids))
    wanted = Q(active=True) | Q(pk__in=parts) if item_ids is None else Q(pk__any_of=item_ids)
    rows = Item.objects.filter(wanted)
    facts = list(priced(rows).order_by("pk").values_list("pk", "price", "product__tax_class__percent", "kind"))
    ids = [row[0] for row in facts]
    number = {pk: n for n, pk in enumerate(ids)}
    costs = costs_of(ids)
    items = ItemColumns(
        np.array([int((tax or ZERO) * 100) for _, _, tax, _ in facts], np.int64),
        np.array([int(costs[pk][0] * COST_UNITS) for pk in ids], np.int64),
        np.array([int(costs[pk][1] * COST_UNITS) for pk in ids], np.int64),
    )
    units = {key: 10 ** exponent_of(one.currency) for key, one in lists.items()}
    base = base_list().pk
    own = facts if base in lists else []
    table = [(base, number[pk], int(price * units[base]), 0, 0, 0, NONE) for pk, price, _, _ in own if price and pk not in made]
    table += _entries(item_ids, lists, day, number, units)
    together = {
        number[key]: ([(number[part], int(each * 1000)) for part, each, _ in of.parts], int(of.percent_off * 100))
        for key, of in made.items()
        if key in number
    }
    rows_of = TogetherColumns.of(together, len(ids)) if together else None
    return Columns(ids, items, EntryColumns.of(table), day, company().base_currency, base, rows_of, frozenset(made))


def began(starts: date | None, ends: date | None) -> int:
    """The first day of an entry as a number, 0 without dates; one that only ends began before all others."""
    return starts.toordinal() if starts else int(ends is not None)


def _entries(
    item_ids: Sequence[int] | None, lists: Lists, day: date, number: Mapping[int, int], units: Mapping[int, int]
) -> list[tuple[int, int, int, int, int, int, int]]:
    in_force = (Q(starts_on=None) | Q(starts_on__lte=day)) & (Q(ends_on=None) | Q(ends_on__gte=day))
    rows = PriceEntry.objects.filter(in_force, list__in=list(lists))
    if item_ids is not None:
        rows = rows.filter(item_id__any_of=item_ids)
    names = ("list_id", "item_id", "price", "from_quantity", "starts_on", "ends_on", "pk", "previous")
    found = []
    for key, item, price, least, starts, ends, pk, before in rows.values_list(*names).iterator(20_000):
        if item in number:
            unit = units[key]
            previous = NONE if before is None else int(before * unit)
            found.append((key, number[item], int(price * unit), int(least * 1000), began(starts, ends), pk, previous))
    return found
