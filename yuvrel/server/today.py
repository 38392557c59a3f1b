"""The morning sheet and the station bar's counts."""

from __future__ import annotations

from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any

from django.db.models import Min, Sum
from django.utils import timezone
from ninja import Schema

from yuvrel.agreement import queries as agreement
from yuvrel.agreement.models import Drift
from yuvrel.agreement.schemas import BeamOut
from yuvrel.buying.models import PurchaseOrder
from yuvrel.buying.queries import late_orders
from yuvrel.channels.models import Connection, Listing, Snag
from yuvrel.kit.wire import Money
from yuvrel.people.queries import company_day, company_zone
from yuvrel.planning.queries import replenishment
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.sales.queries import daily_sales, sales_between
from yuvrel.stock.models import LotBalance, StockBalance

SPAN_DAYS = 28


class BarOut(Schema):
    """What waits in each station."""

    today: int
    range: int
    shelf: int
    orders: int
    buying: int
    books: int
    connections: int


class WaitOut(Schema):
    """Something that waits: how many, what, since when, where to go."""

    station: str
    count: int
    what: str
    detail: str
    link: str
    mark: str


class DayOut(Schema):
    """Net revenue of a day and of the day four weeks before."""

    day: datetime
    net: Money
    before: Money


class TodayOut(Schema):
    """The morning sheet."""

    beams: list[BeamOut]
    waits: list[WaitOut]
    orders: int
    orders_before: int
    net: Money
    net_before: Money
    days: list[DayOut]
    span_days: int


def bar() -> dict[str, int]:
    """Counts for the station bar."""
    counts = {
        "range": Listing.objects.filter(link="unlinked").count(),
        "shelf": StockBalance.objects.filter(on_hand__lt=0).count(),
        "orders": SalesOrder.objects.filter(state__in=("received", "ready", "part-shipped", "held")).count(),
        "buying": PurchaseOrder.objects.filter(state="draft").count() + late_orders(company_day(timezone.now())),
        "books": Drift.objects.filter(healed_at=None).count(),
        "connections": Snag.objects.filter(resolved_at=None).count() + Connection.objects.exclude(state="live").count(),
    }
    return {"today": counts["books"] + Snag.objects.filter(resolved_at=None).count(), **counts}


def morning() -> dict[str, Any]:
    """Everything on the morning sheet."""
    now = timezone.now()
    zone = company_zone()
    day = company_day(now)
    midnight = datetime(day.year, day.month, day.day, tzinfo=zone)
    start = midnight - timedelta(days=SPAN_DAYS - 1)
    before = start - timedelta(days=SPAN_DAYS)
    orders, net = sales_between(start, now)
    orders_before, net_before = sales_between(before, before + (now - start))
    here, earlier = daily_sales(start, SPAN_DAYS), daily_sales(before, SPAN_DAYS)
    return {
        "beams": agreement.beams(),
        "waits": _waits(day),
        "orders": orders,
        "orders_before": orders_before,
        "net": net,
        "net_before": net_before,
        "span_days": SPAN_DAYS,
        "days": [{"day": a[0], "net": a[1], "before": b[1]} for a, b in zip(here, earlier, strict=True)],
    }


def _waits(day: Any) -> list[dict[str, Any]]:
    ready = SalesOrder.objects.filter(state="ready")
    owed = Reservation.objects.filter(state="backorder")
    lines = replenishment(day)
    late = [x for x in lines if x.suggestion.ribbon.late and x.suggestion.quantity > 0 and x.terms]
    oldest = ready.aggregate(d=Min("placed_at"))["d"]
    owed_units = owed.aggregate(u=Sum("quantity"))["u"] or Decimal(0)
    expiring = LotBalance.objects.filter(on_hand__gt=0, lot__expires_on__lt=day + timedelta(days=60)).count()
    unlinked = Listing.objects.filter(link="unlinked").count()
    rows = [
        ("Books", Drift.objects.filter(healed_at=None).count(), "drifts stand", "two books differ", "/books", "wrong"),
        (
            "Connections",
            Snag.objects.filter(resolved_at=None).count(),
            "snags wait",
            "could not be carried out",
            "/connections/snags",
            "wrong",
        ),
        (
            "Orders",
            SalesOrder.objects.filter(state="held").count(),
            "orders are held",
            "they do not add up or name an unknown item",
            "/orders?state=held",
            "look",
        ),
        (
            "Orders",
            ready.count(),
            "orders to pack",
            f"oldest of {oldest.astimezone(company_zone()):%d %b, %H:%M}" if oldest else "",
            "/orders?state=ready",
            "plain",
        ),
        (
            "Orders",
            owed.values("line__order").distinct().count(),
            "orders wait for goods",
            f"{owed_units.normalize():f} units on backorder",
            "/orders?state=received",
            "look",
        ),
        ("Buying", len(late), "items run out before an order placed today can arrive", "", "/buying", "look"),
        ("Buying", late_orders(day), "purchase orders are late", "past their day", "/buying/orders?state=open", "wrong"),
        (
            "Shelf",
            StockBalance.objects.filter(on_hand__lt=0).count(),
            "balances are below zero",
            "sold before they were received",
            "/shelf?show=short",
            "wrong",
        ),
        ("Shelf", expiring, "lots expire within 60 days", "", "/shelf", "look"),
        ("Range", unlinked, "listings are not paired", "nothing flows through them", "/range/pairing", "look"),
    ]
    return [
        {"station": s, "count": n, "what": w, "detail": d, "link": link, "mark": mark} for s, n, w, d, link, mark in rows if n
    ]
