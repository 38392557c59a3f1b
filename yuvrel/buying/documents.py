"""Purchase orders and goods receipts as documents: numbers, states, what is printed."""

from __future__ import annotations

from typing import Any

from yuvrel.core.states import States
from yuvrel.documents.registry import DocumentKind, Form, Moment, Series, register

from .models import GoodsReceipt, PurchaseOrder
from .queries import order_page

State = PurchaseOrder.State

STATES = States(
    State.DRAFT.value,
    {
        State.DRAFT.value: (State.SENT.value, State.CANCELLED.value),
        State.SENT.value: (State.ACKNOWLEDGED.value, State.PART_RECEIVED.value, State.RECEIVED.value, State.CANCELLED.value),
        State.ACKNOWLEDGED.value: (State.PART_RECEIVED.value, State.RECEIVED.value, State.CANCELLED.value),
        State.PART_RECEIVED.value: (State.PART_RECEIVED.value, State.RECEIVED.value, State.CANCELLED.value),
        State.RECEIVED.value: (),
        State.CANCELLED.value: (),
    },
)


def _form(order_id: int) -> dict[str, Any]:
    found = order_page(order_id)
    return {"order": found, "number": found["number"]}


def _moments(row: PurchaseOrder) -> list[Moment]:
    return [Moment(row.delivered_at, "", "in the supplier's inbox")] if row.delivered_at else []


def _receipt_facts(row: GoodsReceipt) -> list[tuple[str, str]]:
    order = row.order
    rate = [] if row.rate == 1 else [("Rate", f"{row.rate.normalize():f} {order.currency} for one of ours")]
    return [("Supplier", order.supplier.name), ("Location", order.location.name), *rate]


PURCHASE_ORDER = register(
    DocumentKind(
        "purchase order",
        "Purchase order",
        PurchaseOrder,
        "buying",
        at="made_at",
        series=Series("PO"),
        states=STATES,
        page="/buying/orders/{id}",
        forms={"order": Form("Purchase order", "purchase_order.html", _form)},
        moments=_moments,
    )
)
RECEIPT = register(
    DocumentKind(
        "receipt",
        "Goods receipt",
        GoodsReceipt,
        "buying",
        at="received_at",
        series=Series("GR"),
        within=("order", PURCHASE_ORDER.code),
        facts=_receipt_facts,
    )
)
