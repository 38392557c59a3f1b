"""One factory per object: a small world in which each test says only what it is about."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime
from decimal import Decimal as D
from typing import Any

from django.contrib.auth.models import Group

from tests.companies import forget_company
from yuvrel.books.actions import accounts_of, open_chart
from yuvrel.books.models import ExchangeRate
from yuvrel.buying.models import PriceBreak, Supplier, SupplierInbox, SupplierItem
from yuvrel.catalogue.actions import ItemDraft, add_product
from yuvrel.catalogue.models import BundleComponent, Item, TaxClass
from yuvrel.channels.models import Connection, Feed, Listing
from yuvrel.core.rules import Level, Rung
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Company, Location, User
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.rules.actions import change
from yuvrel.rules.models import SettingValue
from yuvrel.rules.registry import SETTINGS
from yuvrel.sales.incoming import IncomingLine, IncomingOrder
from yuvrel.sales.rules import order_rules
from yuvrel.stock.actions import OpeningRow, take_opening

NOW = datetime(2027, 3, 14, 9, 30, tzinfo=UTC)
_numbers = itertools.count(1)


def forget_accounts() -> None:
    """The ids of accounts are kept by each process; another database has others."""
    accounts_of.cache_clear()
    forget_company()


def make_company(zone: str = "Europe/Dublin") -> Location:
    """A company with three places and a chart; returns the main place."""
    forget_accounts()
    company = Company.objects.create(name="Larkmead", time_zone=zone)
    places = [("tannery-yard", "Tannery Yard"), ("mill-lane", "Mill Lane"), ("wagon", "The Wagon")]
    for position, (code, name) in enumerate(places):
        Location.objects.create(company=company, code=code, name=name, position=position)
    TaxClass.objects.create(name="Standard", percent="23")
    forget_company()
    open_chart()
    forget_accounts()
    return Location.objects.get(code="tannery-yard")


def make_user(role: Role) -> User:
    """A person with a role."""
    user = User.objects.create_user(username=role.value, password="larkmead")
    user.groups.add(Group.objects.get_or_create(name=role.value)[0])
    return user


def make_item(sku: str = "", *, on_hand: int = 0, cost: str = "2.00", place: Location | None = None, **more: Any) -> Item:
    """A stocked item, with stock when asked for."""
    sku = sku or f"SKU-{next(_numbers)}"
    draft = ItemDraft(sku=sku, price=D("10.00"), **more)
    (item,) = add_product(SYSTEM, title=f"Thing {sku}", category="Things", drafts=[draft])
    if on_hand:
        give(item, on_hand, cost, place)
    return item


def give_inbox(supplier: Supplier, connection: Connection) -> None:
    """The connection through which orders reach a supplier."""
    SupplierInbox.objects.create(supplier=supplier, connection=connection)


def give(item: Item, units: int | D, cost: str = "2.00", place: Location | None = None) -> None:
    """Opening stock."""
    where = place or Location.objects.get(code="tannery-yard")
    take_opening(SYSTEM, [OpeningRow(item.pk, where.pk, D(units), D(cost))], NOW)


def make_bundle(sku: str, parts: dict[Item, int]) -> Item:
    """A kit of other items."""
    bundle = make_item(sku)
    Item.objects.filter(pk=bundle.pk).update(kind=Item.Kind.BUNDLE)
    for part, count in parts.items():
        BundleComponent.objects.create(bundle=bundle, component=part, quantity=count)
    return Item.objects.get(pk=bundle.pk)


def make_connection(kind: str = "web_shop", name: str = "", **more: Any) -> Connection:
    """A live connection that feeds from the main place."""
    place = Location.objects.get(code="tannery-yard")
    number = next(_numbers)
    facts: dict[str, Any] = {
        "name": name or f"Channel {number}",
        "address": "http://127.0.0.1:9",
        "hook_key": f"hook-{number}",
        "state": "live",
        "fulfils_from": place,
        "live_since": NOW,
    } | more
    watermark = facts.pop("watermark", NOW.isoformat())
    rules = {name: facts.pop(name) for name in list(facts) if name in SETTINGS}
    prefix = rules.pop("order_prefix", f"C{number}-")
    row = Connection.objects.create(kind=kind, **facts)
    Feed.objects.create(connection=row, part="answers" if kind == "supplier" else "orders", watermark=watermark)
    SettingValue.objects.create(name="order_prefix", level="connection", subject=row.pk, value=prefix)
    row.feeds.set([place])
    set_rules(row, **rules)
    return row


def set_rules(connection: Connection, **values: Any) -> None:
    """Set rules for a connection."""
    change(SYSTEM, Rung(Level.CONNECTION, connection.name, connection.pk), values, NOW)


def make_listing(connection: Connection, item: Item | None = None, **more: Any) -> Listing:
    """A listing, linked when an item is given."""
    link = {"link": "linked", "item": item, "sku": item.sku} if item else {}
    facts = {"external_id": f"x{next(_numbers)}", "title": "A thing", **link, **more}
    return Listing.objects.create(connection=connection, **facts)


def order_line(item: Item | None, units: int | str = 1, amount: str = "12.30", kind: str = "item") -> IncomingLine:
    """A line with 23 % tax."""
    return IncomingLine(
        kind=kind,
        title=item.title if item else kind,
        quantity=D(units),
        amount=D(amount),
        tax_percent=D(23),  # type: ignore[arg-type]
        sku=item.sku if item else "",
        item_id=item.pk if item else None,
        external_id=f"l{next(_numbers)}",
    )


def incoming(connection: Connection, *lines: IncomingLine, **more: Any) -> IncomingOrder:
    """An order whose total is the sum of its lines."""
    number = next(_numbers)
    facts: dict[str, Any] = {
        "external_id": f"o{number}",
        "number": f"{number}",
        "version": 1,
        "placed_at": NOW,
        "currency": "EUR",
        "total": sum((line.amount for line in lines), D(0)),
        "customer": {"name": "Una Thorne", "email": "una@thorne.example"},
    }
    facts |= more
    return IncomingOrder(
        connection_id=connection.pk,
        location_id=connection.fulfils_from_id or 0,
        prefix=order_rules(connection).prefix,
        lines=lines,
        **facts,
    )


def make_supplier(item: Item, *, currency: str = "EUR", price: str = "2.00", pack: int = 1, **more: Any) -> Supplier:
    """A supplier of one item."""
    number = next(_numbers)
    supplier = Supplier.objects.create(code=f"s{number}", name=f"Supplier {number}", currency=currency, **more)
    terms = SupplierItem.objects.create(supplier=supplier, item=item, code=f"A{number}", pack=pack)
    PriceBreak.objects.create(supplier_item=terms, from_quantity=0, price=price)
    if currency != "EUR":
        ExchangeRate.objects.create(currency=currency, day=NOW.date(), rate="4.0")
    # As an action that changes terms would: the sheets that show them look again.
    record(Event.Kind.AVAILABILITY, [item.pk], "terms")
    return supplier
