"""Prices typed, changed by a rule with rehearsal, and taken back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import Sum
from django.db.models.functions import Abs

from yuvrel.catalogue.kits import holders_of
from yuvrel.catalogue.models import Item, ItemPrice
from yuvrel.catalogue.products import set_prices
from yuvrel.catalogue.retail import of_parts
from yuvrel.catalogue.rungs import below_named
from yuvrel.core import pricing as core
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.money import ZERO, round_money, spoken
from yuvrel.core.price_change import PriceRule, PriceShift, Rehearsal, changed_price, rehearse_prices
from yuvrel.core.price_columns import ABOVE, BELOW, COST_UNITS, NONE, EntryColumns, Ints, changed_columns, exponent_of
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.queries import company_day, end_of_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import insert_many
from yuvrel.stock.models import StockMove
from yuvrel.stock.queries import find_items

from .actions import get_list, locked_list, with_facts
from .floor import floors_of
from .loading import Columns, all_lists, as_core, began, load_book, load_columns
from .models import PriceChange, PriceChangeLine, PriceEntry, PriceList

FEW = 200
PACE_DAYS = 90
MOST_ROWS = 50


@dataclass(frozen=True)
class Typed:
    """A price to be typed in; None takes away what is there."""

    item_id: int
    price: Decimal | None
    from_quantity: Decimal = ZERO
    previous: Decimal | None = None
    starts_on: date | None = None
    ends_on: date | None = None

    @property
    def place(self) -> tuple[int, Decimal, date | None, date | None]:
        """Where in a list it stands."""
        return self.item_id, self.from_quantity, self.starts_on, self.ends_on

    @property
    def is_own(self) -> bool:
        """In the base list such a price is the item's own."""
        return not self.from_quantity and self.starts_on is None and self.ends_on is None


@transaction.atomic
def type_prices(actor: Actor, list_id: int, typed: Sequence[Typed], at: datetime, what: str = "") -> PriceChange | None:
    """Type prices into a list, all or none; what stays the same is no change, and None is returned when nothing differs.

    Raises BadInputError whose field is `prices.<n>`, NotFoundError.
    """
    actor.need(Ability.PRICE)
    row = locked_list(list_id)
    typed = [replace(one, from_quantity=core.from_quantity(one.from_quantity)) for one in typed]
    _check(row, typed)
    return _put(actor, row, {one.place: one for one in typed}, at, what)


def _check(row: PriceList, typed: Sequence[Typed]) -> None:
    known = set(Item.objects.filter(pk__in={one.item_id for one in typed}).values_list("pk", flat=True))
    own = {one.item_id for one in typed if row.base and one.is_own}
    follow = dict(of_parts().filter(pk__in=own).values_list("pk", "sku")) if own else {}
    for n, one in enumerate(typed):
        field = f"prices.{n}"
        if one.item_id not in known:
            raise BadInputError("There is no such item.", field=field)
        if one.price is not None and round_money(one.price, row.currency) != one.price:
            raise BadInputError(f"{spoken(one.price)} is finer than {row.currency} has coins.", field=field)
        if one.starts_on and one.ends_on and one.ends_on < one.starts_on:
            raise BadInputError("It ends before it starts.", field=field)
        if row.base and one.is_own and one.item_id in follow:
            raise BadInputError(f"{follow[one.item_id]} costs what its parts do; say so there first.", field=field)
        if row.base and one.is_own and one.previous is not None:
            raise BadInputError("Give the price a first day to show another one before it.", field=field)


def _put(actor: Actor, row: PriceList, wanted: Mapping[tuple[Any, ...], Typed], at: datetime, what: str) -> PriceChange | None:
    """Write prices and what they were; `row` is locked."""
    standing = _standing(row, {one.item_id for one in wanted.values()})
    moved = [
        (one, standing.get(place, (None, None)))
        for place, one in wanted.items()
        if standing.get(place, (None, None)) != (one.price, one.previous if one.price is not None else None)
    ]
    if not moved:
        return None
    own = {one.item_id: one.price or ZERO for one, _ in moved if row.base and one.is_own}
    if own:
        set_prices(actor, own)
    _write(row, [one for one, _ in moved if not (row.base and one.is_own)])
    first = moved[0][0]
    change = PriceChange.objects.create(
        list=row,
        what=(what or _words(moved))[:200],
        by=actor.name,
        at=at,
        starts_on=first.starts_on,
        ends_on=first.ends_on,
        items=len({one.item_id for one, _ in moved}),
    )
    insert_many(
        [
            PriceChangeLine(
                change=change,
                item_id=one.item_id,
                from_quantity=one.from_quantity,
                starts_on=one.starts_on,
                ends_on=one.ends_on,
                before=before,
                after=one.price,
                previous_before=previous,
                previous_after=one.previous if one.price is not None else None,
            )
            for one, (before, previous) in moved
        ]
    )
    _tell(row, [one.item_id for one, _ in moved], change.what)
    return change


def _words(moved: Sequence[tuple[Typed, Any]]) -> str:
    if len(moved) > 1:
        return f"{len(moved)} prices typed"
    one, (before, _) = moved[0]
    sku = Item.objects.values_list("sku", flat=True).get(pk=one.item_id)
    return f"{sku}: {before if before is not None else 'none'} → {one.price if one.price is not None else 'none'}"


def _tell(row: PriceList, item_ids: Sequence[int], cause: str) -> None:
    """Few items are worked out by themselves; many, with everything the list reaches."""
    if len(set(item_ids)) <= FEW:
        record(Event.Kind.PRICE, item_ids, f"{row.name}: {cause}")
    else:
        record(Event.Kind.PRICE_LIST, [row.pk], f"{row.name}: {cause}")


def _standing(row: PriceList, item_ids: Iterable[int]) -> dict[tuple[Any, ...], tuple[Decimal | None, Decimal | None]]:
    wanted = list(item_ids)
    names = ("item_id", "from_quantity", "starts_on", "ends_on", "price", "previous")
    rows = PriceEntry.objects.filter(list=row, item_id__in=wanted).values_list(*names)
    found: dict[tuple[Any, ...], tuple[Decimal | None, Decimal | None]] = {tuple(place): (p, b) for *place, p, b in rows}
    if row.base:
        own = ItemPrice.objects.filter(item__in=wanted).values_list("item", "amount")
        found |= {(pk, ZERO, None, None): (price, None) for pk, price in own}
    return found


def _write(row: PriceList, typed: Sequence[Typed]) -> None:
    if not typed:
        return
    ids = {one.item_id for one in typed}
    there = {
        (e.item_id, e.from_quantity, e.starts_on, e.ends_on): e.pk for e in PriceEntry.objects.filter(list=row, item_id__in=ids)
    }
    PriceEntry.objects.filter(pk__in=[there[one.place] for one in typed if one.place in there]).delete()
    insert_many(
        [
            PriceEntry(
                list=row,
                item_id=one.item_id,
                from_quantity=one.from_quantity,
                price=one.price,
                previous=one.previous,
                starts_on=one.starts_on,
                ends_on=one.ends_on,
            )
            for one in typed
            if one.price is not None
        ]
    )


@transaction.atomic
def undo(actor: Actor, change_id: int, at: datetime) -> tuple[PriceChange, int]:
    """Put back what a change replaced. Returns it and how many prices stay, because they were changed again since.

    Raises NotFoundError, RefusedError when it was undone before.
    """
    actor.need(Ability.PRICE)
    change = PriceChange.objects.filter(pk=change_id).first()
    if change is None:
        raise NotFoundError("There is no such change.")
    row = locked_list(change.list_id)
    change.refresh_from_db()
    if change.undone_at:
        raise RefusedError("It was undone already.", field="undone_at")
    lines = list(change.lines.all())
    standing = _standing(row, {line.item_id for line in lines})
    follow = set(of_parts().filter(pk__in=[line.item_id for line in lines]).values_list("pk", flat=True)) if row.base else set()
    back, kept = {}, 0
    for line in lines:
        place = (line.item_id, line.from_quantity, line.starts_on, line.ends_on)
        was = Typed(line.item_id, line.before, line.from_quantity, line.previous_before, line.starts_on, line.ends_on)
        follows = was.is_own and was.item_id in follow
        if follows or standing.get(place, (None, None)) != (line.after, line.previous_after):
            kept += 1
            continue
        back[place] = was
    if back:
        _put(actor, row, back, at, f"undone: {change.what}")
    change.undone_at, change.undone_by = at, actor.name
    change.save(update_fields=["undone_at", "undone_by"])
    audit(actor, "undo price change", "price list", row.pk, after={"change": change.what, "kept": kept})
    return change, kept


@dataclass(frozen=True)
class Selection:
    """Which items of a list a rule is for: those that match all of it."""

    q: str = ""
    category: str = ""
    item_ids: tuple[int, ...] = ()

    def items(self) -> list[int]:
        """Ids of the items in use that it chooses. Raises NotFoundError for a category there is not."""
        rows = Item.objects.filter(active=True)
        if self.item_ids:
            rows = rows.filter(pk__in=self.item_ids)
        if self.category:
            rows = rows.filter(product__category_id__in=below_named(self.category))
        found = find_items(rows, self.q) if self.q else rows
        return list(found.order_by("pk").values_list("pk", flat=True).distinct())


def rehearse_rule(
    actor: Actor, list_id: int, chosen: Selection, rule: PriceRule, starts: date | None, ends: date | None, at: datetime
) -> dict[str, Any]:
    """What a change by rule would do, in the list and in those that follow it; nothing is kept."""
    actor.need(Ability.PRICE)
    row = get_list(list_id)
    day = _day_of(starts, ends, company_day(at))
    lists = core.related(all_lists(), row.pk)
    ids = chosen.items()
    columns = load_columns([*ids, *holders_of(ids)], lists, day)
    typed = _by_rule(row, ids, columns, lists, rule, starts, ends)
    then = _with(columns, row, typed)
    return _told(row, lists, columns, columns.prices(lists.values()), then.prices(lists.values()), at, ids)


@transaction.atomic
def apply_rule(
    actor: Actor, list_id: int, chosen: Selection, rule: PriceRule, starts: date | None, ends: date | None, at: datetime
) -> PriceChange:
    """Change prices by a rule; between two days when they are given. Raises RefusedError when nothing would change."""
    actor.need(Ability.PRICE)
    row = locked_list(list_id)
    lists = core.related(all_lists(), row.pk)
    ids = chosen.items()
    columns = load_columns(ids, lists, _day_of(starts, ends, company_day(at)))
    typed = _by_rule(row, ids, columns, lists, rule, starts, ends)
    made = _put(actor, row, {one.place: one for one in typed}, at, rule.words(row.currency) + _where(chosen))
    if made is None:
        raise RefusedError("Nothing would change: the prices are there already, or nothing is chosen.", field="value")
    return made


def _where(chosen: Selection) -> str:
    if chosen.category:
        return f" on {chosen.category}"
    if chosen.item_ids:
        return f" on {len(chosen.item_ids)} chosen items"
    return f" on what matches “{chosen.q}”" if chosen.q else " on everything"


def _day_of(starts: date | None, ends: date | None, today: date) -> date:
    """The day to look at: the first on which a change counts. Raises BadInputError for one that would be over before."""
    if ends is not None and ends < max(today, starts or today):
        raise BadInputError("It would be over before it begins.", field="ends_on")
    return max(today, starts or today)


def _by_rule(
    row: PriceList,
    chosen: Sequence[int],
    columns: Columns,
    lists: Mapping[int, core.PriceList],
    rule: PriceRule,
    starts: date | None,
    ends: date | None,
) -> list[Typed]:
    """The prices that a rule comes to, of one and of every break that is typed into the list. A dated price is not the
    one to go by: it ends by itself; and what costs what its parts do follows them."""
    if not chosen:
        raise BadInputError("No item is chosen.", field="q")
    one = lists[row.pk]
    now = columns.undated().prices(lists.values())[row.pk]
    then = changed_columns(now, rule, one, columns.items, core.rate_of(lists, row.pk, columns.base_currency))
    follows = columns.of_parts if row.base else frozenset()
    theirs = np.isin(columns.ids, [pk for pk in chosen if pk not in follows])
    then = np.where(theirs, then, now)
    unit = Decimal(10) ** exponent_of(one.currency)
    for limit, words in ((BELOW, "fall below zero"), (ABOVE, "become larger than can be kept")):
        if (then == limit).any():
            worst = Decimal(int(now[then == limit][0])) / unit
            raise BadInputError(f"A price of {spoken(worst)} would {words}.", field="value")
    moved = np.nonzero((then != NONE) & (then != now))[0]
    found = [Typed(columns.ids[n], Decimal(int(then[n])) / unit, ZERO, None, starts, ends) for n in moved.tolist()]
    return found + _breaks(row, chosen, columns, lists, rule, starts, ends)


def _breaks(
    row: PriceList,
    chosen: Sequence[int],
    columns: Columns,
    lists: Mapping[int, core.PriceList],
    rule: PriceRule,
    starts: date | None,
    ends: date | None,
) -> list[Typed]:
    """What a rule comes to for the prices that are typed in from a quantity on."""
    typed = PriceEntry.objects.filter(list=row, item_id__in=chosen, from_quantity__gt=1, starts_on=None, ends_on=None)
    places = sorted(typed.values_list("item_id", "from_quantity"))
    book = load_book({item for item, _ in places})
    rate = core.rate_of(lists, row.pk, columns.base_currency)
    found = []
    for item, least in places:
        now = book.regular(row.pk, item, columns.day, least)
        price = changed_price(now.amount if now else None, rule, lists[row.pk], book.items[item], rate)
        if price is not None and (now is None or price != now.amount):
            found.append(Typed(item, price, least, None, starts, ends))
    return found


def _with(columns: Columns, row: PriceList, typed: Sequence[Typed]) -> Columns:
    """The columns with prices of one typed in over what is there."""
    number = {pk: n for n, pk in enumerate(columns.ids)}
    unit = 10 ** exponent_of(row.currency)
    ones = [one for one in typed if not one.from_quantity and one.price is not None]
    more = [
        (row.pk, number[one.item_id], int((one.price or ZERO) * unit), 0, began(one.starts_on, one.ends_on), 2**62, NONE)
        for one in ones
    ]
    return replace(columns, entries=columns.entries.and_also(EntryColumns.of(more)))


def rehearse_list(actor: Actor, list_id: int, facts: Mapping[str, Any], at: datetime) -> dict[str, Any]:
    """What other facts of a list would do to its prices and to those of the lists that follow it; nothing is kept."""
    actor.need(Ability.PRICE)
    row = get_list(list_id)
    every = all_lists()
    with_facts(row, facts)
    then = core.related({**every, row.pk: as_core(row)}, row.pk)
    now = core.related(every, row.pk) | {key: every[key] for key in then}
    then = {key: then.get(key, one) for key, one in now.items()}
    columns = load_columns(None, now, company_day(at))
    return _told(row, then, columns, columns.prices(now.values()), columns.prices(then.values()), at)


def _told(
    row: PriceList,
    lists: Mapping[int, core.PriceList],
    columns: Columns,
    now: Mapping[int, Ints],
    then: Mapping[int, Ints],
    at: datetime,
    chosen: Sequence[int] | None = None,
) -> dict[str, Any]:
    """`chosen`: the items that are changed, where the columns hold others that follow them or are followed."""
    one = lists[row.pk]
    rate = core.rate_of(lists, row.pk, columns.base_currency)
    found = _rehearsal(one, rate, columns, now[row.pk], then[row.pk], at, chosen)
    counts = ("items", "rising", "falling", "gone", "new", "below_floor", "margin_gained", "margin_lost")
    named = Item.objects.filter(pk__in=[shift.key for shift in found.shifts[:MOST_ROWS]])
    titles = {pk: (title, sku) for pk, title, sku in named.values_list("pk", "title", "sku")}
    others = []
    for key, other in lists.items():
        if key != row.pk and not np.array_equal(now[key], then[key]):
            moved = now[key] != then[key]
            rising = int(((then[key] > now[key]) & moved & (now[key] != NONE)).sum())
            others.append({"id": key, "name": other.name, "rising": rising, "changing": int(moved.sum())})
    return {
        **{name: getattr(found, name) for name in counts},
        "currency": one.currency,
        "pace_days": PACE_DAYS,
        "others": others,
        "rows": [
            {
                "item_id": shift.key,
                "title": titles[shift.key][0],
                "sku": titles[shift.key][1],
                "now": shift.now,
                "then": shift.then,
                "margin": shift.margin_then,
                "below_floor": shift.is_below_floor,
            }
            for shift in found.shifts[:MOST_ROWS]
        ],
    }


def _rehearsal(
    one: core.PriceList,
    rate: Decimal | None,
    columns: Columns,
    now: Ints,
    then: Ints,
    at: datetime,
    chosen: Sequence[int] | None,
) -> Rehearsal:
    unit = Decimal(10) ** exponent_of(one.currency)
    cost = columns.items.average if one.basis == "average" else columns.items.last
    moved = np.nonzero(now != then)[0].tolist()
    ids = [columns.ids[n] for n in moved]
    units, floors = _pace(ids, at), floors_of(ids)
    shifts = [
        PriceShift(
            pk,
            None if now[n] == NONE else Decimal(int(now[n])) / unit,
            None if then[n] == NONE else Decimal(int(then[n])) / unit,
            Decimal(int(columns.items.tax[n])) / 100 if one.taxed else ZERO,
            Decimal(int(cost[n])) / COST_UNITS * rate if rate and cost[n] else None,
            units.get(pk, ZERO),
            floors[pk],
        )
        for n, pk in zip(moved, ids, strict=True)
    ]
    items = columns.ids if chosen is None else {*chosen, *ids}
    return rehearse_prices(len(items), shifts, one.currency)


def _pace(item_ids: Sequence[int], at: datetime) -> dict[int, Decimal]:
    """Units that left in the last 90 days."""
    since = end_of_day(company_day(at) - timedelta(days=PACE_DAYS))
    rows = StockMove.objects.filter(
        item_id__in=item_ids, happened_at__gte=since, reason__in=(StockMove.Reason.SHIPMENT, StockMove.Reason.TILL_SALE)
    )
    return dict(rows.values_list("item_id").annotate(units=Abs(Sum("quantity"))).order_by())


def history_of(item_id: int) -> list[dict[str, Any]]:
    """Changes of an item's prices in every list, newest first."""
    rows = PriceChangeLine.objects.filter(item_id=item_id).select_related("change__list").order_by("-pk")[:60]
    return [
        {
            "name": line.change.list.name,
            "from_quantity": line.from_quantity,
            "before": line.before,
            "after": line.after,
            "starts_on": line.starts_on,
            "ends_on": line.ends_on,
            "by": line.change.by,
            "at": line.change.at,
            "what": line.change.what,
        }
        for line in rows
    ]
