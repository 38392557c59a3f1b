"""Routes of suppliers and of what they ask."""

from __future__ import annotations

from datetime import date
from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Status

from yuvrel.books.rates import newest_rates
from yuvrel.books.schemas import RateRow
from yuvrel.people.queries import company_day
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

from . import suppliers
from .schemas import Inbox, RateIn, SupplierIn, SupplierOut, SupplierPage, TermsIn

router = Router(tags=["buying"])


def _today() -> date:
    return company_day(timezone.now())


@router.get("/suppliers", response=SupplierPage, operation_id="list_suppliers")
def list_suppliers(request: HttpRequest, q: str = "", sort: str = "", cursor: str = "", limit: int = 100) -> Any:
    """Who we buy from."""
    actor(request)
    return suppliers.sheet(q, cursor, limit, _today(), sort)


@router.get("/suppliers/inboxes", response=list[Inbox], operation_id="free_inboxes")
def free_inboxes(request: HttpRequest, supplier: int | None = None) -> Any:
    """Connections to inboxes that no other supplier has."""
    actor(request)
    return suppliers.free_inboxes(supplier)


@router.post("/suppliers", response=SupplierOut, operation_id="add_supplier")
def add_supplier(request: HttpRequest, body: SupplierIn) -> Any:
    """A new supplier."""
    row = suppliers.keep(actor(request), None, 0, body.facts())
    return suppliers.one(row.pk, _today())


@router.get("/suppliers/{int:supplier_id}", response=SupplierOut, operation_id="get_supplier")
def get_supplier(request: HttpRequest, supplier_id: int) -> Any:
    """One supplier with everything it sells us."""
    actor(request)
    return suppliers.one(supplier_id, _today())


@router.patch("/suppliers/{int:supplier_id}", response=SupplierOut, operation_id="change_supplier")
def change_supplier(request: HttpRequest, supplier_id: int, body: SupplierIn) -> Any:
    """Change a supplier; what is left out stays."""
    suppliers.keep(actor(request), supplier_id, body.version, body.facts())
    return suppliers.one(supplier_id, _today())


@router.put("/suppliers/{int:supplier_id}/items/{int:item_id}", response=SupplierOut, operation_id="keep_terms")
def keep_terms(request: HttpRequest, supplier_id: int, item_id: int, body: TermsIn) -> Any:
    """How the supplier sells an item."""
    who = actor(request)
    prices = [(row.from_quantity, row.price) for row in body.prices]
    terms = suppliers.Terms(body.code, body.pack, body.minimum, body.preferred, prices)
    suppliers.keep_terms(who, supplier_id, item_id, body.version, terms)
    return suppliers.one(supplier_id, _today())


@router.delete("/suppliers/{int:supplier_id}/items/{int:item_id}", response={204: None}, operation_id="drop_terms")
def drop_terms(request: HttpRequest, supplier_id: int, item_id: int) -> Any:
    """The supplier sells the item no more."""
    suppliers.drop_terms(actor(request), supplier_id, item_id)
    return Status(204, None)


@router.get("/exchange-rates", response=list[RateRow], operation_id="list_rates")
def list_rates(request: HttpRequest) -> Any:
    """The newest rate of each currency."""
    actor(request)
    return newest_rates()


@router.post("/exchange-rates", response=Said, operation_id="set_rate")
def set_rate(request: HttpRequest, body: RateIn) -> Any:
    """What a currency is worth from a day on."""
    who = actor(request)
    row = suppliers.set_rate(who, body.currency, body.day or _today(), body.rate)
    return {"said": f"From {row.day:%d %b %Y} on, one of ours is {row.rate.normalize():f} {row.currency}.", "id": row.pk}
