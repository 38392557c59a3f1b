"""Seeding Larkmead: the database, and the set-up file of the stand-ins that goes with it."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from django.db import transaction
from django.db.models import F, OuterRef, Subquery
from django.utils import timezone

from yuvrel.books.actions import CHART, account_ids
from yuvrel.buying import actions as buying
from yuvrel.buying.models import PurchaseOrder, Supplier
from yuvrel.catalogue.models import Category, Item
from yuvrel.channels import prices
from yuvrel.channels.credentials import seal
from yuvrel.channels.models import Connection, Feed, Listing, OutboundMessage, PriceOffer
from yuvrel.channels.offers import WITH_QUANTITIES, wanted_of
from yuvrel.channels.price_rules import SET, owner_of
from yuvrel.channels.rules import Ids
from yuvrel.core.price_change import PriceRule
from yuvrel.core.pricing import Rounding
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.planning import forecasts
from yuvrel.planning.queries import replenishment
from yuvrel.pricing.actions import keep_list
from yuvrel.pricing.changes import Selection, Typed, apply_rule, type_prices
from yuvrel.pricing.loading import base_list
from yuvrel.rules.actions import change
from yuvrel.rules.queries import by_level
from yuvrel.sales.customers import keep_group
from yuvrel.sales.models import Customer

from . import NOT_YET_CONNECTED
from .company import make_people, make_range, make_suppliers
from .drawings import picture_range
from .history import History, simulate
from .past import Past
from .range import BY_SKU, FIRST, LAST, SPECS, SUPPLIERS, TOWNS, gtin

SCOPES = {
    "shop": ["products:read", "stock:write", "prices:write", "orders:read", "shipments:write", "webhooks:write"],
    "till": ["articles:read", "articles:write", "sales:read"],
    "ledger": ["accounts.read", "documents.write", "balances.read"],
    "supplier": ["orders:send", "answers:read"],
}
Setup = dict[str, dict[str, Any]]
EDITED = "GLV-GOA-8"  # nothing else touches it at first, so that the edit at the shop stays to be seen


def _priced(sku: str, offer: PriceOffer | None) -> dict[str, Any]:
    """What the web shop shows: the price, and the one before where it is higher."""
    if offer is None:
        return {"price": str(BY_SKU[sku].price)}
    return {"price": str(offer.price), "was": None if offer.previous is None else str(offer.previous)}


def _account(sort: str, name: str, token: str, **more: Any) -> dict[str, Any]:
    return {"id": name, "sort": sort, "name": name, "tokens": {token: SCOPES[sort], f"{token}-reads": SCOPES[sort][:1]}, **more}


class Seeder:
    """One seeding; `base` is where the stand-ins answer."""

    def __init__(self, base: str, now: datetime | None = None) -> None:
        self.base = base.rstrip("/")
        self.now = now or timezone.now()
        self.today = company_day_of(self.now)
        self.random = random.Random(11)
        self.setup: Setup = {}
        self.connections: dict[str, Connection] = {}

    @transaction.atomic
    def run(self) -> Setup:
        """Fill the database; returns what the stand-ins start with."""
        make_people()
        make_suppliers(self.today)
        self.items = make_range()
        picture_range(self.items)
        self.connect()
        history = simulate(self.today)
        past = Past(history, self.items, self.connections)
        past.write()
        told = past.journal()
        self.purchase_orders(history)
        self.rules()
        self.prices()
        self.listings()
        self.shops()
        self.ledger(told)
        self.suppliers()
        return self.setup

    def rules(self) -> None:
        """What somebody has set: the shop never shows more than sixty, keeps two of all jars back, says when few are
        left, and takes pre-orders for the one extractor that is made to order; buyers hear when jars run low."""
        shop = self.connections["tannery-yard"]
        jars = Category.objects.get(name="Jars and packing")
        change(SYSTEM, Rung(Level.CONNECTION, shop.name, shop.pk), {"maximum_shown": "60", "low_stock_below": "4"}, self.now)
        made = self.items["EXT-MOT-9"]
        text = "Made to order: yours leaves the workshop about {date}."
        values = {"selling_past_zero": "preorder", "past_zero_limit": "6", "past_zero_text": text, "past_zero_days": 60}
        change(SYSTEM, Rung(Level.ITEM, made.title, made.pk), values, self.now)
        on_shop = Rung(Level.CATEGORY_ON_CONNECTION, f"{jars.name} on {shop.name}", jars.pk, shop.pk)
        change(SYSTEM, on_shop, {"buffer": "2"}, self.now)
        change(SYSTEM, Rung(Level.CATEGORY, jars.name, jars.pk), {"alert_below": "10"}, self.now)

    def prices(self) -> None:
        """Retail prices with a week of smokers below them, market days a little cheaper, trade prices from cost."""
        base = base_list()
        retail = keep_list(SYSTEM, base.pk, base.version, {"name": "Retail"})
        market = {"method": "derived", "percent": Decimal(-5), "ending": Decimal("0.50"), "rounding": "nearest"}
        own = keep_list(SYSTEM, None, 0, {"name": "Market days", **market})
        trade = {
            "method": "margin",
            "percent": Decimal(32),
            "taxed": False,
            "ending": Decimal("0.05"),
            "note": "For the trade shop",
        }
        keep_list(SYSTEM, None, 0, {"name": "Trade", **trade})
        clubs = keep_list(
            SYSTEM, None, 0, {"name": "Clubs", "method": "derived", "percent": Decimal(-8), "ending": Decimal("0.90")}
        )
        group = keep_group(SYSTEM, None, 0, "Beekeepers' clubs", clubs.pk)
        Customer.objects.filter(on_account=True).update(group=group)
        pounds = {"method": "derived", "currency": "GBP", "rate": Decimal("0.86"), "ending": Decimal("0.95")}
        keep_list(SYSTEM, None, 0, {"name": "Pounds", **pounds})
        smokers, rule = Selection(q="Smoker"), PriceRule("percent", Decimal(-15), Decimal("0.50"), Rounding.NEAREST)
        starts = self.today - timedelta(days=2)
        apply_rule(SYSTEM, retail.pk, smokers, rule, starts, self.today + timedelta(days=9), self.now - timedelta(days=4))
        jar = self.items["JAR-340-72"]
        type_prices(SYSTEM, retail.pk, [Typed(jar.pk, jar.price - Decimal("1.50"), Decimal(10))], self.now)
        change(SYSTEM, Rung(Level.COMPANY, "Larkmead"), {"margin_floor": "12"}, self.now)
        wagon = self.connections["wagon"]
        Connection.objects.filter(pk=wagon.pk).update(price_list=own)
        for key in ("tannery-yard", "mill-lane", "wagon"):
            row = self.connections[key]
            row.refresh_from_db()
            change(SYSTEM, Rung(Level.CONNECTION, row.name, row.pk), {"price_owner": "here"}, self.now)

    def connect(self) -> None:
        """The connections, tested and ready to go live; the trade shop is left for a person to add."""
        self.connection(
            "tannery-yard",
            "web_shop",
            "Larkmead web shop",
            "shop/larkmead-web",
            "shop-web-token",
            "WS-",
            fee_percent="1.80",
            fee_fixed="0.25",
            cash_customer="Web shop cash sales",
        )
        self.connection(
            "mill-lane",
            "till",
            "Mill Lane till",
            "till/mill-lane",
            "till-mill-token",
            "ML-",
            cash_customer="Mill Lane cash sales",
        )
        self.connection("wagon", "till", "Wagon till", "till/wagon", "till-wagon-token", "WG-", cash_customer="Market cash sales")
        self.connection(
            "daybook", "ledger", "Daybook", "ledger/daybook", "daybook-token", "", accounts={r.value: c for r, c, _ in CHART}
        )
        for spec in SUPPLIERS:
            row = self.connection(spec.code, "supplier", f"{spec.name} inbox", f"supplier/{spec.code}", f"{spec.code}-token", "")
            Supplier.objects.filter(code=spec.code).update(inbox=row)

    def connection(self, key: str, kind: str, name: str, path: str, token: str, prefix: str, **more: Any) -> Connection:
        """A connection that has been tested; it goes live once the simulated services answer."""
        since = self.now - timedelta(hours=22)
        states = {"web_shop": ["paid", "on_account"], "till": ["sold"]}.get(kind, [])
        place = Location.objects.filter(code=key).first() or Location.objects.get(code="tannery-yard")
        row = Connection.objects.create(
            kind=kind,
            name=name,
            address=f"{self.base}/{path}",
            token_sealed=seal(token),
            hook_key=f"hook-{key}-{self.random.getrandbits(64):x}",
            state="tested",
            tested_at=self.now,
            prefix=prefix,
            fulfils_from=place,
            order_states=states,
            live_since=since,
            test_report={
                "ok": True,
                "name": name,
                "scopes": SCOPES[path.split("/")[0]],
                "accounts": [[c, n] for _, c, n in CHART] if kind == "ledger" else [],
            },
            **more,
        )
        row.feeds.set([place])
        if states:
            Feed.objects.create(connection=row, part="orders", watermark=since.isoformat())
            change(SYSTEM, Rung(Level.CONNECTION, row.name, row.pk), {"orders_every": 20}, self.now)
        elif kind == "supplier":
            change(SYSTEM, Rung(Level.CONNECTION, row.name, row.pk), {"answers_every": 20}, self.now)
        row.refresh_from_db()
        self.connections[key] = row
        return row

    def listings(self) -> None:
        """What each channel shows: linked and agreed, but for a few that wait on the bench."""
        rows = []
        for spec in SPECS:
            for key in ("tannery-yard", "mill-lane", "wagon"):
                if key != "tannery-yard" and (spec.kind != "stocked" or (key == "wagon" and not spec.wagon)):
                    continue
                item = self.items[spec.sku]
                rows.append(
                    Listing(
                        connection=self.connections[key],
                        external_id=self.external(key, item),
                        group_id=str(item.product_id),
                        sku=spec.sku,
                        barcode=self.barcode(spec.sku),
                        title=spec.title,
                        product_title=spec.product,
                        options=spec.options,
                        category=spec.category,
                        price=spec.price,
                        service=spec.kind == "service",
                        link="linked",
                        item=item,
                        link_reason="same SKU and barcode",
                    )
                )
        rows += [
            Listing(
                connection=self.connections["wagon"],
                external_id=f"9{n}",
                sku=sku,
                barcode=code,
                title=title,
                product_title=title,
                price=price,
            )
            for n, (sku, code, title, price) in enumerate(self.strangers())
        ]
        Listing.objects.bulk_create(rows)
        self.agree()

    def strangers(self) -> list[tuple[str, str, str, str]]:
        """Listings of the market till that nobody has paired."""
        return [
            ("", "", "Smoker small", "32.00"),
            ("W-77", "", "Goatskin gloves size 9", "24.50"),
            ("TOL-JAY", self.barcode("TOL-STD"), "J hive tool", "11.90"),
            ("", "", "Honey jar 340ml, tray of 24", "19.50"),
            ("W-81", "", "Beeswax lip balm", "4.50"),
        ]

    def barcode(self, sku: str) -> str:
        """The GTIN of an item."""
        number = next(n for n, spec in enumerate(SPECS, 1) if spec.sku == sku)
        return gtin(number) if BY_SKU[sku].kind != "service" else ""

    def external(self, key: str, item: Item) -> str:
        """The channel's own id of an item."""
        return f"v{item.pk}" if key == "tannery-yard" else f"{1000 + item.pk}"

    def agree(self) -> None:
        """Offers worked out by the same code as ever; the stand-ins start out showing them."""
        rows = []
        for connection in self.connections.values():
            linked = Listing.objects.filter(connection=connection, link="linked")
            offers = wanted_of(connection, Ids.of(linked)) if connection.kind in WITH_QUANTITIES else {}
            for row in linked.filter(pk__in=offers):
                row.offered = row.shown = offers[row.pk].quantity
                row.terms = row.terms_shown = offers[row.pk].terms
                row.offered_at = row.shown_at = row.agreed_at = self.now
                row.offer_state, row.offer_cause = "agreed", "opening"
                rows.append(row)
            if owner_of(connection) == "here":
                prices.renew(connection, Ids.of(linked), lambda _: "opening", by_level(SET))
        Listing.objects.bulk_update(
            rows,
            ["offered", "shown", "terms", "terms_shown", "offered_at", "shown_at", "agreed_at", "offer_state", "offer_cause"],
        )
        agreed = {"offered_at": self.now, "agreed_at": self.now, "previous_shown": F("previous")}
        PriceOffer.objects.filter(state=PriceOffer.State.PENDING).update(state=PriceOffer.State.AGREED, **agreed)
        offered = PriceOffer.objects.filter(listing=OuterRef("pk")).values("price")
        Listing.objects.exclude(price_offer=None).update(price=Subquery(offered))

    def shops(self) -> None:
        """The web shop with the orders of today, the trade shop, both tills."""
        shown = {(row.connection_id, row.sku): int(row.offered or 0) for row in Listing.objects.filter(link="linked")}
        web = {spec.sku: shown.get((self.connections["tannery-yard"].pk, spec.sku), 0) for spec in SPECS}
        orders = self.fresh_orders(web)
        self.setup["larkmead-web"] = {
            "account": {**_account("shop", "Larkmead web shop", "shop-web-token"), "next_number": 20500},
            "product": self.products(web),
            "order": orders,
        }
        self.setup[NOT_YET_CONNECTED] = {
            "account": {**_account("shop", "Larkmead trade shop", "shop-trade-token"), "trade": True, "next_number": 701},
            "product": self.trade_products(),
            "order": [],
        }
        for key, name, token in (("mill-lane", "Mill Lane till", "till-mill-token"), ("wagon", "Wagon till", "till-wagon-token")):
            articles = [
                {
                    "id": row.external_id,
                    "plu": row.external_id,
                    "code": row.sku,
                    "ean": row.barcode,
                    "label": row.title,
                    "price": str(row.price),
                    "group": row.category,
                    "vat": "23",
                    "stock": str(int(row.offered or 0)),
                }
                for row in Listing.objects.filter(connection=self.connections[key]).order_by("pk")
            ]
            receipts = self.receipts(articles) if key == "mill-lane" else []
            self.setup[key] = {
                "account": {**_account("till", name, token), "next_number": 4000},
                "article": articles,
                "receipt": receipts,
            }

    def products(self, shown: dict[str, int]) -> list[dict[str, Any]]:
        """The shop's products with their variants."""
        groups: dict[int, list[str]] = defaultdict(list)
        listed = PriceOffer.objects.filter(listing__connection=self.connections["tannery-yard"]).select_related("listing")
        offers = {offer.listing.sku: offer for offer in listed}
        told = Listing.objects.filter(connection=self.connections["tannery-yard"], link="linked").exclude(terms={})
        terms = dict(told.values_list("sku", "terms"))
        for spec in SPECS:
            groups[self.items[spec.sku].product_id].append(spec.sku)
        return [
            {
                "id": str(product),
                "title": BY_SKU[skus[0]].product,
                "category": BY_SKU[skus[0]].category,
                "tax_percent": "23",
                "variants": [
                    {
                        "id": self.external("tannery-yard", self.items[sku]),
                        "sku": sku,
                        "barcode": self.barcode(sku),
                        **_priced(sku, offers.get(sku)),
                        "quantity": shown.get(sku, 0),
                        "selling": terms.get(sku, {}),
                        "options": BY_SKU[sku].options,
                        "tracked": BY_SKU[sku].kind != "service",
                        "weight_grams": BY_SKU[sku].weight,
                    }
                    for sku in skus
                ],
            }
            for product, skus in groups.items()
        ]

    def trade_products(self) -> list[dict[str, Any]]:
        """The trade shop: mostly known SKUs, some known by barcode only, some by title only, a clash, some new."""
        known = [s for s in SPECS if s.kind == "stocked" and (s.category.startswith("Jars") or s.category in ("Feed", "Books"))][
            :34
        ]
        rows = [(spec.sku, self.barcode(spec.sku), spec.title, spec.price) for spec in known[:26]]
        rows += [(f"T{n:03d}", self.barcode(spec.sku), spec.title, spec.price) for n, spec in enumerate(known[26:30])]
        rows += [("", "", f"{spec.title} (trade)", spec.price) for spec in known[30:33]]
        rows += [
            ("SMK-BRS-S", self.barcode("SMK-BRS-L"), "Smoker, small, trade", Decimal("27.00")),
            ("TRD-PAL-HIV", gtin(900), "Pallet of flat hives, 40", Decimal("3120.00")),
            ("TRD-DRM-SYR", gtin(901), "Feed syrup drum, 280 kg", Decimal("412.00")),
        ]
        return [
            {
                "id": f"tp{n}",
                "title": title,
                "category": "Trade",
                "tax_percent": "23",
                "variants": [
                    {
                        "id": f"tv{n}",
                        "sku": sku,
                        "barcode": code,
                        "price": str((price * Decimal("0.82")).quantize(Decimal("0.01"))),
                        "quantity": 0,
                        "options": {},
                        "tracked": True,
                    }
                ],
            }
            for n, (sku, code, title, price) in enumerate(rows)
        ]

    def fresh_orders(self, shown: dict[str, int]) -> list[dict[str, Any]]:
        """Orders of the last hours, which the first exchange takes in; one does not add up."""
        goods = [s for s in SPECS if s.kind != "service" and shown.get(s.sku, 0) > 3 and s.sku != EDITED and s.price < 200]
        orders = []
        for n in range(17):
            at = (self.now - timedelta(hours=20 - n * 1.15, minutes=self.random.randrange(50))).isoformat(timespec="microseconds")
            lines = []
            for k, spec in enumerate(self.random.sample(goods, self.random.choice((1, 1, 2, 2, 3)))):
                units = self.random.choice((1, 1, 1, 2, 3))
                shown[spec.sku] -= units
                lines.append(
                    {
                        "id": f"l{k + 1}",
                        "variant_id": self.external("tannery-yard", self.items[spec.sku]),
                        "sku": spec.sku,
                        "title": spec.title,
                        "quantity": units,
                        "amount": str(spec.price * units),
                        "tax_percent": "23",
                    }
                )
            orders.append(self.shop_order(n, at, lines))
        orders[6]["total"] = str(Decimal(orders[6]["total"]) + Decimal("0.40"))
        return orders

    def shop_order(self, n: int, at: str, lines: list[dict[str, Any]]) -> dict[str, Any]:
        """An order in the shop's own form."""
        who = f"{FIRST[(n * 5) % len(FIRST)]} {LAST[(n * 3) % len(LAST)]}"
        total = sum((Decimal(line["amount"]) for line in lines), Decimal(0))
        discounts, shipping = [], []
        if n % 5 == 2:
            off = (total / 10).quantize(Decimal("0.01"))
            discounts.append({"id": "d1", "title": "Coupon HONEY10", "amount": str(off), "tax_percent": "23"})
            total -= off
        if total < 120:
            shipping.append({"id": "p1", "title": "Postage", "amount": "6.90", "tax_percent": "23"})
            total += Decimal("6.90")
        wraps = [{"id": "u1", "title": "Gift wrapping", "amount": "3.50", "tax_percent": "23"}] if n % 7 == 3 else []
        total += Decimal("3.50") if wraps else Decimal(0)
        return {
            "id": f"live{n:02d}",
            "number": str(20480 + n),
            "version": 1,
            "fulfilment": "open",
            "status": "paid",
            "created_at": at,
            "updated_at": at,
            "currency": "EUR",
            "customer": {"name": who, "email": f"{who.replace(' ', '.').lower()}@post.example"},
            "ship_to": {"street": f"{n + 2} Apple Lane", "city": TOWNS[n % len(TOWNS)], "country": "IE"},
            "lines": lines,
            "discounts": discounts,
            "surcharges": wraps,
            "shipping_lines": shipping,
            "shipments": [],
            "total": str(total),
        }

    def receipts(self, articles: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """Sales rung up at Mill Lane today; one sells more than the books say is there."""
        rows = []
        stocked = [a for a in articles if int(a["stock"]) > 0]
        low = min(stocked, key=lambda a: int(a["stock"]))
        for n in range(6):
            at = (self.now - timedelta(hours=7 - n)).isoformat(timespec="microseconds")
            article = low if n == 4 else self.random.choice(stocked)
            count = int(low["stock"]) + 2 if n == 4 else 1
            total = Decimal(article["price"]) * count
            rows.append(
                {
                    "id": f"r{n}",
                    "number": f"{3990 + n:05d}",
                    "sold_at": at,
                    "uploaded_at": at,
                    "currency": "EUR",
                    "tender": "card",
                    "total": str(total),
                    "rows": [
                        {
                            "pos": 1,
                            "plu": article["plu"],
                            "code": article["code"],
                            "label": article["label"],
                            "count": count,
                            "sum": str(total),
                            "vat": "23",
                        }
                    ],
                }
            )
        return rows

    def ledger(self, told: list[dict[str, Any]]) -> None:
        """The ledger as it stands: our documents, and one that somebody booked by hand."""
        codes = {r.value: c for r, c, _ in CHART}
        documents = []
        for row in told:
            sums: dict[str, Decimal] = defaultdict(Decimal)
            for line in row["lines"]:
                sums[codes[line.role]] += line.amount
            documents.append(
                {
                    "id": row["number"],
                    "number": row["number"],
                    "kind": "journal",
                    "date": row["date"],
                    "contact": "",
                    "memo": row["memo"],
                    "details": [],
                    "booked_at": self.now.isoformat(),
                    "postings": [{"account": c, "amount": str(v)} for c, v in sorted(sums.items()) if v],
                }
            )
        documents.append(
            {
                "id": "HAND-1",
                "number": "HAND-1",
                "kind": "journal",
                "date": (self.today - timedelta(days=1)).isoformat(),
                "contact": "",
                "memo": "booked by hand",
                "details": [],
                "booked_at": self.now.isoformat(),
                "postings": [{"account": "5400", "amount": "7.95"}, {"account": "1300", "amount": "-7.95"}],
            }
        )
        chart = [{"code": c, "name": n} for _, c, n in sorted(CHART, key=lambda row: row[1])]
        self.setup["daybook"] = {
            "account": {**_account("ledger", "Daybook", "daybook-token"), "chart": chart, "locked": []},
            "document": documents,
        }
        account_ids.cache_clear()

    def suppliers(self) -> None:
        """Inboxes; the joinery answers by hand, the others by themselves."""
        for spec in SUPPLIERS:
            self.setup[spec.code] = {
                "account": {
                    **_account("supplier", spec.name, f"{spec.code}-token"),
                    "answers_by_itself": spec.code != "brackwater",
                },
            }

    def purchase_orders(self, history: History) -> None:
        """What the simulation had under way becomes purchase orders; the oldest is late; one draft waits."""
        groups: dict[tuple[str, str, int], list[tuple[str, int]]] = defaultdict(list)
        for (sku, place), rows in sorted(history.coming.items()):
            for due, units in rows:
                if sku != EDITED:
                    groups[BY_SKU[sku].supplier, place, (due - self.today).days // 12].append((sku, units))
        places = {place.code: place for place in Location.objects.all()}
        earliest = min((key for key in groups if key[1] == "tannery-yard"), key=lambda key: key[2])
        for (code, place, span), lines in sorted(groups.items(), key=lambda pair: -pair[0][2]):
            wanted: dict[str, int] = defaultdict(int)
            for sku, units in lines:
                wanted[sku] += units
            due = self.today + timedelta(days=-2 if (code, place, span) == earliest else max(1, span * 12 + 6))
            self.under_way(
                code,
                due,
                [buying.Wanted(self.items[sku].pk, places[place].pk, Decimal(units)) for sku, units in sorted(wanted.items())],
            )
        forecasts.carry_out(forecasts.begin_run(SYSTEM, self.now).pk, lambda: self.now)
        short = [x for x in replenishment(self.today) if x.terms and x.suggestion.quantity > 0 and x.item.sku != EDITED]
        short = [x for x in short if x.location.code == "tannery-yard"]
        chosen = [x for x in short if x.terms and short[0].terms and x.terms.supplier_id == short[0].terms.supplier_id][:5]
        buying.draft(
            SYSTEM,
            [buying.Wanted(x.item.pk, x.location.pk, x.suggestion.quantity, x.suggestion.working.as_dict()) for x in chosen],
            self.now,
        )

    def under_way(self, code: str, due: date, wanted: list[buying.Wanted]) -> None:
        """An order sent a lead time before it is due, delivered and acknowledged."""
        lead = next(s.lead for s in SUPPLIERS if s.code == code)
        at = min(self.now - timedelta(days=1), datetime.combine(due, self.now.timetz()) - timedelta(days=lead))
        (order,) = buying.draft(SYSTEM, wanted, at)
        buying.send(SYSTEM, order.pk, 1, at)
        buying.acknowledge(SYSTEM, order.number, buying.Answer(f"OR-{order.number}", accepted=True), at)
        PurchaseOrder.objects.filter(pk=order.pk).update(delivered_at=at, made_at=at, expected_on=due)
        OutboundMessage.objects.create(
            connection=self.connections[code],
            kind="purchase_order",
            subject_id=order.pk,
            state="sent",
            next_try_at=at,
            sent_at=at,
        )


def company_day_of(now: datetime) -> Any:
    """The day in Larkmead's time zone, before there is a company to ask."""
    from zoneinfo import ZoneInfo

    return now.astimezone(ZoneInfo("Europe/Dublin")).date()
