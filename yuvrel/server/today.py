"""The morning sheet and the station bar's counts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any, TypeVar

from django.db.models import Min, Sum
from django.utils import timezone
from ninja import Schema

from yuvrel.agreement import queries as agreement
from yuvrel.agreement.models import Drift
from yuvrel.agreement.schemas import BeamOut
from yuvrel.buying.models import PurchaseOrder
from yuvrel.buying.queries import late_orders
from yuvrel.channels.models import Connection, Listing, Snag
from yuvrel.core.money import round_money, spoken
from yuvrel.people.epochs import is_held
from yuvrel.people.queries import company_day, company_zone
from yuvrel.planning.alerts import standing
from yuvrel.planning.plan import late_rows
from yuvrel.platform.faults import row_or
from yuvrel.platform.wire import Money
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.sales.queries import daily_sales, due, sales_between, to_put_back
from yuvrel.sales.return_queries import open_returns
from yuvrel.stock.models import LotBalance, StockBalance
from yuvrel.stock.transfer_queries import late_transfers

SPAN_DAYS = 28
R = TypeVar("R")


class BarOut(Schema):
    """What waits in each station."""

    today: int
    range: int
    shelf: int
    orders: int
    buying: int
    books: int
    connections: int
    held: bool


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

    begun: bool
    beams: list[BeamOut]
    waits: list[WaitOut]
    orders: int
    orders_before: int
    net: Money | None
    net_before: Money | None
    days: list[DayOut]
    span_days: int
    faults: list[str]


def bar() -> dict[str, int | bool]:
    """Counts for the station bar."""
    counts = {
        "range": Listing.objects.filter(link="unlinked").count(),
        "shelf": StockBalance.objects.filter(on_hand__lt=0).count(),
        "orders": SalesOrder.objects.filter(state__in=("received", "ready", "part-shipped", "held")).count(),
        "buying": PurchaseOrder.objects.filter(state="draft").count() + late_orders(company_day(timezone.now())),
        "books": Drift.objects.filter(healed_at=None).count(),
        "connections": Snag.objects.filter(resolved_at=None).count() + Connection.objects.exclude(state="live").count(),
    }
    return {"today": counts["books"] + Snag.objects.filter(resolved_at=None).count(), "held": is_held(), **counts}


def morning() -> dict[str, Any]:
    """Everything on the morning sheet."""
    now = timezone.now()
    zone = company_zone()
    day = company_day(now)
    midnight = datetime(day.year, day.month, day.day, tzinfo=zone)
    start = midnight - timedelta(days=SPAN_DAYS - 1)
    before = start - timedelta(days=SPAN_DAYS)
    faults: list[str] = []
    unknown: tuple[int, Decimal | None] = (0, None)
    no_days: list[DayOut] = []
    orders, net = _or(lambda: _sold(start, now), unknown, "What was sold lately", faults)
    orders_before, net_before = _or(lambda: _sold(before, before + (now - start)), unknown, "What was sold before that", faults)
    days = _or(lambda: _by_day(start, before), no_days, "What was sold each day", faults)
    return {
        "begun": Connection.objects.exists(),
        "beams": agreement.beams(),
        "waits": _waits(day, faults),
        "orders": orders,
        "orders_before": orders_before,
        "net": net,
        "net_before": net_before,
        "span_days": SPAN_DAYS,
        "days": days,
        "faults": faults,
    }


def _or(make: Callable[[], R], other: R, subject: str, faults: list[str]) -> R:
    """A part of the sheet, or `other` where it cannot be worked out, which is then said above all."""

    def broken(said: str) -> R:
        faults.append(said)
        return other

    return row_or(make, broken, subject, 0)


def _sold(start: datetime, end: datetime) -> tuple[int, Decimal | None]:
    orders, net = sales_between(start, end)
    return orders, round_money(net)


def _by_day(start: datetime, before: datetime) -> list[DayOut]:
    here, earlier = daily_sales(start, SPAN_DAYS), daily_sales(before, SPAN_DAYS)
    return [DayOut(day=a[0], net=a[1], before=b[1]) for a, b in zip(here, earlier, strict=True)]


@dataclass(frozen=True)
class Wait:
    """Something that may wait: how many, in the singular and the plural, where to go, how it is marked."""

    station: str
    count: int
    one: str
    many: str
    link: str
    mark: str
    detail: str = ""

    def row(self) -> dict[str, Any]:
        """As the wire shows it."""
        what = self.one if self.count == 1 else self.many
        return {
            "station": self.station,
            "count": self.count,
            "what": what,
            "detail": self.detail,
            "link": self.link,
            "mark": self.mark,
        }


def _waits(day: date, faults: list[str]) -> list[dict[str, Any]]:
    parts: list[tuple[str, Callable[[], list[Wait]]]] = [
        ("What does not agree", _waiting_for_agreement),
        ("Which orders wait", lambda: _waiting_orders(day)),
        ("Which purchases wait", lambda: _waiting_purchases(day)),
        ("Which goods wait", lambda: _waiting_goods(day)),
    ]
    nothing: list[Wait] = []
    return [wait.row() for name, part in parts for wait in _or(part, nothing, name, faults) if wait.count]


def _waiting_for_agreement() -> list[Wait]:
    drifts = Drift.objects.filter(healed_at=None).count()
    snags = Snag.objects.filter(resolved_at=None).count()
    return [
        Wait("Books", drifts, "drift stands", "drifts stand", "/books", "wrong", "two books differ"),
        Wait("Connections", snags, "snag waits", "snags wait", "/connections/snags", "wrong", "could not be carried out"),
    ]


def _waiting_orders(day: date) -> list[Wait]:
    ready = SalesOrder.objects.filter(state="ready")
    oldest = ready.aggregate(d=Min("placed_at"))["d"]
    since = f"oldest of {oldest.astimezone(company_zone()):%d %b, %H:%M}" if oldest else ""
    owed = Reservation.objects.filter(state="backorder")
    units = owed.aggregate(u=Sum("quantity"))["u"] or Decimal(0)
    short = owed.values("line__order").distinct().count()
    held = SalesOrder.objects.filter(state="held").count()
    leave = due(day)
    late = leave.filter(send_by__lt=day).count()
    penalised = f"{late} should have left before" if late else "as the channel or a rule says"
    why = "does not add up, names an unknown item, or was held by hand"
    coming, uncredited = open_returns()
    back = "goods to be looked at when they come"
    return [
        Wait("Orders", held, "order is held", "orders are held", "/orders?state=held", "look", why),
        Wait(
            "Orders",
            leave.count(),
            "order has to leave today",
            "orders have to leave today",
            "/orders?state=due",
            "wrong" if late else "look",
            penalised,
        ),
        Wait("Orders", ready.count(), "order to pack", "orders to pack", "/orders?state=ready", "plain", since),
        Wait(
            "Orders",
            short,
            "order is on backorder",
            "orders are on backorder",
            "/orders?state=received",
            "look",
            f"{spoken(units)} units on backorder",
        ),
        Wait(
            "Orders",
            to_put_back().count(),
            "cancelled order has goods to put back",
            "cancelled orders have goods to put back",
            "/orders?state=back",
            "look",
            "they stay reserved until then",
        ),
        Wait("Orders", coming, "return is expected", "returns are expected", "/orders/returns?state=open", "plain", back),
        Wait(
            "Orders",
            uncredited,
            "return is not credited",
            "returns are not credited",
            "/orders/returns?state=uncredited",
            "look",
            "the goods are back, the money is not",
        ),
    ]


def _waiting_purchases(day: date) -> list[Wait]:
    late = late_rows()
    text = "out before an order placed today can arrive"
    link = "/buying/orders?state=open"
    return [
        Wait("Buying", late, f"item runs {text}", f"items run {text}", "/buying", "look"),
        Wait(
            "Buying",
            late_orders(day),
            "purchase order is late",
            "purchase orders are late",
            link,
            "wrong",
            "past its expected date",
        ),
    ]


def _waiting_goods(day: date) -> list[Wait]:
    below = StockBalance.objects.filter(on_hand__lt=0).count()
    expiring = LotBalance.objects.filter(on_hand__gt=0, lot__expires_on__lt=day + timedelta(days=60)).count()
    unlinked = Listing.objects.filter(link="unlinked").count()
    sold = "sold before it was received"
    alerts = standing().count()
    late = late_transfers(day)
    past = "past its expected date"
    return [
        Wait("Shelf", late, "transfer is late", "transfers are late", "/shelf/transfers?state=open", "wrong", past),
        Wait("Shelf", alerts, "item is below its alert level", "items are below their alert level", "/buying?show=alert", "look"),
        Wait("Shelf", below, "balance is below zero", "balances are below zero", "/shelf?show=short", "wrong", sold),
        Wait("Shelf", expiring, "lot expires within 60 days", "lots expire within 60 days", "/shelf", "look"),
        Wait("Range", unlinked, "listing is not paired", "listings are not paired", "/range/pairing", "look", "not updated"),
    ]
