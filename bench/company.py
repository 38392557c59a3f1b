"""The large company: items, locations, channels with listings, and two years of orders and moves.

Written with set-based SQL where the demo of a village shop can afford single rows. The rules of the
database hold throughout: moves project the balances, entries balance.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

from django.contrib.auth.models import Group
from django.db import connection
from django.utils import timezone

from yuvrel.books.actions import account_ids, accounts_of, open_chart
from yuvrel.buying.models import PriceBreak, Supplier, SupplierItem
from yuvrel.catalogue.models import Category, Item, Product, TaxClass
from yuvrel.catalogue.retail import keep_prices
from yuvrel.channels import mapping
from yuvrel.channels.credentials import seal
from yuvrel.channels.models import Connection, Feed, Listing
from yuvrel.connectors.registry import KINDS
from yuvrel.ownership import company_id, from_now_on
from yuvrel.people.models import Company, Location, User
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.rules.models import SettingValue
from yuvrel.stock.actions import OpeningRow, take_opening

DAYS = 730
ON_HAND = 3000
COST = Decimal("4.00")
CHANNELS = (("web_shop", "shop", 3), ("till", "till", 2))


@dataclass(frozen=True)
class Size:
    """How large: items, order lines; four fifths of the items are listed in each of the five channels."""

    items: int
    order_lines: int

    @property
    def listed(self) -> int:
        """Listings of one channel."""
        return self.items * 4 // 5


ORDERS = """
    INSERT INTO sales_salesorder (company_id, connection_id, kind, external_id, external_number, external_version, number, state,
        held_because, stopped_because, cancelled_because, location_id, ship_to, currency, total, net, paid, shipping_method,
        placed_at, received_at, history, stated_currency, rate, penalty)
    SELECT %(company)s, %(shop)s, 'order', 'h' || n, n::text, 1, 'H-' || n, 'closed', '', '', '', %(place)s, '{}', 'EUR', 24.60,
        20.00, true, '',
        %(start)s + (n * interval '1 second' * %(gap)s), now(), true, '', 1, 0
    FROM generate_series(1, %(orders)s) AS n
"""
# Two lines an order; low item numbers sell far more often than high ones.
LINES = """
    INSERT INTO sales_orderline (order_id, kind, item_id, external_id, sku, title, quantity, units, net, tax, tax_percent,
        shipped, invoiced_net, invoiced_tax, invoiced, returned, credited, credited_net, credited_tax, past_zero, past_zero_scope)
    SELECT o.id, 'item', i.id, 'l' || k, i.sku, i.title, 1, 1, 10.00, 2.30, 23, 1, 10.00, 2.30, 1, 0, 0, 0, 0, 0, ''
    FROM sales_salesorder o CROSS JOIN generate_series(1, 2) AS k
    JOIN (SELECT id, sku, title, row_number() OVER (ORDER BY id) - 1 AS place FROM catalogue_item) i
      ON i.place = floor(%(items)s * power(((o.id * 7919 + k * 104729) %% 100003) / 100003.0, 2))
    WHERE o.history
"""
MOVES = """
    INSERT INTO stock_stockmove (item_id, location_id, quantity, value, reason, document, document_kind, document_id, note,
        happened_at, recorded_at)
    SELECT l.item_id, o.location_id, -l.quantity, -l.quantity * %(cost)s, 'shipment', o.number, 'order', o.id, '', o.placed_at,
        o.placed_at
    FROM sales_orderline l JOIN sales_salesorder o ON o.id = l.order_id WHERE o.history
"""
COSTS = """
    UPDATE stock_itemcost c SET quantity = m.units, value = m.worth
    FROM (SELECT item_id, sum(quantity) AS units, sum(value) AS worth FROM stock_stockmove GROUP BY item_id) m
    WHERE m.item_id = c.item_id
"""
BOOKED = """
    INSERT INTO books_journalline (entry_id, account_id, item_id, amount, memo)
    SELECT %(entry)s, %(inventory)s, item_id, sum(value), '' FROM stock_stockmove WHERE reason = 'shipment' GROUP BY item_id
    UNION ALL
    SELECT %(entry)s, %(cost_of_sales)s, NULL, -sum(value), '' FROM stock_stockmove WHERE reason = 'shipment'
"""


def build(size: Size, base: str) -> dict[str, Connection]:
    """Everything, connected to stand-ins at `base`; returns the connections by name."""
    place = _company()
    _items(size)
    start = timezone.now() - timedelta(days=DAYS)
    connections = _connections(size, base)
    _open(start)
    with connection.cursor() as cursor:
        orders = size.order_lines // 2
        shop = connections["shop1"].pk
        gap = DAYS * 86_400 / orders
        cursor.execute(
            ORDERS, {"company": company_id(), "shop": shop, "place": place.pk, "start": start, "gap": gap, "orders": orders}
        )
        cursor.execute(LINES, {"items": size.items})
        cursor.execute(MOVES, {"cost": COST})
        cursor.execute(COSTS)
        cursor.execute(
            "INSERT INTO books_journalentry (company_id, kind, date, document, document_kind, memo, posted_at)"
            " VALUES (%s, 'summary', current_date, 'HISTORY', '', 'cost of two years', now()) RETURNING id",
            [company_id()],
        )
        entry = cursor.fetchone()[0]
        ids = account_ids()
        cursor.execute("ALTER TABLE books_journalline DISABLE TRIGGER USER")
        cursor.execute(BOOKED, {"entry": entry, "inventory": ids["inventory"], "cost_of_sales": ids["cost_of_sales"]})
        cursor.execute("ALTER TABLE books_journalline ENABLE TRIGGER USER")
        cursor.execute(
            "INSERT INTO books_ledgerdocument"
            " (company_id, entry_id, kind, number, contact, details, state, external_id, gather, made_at)"
            " VALUES (%s, %s, 'journal', 'HISTORY', '', '[]', 'pending', '', '', now())",
            [company_id(), entry],
        )
        cursor.execute("ANALYZE")
    return connections


def _company() -> Location:
    company = Company.objects.create(name="Large", time_zone="Europe/Dublin")
    from_now_on(company)
    for n, name in enumerate(("North", "South", "West")):
        Location.objects.create(company=company, code=name.lower(), name=name, position=n)
    TaxClass.objects.create(name="Standard", percent=23)
    open_chart()
    accounts_of.cache_clear()
    user = User.objects.create_user(username="manager", password=None)
    user.groups.add(Group.objects.get_or_create(name=Role.MANAGER.value)[0])
    return Location.objects.get(code="north")


def _items(size: Size) -> None:
    category = Category.objects.create(name="Goods")
    products = Product.objects.bulk_create([Product(title=f"Goods {n}", category=category) for n in range(size.items)], 5000)
    items = Item.objects.bulk_create(
        [Item(product=p, sku=f"G-{n:05d}", title=f"Goods {n}") for n, p in enumerate(products)], 5000
    )
    keep_prices(dict.fromkeys((item.pk for item in items), Decimal("12.30")))
    supplier = Supplier.objects.create(code="bulk", name="Bulk", currency="EUR")
    terms = SupplierItem.objects.bulk_create(
        [SupplierItem(supplier=supplier, item=item, code=f"B{item.pk}", pack=12) for item in items], 5000
    )
    PriceBreak.objects.bulk_create([PriceBreak(supplier_item=t, from_quantity=0, price=COST) for t in terms], 5000)


def _open(start: datetime) -> None:
    """Opening stock of every item at every location, through the action that a file goes through."""
    places = list(Location.objects.values_list("pk", flat=True))
    rows = [OpeningRow(i, p, Decimal(ON_HAND), COST) for i in Item.objects.values_list("pk", flat=True) for p in places]
    take_opening(SYSTEM, rows, start)


def _connections(size: Size, base: str) -> dict[str, Connection]:
    made: dict[str, Connection] = {}
    items = list(Item.objects.order_by("pk")[: size.listed])
    places = list(Location.objects.all())
    for kind, path, count in CHANNELS:
        for n in range(1, count + 1):
            row = _connect(kind, f"{path}{n}", f"{base}/{path}/{path}{n}")
            row.feeds.set(places)
            Listing.objects.bulk_create(
                [
                    Listing(connection=row, external_id=str(k), sku=i.sku, title=i.title, link="linked", item=i, offer_state="")
                    for k, i in enumerate(items)
                ],
                5000,
            )
            made[row.name] = row
    made["ledger"] = _connect("ledger", "ledger", f"{base}/ledger/ledger")
    return made


def _connect(kind: str, name: str, address: str) -> Connection:
    row = Connection.objects.create(
        kind=kind,
        name=name,
        address=address,
        secrets_sealed=seal('{"token": "t"}'),
        hook_key=name,
        state="live",
        fulfils_from=Location.objects.get(code="north"),
        live_since=timezone.now(),
    )
    if kind == "ledger":
        mapping.keep(row, mapping.usual())
    SettingValue.objects.create(name="order_prefix", level="connection", subject=row.pk, value=f"{name}-")
    Feed.objects.create(connection=row, part="orders", watermark=timezone.now().isoformat())
    return row


def standin_setup(size: Size, path: Path, per_second: int) -> None:
    """The accounts of the same company, as the stand-ins read them at their start."""
    setup: dict[str, dict[str, Any]] = {}
    numbers = range(size.listed)
    variant = {"price": "12.30", "quantity": 0, "options": {}, "tracked": True}
    products = [
        {"id": f"p{n}", "title": f"Goods {n}", "tax_percent": "23", "variants": [{"id": str(n), "sku": f"G-{n:05d}", **variant}]}
        for n in numbers
    ]
    article = {"ean": "", "price": "12.30", "group": "", "vat": "23", "stock": "0"}
    articles = [{"id": str(n), "plu": str(n), "code": f"G-{n:05d}", "label": f"Goods {n}", **article} for n in numbers]
    for name in ("shop1", "shop2", "shop3"):
        account = {"id": name, "sort": "shop", "name": name, "tokens": {"t": KINDS["web_shop"].scopes}, "per_second": per_second}
        setup[name] = {"account": account, "product": products}
    for name in ("till1", "till2"):
        account = {"id": name, "sort": "till", "name": name, "tokens": {"t": KINDS["till"].scopes}, "per_second": per_second}
        setup[name] = {"account": account, "article": articles}
    chart = [{"code": code, "name": role} for role, code in mapping.usual().items()] if Company.objects.exists() else []
    setup["ledger"] = {
        "account": {
            "id": "ledger",
            "sort": "ledger",
            "name": "Ledger",
            "locked": [],
            "tokens": {"t": KINDS["ledger"].scopes},
            "chart": chart,
        }
    }
    path.write_text(json.dumps(setup))
