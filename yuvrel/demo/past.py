"""The simulated history as rows: orders, moves, costs, and the monthly entries that agree with them."""

from __future__ import annotations

import calendar
import random
from collections import defaultdict
from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from django.db import connection
from django.db.models import Model
from django.utils import timezone
from psycopg import sql
from psycopg.types.json import Json

from yuvrel.books.actions import account_ids
from yuvrel.books.models import JournalEntry, JournalLine, LedgerDocument
from yuvrel.catalogue.models import Item
from yuvrel.channels.models import Connection
from yuvrel.core.money import ZERO, round_unit_cost, split_tax
from yuvrel.core.postings import Line, Role, balanced
from yuvrel.documents.columns import from_document
from yuvrel.documents.registry import Ref
from yuvrel.people.models import Location
from yuvrel.sales.models import Customer, Invoice, OrderLine, SalesOrder, Shipment, ShipmentLine
from yuvrel.sales.rules import order_rules_of
from yuvrel.stock.models import CostChange, ItemCost, Lot, StockMove

from .history import Basket, History, Move
from .range import BY_SKU, CLUBS, FIRST, LAST, TOWNS

TAX = Decimal(23)
POSTAGE = Decimal("6.90")
Sums = dict[date, dict[str, Decimal]]


def _bulk(rows: Sequence[Model]) -> list[Any]:
    """Write rows and give them their ids: by COPY, because 250,000 rows through INSERT took a minute."""
    if not rows:
        return []
    meta = type(rows[0])._meta
    fields = list(meta.concrete_fields)
    stamped = {f.attname for f in fields if getattr(f, "auto_now_add", False)}
    packed = {f.attname for f in fields if f.get_internal_type() == "JSONField"}
    attributes = [f.attname for f in fields]
    now = timezone.now()
    with connection.cursor() as cursor:
        cursor.execute("SELECT nextval(pg_get_serial_sequence(%s, 'id')) FROM generate_series(1, %s)", [meta.db_table, len(rows)])
        for row, (key,) in zip(rows, cursor.fetchall(), strict=True):
            row.pk = key
        names = sql.SQL(", ").join(sql.Identifier(str(f.column)) for f in fields)
        statement = sql.SQL("COPY {} ({}) FROM STDIN").format(sql.Identifier(meta.db_table), names)
        with cursor.copy(statement) as copy:
            for row in rows:
                values = row.__dict__
                copy.write_row([now if a in stamped else Json(values[a]) if a in packed else values[a] for a in attributes])
    return list(rows)


class Past:
    """Writes a History."""

    def __init__(self, history: History, items: dict[str, Item], connections: dict[str, Connection]) -> None:
        self.history = history
        self.items = items
        self.connections = connections
        self.places = {place.code: place for place in Location.objects.all()}
        self.zone = ZoneInfo("Europe/Dublin")
        self.random = random.Random(7)
        self.sales: Sums = defaultdict(lambda: defaultdict(Decimal))

    def at(self, day: date, hour: float) -> datetime:
        """A moment of a company day."""
        return datetime.combine(day, time(), self.zone) + timedelta(hours=hour)

    def write(self) -> None:
        """Everything, in bulk."""
        customers = self.customers()
        orders = self.orders(customers)
        self.lines(orders)
        self.moves(orders)
        self.costs()
        with connection.cursor() as cursor:
            # Without fresh statistics the planner walks these new tables row by row.
            cursor.execute("ANALYZE")

    def customers(self) -> list[Customer]:
        """Shoppers and clubs; clubs buy on account."""
        people = [
            Customer(
                name=f"{first} {last}",
                email=f"{first}.{last}@post.example".lower(),
                address={"street": f"{3 + n % 60} Weir Row", "city": TOWNS[n % len(TOWNS)], "country": "IE"},
                external_key=f"history:{n}",
            )
            for n, (first, last) in enumerate((f, k) for f in FIRST for k in LAST)
        ]
        clubs = [
            Customer(
                name=name,
                email=f"club{n}@clubs.example",
                on_account=True,
                external_key=f"club:{n}",
                address={"street": "Club House", "city": TOWNS[n % len(TOWNS)], "country": "IE"},
            )
            for n, name in enumerate(CLUBS)
        ]
        return _bulk(people + clubs)

    def orders(self, customers: list[Customer]) -> list[SalesOrder]:
        """One closed order per basket."""
        rows = []
        rules = order_rules_of(self.connections.values())
        for number, basket in enumerate(self.history.baskets):
            till = basket.place != "tannery-yard"
            connection = self.connections[basket.place]
            customer = None if till else customers[self.random.randrange(len(customers))]
            if basket.club is not None:
                customer = customers[basket.club - len(CLUBS)]
            rows.append(
                SalesOrder(
                    connection=connection,
                    kind="till" if till else "order",
                    external_id=f"h{number}",
                    external_number=f"{10000 + number}",
                    external_version=1,
                    number=f"{rules[connection.pk].prefix}H{10000 + number}",
                    state="closed",
                    location=self.places[basket.place],
                    customer=customer,
                    currency="EUR",
                    ship_to=customer.address if customer else {},
                    total=self.total(basket),
                    net=self.net(basket),
                    history=True,
                    paid=not (customer and customer.on_account),
                    placed_at=self.at(basket.day, basket.hour),
                )
            )
        return _bulk(rows)

    def goods(self, basket: Basket) -> Decimal:
        """Price with tax of what was bought."""
        return sum((BY_SKU[sku].price * units for sku, units, _ in basket.lines), ZERO)

    def postage(self, basket: Basket) -> Decimal:
        """Posted orders below 120 pay postage."""
        return POSTAGE if basket.place == "tannery-yard" and self.goods(basket) < 120 else ZERO

    def total(self, basket: Basket) -> Decimal:
        """What was paid."""
        return self.goods(basket) + self.postage(basket)

    def net(self, basket: Basket) -> Decimal:
        """What its lines come to without tax, each line rounded."""
        amounts = [BY_SKU[sku].price * units for sku, units, _ in basket.lines] + [self.postage(basket)]
        return sum((split_tax(amount, TAX)[0] for amount in amounts), ZERO)

    def lines(self, orders: list[SalesOrder]) -> None:
        """Lines, shipments and invoices of every order."""
        lines: list[OrderLine] = []
        costs: list[Decimal | None] = []
        for order, basket in zip(orders, self.history.baskets, strict=True):
            for sku, units, cost in basket.lines:
                lines.append(self.line(order, basket.day, "item", BY_SKU[sku].title, BY_SKU[sku].price * units, units, sku))
                costs.append(cost)
            if self.postage(basket):
                lines.append(self.line(order, basket.day, "shipping", "Postage", POSTAGE, 1))
                costs.append(None)
        _bulk(lines)
        shipments = _bulk(
            [
                Shipment(order=o, number=o.number, carrier="" if o.kind == "till" else "Packhorse", shipped_at=o.placed_at)
                for o in orders
            ]
        )
        by_order = {s.order_id: s for s in shipments}
        _bulk(
            [
                ShipmentLine(shipment=by_order[line.order_id], order_line=line, quantity=line.quantity, cost=cost)
                for line, cost in zip(lines, costs, strict=True)
                if cost is not None
            ]
        )
        tax: dict[int, Decimal] = defaultdict(Decimal)
        for line in lines:
            tax[line.order_id] += line.tax
        _bulk(
            [
                Invoice(
                    shipment=s,
                    number=s.number,
                    issued_on=o.placed_at.date(),
                    net=o.total - tax[o.pk],
                    tax=tax[o.pk],
                    total=o.total,
                )
                for s, o in zip(shipments, orders, strict=True)
            ]
        )

    def line(self, order: SalesOrder, day: date, kind: str, title: str, gross: Decimal, units: int, sku: str = "") -> OrderLine:
        """One invoiced line; its net and tax go into the month's sums."""
        net, tax = split_tax(gross, TAX)
        month = self.sales[day.replace(day=1)]
        month["sales" if kind == "item" else "shipping"] += net
        month["tax"] += tax
        return OrderLine(
            order=order,
            kind=kind,
            item=self.items.get(sku),
            sku=sku,
            title=title,
            quantity=units,
            net=net,
            tax=tax,
            tax_percent=TAX,
            shipped=units,
            invoiced=units,
            invoiced_net=net,
            invoiced_tax=tax,
        )

    def moves(self, orders: list[SalesOrder]) -> None:
        """Every move, lots leaving in the order in which they expire."""
        lots = {
            key: row
            for key, row in zip(
                self.history.lots,
                _bulk([Lot(item=self.items[sku], code=code, expires_on=day) for (sku, code), day in self.history.lots.items()]),
                strict=True,
            )
        }
        left: dict[tuple[str, str], list[list[Any]]] = defaultdict(list)
        newest: dict[tuple[str, str], Lot] = {}
        rows: list[StockMove] = []
        for move in self.history.moves:
            if not BY_SKU[move.sku].expiry:
                rows.append(self.move(move, orders, move.quantity, move.value, None))
            elif move.quantity > 0:
                lot = lots[move.sku, move.lot] if move.lot else newest[move.sku, move.place]
                newest[move.sku, move.place] = lot
                left[move.sku, move.place].append([lot, move.quantity])
                rows.append(self.move(move, orders, move.quantity, move.value, lot))
            else:
                rows += self.lot_moves(move, orders, left[move.sku, move.place])
        _bulk(rows)

    def lot_moves(self, move: Move, orders: list[SalesOrder], queue: list[list[Any]]) -> list[StockMove]:
        """An issue split over lots."""
        rows, wanted, value = [], -move.quantity, move.value
        while wanted:
            lot, units = queue[0]
            part = min(units, wanted)
            share = value if part == wanted else (move.value * part / -move.quantity).quantize(Decimal("0.01"))
            rows.append(self.move(move, orders, -part, share, lot))
            value -= share
            wanted -= part
            queue[0][1] -= part
            if not queue[0][1]:
                queue.pop(0)
        return rows

    def move(self, move: Move, orders: list[SalesOrder], units: int, value: Decimal, lot: Lot | None) -> StockMove:
        """A row; moves of an order point at it."""
        order = orders[move.order] if move.order >= 0 else None
        return StockMove(
            item=self.items[move.sku],
            location=self.places[move.place],
            lot=lot,
            quantity=units,
            value=value,
            reason=move.reason,
            document=order.number if order else move.document,
            **from_document(Ref("order", order.pk) if order else None),
            happened_at=self.at(move.day, move.hour),
        )

    def costs(self) -> None:
        """Cost states and their history."""
        _bulk(
            [
                ItemCost(
                    item=self.items[sku],
                    quantity=state.quantity,
                    value=state.value,
                    last_average=state.average,
                    last_cost=self.history.last_cost[sku],
                )
                for sku, state in self.history.costs.items()
            ]
        )
        _bulk(
            [
                CostChange(
                    item=self.items[c.sku],
                    at=self.at(c.day, 8.5),
                    cause=c.cause,
                    document=c.document,
                    quantity=c.quantity,
                    value=c.value,
                    quantity_before=c.before.quantity,
                    value_before=c.before.value,
                    average_before=c.before.average,
                    average_after=round_unit_cost(c.after.average),
                )
                for c in self.history.changes
            ]
        )

    def journal(self) -> list[dict[str, Any]]:
        """A month's entries for each month; returns them as the outside ledger holds them."""
        months = sorted({month for month, _ in self.history.monthly} | set(self.sales))
        told: list[dict[str, Any]] = []
        received, grossed = ZERO, ZERO
        for month in months:
            last = month.replace(day=calendar.monthrange(month.year, month.month)[1])
            day = min(last, timezone.now().date() - timedelta(days=1))
            for kind, memo, lines in self.month(month, received, grossed):
                told.append(self.entry(day if kind != "opening" else self.history.start, kind, memo, lines))
            received = sum(self.history.monthly[month, "receipt"].values(), ZERO)
            grossed = sum(self.sales[month].values(), ZERO)
        return [row for row in told if row]

    def month(self, month: date, received: Decimal, grossed: Decimal) -> list[tuple[str, str, list[Line]]]:
        """What a month's entries say; last month's deliveries are billed and paid, last month's sales paid out."""

        def stock(kind: str, other: Role, sign: int) -> list[Line]:
            rows = self.history.monthly.get((month, kind), {})
            lines = [Line(Role.INVENTORY, sign * v, self.items[sku].pk) for sku, v in sorted(rows.items())]
            return [*lines, Line(other, -sum((line.amount for line in lines), ZERO))]

        sold = self.sales[month]
        tax_in = (received * TAX / 100).quantize(Decimal("0.01"))
        fees = (grossed * Decimal("0.018")).quantize(Decimal("0.01"))
        return [
            ("opening", "opening stock", stock("opening", Role.OPENING, 1)),
            ("summary", "deliveries of the month", stock("receipt", Role.RECEIVED_NOT_BILLED, 1)),
            (
                "summary",
                "sales of the month",
                [
                    Line(Role.CLEARING, sum(sold.values(), ZERO)),
                    Line(Role.SALES, -sold["sales"]),
                    Line(Role.SHIPPING_INCOME, -sold["shipping"]),
                    Line(Role.OUTPUT_TAX, -sold["tax"]),
                ],
            ),
            ("summary", "cost of sales of the month", stock("cost", Role.COST_OF_SALES, -1)),
            ("summary", "goods that came back", stock("returned", Role.COST_OF_SALES, 1)),
            (
                "summary",
                "suppliers' bills",
                [
                    Line(Role.RECEIVED_NOT_BILLED, received),
                    Line(Role.INPUT_TAX, tax_in),
                    Line(Role.PAYABLE, -(received + tax_in)),
                ],
            ),
            ("summary", "suppliers paid", [Line(Role.PAYABLE, received + tax_in), Line(Role.BANK, -(received + tax_in))]),
            (
                "summary",
                "channels paid out, less their fees",
                [Line(Role.BANK, grossed - fees), Line(Role.DISCOUNTS, fees), Line(Role.CLEARING, -grossed)],
            ),
        ]

    def entry(self, day: date, kind: str, memo: str, lines: list[Line]) -> dict[str, Any]:
        """One entry, already in the outside ledger."""
        kept = balanced(lines)
        if not kept:
            return {}
        entry = JournalEntry.objects.create(kind=kind, date=day, document=f"BF-{day:%Y-%m}", memo=memo)
        ids = account_ids()
        JournalLine.objects.bulk_create(
            JournalLine(entry=entry, account_id=ids[line.role], item_id=line.item_id, amount=line.amount) for line in kept
        )
        number = f"J-{entry.pk}"
        LedgerDocument.objects.create(
            entry=entry, kind="journal", number=number, state="sent", external_id=f"d-{number}", sent_at=timezone.now()
        )
        return {"number": number, "date": day.isoformat(), "memo": f"{entry.document} {memo}", "lines": kept}
