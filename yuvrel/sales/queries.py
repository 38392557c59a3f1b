"""Reading orders, and what each earned."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from django.apps import apps
from django.db.models import Count, Exists, Max, OuterRef, Q, QuerySet, Sum
from django.db.models.functions import TruncDate
from django.utils import timezone

from yuvrel.catalogue.kits import kits, parts_of
from yuvrel.catalogue.obstacles import Obstacle, look_for
from yuvrel.core.errors import NotFoundError
from yuvrel.core.money import ZERO, round_money, spoken
from yuvrel.core.orders import Profit, profit
from yuvrel.core.working import Step, Working
from yuvrel.people.queries import company_day
from yuvrel.platform.faults import figure_or, sheet_rows
from yuvrel.platform.paging import in_order, page
from yuvrel.stock.models import ItemCost

from .documents import TO_LEAVE
from .models import CreditNote, OrderLine, Reservation, ReturnPart, SalesOrder, ShipmentLine
from .rules import OrderRules, handlers, order_rules_of
from .schemas import OrderRow

# The orders that an index has: there may be hundreds of thousands, and a sheet's first page is there at once.
SORTS = {"placed": "placed_at", "number": "number", "total": "total"}
Earnings = Callable[[SalesOrder], Profit]
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
    rows, following = page(found, order, cursor, limit)
    ids = [row.pk for row in rows]
    units = dict(
        OrderLine.objects.filter(order_id__in=ids, kind__in=("item", "service"))
        .values_list("order_id")
        .annotate(units=Sum("quantity"))
        .order_by()
    )
    waiting = Reservation.objects.filter(line__order_id__in=ids, state="backorder").values_list("line__order_id")
    owed = waiting.annotate(units=Sum("quantity"), day=Max("line__promised_on")).order_by()
    backordered = {order: (units, day) for order, units, day in owed}
    rules = rules_for(rows)
    earns, names = earnings(rows, rules), handler_names(rules)
    counts = dict(SalesOrder.objects.filter(state__in=TO_LEAVE).values_list("state").annotate(n=Count("id")).order_by())
    return {
        "rows": sheet_rows(OrderRow, rows, lambda row: _row(row, units, backordered, earns) | names[row.connection_id], _known),
        "next": following,
        "counts": counts,
        "total": None if cursor else _total(asked),
    }


def handler_names(rules: Rules) -> dict[int, dict[str, str]]:
    """Who handles the orders of each connection, as a field of their rows."""
    people = dict(handlers()) if any(one.handled_by for one in rules.values()) else {}
    return {pk: {"handled_by": people.get(one.handled_by, one.handled_by)} for pk, one in rules.items()}


def _row(
    row: SalesOrder,
    units: Mapping[int, Decimal],
    backordered: Mapping[int, tuple[Decimal, date | None]],
    earns: Earnings,
) -> dict[str, Any]:
    owed, promised = backordered.get(row.pk, (ZERO, None))
    return {
        "id": row.pk,
        "number": row.number,
        "kind": row.kind,
        "channel": row.connection.name,
        "customer": row.customer.name if row.customer else "",
        "location": row.location.name,
        "placed_at": row.placed_at,
        "state": row.state,
        "held_because": row.held_because,
        "units": units.get(row.pk, ZERO),
        "backordered": owed,
        "promised_on": promised,
        "send_by": row.send_by,
        "due": _due(row),
        "total": row.total,
        "currency": row.currency,
        "margin_percent": earns(row).margin_percent,
    }


def _due(row: SalesOrder) -> str:
    """Whether an order has to leave *today*, or is *late*; empty when neither."""
    if row.send_by is None or row.state not in TO_LEAVE:
        return ""
    today = company_day(timezone.now())
    return "late" if row.send_by < today else "today" if row.send_by == today else ""


def _known(row: SalesOrder) -> dict[str, Any]:
    known = {"id": row.pk, "number": row.number, "kind": row.kind, "state": row.state, "placed_at": row.placed_at}
    return {**known, "currency": row.currency}


def _total(found: QuerySet[SalesOrder]) -> Decimal | None:
    """What all orders of a filter come to, with tax; None where they are too many to add up while somebody waits."""
    added = found.order_by().values("pk", "total")[: MOST_ADDED + 1].aggregate(n=Count("pk"), total=Sum("total"))
    return figure_or(lambda: added["total"] or ZERO, "The total of these orders") if added["n"] <= MOST_ADDED else None


@dataclass(frozen=True)
class _Costs:
    """Cost of each line: of what left, at the cost it left with; of the rest, at today's average."""

    left: dict[int, Decimal]
    average: dict[int, Decimal]
    kits: dict[int, list[tuple[int, Decimal]]]
    back: dict[int, Decimal]

    def of(self, line: OrderLine) -> Decimal:
        open_units = line.quantity - line.shipped
        cost = self.left.get(line.pk, ZERO)
        if line.item_id and open_units:
            parts = parts_of(self.kits, line.item_id)
            cost += sum((round_money(self.average.get(i, ZERO) * each * open_units) for i, each in parts), ZERO)
        return cost


def _costs(lines: Iterable[OrderLine]) -> _Costs:
    listed = list(lines)
    left = dict(
        ShipmentLine.objects.filter(order_line__in=listed).values_list("order_line_id").annotate(c=Sum("cost")).order_by()
    )
    items = {line.item_id for line in listed if line.item_id}
    made = kits(items)
    parts = items | {part for rows in made.values() for part, _ in rows}
    average = dict(ItemCost.objects.filter(item_id__in=parts).values_list("item_id", "last_average"))
    came = ReturnPart.objects.filter(line__order_line__in=[line for line in listed if line.returned])
    ours = came.exclude(kind=ReturnPart.Kind.WRITTEN_OFF).values_list("line__order_line").annotate(v=Sum("value")).order_by()
    return _Costs(left, average, made, dict(ours) if any(line.returned for line in listed) else {})


Rules = Mapping[int, OrderRules]


def rules_for(rows: Iterable[SalesOrder]) -> Rules:
    """What is set about the orders of the connections of some orders, by connection."""
    return order_rules_of({row.connection_id: row.connection for row in rows}.values())


def earnings(rows: Sequence[SalesOrder], rules: Rules | None = None) -> Earnings:
    """What is needed to say what each of some orders earns, read in a fixed number of queries; `rules`: as `rules_for`,
    where they have been read.

    Each is worked out when it is asked for, so that one that cannot be does not take the others along.
    """
    lines = list(OrderLine.objects.filter(order__in=rows))
    costs = _costs(lines)
    by_order: dict[int, list[OrderLine]] = defaultdict(list)
    for line in lines:
        by_order[line.order_id].append(line)
    known = rules_for(rows) if rules is None else rules
    credited = {line.order_id for line in lines if line.credited_net}
    notes = CreditNote.objects.filter(order__in=credited).values_list("order_id").annotate(net=Sum("net")).order_by()
    given: dict[int, Decimal] = dict(notes) if credited else {}

    def earned(row: SalesOrder) -> Profit:
        back = given.get(row.pk, ZERO)
        return _profit(row, _earning(row, by_order[row.pk]), costs, known[row.connection_id], back)

    return earned


def _earning(row: SalesOrder, lines: Sequence[OrderLine]) -> Sequence[OrderLine]:
    """The lines that an order earns by: of one that was cancelled only what had left by then."""
    return [line for line in lines if line.invoiced] if row.state == SalesOrder.State.CANCELLED else lines


def _profit(row: SalesOrder, lines: Sequence[OrderLine], costs: _Costs, rules: OrderRules, given: Decimal) -> Profit:
    def net(*kinds: str) -> Decimal:
        return sum((line.net for line in lines if line.kind in kinds), ZERO)

    return profit(
        goods=net("item", "service"),
        discount=-net("discount"),
        charged=net("shipping", "surcharge"),
        cost=sum((costs.of(line) for line in lines), ZERO),
        basis="moving average cost",
        fee_rate=rules.fee_percent,
        fee_fixed=rules.fee_fixed if lines else ZERO,
        gross=row.total if row.state != SalesOrder.State.CANCELLED else sum((line.net + line.tax for line in lines), ZERO),
        penalty=row.penalty,
        credited=given,
        cost_back=sum((costs.back.get(line.pk, ZERO) for line in lines), ZERO),
        subject=f"Order {row.number}",
    )


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
    """Committed as the sum of open reservations."""
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
    waiting = [row for row in rows if row.state == "backorder"]
    steps.append(Step("Committed", sum((r.quantity for r in rows if r.state == "open"), ZERO), kind="result"))
    note = ""
    if waiting:
        note = f"Also backordered: {', '.join(f'{spoken(r.quantity)} on {r.line.order.number}' for r in waiting[:5])}."
    subject = f"{rows[0].item.title} · {rows[0].location.name}" if rows else ""
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
