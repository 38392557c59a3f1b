"""The page of an order: everything about it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict
from decimal import Decimal
from typing import Any

from django.db.models import Count, Q

from yuvrel.books.models import Account, LedgerDocument
from yuvrel.catalogue.pictures import first_of
from yuvrel.core.money import ZERO, spoken
from yuvrel.documents.queries import time_line
from yuvrel.platform.faults import row_or, sheet_rows

from .allocation import ready_to_ship
from .documents import ORDER, TO_LEAVE
from .earnings import Rules, earnings, rules_for
from .models import OrderLine, Payment, Reservation, SalesOrder
from .queries import get_order, handler_names, short_order
from .return_queries import can_return, credits_of, returns_of
from .rules import OrderRules
from .schemas import LineOut


def order_page(order_id: int) -> dict[str, Any]:
    """An order with its lines, reservations, shipments and profit."""
    row = get_order(order_id)
    rules = rules_for({row.connection_id})
    lines, may_cancel = _lines(row), row.kind == SalesOrder.Kind.ORDER and row.state in TO_LEAVE
    ship_to = ", ".join(str(row.ship_to.get(k, "")) for k in ("street", "city", "country") if row.ship_to.get(k))
    return {
        "id": row.pk,
        "number": row.number,
        "external_number": row.external_number,
        "kind": row.kind,
        "channel": row.connection.name,
        "connection_id": row.connection_id,
        "customer": row.customer.name if row.customer else "",
        "customer_id": row.customer_id,
        "email": row.customer.email if row.customer else "",
        "ship_to": ship_to,
        "location": row.location.name,
        "handled_by": handler_names(rules)[row.connection_id],
        "state": row.state,
        "held_because": row.held_because,
        "cancelled_because": row.cancelled_because,
        "paid": row.paid,
        "placed_at": row.placed_at,
        "send_by": row.send_by,
        "penalty": row.penalty,
        "received_at": row.received_at,
        "currency": row.currency,
        "total": row.total,
        **{name: getattr(row, name) for name in ("stated_currency", "stated_total", "rate")},
        "lines": lines,
        "if_cancelled": list(_if_cancelled(row, lines, rules[row.connection_id])) if may_cancel else [],
        "shipments": [
            _shipment(s, rules[row.connection_id])
            for s in row.shipments.select_related("invoice").prefetch_related("lines").order_by("pk")
        ],
        "payments": _payments(row),
        "shipping_method": row.shipping_method,
        "carrier": rules[row.connection_id].carriers.get(row.shipping_method, ""),
        "net": row.net,
        "tax": sum((line.tax for line in row.lines.all()), ZERO),
        **_earned(row, rules),
        "returns": returns_of(row),
        "credits": credits_of(row.credits.order_by("pk")),  # type: ignore[attr-defined]
        "customer_orders": row.customer.orders.count() if row.customer else 0,  # type: ignore[attr-defined]
        "also_open": _also_open(row),
        "history": [asdict(one) for one in time_line(ORDER, row)],
        "then": _then(row, rules[row.connection_id]),
    }


def _lines(row: SalesOrder) -> list[LineOut]:
    held: dict[int, dict[str, Decimal]] = defaultdict(lambda: defaultdict(Decimal))
    for line_id, state, per, units in Reservation.objects.filter(line__order=row).values_list(
        "line_id", "state", "per_unit", "quantity"
    ):
        held[line_id][state] += units / per
    ready = ready_to_ship(row) if row.state in ("ready", "received", "part-shipped") else {}
    pictures = first_of(row.lines.exclude(item=None).values_list("item_id", flat=True))
    return sheet_rows(
        LineOut,
        row.lines.select_related("item").order_by("pk"),
        lambda line: {"picture": pictures.get(line.item_id or 0)} | _line(line, held[line.pk], ready.get(line.pk, ZERO)),
        lambda line: {"id": line.pk, "title": line.title, "sku": line.sku, "kind": line.kind},
    )


def _earned(row: SalesOrder, rules: Rules) -> dict[str, Decimal | None]:
    found = row_or(lambda: earnings([row], rules)(row), lambda said: None, f"What order {row.number} earned", row.pk)
    return {name: getattr(found, name, None) for name in ("charged", "cost", "fees", "contribution", "margin_percent")}


def _also_open(row: SalesOrder) -> list[dict[str, Any]]:
    """Other orders of its customer that wait."""
    if row.customer is None:
        return []
    others = row.customer.orders.filter(state__in=TO_LEAVE).exclude(pk=row.pk)  # type: ignore[attr-defined]
    return [short_order(one) for one in others.select_related("connection").order_by("placed_at", "pk")[:5]]


def _if_cancelled(row: SalesOrder, lines: Sequence[LineOut], rules: OrderRules) -> Iterator[str]:
    """In sentences: what it would mean to cancel it."""
    shipped, reserved, owed = (
        sum((getattr(line, name) for line in lines), ZERO) for name in ("shipped", "reserved", "backordered")
    )
    if shipped:
        yield "What has left stays shipped and invoiced."
    if reserved:
        said = "stay reserved until somebody has put them back" if rules.goods_wait else "are for sale again"
        yield f"Reserved units ({spoken(reserved)}) {said}."
    if owed:
        yield f"Backordered units ({spoken(owed)}) are no longer owed."
    if rules.states_told.get(SalesOrder.State.CANCELLED):
        yield f"{row.connection.name} is told{', and pays back what was paid there' if row.paid else ''}."
    else:
        back = ", and pay the customer back there" if row.paid else ""
        yield f"{row.connection.name} is not told: no rule says with which word. Cancel it there too{back}."


def _then(row: SalesOrder, rules: OrderRules) -> list[str]:
    """What is still to come of an order that waits, in its order."""
    if row.state not in (SalesOrder.State.READY, SalesOrder.State.RECEIVED, SalesOrder.State.PART_SHIPPED):
        return []
    charges = row.payments.filter(state=Payment.State.AUTHORISED).exists()  # type: ignore[attr-defined]
    begin = ["goods arrive"] if row.state == SalesOrder.State.RECEIVED else []
    told = ["tell the channel"] if rules.shipments != "no" else []
    return [*begin, "ship", *(["charge the payment"] if charges else []), *told, "invoice in the ledger"]


def _payments(row: SalesOrder) -> list[dict[str, Any]]:
    """How an order is paid, and through which account each part settles."""
    names = {role: f"{code} {name}" for role, code, name in Account.objects.values_list("role", "code", "name")}
    paid = row.payments.annotate(untold=Count("captures", filter=Q(captures__told_channel_at=None))).order_by("pk")  # type: ignore[attr-defined]
    return [
        {
            **{name: getattr(one, name) for name in ("id", "method", "state", "amount")},
            "charged": one.taken,
            "told": not one.untold,
            "account": names.get(one.role, ""),
        }
        for one in paid
    ]


def _line(line: OrderLine, held: Mapping[str, Decimal], ready: Decimal) -> dict[str, Any]:
    fields = ("id", "kind", "item_id", "sku", "title", "quantity", "net", "tax", "tax_percent", "shipped", "returned")
    return {
        **{name: getattr(line, name) for name in (*fields, "past_zero", "promised_on")},
        "gross": line.net + line.tax,
        "can_return": can_return(line),
        "reserved": held["open"],
        "backordered": held["backorder"],
        "ready": ready,
    }


def _shipment(shipment: Any, rules: OrderRules) -> dict[str, Any]:
    own = LedgerDocument.objects.select_related("within").filter(number=shipment.number).first()
    document = (own.within or own) if own else None
    return {
        "id": shipment.pk,
        "number": shipment.number,
        "carrier": shipment.carrier,
        "tracking": shipment.tracking,
        "shipped_at": shipment.shipped_at,
        "told_channel_at": shipment.told_channel_at,
        "is_told": rules.shipments != "no",
        "cost": sum((line.cost for line in shipment.lines.all()), ZERO),
        "invoice_id": shipment.invoice.pk,
        "invoice_total": shipment.invoice.total,
        "ledger_state": document.state if document else "none",
    }
