"""Alerts: fewer available than somebody wants to know of, told once until it recovers, by mail and on the morning sheet."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from decimal import Decimal
from typing import cast

from django.conf import settings
from django.db import transaction
from django.db.models import QuerySet

from yuvrel.catalogue.models import Item
from yuvrel.core.money import spoken
from yuvrel.core.rules import Level
from yuvrel.events.actions import Consumer, subscribe, waiting_for
from yuvrel.events.models import Event
from yuvrel.people import mail
from yuvrel.people.roles import Ability
from yuvrel.rules.models import SettingChange, SettingValue
from yuvrel.stock.models import StockBalance

from .models import StockAlert
from .rules import Pair, reached_items, standings

CONSUMER, NAME = "alerts", "alert_below"
MOST = 2000
IN_A_MAIL = 50
# Looked at every few seconds: a job for each order would cost more than what it finds.
subscribe(Consumer(CONSUMER, frozenset({Event.Kind.AVAILABILITY, Event.Kind.SETTING})))


@transaction.atomic
def work(now: datetime) -> int:
    """Look at what something happened to: open alerts for what fell below its level, close those that recovered.

    Returns how many are new. Two at once take turns.
    """
    events = list(waiting_for(CONSUMER).select_for_update()[:MOST])
    items = {event.subject_id for event in events if event.kind == Event.Kind.AVAILABILITY}
    changed = SettingChange.objects.filter(pk__in=[e.subject_id for e in events if e.kind == Event.Kind.SETTING], name=NAME)
    for change in changed:
        items |= set(Item.objects.filter(reached_items(Level(change.level), change.subject)).values_list("pk", flat=True))
    fresh = look_at(items, now)
    Event.objects.filter(pk__in=[event.pk for event in events]).update(done_at=now)
    return fresh


def look_at(items: Iterable[int], now: datetime) -> int:
    """Compare what is available of some items, at every place that knows them, with the level set there."""
    if not SettingValue.objects.filter(name=NAME).exists() and not standing().exists():
        return 0
    sold = {"item__kind": Item.Kind.STOCKED, "item__active": True, "location__for_sale": True}
    rows = list(StockBalance.objects.filter(item_id__in=set(items), **sold))
    pairs: list[Pair] = [(row.item_id, row.location_id) for row in rows]
    levels = {pair: found.values[NAME] for pair, found in standings(pairs, {}).items()}
    open_ones = {(row.item_id, row.location_id): row.pk for row in standing().filter(item_id__in=set(items))}
    fresh: list[StockAlert] = []
    recovered: list[int] = []
    for row in rows:
        pair = row.item_id, row.location_id
        level, available = cast("Decimal | None", levels.get(pair)), row.on_hand - row.committed
        if level is not None and available < level:
            if pair not in open_ones:
                facts = {"below": level, "available": available, "opened_at": now}
                fresh.append(StockAlert(item_id=pair[0], location_id=pair[1], **facts))
        elif pair in open_ones:
            recovered.append(open_ones[pair])
    StockAlert.objects.bulk_create(fresh)
    StockAlert.objects.filter(pk__in=recovered).update(recovered_at=now)
    return len(fresh)


def standing() -> QuerySet[StockAlert]:
    """Alerts that have not recovered."""
    return StockAlert.objects.filter(recovered_at=None)


def tell(now: datetime) -> int:
    """Mail the buyers what fell below its level and has not been told yet, together. Returns how many were told."""
    if not mail.is_set():
        return 0
    rows = list(standing().filter(mailed_at=None).select_related("item", "location").order_by("pk")[:IN_A_MAIL])
    to = mail.who_may(Ability.BUY) if rows else []
    if not to:
        return 0
    lines = [
        f"{row.item.title} ({row.item.sku}) at {row.location.name}: {spoken(row.available)} available, below {spoken(row.below)}."
        for row in rows
    ]
    subject = lines[0] if len(rows) == 1 else f"{len(rows)} items fell below their alert level"
    text = "\n".join([*lines, "", f"{settings.PUBLIC_ADDRESS}/buying?show=alert", "", "Told once, until it recovers."])
    if not mail.send(to, subject, text):
        return 0
    StockAlert.objects.filter(pk__in=[row.pk for row in rows]).update(mailed_at=now)
    return len(rows)
