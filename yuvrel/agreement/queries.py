"""Reading agreement."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any

from django.db.models import Exists, F, OuterRef, QuerySet, Sum
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from yuvrel.books.models import JournalLine
from yuvrel.catalogue.models import Item
from yuvrel.channels.credentials import kinds_that
from yuvrel.channels.models import Connection, Listing
from yuvrel.connectors.capabilities import Capability
from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO
from yuvrel.core.postings import Role
from yuvrel.core.working import Step, Working
from yuvrel.people.queries import CLOCK, company, company_time
from yuvrel.platform.columns import Many
from yuvrel.platform.faults import figure_or, sheet_rows
from yuvrel.platform.paging import page_of_values
from yuvrel.stock.models import ItemCost, StockBalance
from yuvrel.stock.queries import find_items

from .models import Check, Drift
from .price_checks import can_take
from .schemas import AgreeRow, BeamOut, DriftOut

NAMES = {
    "A1": ("Channels show", "Shelf offers", False),
    "A2": ("Prices there", "Lists say", True),
    "A3": ("Orders there", "Orders here", True),
    "A4": ("Moves add up to", "Shelf says", False),
    "A5": ("Shelf is worth", "Books say", True),
    "A6": ("Our inventory", "Ledger says", True),
}


def beams() -> list[BeamOut]:
    """One beam for each comparison, summed over connections."""
    sums: dict[str, dict[str, Any]] = {}
    for row in Check.objects.all():
        into = sums.setdefault(row.code, {"left": ZERO, "right": ZERO, "compared": 0, "differing": 0, "at": row.at})
        for name in ("left", "right", "compared", "differing"):
            into[name] += getattr(row, name)
        into["at"] = min(into["at"], row.at)
    empty = {"left": ZERO, "right": ZERO, "compared": 0, "differing": 0, "at": None}

    def beam(code: str) -> dict[str, Any]:
        left, right, money = NAMES[code]
        return {"code": code, "left_name": left, "right_name": right, "money": money, **sums.get(code, empty)}

    return sheet_rows(BeamOut, NAMES, beam, lambda code: {"code": code, "left_name": NAMES[code][0]})


def drifts() -> list[DriftOut]:
    """Open drifts, newest first."""
    rows = Drift.objects.filter(healed_at=None).select_related("connection").order_by("-since", "-pk")[:500]
    fields = ("id", "code", "title", "expected", "found", "cause", "since", "seen_at", "item_id", "listing_id", "order_id")

    def drift(row: Drift) -> dict[str, Any]:
        more = {"connection": row.connection.name if row.connection else "", "can_take": can_take(row)}
        return {**{name: getattr(row, name) for name in fields}, **more}

    return sheet_rows(DriftOut, rows, drift, lambda row: {"id": row.pk, "title": row.title, "code": row.code})


def head(day_start: datetime) -> dict[str, Any]:
    """The beams, what drifts, and the columns of the sheet, in a fixed number of queries."""
    newest = Check.objects.order_by("-at").first()
    return {
        "at": newest.at if newest else None,
        "checking": ProcrastinateJob.objects.filter(
            task_name__startswith="agreement.check", status__in=("todo", "doing")
        ).exists(),
        "beams": beams(),
        "drifts": drifts(),
        "healed_today": Drift.objects.filter(healed_at__gte=day_start).count(),
        "columns": [{"id": c.pk, "name": c.name} for c in _columns()],
        "worth": figure_or(lambda: _sum(ItemCost.objects.all(), "value"), "The value of all stock"),
        "booked": figure_or(lambda: _sum(_inventory(), "amount"), "The inventory account"),
    }


def _inventory() -> QuerySet[JournalLine]:
    return JournalLine.objects.filter(account__role=Role.INVENTORY)


def _sum(rows: QuerySet[Any], field: str) -> Decimal:
    return rows.aggregate(t=Sum(field))["t"] or ZERO


def _columns() -> list[Connection]:
    return list(Connection.objects.filter(kind__in=kinds_that(Capability.QUANTITIES), state="live").order_by("kind", "name"))


def items(q: str, show: str, cursor: str, limit: int) -> dict[str, Any]:
    """A page of items across channels, shelf and books, in a fixed number of queries; `show` is all or off."""
    columns = _columns()
    rows = Item.objects.filter(active=True).exclude(kind=Item.Kind.SERVICE)
    standing = Drift.objects.filter(healed_at=None, item=OuterRef("pk"))
    if show == "off":
        moving = Listing.objects.filter(
            item=OuterRef("pk"), connection__in=columns, offer_state__in=("pending", "drifting", "held")
        )
        rows = rows.filter(Exists(moving) | Exists(standing))
    asked = find_items(rows, q).annotate(drifts=Exists(standing))
    found, following = page_of_values(asked, ["title", "id"], cursor, limit, ("sku", "kind", "drifts"))
    ids = Many(item.pk for item in found)
    cells: dict[int, list[dict[str, Any]]] = defaultdict(list)
    paired: Any = Listing.objects.filter(connection__in=columns, link="linked", item_id__any_of=ids).order_by("pk")
    for cell in paired.values("item_id", "connection_id", "shown", "offered", listing_id=F("pk"), state=F("offer_state")):
        cells[cell.pop("item_id")].append(cell)
    holds = dict(StockBalance.objects.filter(item_id__any_of=ids).values_list("item_id").annotate(q=Sum("on_hand")).order_by())
    worth = dict(ItemCost.objects.filter(item_id__any_of=ids).values_list("item_id", "value"))
    booked = dict(_inventory().filter(item_id__any_of=ids).values_list("item_id").annotate(t=Sum("amount")).order_by())
    shown = sheet_rows(AgreeRow, found, lambda item: _row(item, cells[item.pk], holds, worth, booked), _known)
    return {"rows": shown, "next": following}


def _known(item: Any) -> dict[str, Any]:
    return {"item_id": item.pk, "title": item.title, "sku": item.sku, "kind": item.kind}


def _row(
    item: Any,
    cells: list[dict[str, Any]],
    holds: dict[int, Decimal],
    worth: dict[int, Decimal],
    booked: dict[int, Decimal],
) -> dict[str, Any]:
    states = {cell["state"] for cell in cells}
    drifting = item.drifts or "drifting" in states
    kit = item.kind == Item.Kind.BUNDLE
    return {
        "item_id": item.pk,
        "sku": item.sku,
        "title": item.title,
        "kind": item.kind,
        "cells": cells,
        "state": "drifting" if drifting else "held" if "held" in states else "pending" if "pending" in states else "agreed",
        "holds": None if kit else holds.get(item.pk, ZERO),
        "worth": None if kit else worth.get(item.pk, ZERO),
        "booked": None if kit else booked.get(item.pk, ZERO),
    }


def drift_working(drift_id: int) -> Working:
    """A drift as expected, found and the difference."""
    row = Drift.objects.select_related("connection").filter(pk=drift_id).first()
    if row is None:
        raise NotFoundError("There is no such drift.")
    steps = [Step("Expected", row.expected), Step("Found", row.found, f"read {company_time(row.seen_at, CLOCK)}")]
    try:
        steps.append(Step("Difference", Decimal(row.found) - Decimal(row.expected), kind="result"))
    except ArithmeticError:
        steps.append(Step("Difference", "see both", kind="result"))
    age = timezone.now() - row.since
    note = f"Stands since {company_time(row.since)} ({_span(age)}). {row.cause}".strip()
    return Working(
        "What does not agree?", f"{row.title} {'· ' + row.connection.name if row.connection else ''}", tuple(steps), note
    )


def _span(age: timedelta) -> str:
    minutes = int(age.total_seconds() // 60)
    return f"{minutes} minutes" if minutes < 120 else f"{minutes // 60} hours"


def booked_working(item_id: int) -> Working:
    """What the inventory account says of an item, by kind of entry, against the shelf."""
    item = Item.objects.filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    sums = _inventory().filter(item=item).values_list("entry__kind").annotate(t=Sum("amount")).order_by("entry__kind")
    steps = [Step(kind.capitalize(), total, op="+" if total >= 0 else "") for kind, total in sums]
    booked = sum((total for _, total in sums), ZERO)
    cost = ItemCost.objects.filter(item=item).first()
    steps.append(Step("Inventory account", booked, kind="subtotal"))
    steps.append(Step("Value of stock", cost.value if cost else ZERO, "moving average", op="-", link=f"/range/items/{item.pk}"))
    steps.append(Step("Difference", booked - (cost.value if cost else ZERO), kind="result", unit=company().base_currency))
    return Working("Do shelf and books agree?", item.title, tuple(steps))
