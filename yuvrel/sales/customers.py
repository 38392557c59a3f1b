"""Customers and their groups: listed, made, given a price list; and what each is asked to pay."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

import iso3166
from django.db import IntegrityError, transaction
from django.db.models import Count, Max, Q, QuerySet, Sum

from yuvrel.catalogue.models import Item
from yuvrel.core import pricing as core
from yuvrel.core.errors import BadInputError, NotFoundError, StaleError
from yuvrel.core.money import ZERO
from yuvrel.core.working import Working
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.queries import company
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import in_order, page
from yuvrel.pricing import loading
from yuvrel.pricing.models import PriceList
from yuvrel.pricing.queries import add_holders, margin_steps
from yuvrel.stock.queries import find_items

from .models import Customer, CustomerGroup, OrderLine, SalesOrder
from .queries import short_order
from .schemas import AskedPrice, CustomerRow

FACTS = ("name", "email", "on_account", "note", "group_id", "price_list_id", "payment_days", "address")
# What an order says of who bought.
OF_ORDERS = ("name", "email", "on_account", "address")
ADDRESS = ("street", "city", "postcode", "country")
MOST_DAYS = 365
# Who may price says what somebody pays.
GROUP_FACTS = ("price_list_id", "order_minimum", "order_step", "order_maximum")
OF_PRICES = {"group_id", "price_list_id"}
SORTS = {"name": "name"}
YEAR = timedelta(days=365)
MOST_ASKED = 60


def _given_to() -> Mapping[int, list[str]]:
    found: dict[int, list[str]] = {}
    for key, name in CustomerGroup.objects.exclude(price_list=None).order_by("name").values_list("price_list_id", "name"):
        found.setdefault(key, []).append(f"group {name}")
    own = Customer.objects.exclude(price_list=None).order_by().values_list("price_list_id").annotate(n=Count("pk"))
    for key, count in own:
        found.setdefault(key, []).append(f"{count} customer{'s' if count > 1 else ''}")
    return found


add_holders(_given_to)


def sheet(q: str, group: int | None, cursor: str, limit: int, now: datetime, sort: str = "") -> dict[str, Any]:
    """A page of customers with what each bought in a year, in a fixed number of queries."""
    rows: QuerySet[Customer] = Customer.objects.select_related("group", "price_list", "group__price_list")
    for word in q.split()[:6]:
        rows = rows.filter(Q(name__icontains=word) | Q(email__icontains=word))
    if group:
        rows = rows.filter(group_id=group)
    ordered, order = in_order(rows, sort, SORTS, ["name", "id"])
    found, following = page(ordered, order, cursor, limit)
    bought = {
        row["customer_id"]: row
        for row in SalesOrder.objects.filter(customer__in=found, placed_at__gte=now - YEAR)
        .exclude(state=SalesOrder.State.CANCELLED)
        .values("customer_id")
        .annotate(orders=Count("pk"), net=Sum("net"), last=Max("placed_at"))
        .order_by()
    }

    def shown(row: Customer) -> dict[str, Any]:
        year: Mapping[str, Any] = bought.get(row.pk, {})
        return {
            **_known(row),
            "on_account": row.on_account,
            "group": row.group.name if row.group else "",
            "price_list": list_of(row),
            "orders": year.get("orders", 0),
            "net": year.get("net") or ZERO,
            "last_at": year.get("last"),
        }

    return {"rows": sheet_rows(CustomerRow, found, shown, _known), "next": following}


def _known(row: Customer) -> dict[str, Any]:
    return {"id": row.pk, "name": row.name, "email": row.email}


def list_of(row: Customer) -> str:
    """The list that speaks first for a customer; empty where none does."""
    if row.price_list:
        return row.price_list.name
    return row.group.price_list.name if row.group and row.group.price_list else ""


def get_customer(customer_id: int) -> Customer:
    """The customer. Raises NotFoundError."""
    row = Customer.objects.select_related("group__price_list", "price_list").filter(pk=customer_id).first()
    if row is None:
        raise NotFoundError("There is no such customer.")
    return row


def customer_page(customer_id: int) -> dict[str, Any]:
    """A customer with the latest orders and what there is to choose from."""
    row = get_customer(customer_id)
    orders = row.orders.select_related("connection").order_by("-placed_at", "-pk")[:20]  # type: ignore[attr-defined]
    return {
        **{name: getattr(row, name) for name in ("id", "version", *FACTS)},
        "address": spoken_address(row),
        **{name: str(row.address.get(name) or "") for name in ADDRESS},
        "from_channel": row.external_key is not None,
        "orders": [short_order(order) for order in orders],
        "groups": list(CustomerGroup.objects.order_by("name")),
        "price_lists": list(PriceList.objects.filter(base=False).order_by("name")),
    }


@transaction.atomic
def keep(actor: Actor, customer_id: int | None, version: int, facts: Mapping[str, Any]) -> Customer:
    """Keep a customer: a new one, or one as it is now; `facts` has any of FACTS and of ADDRESS.

    Raises BadInputError naming what cannot be, StaleError when it was changed meanwhile.
    """
    actor.need(Ability.CUSTOMERS)
    row = Customer() if customer_id is None else Customer.objects.select_for_update().filter(pk=customer_id).first()
    if row is None:
        raise NotFoundError("There is no such customer.")
    if row.pk and row.version != version:
        raise StaleError(f"Somebody changed {row.name} since you opened it.")
    before = _told(row) if row.pk else {}
    for name in FACTS:
        if name in facts:
            setattr(row, name, facts[name].strip() if isinstance(facts[name], str) else facts[name])
    where = {name: str(facts[name]).strip() for name in ADDRESS if name in facts}
    if where.get("country") == row.address.get("country"):
        where.pop("country", None)
    if where:
        # What a channel wrote stands as it is, until somebody says it anew.
        row.address = {**row.address, **where, **_country(where)}
    row.by_hand = sorted({*row.by_hand, *_written(row)})
    _check(row)
    if OF_PRICES & facts.keys():
        actor.need(Ability.PRICE)
    row.version += 1 if row.pk else 0
    row.save()
    after = _told(row)
    differs = [name for name in after if before.get(name) != after[name]]
    if differs:
        was = {name: before[name] for name in differs if name in before}
        record(Event.Kind.CUSTOMER, [row.pk], row.name)
        audit(actor, "change customer" if before else "add customer", "customer", row.pk, was, {n: after[n] for n in differs})
    return row


def _written(row: Customer) -> set[str]:
    """What of the facts that orders bring is said by hand now."""
    before = Customer.objects.filter(pk=row.pk).values(*OF_ORDERS).first() if row.pk else None
    return {name for name in OF_ORDERS if before is not None and before[name] != getattr(row, name)}


def _country(where: Mapping[str, str]) -> dict[str, str]:
    code = where.get("country", "").upper()
    if code and code not in iso3166.countries_by_alpha2:
        raise BadInputError(f"{code} is no country of ISO 3166: two letters, as IE.", field="country")
    return {"country": code} if "country" in where else {}


def _check(row: Customer) -> None:
    if not row.name:
        raise BadInputError("A customer needs a name.", field="name")
    if row.email and "@" not in row.email:
        raise BadInputError(f"{row.email} is no mail address.", field="email")
    if row.payment_days is not None and not 0 <= row.payment_days <= MOST_DAYS:
        raise BadInputError(f"Payment terms are 0 to {MOST_DAYS} days.", field="payment_days")
    if row.group_id and not CustomerGroup.objects.filter(pk=row.group_id).exists():
        raise BadInputError("There is no such group.", field="group_id")
    if row.price_list_id and not PriceList.objects.filter(pk=row.price_list_id).exists():
        raise BadInputError("There is no such price list.", field="price_list_id")


def spoken_address(row: Customer) -> str:
    """Where a customer is, in a line."""
    return ", ".join(str(value) for value in row.address.values() if value)


def _told(row: Customer) -> dict[str, str]:
    own = {name: str(getattr(row, name)) for name in ("name", "email", "on_account", "note")}
    own["payment terms"] = "" if row.payment_days is None else f"{row.payment_days} days"
    own["address"] = spoken_address(row)
    group = CustomerGroup.objects.filter(pk=row.group_id or 0).values_list("name", flat=True).first()
    given = PriceList.objects.filter(pk=row.price_list_id or 0).values_list("name", flat=True).first()
    return {**own, "group": group or "", "price list": given or ""}


def groups() -> list[dict[str, Any]]:
    """Every group with how many are in it."""
    rows = CustomerGroup.objects.select_related("price_list").annotate(n=Count("customers")).order_by("name")
    return [
        {"id": row.pk, "customers": row.n, **{name: getattr(row, name) for name in ("name", "version", *GROUP_FACTS)}}  # type: ignore[attr-defined]
        for row in rows
    ]


@transaction.atomic
def keep_group(actor: Actor, group_id: int | None, version: int, facts: Mapping[str, Any]) -> CustomerGroup:
    """Keep a group: a new one, or one as it is now; `facts` has its name and any of GROUP_FACTS. What it is shown and may
    order at channels is worked out anew. Raises BadInputError, StaleError."""
    actor.need(Ability.PRICE)
    row = CustomerGroup() if group_id is None else CustomerGroup.objects.select_for_update().filter(pk=group_id).first()
    if row is None:
        raise NotFoundError("There is no such group.")
    if row.pk and row.version != version:
        raise StaleError(f"Somebody changed {row.name} since you opened it.")
    before = _group_told(row) if row.pk else {}
    row.version += 1 if row.pk else 0
    row.name = str(facts.get("name", row.name)).strip()
    for name in GROUP_FACTS:
        setattr(row, name, facts.get(name, getattr(row, name)))
    _check_group(row)
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as error:
        raise BadInputError(f"There is a group called {row.name} already.", field="name") from error
    audit(actor, "keep customer group", "customer group", row.pk, before, _group_told(row))
    record(Event.Kind.CUSTOMER_GROUP, [row.pk], f"group {row.name}")
    return row


def _group_told(row: CustomerGroup) -> dict[str, str]:
    return {name: str(getattr(row, name)) for name in ("name", *GROUP_FACTS)}


def _check_group(row: CustomerGroup) -> None:
    if not row.name:
        raise BadInputError("Give the group a name.", field="name")
    if row.price_list_id and not PriceList.objects.filter(pk=row.price_list_id).exists():
        raise BadInputError("There is no such price list.", field="price_list_id")
    for name in ("order_minimum", "order_step", "order_maximum"):
        value = getattr(row, name)
        if value is not None and value <= 0:
            raise BadInputError("It must be greater than zero; leave it empty for no limit of its own.", field=name)
    least, most = row.order_minimum, row.order_maximum
    if least is not None and most is not None and least > most:
        raise BadInputError("The minimum is above the maximum.", field="order_minimum")


def speakers_for(row: Customer) -> list[core.Speaker]:
    """The lists that speak for a customer, the most special first: the customer's own, the group's, the company's."""
    found = []
    if row.price_list_id:
        found.append(core.Speaker(row.name, row.price_list_id))
    if row.group and row.group.price_list_id:
        found.append(core.Speaker(f"group {row.group.name}", row.group.price_list_id))
    return [*found, core.Speaker(company().name, loading.base_list().pk)]


def asked_prices(customer_id: int, q: str, quantity: Decimal, today: date) -> list[AskedPrice]:
    """What a customer is asked to pay: for what matches, or without a word for what was bought most often lately."""
    row = get_customer(customer_id)
    items = (
        _bought(row) if not q.strip() else list(find_items(Item.objects.filter(active=True), q).order_by("title")[:MOST_ASKED])
    )
    book = loading.load_book([item.pk for item in items])
    speakers, currency = speakers_for(row), company().base_currency

    def asked(item: Item) -> dict[str, Any]:
        price = core.asked_price(book, speakers, item.pk, today, quantity=quantity, currency=currency).price
        return {
            **_known_item(item),
            "price": price.amount if price else None,
            "previous": price.previous if price else None,
            "price_list": price.list.name if price else "",
            "taxed": price.list.taxed if price else True,
        }

    return sheet_rows(AskedPrice, items, asked, _known_item)


def _known_item(item: Item) -> dict[str, Any]:
    return {"item_id": item.pk, "title": item.title, "sku": item.sku}


def _bought(row: Customer) -> list[Item]:
    counted = (
        OrderLine.objects.filter(order__customer=row, item__active=True)
        .exclude(order__state=SalesOrder.State.CANCELLED)
        .values_list("item_id")
        .annotate(n=Count("order"))
        .order_by("-n", "item_id")[:20]
    )
    known = Item.objects.in_bulk([item for item, _ in counted])
    return [known[item] for item, _ in counted]


def asked_working(customer_id: int, item_id: int, today: date) -> Working:
    """Which list speaks for a customer, and the sum behind its price. Raises NotFoundError."""
    row = get_customer(customer_id)
    item = Item.objects.filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    book = loading.load_book([item_id])
    asked = core.asked_price(book, speakers_for(row), item_id, today, currency=company().base_currency)
    margin = margin_steps(asked.price, book, item_id) if asked.price else ()
    return asked.working(f"{item.title} · {row.name}", margin)
