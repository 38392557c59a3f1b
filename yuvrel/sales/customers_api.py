"""Routes of customers."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Query, Router

from yuvrel.core import bounds
from yuvrel.people.queries import company_day
from yuvrel.platform.auth import actor

from . import customers
from .schemas import AskedPrice, CustomerGroupIn, CustomerGroupOut, CustomerIn, CustomerOut, CustomerPage

router = Router(tags=["orders"])
ONE = "/customers/{int:customer_id}"


@router.get("/customers", response=CustomerPage, operation_id="list_customers")
def list_customers(
    request: HttpRequest, q: str = "", group: int | None = None, sort: str = "", cursor: str = "", limit: int = 100
) -> Any:
    """Customers, with what each bought in a year."""
    actor(request)
    return customers.sheet(q, group, cursor, limit, timezone.now(), sort)


@router.post("/customers", response=CustomerOut, operation_id="add_customer")
def add(request: HttpRequest, body: CustomerIn) -> Any:
    """A new customer."""
    return customers.customer_page(customers.keep(actor(request), None, 0, {"name": "", **body.facts()}).pk)


@router.get(ONE, response=CustomerOut, operation_id="get_customer")
def get(request: HttpRequest, customer_id: int) -> Any:
    """A customer with the latest orders."""
    actor(request)
    return customers.customer_page(customer_id)


@router.patch(ONE, response=CustomerOut, operation_id="change_customer")
def change(request: HttpRequest, customer_id: int, body: CustomerIn) -> Any:
    """Change a customer."""
    customers.keep(actor(request), customer_id, body.version, body.facts())
    return customers.customer_page(customer_id)


@router.get(f"{ONE}/prices", response=list[AskedPrice], operation_id="customer_prices")
def asked(
    request: HttpRequest,
    customer_id: int,
    q: str = "",
    quantity: Decimal = Query(Decimal(1), gt=0, lt=bounds.MOST_UNITS, decimal_places=bounds.QUANTITY_PLACES),
) -> Any:
    """What a customer is asked to pay."""
    actor(request)
    return customers.asked_prices(customer_id, q, quantity, company_day(timezone.now()))


@router.get("/customer-groups", response=list[CustomerGroupOut], operation_id="list_customer_groups")
def groups(request: HttpRequest) -> Any:
    """Groups of customers."""
    actor(request)
    return customers.groups()


@router.post("/customer-groups", response=list[CustomerGroupOut], operation_id="add_customer_group")
def add_group(request: HttpRequest, body: CustomerGroupIn) -> Any:
    """A new group."""
    customers.keep_group(actor(request), None, 0, body.facts())
    return customers.groups()


@router.put("/customer-groups/{int:group_id}", response=list[CustomerGroupOut], operation_id="change_customer_group")
def change_group(request: HttpRequest, group_id: int, body: CustomerGroupIn) -> Any:
    """Change a group."""
    customers.keep_group(actor(request), group_id, body.version, body.facts())
    return customers.groups()
