"""Reading purchase orders."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import date, timedelta
from decimal import Decimal
from functools import cache
from typing import Any

from django.db.models import F, Q, QuerySet
from django.utils import timezone

from yuvrel.books.rates import rate_on
from yuvrel.catalogue.obstacles import Obstacle, look_for
from yuvrel.catalogue.pictures import first_of
from yuvrel.core.errors import NotFoundError, RefusedError
from yuvrel.core.money import ZERO, round_money
from yuvrel.core.purchases import Purchase, PurchasedLine, purchase
from yuvrel.core.working import Working
from yuvrel.documents.queries import time_line
from yuvrel.documents.registry import kind_of
from yuvrel.people.queries import company, company_day
from yuvrel.platform.faults import figure_or, sheet_rows
from yuvrel.platform.paging import in_order, page

from .models import GoodsReceipt, PurchaseLine, PurchaseOrder, SupplierItem
from .schemas import PurchaseLineOut, PurchaseRow

SORTS = {
    "number": "number",
    "supplier": "supplier__name",
    "place": "location__name",
    "expected": "expected_on",
    "made": "made_at",
    "state": "state",
}
OPEN = ("sent", "acknowledged", "part-received")
MOST_ALSO_OPEN = 6


def orders(q: str, state: str) -> QuerySet[PurchaseOrder]:
    """Purchase orders under a filter; 'open' means sent and not all received."""
    rows = PurchaseOrder.objects.select_related("supplier", "location").prefetch_related("lines")
    if state == "open":
        rows = rows.filter(state__in=OPEN)
    elif state:
        rows = rows.filter(state=state)
    for word in q.split()[:6]:
        rows = rows.filter(Q(number__icontains=word) | Q(supplier__name__icontains=word))
    return rows


def row_of(order: PurchaseOrder, today: date) -> dict[str, Any]:
    """An order as a row."""
    return {
        "id": order.pk,
        "number": order.number,
        "supplier": order.supplier.name,
        "location": order.location.name,
        "state": order.state,
        "currency": order.currency,
        "total": total(order),
        "lines": len(order.lines.all()),
        "made_at": order.made_at,
        "expected_on": order.expected_on,
        "late": order.state in OPEN and order.expected_on < today,
    }


def total(order: PurchaseOrder) -> Decimal:
    """Sum of the lines, each rounded to the cent, in the order's currency."""
    return sum((round_money(line.quantity * line.price, order.currency) for line in order.lines.all()), ZERO)


def sheet(q: str, state: str, cursor: str, limit: int, today: date, sort: str = "") -> dict[str, Any]:
    """A page of purchase orders, newest first."""
    found, order = in_order(orders(q, state), sort, SORTS, ["-id"])
    rows, following = page(found, order, cursor, limit)
    return {"rows": sheet_rows(PurchaseRow, rows, lambda row: row_of(row, today), _known), "next": following}


def _known(order: PurchaseOrder) -> dict[str, Any]:
    known = {"id": order.pk, "number": order.number, "state": order.state, "currency": order.currency}
    return {**known, "made_at": order.made_at, "expected_on": order.expected_on}


def get_order(order_id: int) -> PurchaseOrder:
    """The order. Raises NotFoundError."""
    order = orders("", "").filter(pk=order_id).first()
    if order is None:
        raise NotFoundError("There is no such purchase order.")
    return order


def order_page(order_id: int) -> dict[str, Any]:
    """A purchase order with lines and receipts."""
    order, today = get_order(order_id), company_day(timezone.now())
    packs = dict(
        SupplierItem.objects.filter(supplier=order.supplier, item__purchase_lines__order=order).values_list("item_id", "pack")
    )
    fields = (
        "id",
        "number",
        "state",
        "currency",
        "made_at",
        "sent_at",
        "delivered_at",
        "acknowledged_at",
        "expected_on",
        "supplier_reference",
        "supplier_note",
        "version",
    )
    lines, rate = _lines(order), _rate(order, today)
    pictures = first_of([line.item_id for line in lines])
    worth = cache(lambda: _purchase(order, lines, rate))
    return {
        **{name: getattr(order, name) for name in fields},
        "rate": rate,
        "came": figure_or(lambda: worth().received, f"What was received of {order.number}"),
        "to_come": figure_or(lambda: worth().to_come, f"What is to come of {order.number}"),
        "in_base": figure_or(lambda: worth().in_base, f"What is to come of {order.number}"),
        "supplier": order.supplier.name,
        "supplier_id": order.supplier_id,
        "supplier_email": order.supplier.email,
        "lead_days": order.supplier.lead_days,
        "also_open": _also_open(order),
        "location": order.location.name,
        "total": figure_or(lambda: total(order), f"The total of {order.number}"),
        "order_minimum": order.supplier.order_minimum,
        "has_inbox": order.supplier.inbox_id is not None,
        "lines": sheet_rows(
            PurchaseLineOut,
            lines,
            lambda line: (
                {"picture": pictures.get(line.item_id)} | _line(line, order.currency, packs.get(line.item_id, Decimal(1)), today)
            ),
            lambda line: {"id": line.pk, "title": line.item.title, "sku": line.item.sku, "item_id": line.item_id},
        ),
        "receipts": [_receipt(row) for row in order.receipts.prefetch_related("lines").order_by("pk")],
        "history": [asdict(one) for one in time_line(kind_of("purchase order"), order)],
    }


def _receipt(row: GoodsReceipt) -> dict[str, Any]:
    return {
        **{name: getattr(row, name) for name in ("id", "number", "received_at", "rate")},
        "units": sum((line.quantity for line in row.lines.all()), ZERO),
        "value": sum((line.value for line in row.lines.all()), ZERO),
    }


def _lines(order: PurchaseOrder) -> list[PurchaseLine]:
    return list(order.lines.select_related("item__product").order_by("pk"))


def _purchase(order: PurchaseOrder, rows: Sequence[PurchaseLine], rate: Decimal | None) -> Purchase:
    lines = [PurchasedLine(line.item.title, line.quantity, line.received, line.price) for line in rows]
    return purchase(lines, f"{order.number} to {order.supplier.name}", order.currency, company().base_currency, rate)


def _rate(order: PurchaseOrder, today: date) -> Decimal | None:
    """Units of its currency for one of the company's today; None where none is known."""
    try:
        return rate_on(order.currency, today, company().base_currency)
    except RefusedError:
        return None


def order_working(order_id: int) -> Working:
    """What is still to come of an order. Raises NotFoundError."""
    order = get_order(order_id)
    return _purchase(order, _lines(order), _rate(order, company_day(timezone.now()))).working


def _also_open(order: PurchaseOrder) -> list[dict[str, Any]]:
    """Other orders at the supplier that are not done with, the next to arrive first."""
    rows = PurchaseOrder.objects.filter(supplier=order.supplier, state__in=("draft", *OPEN)).exclude(pk=order.pk)
    fields = ("id", "number", "state", "expected_on")
    listed = rows.select_related("location").order_by("expected_on", "pk")[:MOST_ALSO_OPEN]
    return [{**{name: getattr(row, name) for name in fields}, "location": row.location.name} for row in listed]


def _line(line: PurchaseLine, currency: str, pack: Decimal, today: date) -> dict[str, Any]:
    keeps = line.item.product.shelf_life_days
    fields = ("id", "item_id", "supplier_code", "quantity", "price", "received", "confirmed")
    return {
        **{name: getattr(line, name) for name in fields},
        "sku": line.item.sku,
        "title": line.item.title,
        "amount": round_money(line.quantity * line.price, currency),
        "expiry_tracked": line.item.expiry_tracked,
        "expires_about": today + timedelta(days=keeps) if keeps and line.item.expiry_tracked else None,
        "pack": pack,
        "has_working": bool(line.working),
    }


def line_working(line_id: int) -> dict[str, Any]:
    """The Working kept with a line when it was suggested. Raises NotFoundError when there is none."""
    line = PurchaseLine.objects.filter(pk=line_id).first()
    if line is None or not line.working:
        raise NotFoundError("This line was typed in; no sum stands behind it.")
    return dict(line.working)


def late_orders(today: date) -> int:
    """Purchase orders past their day."""
    return PurchaseOrder.objects.filter(state__in=OPEN, expected_on__lt=today).count()


@look_for
def purchase_obstacles(item_id: int) -> list[Obstacle]:
    """Purchase orders on which an item is still to come."""
    rows = PurchaseLine.objects.filter(item_id=item_id, order__state__in=("draft", *OPEN), quantity__gt=F("received"))
    return [
        Obstacle(f"Purchase order {row.order.number} is to bring it.", f"/buying/orders/{row.order_id}")
        for row in rows.select_related("order").order_by("order_id")[:5]
    ]
