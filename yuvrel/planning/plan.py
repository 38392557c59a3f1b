"""The replenishment sheet kept: which row stands where, so that a page of it is found without working all of it out."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Mapping
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from django.db import transaction
from django.db.models import Count, Exists, OuterRef, Q, Sum

from yuvrel.buying.models import Supplier
from yuvrel.catalogue.models import Item
from yuvrel.core.money import ZERO
from yuvrel.core.rules import Level
from yuvrel.events.actions import Consumer, subscribe, waiting_for, wake
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company, company_day
from yuvrel.platform.paging import page
from yuvrel.rules.models import SettingChange

from . import queries
from .models import PlanMark, PlanRow, StockAlert
from .queries import Line, Pair
from .rules import NAMES, reached_items

LASTS = Decimal(99999)
CHUNK = 2000
# Whoever opens the sheet waits for so many changed items; more are left to the job.
SOON = 60
PATIENCE = 30
CONSUMER = "replenishment"
SETTING = Event.Kind.SETTING
subscribe(Consumer(CONSUMER, frozenset({Event.Kind.AVAILABILITY, Event.Kind.SETTING})))
ORDER = ("unsupplied", "group", "runs_out", "id")
FIELDS = ["supplier", "source", "unsupplied", "group", "runs_out", "suggested", "amount", "late"]


def refresh(now: datetime) -> int:
    """Bring the rows up to date: all of them on a new day, else those of items that something happened to.

    Returns how many rows were worked out. Two at once take turns.
    """
    with transaction.atomic():
        mark = _mark()
        return _work(mark, now, _touched())


def catch_up(now: datetime) -> None:
    """As `refresh`, for whoever opens the sheet: only a few items, and without waiting long for the job."""
    for _ in range(PATIENCE):
        if _caught_up(now):
            return
        # Another request works a few items out, which takes a moment; the job may take longer.
        time.sleep(0.05)


@transaction.atomic
def _caught_up(now: datetime) -> bool:
    """Whether no other run holds the lock; if so, all due work was done."""
    mark = PlanMark.objects.select_for_update(skip_locked=True).first()
    if mark is None and PlanMark.objects.exists():
        return False
    mark = mark or _mark()
    touched = _touched()
    if mark.day is None or (touched and mark.day == company_day(now) and len(set[int]().union(*touched.values())) <= SOON):
        _work(mark, now, touched)
    return True


@transaction.atomic
def work_out_again(now: datetime) -> None:
    """Work out every row: the forecasts they stand on are new."""
    mark = _mark()
    mark.day = None
    _work(mark, now, _touched())


@transaction.atomic
def work_out_items(items: set[int], now: datetime) -> None:
    """Work out the rows of some items: their forecasts or policies are new."""
    if _mark().day is not None:
        today = company_day(now)
        _store(queries.pairs_of(today, items), today)


def _mark() -> PlanMark:
    PlanMark.objects.get_or_create()
    return PlanMark.objects.select_for_update().get()


def _touched() -> dict[int, set[int]]:
    """Events that changed stock, promises, incoming goods or how something is replenished and are not worked in yet:
    event to items."""
    waiting = list(waiting_for(CONSUMER).values_list("pk", "kind", "subject_id"))
    changes = SettingChange.objects.filter(name__in=NAMES).in_bulk([pk for _, kind, pk in waiting if kind == SETTING])
    found: dict[int, set[int]] = {}
    for event, kind, subject in waiting:
        change = changes.get(subject)
        found[event] = {subject} if kind != SETTING else _reached(change) if change else set()
    return found


def wake_category(item_id: int) -> None:
    """Have an item forecast anew soon, with its category."""
    wake("planning.forecast_category", f"planning.forecast:{item_id}", item_id=item_id)


def wake_categories(items: Mapping[int, int | None]) -> int:
    """Have items, each with its category's id, forecast anew soon: every category once. Returns how many there are."""
    one_of_each = {category: item for item, category in items.items()}
    for item in one_of_each.values():
        wake_category(item)
    return len(one_of_each)


def _reached(change: SettingChange) -> set[int]:
    """The items that a changed setting reaches; where another forecast is asked for, that is made first."""
    rows = Item.objects.filter(reached_items(Level(change.level), change.subject), kind=Item.Kind.STOCKED)
    items = dict(rows.values_list("pk", "product__category_id"))
    if change.name == "forecast_method":
        wake_categories(items)
    return set(items)


def _work(mark: PlanMark, now: datetime, touched: Mapping[int, set[int]]) -> int:
    today = company_day(now)
    items = None if mark.day != today else set[int]().union(*touched.values())
    if items is not None and not items:
        Event.objects.filter(pk__in=list(touched)).update(done_at=now)
        return 0
    done = _store(queries.pairs_of(today, items), today)
    stale = PlanRow.objects.all() if items is None else PlanRow.objects.filter(item_id__in=items)
    stale.exclude(pk__in=done).delete()
    mark.day, mark.at = today, now
    mark.save()
    Event.objects.filter(pk__in=list(touched)).update(done_at=now)
    return len(done)


def _store(pairs: set[Pair], today: date) -> set[int]:
    base = company().base_currency
    rates: dict[str, Decimal] = {}
    done: set[int] = set()
    for part in _parts(sorted(pairs)):
        lines = queries.replenishment(today, set(part), rates=False)
        missing = {line.terms.supplier.currency for line in lines if line.terms} - set(rates)
        rates |= queries.rates_on(today, missing, base)
        rows = PlanRow.objects.bulk_create(
            [_row(line, rates) for line in lines],
            update_conflicts=True,
            unique_fields=["item", "location"],
            update_fields=FIELDS,
        )
        done |= {row.pk for row in rows}
    return done


def _parts(pairs: list[Pair]) -> Iterator[list[Pair]]:
    for begin in range(0, len(pairs), CHUNK):
        yield pairs[begin : begin + CHUNK]


def _row(line: Line, rates: dict[str, Decimal]) -> PlanRow:
    supplier = line.terms.supplier if line.terms else None
    cover = line.suggestion.cover_days
    return PlanRow(
        item=line.item,
        location=line.location,
        supplier=supplier,
        source=line.source,
        unsupplied=not line.comes,
        # What comes from a place of ours stands before what is bought.
        group=supplier.name if supplier else f" {line.source.name}" if line.source else "",
        runs_out=LASTS if cover is None else min(cover, LASTS),
        suggested=line.suggestion.quantity if line.comes else ZERO,
        amount=queries.worth(line, rates)[1],
        late=line.suggestion.ribbon.late,
    )


def late_rows() -> int:
    """How many rows run out before an order placed today can arrive."""
    return PlanRow.objects.filter(late=True, suggested__gt=0).count()


def head() -> dict[str, Any]:
    """What the sheet says above its rows, in a fixed number of queries."""
    late = PlanRow.objects.filter(late=True, suggested__gt=0).aggregate(n=Count("pk"), amount=Sum("amount"))
    with_rows = PlanRow.objects.order_by()
    return {
        "late": late["n"],
        "late_amount": late["amount"] or ZERO,
        "sources": list(Location.objects.filter(pk__in=with_rows.values("source")).order_by("name").values("id", "name")),
        "suppliers": list(Supplier.objects.filter(pk__in=with_rows.values("supplier")).order_by("name")),
        "locations": list(Location.objects.filter(pk__in=with_rows.values("location")).order_by("name").values("id", "name")),
    }


def rows(
    q: str, show: str, location: int | None, cursor: str, limit: int, today: date, item: int | None = None
) -> tuple[list[Line], str]:
    """A page of the sheet: by supplier, those that run out first first; the figures as they are now.

    `show`: needed (something to order), late, alert (below its alert level), or all.
    """
    found = PlanRow.objects.all()
    if show == "alert":
        alerts = StockAlert.objects.filter(recovered_at=None, item=OuterRef("item"), location=OuterRef("location"))
        found = found.filter(Exists(alerts))
    elif show != "all":
        found = found.filter(suggested__gt=0)
    if show == "late":
        found = found.filter(late=True)
    if location is not None:
        found = found.filter(location_id=location)
    if item is not None:
        found = found.filter(item_id=item)
    for word in q.split():
        found = found.filter(Q(item__title__icontains=word) | Q(item__sku__icontains=word))
    on_page, following = page(found, ORDER, cursor, limit)
    return _lines([(row.item_id, row.location_id) for row in on_page], today), following


def _lines(pairs: Iterable[Pair], today: date) -> list[Line]:
    listed = list(pairs)
    lines = queries.replenishment(today, set(listed), rates=False) if listed else []
    now = {(line.item.pk, line.location.pk): line for line in lines}
    return [now[pair] for pair in listed if pair in now]
