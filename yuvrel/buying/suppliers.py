"""Suppliers, what each asks for an item, and what a foreign currency is worth: kept by people."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from typing import Any

from django.apps import apps
from django.db import IntegrityError, transaction
from django.db.models import Count, Q, QuerySet
from django.utils.text import slugify

from yuvrel.books.models import ExchangeRate
from yuvrel.books.rates import keep_rate, rate_on
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.core.money import ZERO, minor_unit
from yuvrel.core.terms import price_breaks
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.queries import company
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import in_order, page
from yuvrel.platform.shared import anywhere, record_for_all
from yuvrel.stock.actions import check_quantity
from yuvrel.stock.models import ItemCost

from .models import PriceBreak, PurchaseOrder, Supplier, SupplierInbox, SupplierItem
from .schemas import SupplierRow

SORTS = {"name": "name", "currency": "currency", "lead": "lead_days", "minimum": "order_minimum"}
FACTS = ("name", "currency", "lead_days", "lead_deviation_days", "order_minimum", "email", "inbox_id")
MOST_LEAD_DAYS = 730


def _text(rows: QuerySet[Supplier], q: str) -> QuerySet[Supplier]:
    for word in q.split()[:6]:
        sells = SupplierItem.objects.filter(Q(code__icontains=word) | Q(item__sku__iexact=word))
        rows = rows.filter(Q(name__icontains=word) | Q(code__icontains=word) | Q(pk__in=sells.values("supplier")))
    return rows


def sheet(q: str, cursor: str, limit: int, today: date, sort: str = "") -> dict[str, Any]:
    """A page of suppliers with how many items each sells and how many orders are open."""
    rows, order = in_order(_text(Supplier.objects.prefetch_related("inboxes__connection"), q), sort, SORTS, ["name", "id"])
    found, following = page(rows, order, cursor, limit)
    ids = [row.pk for row in found]
    items = dict(SupplierItem.objects.filter(supplier__in=ids).values_list("supplier").annotate(n=Count("pk")))
    waits = PurchaseOrder.objects.filter(supplier__in=ids, state__in=PurchaseOrder.OPEN)
    orders = dict(waits.values_list("supplier").annotate(n=Count("pk")).order_by())
    base = company().base_currency
    rates = {currency: _rate(currency, today, base) for currency in {row.currency for row in found}}

    def shown(row: Supplier) -> dict[str, Any]:
        fields = ("code", "name", "currency", "lead_days", "lead_deviation_days", "order_minimum", "email")
        return {
            "id": row.pk,
            **{name: getattr(row, name) for name in fields},
            "rate": rates[row.currency],
            "inbox": row.inbox.name if row.inbox else "",
            "items": items.get(row.pk, 0),
            "open_orders": orders.get(row.pk, 0),
        }

    return {"rows": sheet_rows(SupplierRow, found, shown, _known), "next": following}


def _known(row: Supplier) -> dict[str, Any]:
    return {"id": row.pk, "name": row.name, "code": row.code}


def _rate(currency: str, day: date, base: str) -> Decimal | None:
    try:
        return rate_on(currency, day, base)
    except RefusedError:
        return None


def one(supplier_id: int, today: date) -> dict[str, Any]:
    """A supplier with everything it sells us. Raises NotFoundError."""
    row = Supplier.objects.prefetch_related("inboxes__connection").filter(pk=supplier_id).first()
    if row is None:
        raise NotFoundError("There is no such supplier.")
    terms = list(row.items.select_related("item").prefetch_related("prices").order_by("item__title", "item_id"))
    costs = {cost.item_id: cost.last_average for cost in ItemCost.objects.filter(item__in=[term.item_id for term in terms])}
    base = company().base_currency
    return {
        **{name: getattr(row, name) for name in ("id", "code", "version", *FACTS)},
        "inbox": row.inbox.name if row.inbox else "",
        "base_currency": base,
        "rate": _rate(row.currency, today, base),
        "rates": ExchangeRate.objects.filter(currency=row.currency).order_by("-day")[:12] if row.currency != base else [],
        "terms": [
            {
                "id": term.pk,
                "version": term.version,
                "item_id": term.item_id,
                "sku": term.item.sku,
                "title": term.item.title,
                "code": term.code,
                "pack": term.pack,
                "minimum": term.minimum,
                "preferred": term.preferred,
                "prices": list(term.prices.all()),
                "average_cost": costs.get(term.item_id),
            }
            for term in terms
        ],
    }


@transaction.atomic
def keep(actor: Actor, supplier_id: int | None, version: int, facts: dict[str, Any]) -> Supplier:
    """Keep a supplier: a new one, or one as it is now. `facts` has any of FACTS.

    Raises BadInputError naming what cannot be, StaleError when it was changed meanwhile, RefusedError for another
    currency while orders in the old one are open.
    """
    actor.need(Ability.BUY)
    if supplier_id is None:
        row = Supplier(version=0)
    else:
        found = Supplier.objects.select_for_update().filter(pk=supplier_id).first()
        if found is None:
            raise NotFoundError("There is no such supplier.")
        row = found
        if row.version != version:
            raise StaleError("Somebody changed this supplier since you opened it.")
    before = {name: str(getattr(row, name)) for name in FACTS} if row.pk else {}
    wanted = facts.get("inbox_id", row.inbox_id)
    for name, value in facts.items():
        if name != "inbox_id":
            setattr(row, name, value)
    _check(row, before, wanted)
    row.version += 1
    row.code = row.code or _code_for(row.name)
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as error:
        raise BadInputError(f"There is a supplier called {row.name} already.", field="name") from error
    _keep_inbox(row, wanted)
    audit(actor, "change" if before else "add", "supplier", row.pk, before, {name: str(getattr(row, name)) for name in FACTS})
    # Lead time and currency stand behind every row of what it sells.
    record_for_all([Event.Kind.AVAILABILITY], row.items.values_list("item_id", flat=True), f"supplier {row.code}")
    return row


def _keep_inbox(row: Supplier, connection_id: int | None) -> None:
    if connection_id is None:
        SupplierInbox.objects.filter(supplier=row).delete()
    else:
        SupplierInbox.objects.update_or_create(supplier=row, defaults={"connection_id": connection_id})


def _check(row: Supplier, before: dict[str, str], inbox_id: int | None) -> None:
    row.name = " ".join(row.name.split())
    if not row.name:
        raise BadInputError("Give the supplier a name.", field="name")
    row.currency = row.currency.strip().upper()
    minor_unit(row.currency)
    if not 0 <= row.lead_days <= MOST_LEAD_DAYS:
        raise BadInputError(f"A lead time is 0 to {MOST_LEAD_DAYS} days.", field="lead_days")
    if not ZERO <= row.lead_deviation_days <= row.lead_days:
        raise BadInputError("The lead time variation must lie between 0 and the lead time.", field="lead_deviation_days")
    if row.order_minimum < 0:
        raise BadInputError("An order minimum cannot be negative.", field="order_minimum")
    if row.email and ("@" not in row.email.strip("@") or " " in row.email.strip()):
        raise BadInputError("This is not a valid email address.", field="email")
    row.email = row.email.strip()
    if inbox_id is not None and inbox_id not in {inbox["id"] for inbox in free_inboxes(row.pk)}:
        raise BadInputError("This is no supplier's inbox, or another supplier has it.", field="inbox_id")
    if before and before["currency"] != row.currency:

        def waits() -> bool:
            open_here = (PurchaseOrder.State.DRAFT, *PurchaseOrder.OPEN)
            return PurchaseOrder.objects.filter(supplier=row, state__in=open_here).exists()

        if anywhere(waits):
            raise RefusedError("Orders in the old currency are open. Receive or cancel them first.", field="currency")


def _code_for(name: str) -> str:
    stem = slugify(name)[:17] or "supplier"
    taken = set(Supplier.objects.filter(code__startswith=stem[:14]).values_list("code", flat=True))
    return next(code for code in (stem, *(f"{stem[:14]}-{n}" for n in range(2, 10_000))) if code not in taken)


def free_inboxes(supplier_id: int | None) -> list[dict[str, Any]]:
    """Connections to suppliers' inboxes that no other supplier has."""
    # Connections stand above buying; the model is reached by the name that the inbox refers to.
    inboxes = apps.get_model("channels", "Connection")._default_manager.filter(kind="supplier")
    free = Q(inbox_of=None)
    mine = inboxes.filter(free | Q(inbox_of__supplier=supplier_id)) if supplier_id else inboxes.filter(free)
    return [{"id": row.pk, "name": row.name} for row in mine.order_by("name")]


@dataclass(frozen=True)
class Terms:
    """How a supplier sells an item: its code there, units a pack, the minimum quantity, price breaks for all units."""

    code: str
    pack: Decimal
    minimum: Decimal
    preferred: bool
    prices: Sequence[tuple[Decimal, Decimal]] = field(default_factory=tuple)


@transaction.atomic
def keep_terms(actor: Actor, supplier_id: int, item_id: int, version: int, terms: Terms) -> SupplierItem:
    """Keep how a supplier sells an item; `version` 0 for an item it did not sell yet. One supplier of each item is
    preferred: the first, until another is.

    Raises NotFoundError, StaleError, and BadInputError naming what cannot be.
    """
    actor.need(Ability.BUY)
    item = Item.objects.select_for_update().filter(pk=item_id, kind=Item.Kind.STOCKED).first()
    supplier = Supplier.objects.filter(pk=supplier_id).first()
    if item is None or supplier is None:
        raise NotFoundError("There is no such supplier, or no such item that is stocked.")
    row = SupplierItem.objects.select_for_update().filter(supplier=supplier, item=item).first()
    if (row.version if row else 0) != version:
        raise StaleError("Somebody changed these terms since you opened them.")
    prices = price_breaks(terms.prices)
    if terms.pack <= 0:
        raise BadInputError("A pack size must be greater than zero.", field="pack")
    if terms.minimum < 0:
        raise BadInputError("A minimum quantity cannot be negative.", field="minimum")
    check_quantity(item, terms.pack, "pack")
    check_quantity(item, terms.minimum, "minimum")
    others = SupplierItem.objects.filter(item=item).exclude(supplier=supplier)
    preferred = terms.preferred or not others.filter(preferred=True).exists()
    if preferred:
        others.filter(preferred=True).update(preferred=False)
    row = row or SupplierItem(supplier=supplier, item=item, version=0)
    before = _told(row) if row.pk else {}
    row.code, row.pack, row.minimum, row.preferred = terms.code.strip(), terms.pack, terms.minimum, preferred
    row.version += 1
    row.save()
    row.prices.all().delete()
    PriceBreak.objects.bulk_create(PriceBreak(supplier_item=row, from_quantity=start, price=price) for start, price in prices)
    audit(actor, "change" if before else "add", "supplier's terms", row.pk, before, _told(row))
    record_for_all([Event.Kind.AVAILABILITY], [item.pk], f"terms of {supplier.code}")
    return row


def _told(row: SupplierItem) -> dict[str, str]:
    prices = row.prices.values_list("from_quantity", "price")
    told = {name: str(getattr(row, name)) for name in ("supplier_id", "item_id", "code", "pack", "minimum", "preferred")}
    return {**told, "prices": ", ".join(f"{start:f}: {price:f}" for start, price in prices)}


@transaction.atomic
def drop_terms(actor: Actor, supplier_id: int, item_id: int) -> None:
    """The supplier sells the item no more. Raises NotFoundError; RefusedError while others sell it and this one is
    preferred, for then somebody has to say who follows."""
    actor.need(Ability.BUY)
    Item.objects.select_for_update().filter(pk=item_id).first()
    row = SupplierItem.objects.filter(supplier_id=supplier_id, item_id=item_id).first()
    if row is None:
        raise NotFoundError("This supplier does not sell that item.")
    if row.preferred and SupplierItem.objects.filter(item_id=item_id).exclude(pk=row.pk).exists():
        raise RefusedError("Others sell this item too. Prefer one of them first.", field="preferred")
    audit(actor, "take away", "supplier's terms", row.pk, _told(row))
    row.delete()
    record_for_all([Event.Kind.AVAILABILITY], [item_id], "terms taken away")


@transaction.atomic
def set_rate(actor: Actor, currency: str, day: date, rate: Decimal) -> ExchangeRate:
    """What one of base currency is worth in another from a day on; what is bought in it is worked out anew.

    Raises BadInputError, ForbiddenError.
    """
    row = keep_rate(actor, currency, day, rate)
    items = SupplierItem.objects.filter(supplier__currency=row.currency, preferred=True).values_list("item_id", flat=True)
    record(Event.Kind.AVAILABILITY, items, f"rate of {row.currency}")
    return row
