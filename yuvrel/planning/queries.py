"""The replenishment sheet: demand, position and policy of every item and location that sells."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import cached_property, partial
from operator import itemgetter
from typing import Any, TypeVar, cast

import numpy as np
from django.db.models import Count, Model, Q, QuerySet, Sum
from django.db.models.functions import TruncDate

from yuvrel.books.rates import rate_on
from yuvrel.buying.arrivals import arrivals
from yuvrel.buying.models import SupplierItem
from yuvrel.catalogue.kits import kits, parts_of
from yuvrel.catalogue.models import Item
from yuvrel.core.demand import Velocity, velocities, velocity_working
from yuvrel.core.errors import NotFoundError, RefusedError
from yuvrel.core.history import seen_before_the_books
from yuvrel.core.money import ZERO, round_money
from yuvrel.core.network import Place, Plan, plan
from yuvrel.core.outlook import TAIL_DAYS, Outlook, Path, demand_working, flat
from yuvrel.core.replenish import Policy, Position, Suggestion, SupplierTerms, suggest
from yuvrel.core.working import Working
from yuvrel.people.models import Location
from yuvrel.people.queries import company_zone
from yuvrel.platform.faults import row_or
from yuvrel.platform.snapshot import one_moment
from yuvrel.rules.models import SettingValue
from yuvrel.sales.models import OrderLine, SalesOrder
from yuvrel.stock.models import LotBalance, StockBalance, StockMove
from yuvrel.stock.transfer_queries import reserved_to_move

from .models import ItemForecast
from .rules import Pair, Standing, standings

WINDOW_DAYS = 90
NO_SALES = Velocity(ZERO, ZERO, WINDOW_DAYS, 0, ZERO)
M = TypeVar("M", bound=Model)


@dataclass(frozen=True)
class Line:
    """One row of the replenishment sheet. Read without `rates`, a row with a forecast knows only the days out of its velocity.

    `source`: the place that fills this one, by transfer; `ready`: what of the suggestion it can send at once.
    """

    item: Item
    location: Location
    terms: SupplierItem | None
    balance: StockBalance
    velocity: Velocity
    suggestion: Suggestion
    policy: Policy
    price: Decimal
    fault: str = ""
    source: Location | None = None
    ready: Decimal = ZERO

    @property
    def comes(self) -> bool:
        """Whether somebody supplies it: a supplier, or a place of ours."""
        return self.terms is not None or self.source is not None

    @property
    def per_day(self) -> Decimal:
        """Units expected a day over the planning period (0.01)."""
        return self.suggestion.outlook.a_day(self.policy.days)


@dataclass(frozen=True)
class Demand:
    """Units and days in stock, pair × day, over the window that ends yesterday."""

    pairs: list[Pair]
    start: date
    units: np.ndarray
    in_stock: np.ndarray


def demand(today: date, pairs: set[Pair] | None = None, days: int = WINDOW_DAYS, unasked: Set[Pair] = frozenset()) -> Demand:
    """Daily demand by item and location, kits exploded to their parts, days without stock masked.

    `unasked`: of these only the days without stock are wanted; what they sold may be left out.
    """
    start = today - timedelta(days=days)
    sold, past_sales = _sold(start, today, None if pairs is None else pairs - unasked)
    stocked = _closing_and_moves(start, today, pairs)
    listed = sorted(set(sold) | set(stocked)) if pairs is None else sorted(pairs)
    units, net, out = np.zeros((3, len(listed), days))
    opening = np.zeros(len(listed))
    first = np.full(len(listed), days)
    for row, pair in enumerate(listed):
        for day, quantity in sold.get(pair, {}).items():
            units[row, (day - start).days] += float(quantity)
        before, moves = stocked.get(pair, (ZERO, {}))
        opening[row] = float(before)
        first[row] = 0 if before > 0 else min(((day - start).days for day in moves), default=days)
        for day, (change, left) in moves.items():
            net[row, (day - start).days], out[row, (day - start).days] = float(change), left
    # A thousandth is the smallest quantity there is.
    level = opening[:, None] + np.cumsum(net, axis=1)
    mask = (level > 0.0005) | (out > 0)
    past = [(past_sales[pair] - start).days if pair in past_sales else days for pair in listed]
    return Demand(
        listed, start, units, seen_before_the_books(mask.astype(np.float64), past, first.tolist()) > 0 if listed else mask
    )


def _sold(start: date, today: date, pairs: set[Pair] | None) -> tuple[dict[Pair, dict[date, Decimal]], dict[Pair, date]]:
    """Units sold by item and place and day; and the day of the first sale that was taken in as history."""
    zone = company_zone()
    begin = datetime(start.year, start.month, start.day, tzinfo=zone)
    end = datetime(today.year, today.month, today.day, tzinfo=zone)
    lines = OrderLine.objects.filter(
        kind=OrderLine.Kind.ITEM, item__isnull=False, order__placed_at__gte=begin, order__placed_at__lt=end
    ).exclude(order__state=SalesOrder.State.CANCELLED)
    made = kits()
    if pairs is not None:
        wanted = {item for item, _ in pairs}
        wanted |= {kit for kit, parts in made.items() if any(part in wanted for part, _ in parts)}
        lines = lines.filter(item_id__in=wanted)
    rows = (
        lines.annotate(day=TruncDate("order__placed_at", tzinfo=zone))
        .values_list("item_id", "order__location_id", "day")
        .annotate(units=Sum("quantity"), past=Count("pk", filter=Q(order__history=True)))
        .order_by()
    )
    found: dict[Pair, dict[date, Decimal]] = defaultdict(lambda: defaultdict(Decimal))
    past_sales: dict[Pair, date] = {}
    for item, location, day, units, past in rows:
        for part, each in parts_of(made, item):
            found[part, location][day] += units * each
            if past:
                past_sales[part, location] = min(day, past_sales.get((part, location), day))
    return found, past_sales


def _closing_and_moves(
    start: date, today: date, pairs: set[Pair] | None
) -> dict[Pair, tuple[Decimal, dict[date, tuple[Decimal, bool]]]]:
    """By pair: on hand before the window, and by day the net change and whether anything left that day.

    What was there before is what is there now less what has moved since: years of moves need not be read for it.
    """
    zone = company_zone()
    begin = datetime(start.year, start.month, start.day, tzinfo=zone)
    ids = None if pairs is None else {item for item, _ in pairs}
    daily = list(
        _of(StockMove.objects.filter(happened_at__gte=begin), "item", ids)
        .annotate(day=TruncDate("happened_at", tzinfo=zone))
        .values_list("item_id", "location_id", "day")
        .annotate(net=Sum("quantity"), out=Sum("quantity", filter=Q(quantity__lt=0)))
        .order_by()
    )
    # Read after the moves: whatever has moved has a balance by now.
    balances = _of(StockBalance.objects.all(), "item", ids).values_list("item_id", "location_id", "on_hand")
    level: dict[Pair, Decimal] = {(item, place): on_hand for item, place, on_hand in balances}
    moved: dict[Pair, dict[date, tuple[Decimal, bool]]] = {pair: {} for pair in level}
    for item, place, day, net, out in daily:
        level[item, place] -= net
        if day < today:
            moved[item, place][day] = (net, out is not None)
    return {pair: (level[pair], moved[pair]) for pair in level}


@dataclass(frozen=True)
class Read:
    """What the rows of the sheet are worked out from, all of one moment."""

    today: date
    items: Mapping[int, Item]
    places: Mapping[int, Location]
    terms: Mapping[int, SupplierItem]
    balances: Mapping[Pair, StockBalance]
    speeds: Mapping[Pair, Velocity]
    forecasts: Mapping[Pair, ItemForecast]
    standings: Mapping[Pair, Standing]
    arrivals: Mapping[Pair, Sequence[tuple[int, Decimal]]]
    lots: Mapping[Pair, Sequence[tuple[int, Decimal]]]
    pairs: Sequence[Pair]
    _planned: dict[int, dict[int, Plan]] = field(default_factory=dict, init=False)

    def lines(self) -> list[Line]:
        """All rows. One that cannot be worked out says so in its place."""
        return [row_or(partial(self.line, pair), partial(self.broken, pair), self.name(pair), pair[0]) for pair in self.pairs]

    def name(self, pair: Pair) -> str:
        """What a row is about."""
        return f"{self.items[pair[0]].title} · {self.places[pair[1]].name}"

    def balance(self, pair: Pair) -> StockBalance:
        """What is there; nothing where the item never was."""
        return self.balances.get(pair) or StockBalance.none(*pair)

    @cached_property
    def _by_code(self) -> dict[str, int]:
        return {place.code: pk for pk, place in self.places.items()}

    def _feeders(self, item: int) -> dict[int, int]:
        """Place to the place that fills it with an item."""
        found = {}
        for place in self.places:
            standing = self.standings.get((item, place))
            source = self._by_code.get(standing.fed_from) if standing else None
            if source is not None and source != place:
                found[place] = source
        return found

    def _place(self, pair: Pair, *, fed: bool) -> Place:
        standing = self.standings[pair]
        balance = self.balance(pair)
        position = Position(
            balance.on_hand,
            balance.committed,
            balance.backordered,
            arrivals=self.arrivals.get(pair, ()),
            lots=self.lots.get(pair, ()),
        )
        outlook = _moved_on(self.forecasts[pair], self.today) if pair in self.forecasts else flat(self.speeds.get(pair, NO_SALES))
        policy = standing.fed_policy if fed else standing.policy
        return Place(self.places[pair[1]].name, outlook, position, policy, _offer(self.terms.get(pair[0])))

    def _plan(self, item: int, feeders: Mapping[int, int]) -> dict[int, Plan]:
        """All places of an item at once: those that are fed first, and what they need at the place that feeds them."""
        if item not in self._planned:
            everywhere = [place for place in self.places if (item, place) in self.standings]
            places = {place: self._place((item, place), fed=place in feeders) for place in everywhere}
            self._planned[item] = plan(places, feeders, self.items[item].title)
        return self._planned[item]

    def line(self, pair: Pair) -> Line:
        """A row."""
        item, place = pair
        feeders = self._feeders(item)
        if feeders:
            found = self._plan(item, feeders)[place]
        else:
            alone = self._place(pair, fed=False)
            offer, policy = alone.offer, alone.policy
            found = Plan(suggest(alone.outlook, alone.position, policy, subject=self.name(pair), offer=offer))
        suggestion = found.suggestion
        return Line(
            self.items[item],
            self.places[place],
            None if found.source is not None else self.terms.get(item),
            self.balance(pair),
            self.speeds.get(pair, NO_SALES),
            suggestion,
            suggestion.policy,
            suggestion.price,
            source=None if found.source is None else self.places[found.source],
            ready=found.now,
        )

    def broken(self, pair: Pair, said: str) -> Line:
        """What is shown of a row that cannot be worked out: what it is about, and why there is no more."""
        nothing = Policy(lead_days=0, cover_days=0, safety="units", safety_figure=ZERO)
        suggestion = suggest(flat(NO_SALES), Position(ZERO), nothing, subject=self.name(pair))
        item, place = self.items[pair[0]], self.places[pair[1]]
        return Line(item, place, self.terms.get(pair[0]), self.balance(pair), NO_SALES, suggestion, nothing, ZERO, said)


def replenishment(today: date, pairs: set[Pair] | None = None, *, rates: bool = True) -> list[Line]:
    """The given items at their locations, or all with demand, stock or promises, in a fixed number of queries.

    Stock, moves and arrivals are of one moment: a receipt is never both on hand and still to come. `rates`: whether the
    velocity is wanted also where a forecast stands; what was sold is not read for those without it.
    """
    return read_rows(today, pairs, rates=rates).lines()


@one_moment()
def read_rows(today: date, pairs: set[Pair] | None = None, *, rates: bool = True, together: bool = False) -> Read:
    """What the rows of `replenishment` are worked out from. Where one place of ours sends to another, all places of an item
    are read `together`, in any case when asked for."""
    ids = None if pairs is None else {item for item, _ in pairs}
    places = Location.objects.filter(for_sale=True).in_bulk()
    together = together or SettingValue.objects.filter(name="fed_from").exclude(value="").exists()
    every = {(item, place) for item in ids or () for place in places} if together else set()
    wide = None if pairs is None else pairs | every
    kept = ItemForecast.objects.only("item_id", "location_id", "start", "path", "sentence")
    forecasts = {(row.item_id, row.location_id): row for row in _of(kept, "item", ids) if _reaches(row, today)}
    seen = demand(today, wide, unasked=frozenset() if rates else forecasts.keys())
    speeds = dict(zip(seen.pairs, velocities(seen.units, seen.in_stock), strict=True)) if seen.pairs else {}
    stocked = _of(Item.objects.filter(active=True, kind=Item.Kind.STOCKED), "pk", ids).select_related("product__category")
    balances = {(row.item_id, row.location_id): row for row in _of(StockBalance.objects.all(), "item", ids)}
    items, terms = {item.pk: item for item in stocked}, terms_of(ids)
    wanted = pairs if pairs is not None else set(speeds) | set(balances)
    known = [pair for pair in sorted(wanted) if pair[0] in items and pair[1] in places]
    everywhere = {(item, place) for item in items for place in places} if together else known
    return Read(
        today,
        items,
        places,
        terms,
        balances,
        speeds,
        forecasts,
        standings(everywhere, terms),
        _arrivals(today, ids),
        _lots(today, ids),
        known,
    )


def terms_of(ids: set[int] | None) -> dict[int, SupplierItem]:
    """What the preferred supplier of each item asks; `ids` None for all items."""
    rows = _of(SupplierItem.objects.filter(preferred=True), "item", ids)
    return {row.item_id: row for row in rows.select_related("supplier", "item__product").prefetch_related("prices")}


def _reaches(kept: ItemForecast, today: date) -> bool:
    """Whether a kept forecast still says enough about the days to come."""
    gone = (today - kept.start).days
    return gone >= 0 and len(kept.path["mean"]) * kept.path["width"] - gone >= TAIL_DAYS


def _moved_on(kept: ItemForecast, today: date) -> Outlook:
    """A kept forecast as it looks today."""
    return Path(**kept.path).outlook(kept.sentence).after((today - kept.start).days)


def _of(rows: QuerySet[M], field: str, ids: set[int] | None) -> QuerySet[M]:
    """Rows of the given items only."""
    return rows if ids is None else rows.filter(**{f"{field}__in": ids})


def pairs_of(today: date, items: set[int] | None = None) -> set[Pair]:
    """Items and locations with stock, promises or sales in the window; a kit's sales are those of its parts."""
    zone = company_zone()
    start = today - timedelta(days=WINDOW_DAYS)
    begin = datetime(start.year, start.month, start.day, tzinfo=zone)
    made = kits()
    ids = None if items is None else items | {kit for kit, parts in made.items() if any(part in items for part, _ in parts)}
    lines = OrderLine.objects.filter(kind=OrderLine.Kind.ITEM, item__isnull=False, order__placed_at__gte=begin)
    sold = _of(lines.exclude(order__state=SalesOrder.State.CANCELLED), "item", ids)
    found: set[Pair] = set(_of(StockBalance.objects.all(), "item", items).values_list("item_id", "location_id"))
    for item, place in sold.values_list("item_id", "order__location_id").distinct():
        found |= {(part, place) for part, _ in parts_of(made, cast(int, item))}
    return found if items is None else {pair for pair in found if pair[0] in items}


def rates_on(today: date, currencies: set[str], base: str) -> dict[str, Decimal]:
    """Units of each currency for one of the base; 0 where no rate is known."""
    rates: dict[str, Decimal] = {}
    for currency in currencies | {base}:
        try:
            rates[currency] = rate_on(currency, today, base)
        except RefusedError:
            rates[currency] = ZERO
    return rates


def worth(line: Line, rates: dict[str, Decimal]) -> tuple[Decimal, Decimal]:
    """What the suggested order costs, in the supplier's currency and in base currency (0 without a rate)."""
    amount = round_money(line.suggestion.quantity * line.price)
    rate = rates.get(line.terms.supplier.currency, ZERO) if line.terms else ZERO
    return amount, round_money(amount / rate) if rate else ZERO


def _offer(terms: SupplierItem | None) -> SupplierTerms:
    if terms is None:
        return SupplierTerms()
    item = terms.item
    keeps = item.product.shelf_life_days if item.expiry_tracked else 0
    return SupplierTerms(tuple((row.from_quantity, row.price) for row in terms.prices.all()), keeps_days=keeps or None)


def _arrivals(today: date, ids: set[int] | None) -> dict[Pair, list[tuple[int, Decimal]]]:
    coming = [(one.item_id, one.location_id, one.day, one.units) for one in arrivals(ids)]
    # What is reserved for a transfer its source has no more: needed where it goes, it would be missing twice.
    coming += reserved_to_move(ids)
    found: dict[Pair, list[tuple[int, Decimal]]] = defaultdict(list)
    for item, place, day, units in sorted(coming, key=itemgetter(2)):
        found[item, place].append((max(0, (day - today).days), units))
    return found


def _lots(today: date, ids: set[int] | None) -> dict[Pair, list[tuple[int, Decimal]]]:
    """What is on hand by the days until it expires."""
    found: dict[Pair, list[tuple[int, Decimal]]] = defaultdict(list)
    rows = _of(LotBalance.objects.filter(on_hand__gt=0), "lot__item", ids)
    for item, place, day, units in rows.values_list("lot__item_id", "location_id", "lot__expires_on", "on_hand"):
        found[item, place].append((max(0, (day - today).days), units))
    return found


def one_line(item_id: int, location_id: int, today: date) -> Line:
    """One row of the sheet. Raises NotFoundError."""
    lines = replenishment(today, {(item_id, location_id)})
    if not lines:
        raise NotFoundError("That item is not stocked at that location.")
    return lines[0]


def velocity_of(item_id: int, location_id: int, today: date) -> Working:
    """The Working behind a velocity."""
    line = one_line(item_id, location_id, today)
    return velocity_working(line.velocity, f"{line.item.title} · {line.location.name}")


def demand_of(item_id: int, location_id: int, today: date) -> Working:
    """The Working behind what is expected to sell a day over the planning period."""
    line = one_line(item_id, location_id, today)
    subject = f"{line.item.title} · {line.location.name}"
    return demand_working(line.suggestion.outlook, line.policy.days, today, subject, a_day=True)


@one_moment()
def history(item_id: int, location_id: int, today: date, weeks: int = 104) -> dict[str, Any]:
    """Weekly units and the share of each week in stock, for the small chart in the Working."""
    days = weeks * 7
    seen = demand(today, {(item_id, location_id)}, days)
    units = seen.units[0].reshape(weeks, 7).sum(axis=1)
    stocked = seen.in_stock[0].reshape(weeks, 7).mean(axis=1)
    return {
        "start": seen.start,
        "weeks": [{"units": float(u), "in_stock": round(float(s), 2)} for u, s in zip(units, stocked, strict=True)],
    }
