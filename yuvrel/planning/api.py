"""Routes of buying: the replenishment sheet and the orders drafted from it."""

from __future__ import annotations

from typing import Any, Literal

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.buying import actions as buying
from yuvrel.buying import lines as purchase_lines
from yuvrel.buying import queries as purchase_orders
from yuvrel.buying.schemas import Drafted, DraftIn, NewLineIn, PurchaseIn, PurchaseOut, PurchasePage, ReceiveIn
from yuvrel.catalogue.actions import ItemDraft
from yuvrel.catalogue.pictures import first_of
from yuvrel.core.money import ZERO
from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import Ability
from yuvrel.platform.auth import actor
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.wire import Said, VersionIn

from . import drafts, plan, queries
from .schemas import HistoryOut, ReplenishPage, ReplenishRow, ReplenishSheet

router = Router(tags=["buying"])
Show = Literal["needed", "late", "alert", "all"]


@router.get("/replenishment", response=ReplenishSheet, operation_id="replenishment")
def replenishment(request: HttpRequest) -> Any:
    """What the replenishment sheet says above its rows."""
    actor(request)
    now = timezone.now()
    plan.catch_up(now)
    today, base = company_day(now), company().base_currency
    head = plan.head()
    rates = queries.rates_on(today, {s.currency for s in head["suppliers"]}, base)
    suppliers = [
        {
            "id": s.pk,
            "name": s.name,
            "currency": s.currency,
            "rate": rates[s.currency],
            "lead_days": s.lead_days,
            "order_minimum": s.order_minimum,
        }
        for s in head["suppliers"]
    ]
    return {**head, "today": today, "currency": base, "suppliers": suppliers}


@router.get("/replenishment/rows", response=ReplenishPage, operation_id="list_replenishment")
def list_replenishment(
    request: HttpRequest,
    q: str = "",
    show: Show = "needed",
    location: int | None = None,
    item: int | None = None,
    cursor: str = "",
    limit: int = 50,
) -> Any:
    """What should be bought: by supplier, what runs out first first."""
    actor(request)
    now = timezone.now()
    if not cursor:
        plan.catch_up(now)
    today = company_day(now)
    lines, following = plan.rows(q, show, location, cursor, limit, today, item)
    rates = queries.rates_on(today, {line.terms.supplier.currency for line in lines if line.terms}, company().base_currency)
    pictures = first_of(line.item.pk for line in lines)
    rows = sheet_rows(ReplenishRow, lines, lambda line: _row(line, rates) | {"picture": pictures.get(line.item.pk)}, _known)
    return {"rows": rows, "next": following}


def _known(line: queries.Line) -> dict[str, Any]:
    item, place = line.item, line.location
    known = {"item_id": item.pk, "title": f"{item.title} · {place.name}", "sku": item.sku, "location_id": place.pk}
    supplier = line.terms.supplier if line.terms else None
    return {**known, "location": place.name, "supplier_id": supplier.pk if supplier else None}


def _row(line: queries.Line, rates: dict[str, Any]) -> dict[str, Any]:
    supplier = line.terms.supplier if line.terms else None
    amount, in_base = queries.worth(line, rates)
    ribbon = line.suggestion.ribbon
    return {
        "item_id": line.item.pk,
        "location_id": line.location.pk,
        "sku": line.item.sku,
        "title": line.item.title,
        "category": line.item.product.category.name if line.item.product.category else "",
        "location": line.location.name,
        "supplier_id": supplier.pk if supplier else None,
        "supplier": supplier.name if supplier else "",
        "currency": supplier.currency if supplier else "",
        "on_hand": line.balance.on_hand,
        "committed": line.balance.committed,
        "incoming": line.balance.incoming,
        "backordered": line.balance.backordered,
        "per_day": line.per_day,
        "days_out": line.velocity.days_out,
        "lead_days": line.policy.lead_days,
        "cover": line.suggestion.cover_days,
        "source_id": line.source.pk if line.source else None,
        "source": line.source.name if line.source else "",
        "ready": line.ready,
        "suggested": line.suggestion.quantity if line.comes else ZERO,
        "pack": line.policy.pack,
        "price": line.price,
        "amount": amount,
        "amount_base": in_base,
        "fault": line.fault,
        "ribbon": {
            "solid_until": ribbon.solid_until,
            "sure_until": ribbon.sure_until,
            "lead": ribbon.lead,
            "late": ribbon.late,
            "arrivals": [{"day": day, "units": units} for day, units in ribbon.arrivals],
        },
    }


@router.get("/replenishment/history", response=HistoryOut, operation_id="demand_history")
def demand_history(request: HttpRequest, item: int, location: int) -> Any:
    """Two years of weekly demand."""
    actor(request)
    return queries.history(item, location, company_day(timezone.now()))


@router.post("/purchase-orders", response=Drafted, operation_id="draft_purchase_orders")
def draft(request: HttpRequest, body: DraftIn) -> Any:
    """A draft per supplier and location from picked rows, each line with the sum that suggested it; a transfer for what a
    place of ours sends."""
    who = actor(request)
    who.need(Ability.BUY)
    now = timezone.now()
    today = company_day(now)
    pairs = {(line.item_id, line.location_id) for line in body.lines}
    lines = queries.replenishment(today, pairs, rates=False)
    found = {(line.item.pk, line.location.pk): line for line in lines}
    orders, moves = drafts.draft(who, [(row.item_id, row.location_id, row.quantity) for row in body.lines], found, now)
    return {
        "orders": [purchase_orders.row_of(purchase_orders.get_order(order.pk), today) for order in orders],
        "transfers": [{"id": row.pk, "number": row.number} for row in moves],
    }


@router.get("/purchase-orders", response=PurchasePage, operation_id="list_purchase_orders")
def list_orders(request: HttpRequest, q: str = "", state: str = "", sort: str = "", cursor: str = "", limit: int = 100) -> Any:
    """Purchase orders, newest first."""
    actor(request)
    return purchase_orders.sheet(q, state, cursor, limit, company_day(timezone.now()), sort)


@router.get("/purchase-orders/{int:order_id}", response=PurchaseOut, operation_id="get_purchase_order")
def get_order(request: HttpRequest, order_id: int) -> Any:
    """One purchase order."""
    actor(request)
    return purchase_orders.order_page(order_id)


@router.patch("/purchase-orders/{int:order_id}", response=PurchaseOut, operation_id="change_purchase_order")
def change(request: HttpRequest, order_id: int, body: PurchaseIn) -> Any:
    """Change a draft."""
    lines = {line.id: (line.quantity, line.price) for line in body.lines}
    buying.change_draft(actor(request), order_id, body.version, lines, body.expected_on)
    return purchase_orders.order_page(order_id)


@router.post("/purchase-orders/{int:order_id}/lines", response=PurchaseOut, operation_id="add_purchase_line")
def add_line(request: HttpRequest, order_id: int, body: NewLineIn) -> Any:
    """Put an item on a draft, or make a new one and put it on."""
    who = actor(request)
    if body.item_id is not None:
        purchase_lines.add_line(who, order_id, body.version, body.item_id, body.quantity, body.price, body.code)
    else:
        draft = ItemDraft(sku=body.sku, price=body.retail)
        purchase_lines.add_new_item(who, order_id, body.version, draft, body.title, body.quantity, body.price, body.code)
    return purchase_orders.order_page(order_id)


@router.post("/purchase-orders/{int:order_id}/send", response=PurchaseOut, operation_id="send_purchase_order")
def send(request: HttpRequest, order_id: int, body: VersionIn) -> Any:
    """Send a draft to its supplier."""
    buying.send(actor(request), order_id, body.version, timezone.now())
    return purchase_orders.order_page(order_id)


@router.post("/purchase-orders/{int:order_id}/cancel", response=PurchaseOut, operation_id="cancel_purchase_order")
def cancel(request: HttpRequest, order_id: int, body: VersionIn) -> Any:
    """Give up what has not arrived."""
    buying.cancel(actor(request), order_id, body.version)
    return purchase_orders.order_page(order_id)


@router.post("/purchase-orders/{int:order_id}/receive", response=Said, operation_id="receive_purchase_order")
def receive(request: HttpRequest, order_id: int, body: ReceiveIn) -> Any:
    """Take a delivery in, all or part."""
    arrived = [buying.Arrived(row.line_id, row.quantity, row.lot, row.expires_on) for row in body.lines]
    receipt = buying.receive(actor(request), order_id, arrived, timezone.now())
    return {"said": f"Received as {receipt.number}.", "id": receipt.pk}
