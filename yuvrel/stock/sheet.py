"""What lies at each place, as a sheet: counted elsewhere, sent in, and set."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from django.utils import timezone

from yuvrel.catalogue.models import Item
from yuvrel.core import bounds
from yuvrel.core.errors import BadInputError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Amount, Column, Judge, Read, Wrong, day, quantity, signed, words
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.queries import places_by_name
from yuvrel.people.roles import Ability, Actor

from .actions import check_quantity
from .counts import Counted, count_all
from .models import ItemCost, Lot, LotBalance, StockBalance

UNITS = signed(bounds.QUANTITY_PLACES, bounds.MOST_UNITS)
COLUMNS = (
    Column("place", "its name or its short name", "Tannery Yard", words(80), needed=True),
    Column("sku", "ours", "SMK-S-ASH", words(60), needed=True),
    Column("lot", "of goods that keep for a time, where it lies there by lots", "L-2207", words(40), tells=True),
    Column("title", "for the reader; it is not read in", "Smoker, small, ash", str, told=True),
    Column("on_hand", "units that lie there", "24", UNITS, quantity),
    Column(
        "cost",
        "of one unit, where more come in; empty: at the moving average",
        "8.40",
        Amount(6, bounds.MOST_PRICE),
        quantity,
    ),
    Column("expires_on", "the day until which a new lot keeps", "2027-03-31", day, fixed=True),
)


def key_of(values: Mapping[str, Any]) -> str:
    """A place by its name, an item by its SKU, and its lot where it has one."""
    lot = str(values.get("lot") or "").casefold()
    return f"{values['place'].casefold()} / {normal_sku(values['sku'])}{f' / {lot}' if lot else ''}"


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """What lies where, of items in use: by lots where it does, and beside them what no lot is known of."""
    lots: dict[tuple[int, int], list[tuple[str, date, Decimal]]] = defaultdict(list)
    held = LotBalance.objects.exclude(on_hand=0).order_by("lot__expires_on", "lot__code")
    for row in held.select_related("lot"):
        lots[row.lot.item_id, row.location_id].append((row.lot.code, row.lot.expires_on, row.on_hand))
    rows = StockBalance.objects.filter(item__active=True, item__kind=Item.Kind.STOCKED).order_by(
        "location__position", "item__sku"
    )
    names = ("item_id", "location_id", "location__name", "item__sku", "item__title", "on_hand")
    for item, spot, place, sku, title, on_hand in rows.values_list(*names).iterator(5000):
        known = {"place": place, "sku": sku, "title": title}
        there = lots.get((item, spot), [])
        for code, keeps, units in there:
            values = {**known, "lot": code, "on_hand": quantity(units), "expires_on": str(keeps)}
            yield key_of(values), values
        loose = on_hand - sum((units for _, _, units in there), Decimal(0))
        if loose or not there:
            values = {**known, "on_hand": quantity(loose)}
            yield key_of(values), values


def known_as() -> Callable[[str], str]:
    """A place by its short name."""
    names = {said: place.name.casefold() for said, place in places_by_name().items()}

    def key(key: str) -> str:
        place, _, sku = key.partition(" / ")
        return f"{names.get(place, place)} / {sku}"

    return key


@dataclass(frozen=True)
class _Lots:
    """The lots there are, and what of each lies where."""

    expire: Mapping[tuple[int, str], date]
    held: Mapping[tuple[int, int, str], Decimal]
    by_place: Mapping[tuple[int, int], Decimal]

    @classmethod
    def read(cls) -> _Lots:
        names = ("lot__item_id", "location_id", "lot__code", "on_hand")
        held = {(item, place, code.casefold()): units for item, place, code, units in LotBalance.objects.values_list(*names)}
        sums: dict[tuple[int, int], Decimal] = defaultdict(Decimal)
        for (item, place, _), units in held.items():
            sums[item, place] += units
        expire = {(item, code.casefold()): day for item, code, day in Lot.objects.values_list("item_id", "code", "expires_on")}
        return cls(expire, held, sums)

    def wrong(self, item: Item, place: int, code: str, keeps: date | None, units: Decimal, loose: Decimal) -> Wrong:
        """What is wrong with the lot of a row, or with its having none. `loose`: what lies there of no lot."""
        if not code:
            by_lots = self.by_place.get((item.pk, place)) and units != loose
            return ("lot", "is needed: it lies there by lots") if by_lots else ""
        if not item.expiry_tracked:
            return "lot", "is of no use: the item is not kept by lots"
        known = self.expire.get((item.pk, code))
        if known is None and keeps is None:
            return "expires_on", "is needed: nobody has said until when the lot keeps"
        if known is not None and keeps is not None and keeps != known:
            return "expires_on", f"is {known} of this lot"
        return ""


def judge() -> Judge:
    """The place, the item and its lot are known, the item is counted so, and what comes in has a cost."""
    places = places_by_name()
    fields = ("sku", "kind", "decimals", "expiry_tracked")
    items = {normal_sku(item.sku): item for item in Item.objects.filter(active=True).only(*fields)}
    known = dict(ItemCost.objects.values_list("item_id", "last_average"))
    rows = StockBalance.objects.values_list("item_id", "location_id", "on_hand")
    there, lots = {(item, place): on_hand for item, place, on_hand in rows}, _Lots.read()

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        place, item = places.get(values["place"].casefold()), items.get(normal_sku(values["sku"]))
        if place is None:
            return "is no place of ours"
        if item is None:
            return "sku", "is no item of the range"
        units = values.get("on_hand")
        if units is None:
            return ("on_hand", "is needed") if is_new or "cost" in values else ""
        try:
            check_quantity(item, units, "on_hand")
        except BadInputError as error:
            return "on_hand", error.detail.rstrip(".")
        code, pair = str(values.get("lot") or "").casefold(), (item.pk, place.pk)
        loose = there.get(pair, Decimal(0)) - lots.by_place.get(pair, Decimal(0))
        of_lot = lots.wrong(item, place.pk, code, values.get("expires_on"), units, loose)
        before = lots.held.get((*pair, code), Decimal(0)) if code else loose
        return of_lot or _of_quantity(values, units, before, known.get(item.pk))

    return wrong


def _of_quantity(values: Mapping[str, Any], units: Decimal, before: Decimal, average: Decimal | None) -> Wrong:
    if units < 0 and units != before:
        return "on_hand", "cannot be below zero"
    if units > before and "cost" not in values and not average:
        return "cost", "is needed: nobody has said what one costs"
    if units <= before and "cost" in values:
        return "cost", "is of no use: no more come in"
    return ""


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Take rows in: a count for each place."""
    places = places_by_name()
    wanted = {normal_sku(row.values["sku"]) for row in rows}
    items = {normal_sku(sku): pk for sku, pk in Item.objects.values_list("sku", "pk") if normal_sku(sku) in wanted}
    found: dict[int, list[Counted]] = defaultdict(list)
    known = {place.pk: place for place in places.values()}
    for row in rows:
        values = row.values
        item, lot = items[normal_sku(values["sku"])], str(values.get("lot") or "")
        counted = Counted(item, values["on_hand"], values.get("cost"), lot, values.get("expires_on"))
        found[places[values["place"].casefold()].pk].append(counted)
    for place in sorted(found):
        count_all(actor, known[place], found[place], timezone.now(), "from a sheet")


declare(
    Kind(
        "stock",
        "Stock by place",
        "What lies where: set as counted, not added to",
        COLUMNS,
        Ability.ADJUST,
        standing,
        apply,
        key_of,
        judge,
        known_as,
    )
)
