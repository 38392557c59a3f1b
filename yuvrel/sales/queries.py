"""Reading orders, and what each earned."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import partial
from typing import Any

from django.apps import apps
from django.db.models import Count, Exists, Max, OuterRef, Q, QuerySet, Sum
from django.db.models.functions import TruncDate
from django.utils import timezone

from yuvrel.catalogue.models import Item
from yuvrel.catalogue.obstacles import Obstacle, look_for
from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO, spoken
from yuvrel.core.working import Step, Working
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.platform.columns import Many
from yuvrel.platform.faults import Beside, Column, beside_of, figure_or, kept_of, rows_by_column
from yuvrel.platform.paging import asked_fields, in_order, is_asked, page_of_values
from yuvrel.stock.holding import reserved_of

from .documents import TO_LEAVE
from .earnings import Earnings, Rules, earnings, rules_for
from .models import OrderLine, Reservation, SalesOrder
from .rules import handlers, order_rules_of
from .schemas import OrderRow

# The orders that an index has: there may be hundreds of thousands, and a sheet's first page is there at once.
SORTS = {"placed": "placed_at", "number": "number", "total": "total"}
# Of more orders than this the total is not added up for a sheet.
MOST_ADDED = 5000


def handled() -> dict[int, str]:
    """Who handles the orders of each connection, by sign-in name; nobody is the empty name."""
    connections = apps.get_model("channels", "Connection").objects.all()
    return {pk: rules.handled_by for pk, rules in order_rules_of(connections).items()}


def orders(q: str, state: str, connection: int | None, handler: str = "") -> QuerySet[SalesOrder]:
    """Orders under a filter; `handler`: the sign-in name of who handles them; the state 'waiting' means everything still to
    be shipped, 'due' what of it has to leave today or should have left, 'back' cancelled ones whose goods are to be put
    back."""
    rows = SalesOrder.objects.select_related("connection", "customer", "location")
    if state == "waiting":
        rows = rows.filter(state__in=TO_LEAVE)
    elif state == "due":
        rows = due(company_day(timezone.now())).select_related("connection", "customer", "location")
    elif state == "back":
        rows = rows.filter(pk__in=to_put_back())
    elif state:
        rows = rows.filter(state=state)
    if connection:
        rows = rows.filter(connection_id=connection)
    if handler:
        rows = rows.filter(connection_id__in=[pk for pk, name in handled().items() if name == handler])
    for word in q.split()[:6]:
        rows = rows.filter(
            Q(number__icontains=word)
            | Q(customer__name__icontains=word)
            | Q(pk__in=OrderLine.objects.filter(sku__iexact=word).values("order_id"))
        )
    return rows


def to_put_back() -> QuerySet[SalesOrder]:
    """Cancelled orders that still reserve goods: they are to be put back on the shelf."""
    waiting = Reservation.objects.filter(line__order=OuterRef("pk"), state=Reservation.State.OPEN)
    return SalesOrder.objects.filter(Exists(waiting), state=SalesOrder.State.CANCELLED)


def due(day: date) -> QuerySet[SalesOrder]:
    """Orders still to be shipped that have to leave on a day, or should have left before."""
    return SalesOrder.objects.filter(state__in=TO_LEAVE, send_by__lte=day)


def order_sheet(
    q: str, state: str, connection: int | None, cursor: str, limit: int, sort: str = "", handler: str = ""
) -> dict[str, Any]:
    """A page of orders with units, what is backordered and the margin of each."""
    asked = orders(q, state, connection, handler)
    found, order = in_order(asked, sort, SORTS, ["-placed_at", "-id"])
    rows, following = page_of_values(found, order, cursor, limit, ROW)
    beside = beside_of(BESIDE, Many(row.pk for row in rows))
    rules = rules_for({row.connection_id for row in rows})
    earns = earnings(rows if is_asked("margin_percent") else [], rules)
    names = handler_names(rules)
    counts = dict(SalesOrder.objects.filter(state__in=TO_LEAVE).values_list("state").annotate(n=Count("id")).order_by())
    return {
        "rows": rows_by_column(OrderRow, rows, lambda some: _columns(some, earns, names) | beside(some), _known),
        "next": following,
        "counts": counts,
        "total": None if cursor or asked_fields() is not None else _total(asked),
    }


def handler_names(rules: Rules) -> dict[int, str]:
    """Who handles the orders of each connection."""
    people = dict(handlers()) if any(one.handled_by for one in rules.values()) else {}
    return {pk: people.get(one.handled_by, one.handled_by) for pk, one in rules.items()}


def _units(ids: Many) -> dict[int, Decimal]:
    """How many units of goods and services each order is of."""
    goods = OrderLine.objects.filter(order_id__any_of=ids, kind__in=("item", "service")).order_by()
    return dict(goods.values_list("order_id").annotate(units=Sum("quantity")))


def _owed(ids: Many) -> QuerySet[Reservation, Any]:
    rows = Reservation.objects.filter(line__order_id__any_of=ids, state=Reservation.State.BACKORDER)
    return rows.values_list("line__order_id").order_by()


def _backordered(ids: Many) -> dict[int, Decimal]:
    """Units that each order is still owed."""
    return dict(_owed(ids).annotate(units=Sum("quantity")))


def _promised(ids: Many) -> dict[int, date | None]:
    """The day for which the last of what is owed was promised."""
    return dict(_owed(ids).annotate(day=Max("line__promised_on")))


# What a row of the sheet is made of, and what of it is said as it is kept.
AS_KEPT = {
    "id": "pk",
    "channel": "connection__name",
    "location": "location__name",
    **{name: name for name in ("number", "kind", "placed_at", "state", "held_because", "send_by", "total", "currency")},
}
ROW = (*(kept for kept in AS_KEPT.values() if kept != "pk"), "customer__name", "connection_id", "penalty")
BESIDE: Beside = {
    "units": (_units, ZERO),
    "backordered": (_backordered, ZERO),
    "promised_on": (_promised, None),
}


def _columns(rows: Sequence[Any], earns: Earnings, names: Mapping[int, str]) -> dict[str, Column]:
    def due() -> list[str]:
        today = company_day(timezone.now())
        return [_due(row, today) for row in rows]

    return {
        **{name: partial(kept_of, rows, kept) for name, kept in AS_KEPT.items()},
        "customer": lambda: [row.customer__name or "" for row in rows],
        "handled_by": lambda: [names[row.connection_id] for row in rows],
        "due": due,
        "margin_percent": lambda: [earns(row).margin_percent for row in rows],
    }


def _due(row: Any, today: date) -> str:
    """Whether an order has to leave *today*, or is *late*; empty when neither."""
    if row.send_by is None or row.state not in TO_LEAVE:
        return ""
    return "late" if row.send_by < today else "today" if row.send_by == today else ""


def _known(row: Any) -> dict[str, Any]:
    known = {"id": row.pk, "number": row.number, "kind": row.kind, "state": row.state, "placed_at": row.placed_at}
    return {**known, "currency": row.currency}


def _total(found: QuerySet[SalesOrder]) -> Decimal | None:
    """What all orders of a filter come to, with tax; None where they are too many to add up while somebody waits."""
    added = found.order_by().values("pk", "total")[: MOST_ADDED + 1].aggregate(n=Count("pk"), total=Sum("total"))
    return figure_or(lambda: added["total"] or ZERO, "The total of these orders") if added["n"] <= MOST_ADDED else None


def get_order(order_id: int) -> SalesOrder:
    """The order. Raises NotFoundError."""
    row = SalesOrder.objects.select_related("connection", "customer", "location").filter(pk=order_id).first()
    if row is None:
        raise NotFoundError("There is no such order.")
    return row


def short_order(order: SalesOrder) -> dict[str, Any]:
    """An order among others of a customer."""
    names = ("number", "state", "placed_at", "total", "currency")
    return {"id": order.pk, "channel": order.connection.name, **{name: getattr(order, name) for name in names}}


def profit_working(order_id: int) -> Working:
    """The sum behind an order's contribution."""
    row = get_order(order_id)
    return earnings([row])(row).working


def total_working(order_id: int) -> Working:
    """An order's total as the sum of its lines."""
    row = get_order(order_id)
    lines = list(row.lines.order_by("pk"))
    steps = [Step(line.title, line.net + line.tax, f"{spoken(line.quantity)} × {line.kind}", op="+") for line in lines]
    booked = sum((line.net + line.tax for line in lines), ZERO)
    steps.append(Step("Lines here", booked, kind="subtotal"))
    says, order = f"{row.connection.name} says", f"order {row.external_number}"
    if row.stated_total is not None:
        steps.append(Step(says, row.stated_total, order, unit=row.stated_currency))
        steps.append(Step("Rate", row.rate, f"{row.stated_currency} for one {row.currency}, of {row.placed_at:%d %b %Y}", op="÷"))
        says, order = "In our currency", ""
    steps.append(Step(says, row.total, order, kind="result", unit=row.currency))
    tax = sum((line.tax for line in lines), ZERO)
    note = f"Of this {tax} is tax." if booked == row.total else f"They differ by {booked - row.total}."
    return Working("Does it add up?", f"Order {row.number}", tuple(steps), note)


def committed_working(item_id: int, location_id: int) -> Working:
    """Committed as the sum of open reservations, of orders and of other documents."""
    rows = (
        Reservation.objects.filter(item_id=item_id, location_id=location_id, state__in=("open", "backorder"))
        .select_related("line__order", "item", "location")
        .order_by("pk")
    )
    steps = [
        Step(row.line.order.number, row.quantity, row.line.title, op="+", link=f"/orders/{row.line.order_id}")
        for row in rows
        if row.state == "open"
    ]
    steps += [
        Step(row.document, row.quantity, "reserved for it", op="+", link=row.link) for row in reserved_of(item_id, location_id)
    ]
    waiting = [row for row in rows if row.state == "backorder"]
    steps.append(Step("Committed", sum((step.value for step in steps if isinstance(step.value, Decimal)), ZERO), kind="result"))
    note = ""
    if waiting:
        note = f"Also backordered: {', '.join(f'{spoken(r.quantity)} on {r.line.order.number}' for r in waiting[:5])}."
    item, place = Item.objects.filter(pk=item_id).first(), Location.objects.filter(pk=location_id).first()
    subject = f"{item.title} · {place.name}" if item and place else ""
    return Working("Who has these?", subject, tuple(steps), note)


def _placed(start: datetime, end: datetime) -> QuerySet[SalesOrder]:
    """Orders placed in a span, cancelled ones left out."""
    return SalesOrder.objects.filter(placed_at__gte=start, placed_at__lt=end).exclude(state="cancelled").order_by()


def sales_between(start: datetime, end: datetime) -> tuple[int, Decimal]:
    """(orders, net revenue) placed in a span, cancelled ones left out."""
    found = _placed(start, end).aggregate(orders=Count("*"), net=Sum("net"))
    return found["orders"], found["net"] or ZERO


def daily_sales(start: datetime, days: int) -> list[tuple[datetime, Decimal]]:
    """Net revenue of each of `days` days from `start`, a midnight of the company's."""
    by_day = _placed(start, start + timedelta(days=days)).annotate(day=TruncDate("placed_at", tzinfo=start.tzinfo))
    sums = dict(by_day.values_list("day").annotate(n=Sum("net")))
    listed = [start + timedelta(days=i) for i in range(days)]
    return [(day, sums.get(day.date(), ZERO)) for day in listed]


@look_for
def order_obstacles(item_id: int) -> list[Obstacle]:
    """Orders that wait for an item."""
    rows = OrderLine.objects.filter(item_id=item_id, order__state__in=TO_LEAVE).select_related("order").order_by("order_id")[:5]
    return [Obstacle(f"Order {row.order.number} waits for it.", f"/orders/{row.order_id}") for row in rows]
