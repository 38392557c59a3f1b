"""Routes of orders."""

from __future__ import annotations

from typing import Any, Literal

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.core.money import spoken
from yuvrel.people.queries import username_of
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

from . import actions, order_page, queries, till_counts
from .schemas import OrderOut, OrderPage, ShipIn, TillCountPage, WhyIn

router = Router(tags=["orders"])


@router.get("/orders", response=OrderPage, operation_id="list_orders")
def list_orders(
    request: HttpRequest,
    q: str = "",
    state: str = "",
    connection: int | None = None,
    handler: str = "",
    sort: str = "",
    cursor: str = "",
    limit: int = 100,
) -> Any:
    """Orders of all channels, newest first; `handler`: the sign-in name of who handles them, *me* for whoever asks."""
    asks = actor(request)
    who = username_of(asks.user_id) if handler == "me" else handler
    return queries.order_sheet(q, state, connection, cursor, limit, sort, who)


@router.get("/till-counts", response=TillCountPage, operation_id="list_till_counts")
def list_till_counts(
    request: HttpRequest,
    q: str = "",
    connection: int | None = None,
    show: Literal["all", "differing"] = "all",
    sort: str = "",
    cursor: str = "",
    limit: int = 100,
) -> Any:
    """What was counted when tills were closed, beside what should have been there."""
    actor(request)
    return till_counts.sheet(q, connection, show, cursor, limit, sort)


@router.get("/orders/{int:order_id}", response=OrderOut, operation_id="get_order")
def get_order(request: HttpRequest, order_id: int) -> Any:
    """One order."""
    actor(request)
    return order_page.order_page(order_id)


@router.post("/orders/{int:order_id}/ship", response=Said, operation_id="ship_order")
def ship(request: HttpRequest, order_id: int, body: ShipIn) -> Any:
    """Hand goods over, all or part."""
    shipment = actions.ship(
        actor(request), order_id, at=timezone.now(), quantities=body.quantities, carrier=body.carrier, tracking=body.tracking
    )
    return {"said": f"Shipped as {shipment.number}.", "id": shipment.pk}


@router.post("/orders/{int:order_id}/release", response=Said, operation_id="release_order")
def release(request: HttpRequest, order_id: int) -> Any:
    """Let a held order go on."""
    order = actions.release(actor(request), order_id, timezone.now())
    return {"said": f"{order.number} is {order.state}.", "id": order.pk}


@router.post("/orders/{int:order_id}/put-back", response=Said, operation_id="put_back_order")
def put_back(request: HttpRequest, order_id: int) -> Any:
    """The goods of a cancelled order are back on the shelf."""
    order, units = actions.put_back(actor(request), order_id)
    return {"said": f"{spoken(units)} of {order.number} {'is' if units == 1 else 'are'} for sale again.", "id": order.pk}


@router.post("/orders/{int:order_id}/hold", response=Said, operation_id="hold_order")
def hold(request: HttpRequest, order_id: int, body: WhyIn) -> Any:
    """Stop an order that waits."""
    order = actions.hold(actor(request), order_id, body.why)
    return {"said": f"{order.number} is held.", "id": order.pk}


@router.post("/orders/{int:order_id}/cancel", response=Said, operation_id="cancel_order")
def cancel(request: HttpRequest, order_id: int, body: WhyIn) -> Any:
    """Cancel what has not left of an order."""
    order = actions.cancel(actor(request), order_id, body.why, timezone.now())
    return {"said": f"{order.number} is cancelled.", "id": order.pk}
