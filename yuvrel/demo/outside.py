"""What the simulated services start with: the shops, the marketplace, the tills, the ledger and the suppliers."""

from __future__ import annotations

import base64
import random
from collections import defaultdict
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from yuvrel.books.actions import CHART, accounts_of
from yuvrel.catalogue.models import Item
from yuvrel.channels.models import Connection, GroupPrice, Listing, PriceOffer

from . import NOT_YET_CONNECTED
from .drawings import drawn
from .range import BY_SKU, CLUBS, FIRST, LAST, SPECS, SUPPLIERS, TOWNS, gtin
from .texts import AT_THE_SHOP, AT_THE_TRADE_SHOP

SCOPES = {
    "shop": ["products:read", "stock:write", "prices:write", "orders:read", "shipments:write", "webhooks:write"],
    "market": ["offers", "orders"],
    "till": ["articles:read", "articles:write", "sales:read"],
    "ledger": ["accounts.read", "documents.write", "balances.read"],
    "supplier": ["orders:send", "answers:read"],
}
Setup = dict[str, dict[str, Any]]
EDITED = "GLV-GOA-8"  # nothing else touches it at first, so that the edit at the shop stays to be seen


# The ledger's own names of tax rates: code, per cent, title.
TAX_CODES = (("S23", "23", "Standard"), ("R13", "13.5", "Reduced"), ("Z0", "0", "Zero rate"))
# Shoppers who see prices of their own once they have signed in.
GROUPS = [{"key": "clubs", "title": "Bee clubs"}, {"key": "staff", "title": "Staff"}]


def _priced(sku: str, offer: PriceOffer | None) -> dict[str, Any]:
    """What the web shop shows: the price, and the one before where it is higher."""
    if offer is None:
        return {"price": str(BY_SKU[sku].price)}
    return {"price": str(offer.price), "was": None if offer.previous is None else str(offer.previous)}


def _account(sort: str, name: str, token: str, **more: Any) -> dict[str, Any]:
    return {"id": name, "sort": sort, "name": name, "tokens": {token: SCOPES[sort], f"{token}-reads": SCOPES[sort][:1]}, **more}


def _asks(name: str, label: str, *values: str, required: bool = True) -> dict[str, Any]:
    return {"name": name, "label": label, "required": required, "values": list(values)}


# What Hedgerow Market sorts its offers into, and which of ours each stands for.
MARKET_CATEGORIES: list[dict[str, Any]] = [
    {
        "id": "bee-wear",
        "title": "Beekeeping clothing",
        "attributes": [
            _asks("material", "Material", "cotton", "ventilated mesh", "leather", "nitrile"),
            _asks("size", "Size"),
        ],
    },
    {"id": "bee-hives", "title": "Hives and frames", "attributes": [_asks("wood", "Wood", "cedar", "pine", "none")]},
    {"id": "bee-tools", "title": "Tools", "attributes": [_asks("finish", "Finish", required=False)]},
    {"id": "jars", "title": "Jars and bottles", "attributes": [_asks("capacity", "Capacity, ml")]},
]
THERE = {"Clothing": "bee-wear", "Hives and frames": "bee-hives", "Tools and steel": "bee-tools", "Jars and packing": "jars"}


# Where the trade shop says its goods lie.
PLACES = [{"key": "store", "title": "Main store"}, {"key": "counter", "title": "Collection counter"}]
# What the trade shop's own goods look like: drawn as something of ours, under the shop's key.
DRAWN_AS = {"TRD-PAL-HIV": "HIV-FLT", "TRD-DRM-SYR": "EXT-HND-4"}
PICTURED = {sku: f"shot-{n}" for n, sku in enumerate(DRAWN_AS.values(), 1)}


class Outside:
    """Fills `setup`, the file that the stand-ins start from; what they show is what was worked out here."""

    now: datetime
    today: date
    random: random.Random
    setup: Setup
    items: dict[str, Item]
    connections: dict[str, Connection]

    def barcode(self, sku: str) -> str:
        """The GTIN of an item."""
        number = next(n for n, spec in enumerate(SPECS, 1) if spec.sku == sku)
        return gtin(number) if BY_SKU[sku].kind != "service" else ""

    def external(self, key: str, item: Item) -> str:
        """The channel's own id of an item."""
        return {"tannery-yard": f"v{item.pk}", "hedgerow": f"HM{item.pk:05d}"}.get(key, f"{1000 + item.pk}")

    def shops(self) -> None:
        """The web shop with the orders of today, the trade shop, both tills."""
        shown = {(row.connection_id, row.sku): int(row.offered or 0) for row in Listing.objects.filter(link="linked")}
        web = {spec.sku: shown.get((self.connections["tannery-yard"].pk, spec.sku), 0) for spec in SPECS}
        orders = self.fresh_orders(web)
        self.setup["larkmead-web"] = {
            "account": {**_account("shop", "Larkmead web shop", "shop-web-token"), "next_number": 20500, "groups": GROUPS},
            "product": self.products(web),
            "order": orders,
        }
        self.setup[NOT_YET_CONNECTED] = {
            "account": {
                **_account("shop", "Larkmead trade shop", "shop-trade-token"),
                "trade": True,
                "next_number": 701,
                "places": PLACES,
            },
            "product": (goods := self.trade_products()),
            "picture": [{"id": key, "data": base64.b64encode(drawn(sku) or b"").decode()} for sku, key in PICTURED.items()],
            "order": self.trade_orders(goods),
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
                "close": [self.counted(receipts)] if receipts else [],
            }

    def products(self, shown: dict[str, int]) -> list[dict[str, Any]]:
        """The shop's products with their variants."""
        groups: dict[int, list[str]] = defaultdict(list)
        listed = PriceOffer.objects.filter(listing__connection=self.connections["tannery-yard"]).select_related("listing")
        offers = {offer.listing.sku: offer for offer in listed}
        told = Listing.objects.filter(connection=self.connections["tannery-yard"], link="linked").exclude(terms={})
        terms = dict(told.values_list("sku", "terms"))
        of_clubs = GroupPrice.objects.filter(listing__connection=self.connections["tannery-yard"], state="agreed")
        clubs = {sku: {"clubs": str(price)} for sku, price in of_clubs.values_list("listing__sku", "price")}
        for spec in SPECS:
            groups[self.items[spec.sku].product_id].append(spec.sku)
        return [
            {
                "id": str(product),
                "title": BY_SKU[skus[0]].product,
                "category": BY_SKU[skus[0]].category,
                "tax_percent": "23",
                **self.words_of(skus[0]),
                "variants": [
                    {
                        "id": self.external("tannery-yard", self.items[sku]),
                        "sku": sku,
                        "barcode": self.barcode(sku),
                        **_priced(sku, offers.get(sku)),
                        "for_groups": clubs.get(sku, {}),
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

    def words_of(self, sku: str) -> dict[str, Any]:
        """What the shop says of a product: what we do, but where somebody wrote something better there."""
        product = self.items[sku].product
        told = {"text": product.description, "maker": product.brand, "labels": product.tags}
        return {**told, **AT_THE_SHOP.get(product.title, {})}

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
                "category": "Trade, discontinued" if n == 31 else "Trade",
                "tax_percent": "23",
                "state": "draft" if n == 30 else "live",
                **AT_THE_TRADE_SHOP.get(sku, {}),
                "pictures": [{"key": PICTURED[DRAWN_AS[sku]], "alt": title}] if sku in DRAWN_AS else [],
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

    def trade_orders(self, goods: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """What clubs bought there over ten months, before anybody thought of connecting it; the last two are open."""
        orders = []
        for n in range(30):
            at = (self.now - timedelta(days=2 + (29 - n) * 10, hours=n % 7)).isoformat(timespec="microseconds")
            lines = []
            for k in range(1 + n % 3):
                product = goods[(n * 5 + k * 7) % len(goods)]
                variant, units = product["variants"][0], 2 + (n + k) % 4
                line = {"id": f"l{k + 1}", "variant_id": variant["id"], "sku": variant["sku"], "title": product["title"]}
                amount = str(Decimal(variant["price"]) * units)
                lines.append({**line, "quantity": units, "amount": amount, "tax_percent": "23"})
            club = CLUBS[n % len(CLUBS)]
            orders.append(
                {
                    "id": f"trade{n:02d}",
                    "number": str(671 + n),
                    "version": 1,
                    "fulfilment": "shipped" if n < 28 else "open",
                    "status": "on_account",
                    "created_at": at,
                    "updated_at": at,
                    "currency": "EUR",
                    "customer": {"name": club, "email": f"club{n % len(CLUBS)}@clubs.example", "on_account": True},
                    "ship_to": {"street": "Club House", "city": TOWNS[n % len(CLUBS)], "country": "IE"},
                    "lines": lines,
                    "discounts": [],
                    "surcharges": [],
                    "shipping_lines": [],
                    "shipments": [],
                    "total": str(sum((Decimal(line["amount"]) for line in lines), Decimal(0))),
                }
            )
        return orders

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

    def market(self) -> None:
        """Hedgerow Market in two regions, of which one is connected; orders of this morning wait there."""
        hedgerow = self.connections["hedgerow"]
        offers = [self.offer(row) for row in Listing.objects.filter(connection=hedgerow).order_by("pk")]
        sold = [offer for offer in offers if offer["quantity"] > 4 and offer["seller_code"] and offer["seller_code"] != EDITED]
        orders = [self.market_order(n, self.random.choice(sold)) for n in range(6)]
        abroad = [{**offer, "id": f"F{offer['id']}", "offer": f"F{offer['id']}", "quantity": 0} for offer in offers[:8]]
        client = {"larkmead": {"secret": "hedgerow-secret", "scopes": ["offers", "orders"]}}
        account = {"id": "hedgerow", "sort": "market", "name": "Hedgerow Market", "clients": client, "per_hour": 6000}
        self.setup["hedgerow"] = {
            "account": {**account, "regions": ["ie", "fr"], "next_number": 4107},
            "offer-ie": offers,
            "offer-fr": abroad,
            "category-ie": MARKET_CATEGORIES,
            "category-fr": MARKET_CATEGORIES[:2],
            "entry": [{"id": self.barcode("PEN-FLD"), "entry": "C-20417"}],
            "order-ie": orders,
        }

    def offer(self, row: Listing) -> dict[str, Any]:
        """An offer in the marketplace's own form."""
        return {
            "id": row.external_id,
            "offer": row.external_id,
            "family": row.group_id,
            "seller_code": row.sku,
            "barcode": row.barcode,
            "title": row.title,
            "variation": row.options,
            "category": row.category,
            "price": str(row.price),
            "quantity": int(row.offered or 0),
            "kept_by": "seller",
        }

    def market_order(self, n: int, offer: dict[str, Any]) -> dict[str, Any]:
        """An order in the marketplace's own form."""
        at = (self.now - timedelta(hours=9 - n, minutes=self.random.randrange(50))).isoformat(timespec="microseconds")
        count = self.random.choice((1, 1, 2))
        amount, buyer = Decimal(offer["price"]) * count, f"{FIRST[(n * 7 + 2) % len(FIRST)]} {LAST[(n * 4 + 1) % len(LAST)]}"
        offer["quantity"] -= count
        row = {"position": "1", "offer": offer["offer"], "seller_code": offer["seller_code"], "title": offer["title"]}
        key = f"IE-{4101 + n:06d}"
        return {
            "id": key,
            "order": key,
            "revision": 1,
            "state": "to_ship",
            "send_by": (self.today + timedelta(days=n % 3)).isoformat(),
            "placed_at": at,
            "updated_at": at,
            "currency": "EUR",
            "buyer": buyer,
            "address": {"name": buyer, "street": f"{n + 4} Orchard Way", "city": TOWNS[(n + 3) % len(TOWNS)], "country": "IE"},
            "positions": [{**row, "count": count, "amount": str(amount), "tax": "23"}],
            "postage": [{"amount": "4.90", "tax": "23"}],
            "total": str(amount + Decimal("4.90")),
            "fee": str((amount * Decimal("0.12")).quantize(Decimal("0.01"))),
            "parcels": [],
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
                    "tender": "cash" if n % 2 else "card",
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

    def counted(self, receipts: list[dict[str, Any]]) -> dict[str, Any]:
        """The till was closed after these: forty cents of the cash are missing."""
        sold = {way: sum((Decimal(r["total"]) for r in receipts if r["tender"] == way), Decimal(0)) for way in ("cash", "card")}
        at = max(receipt["uploaded_at"] for receipt in receipts)
        cash = {"tender": "cash", "float": "120.00", "counted": str(sold["cash"] + Decimal("119.60"))}
        card = {"tender": "card", "float": "0", "counted": str(sold["card"])}
        facts = {"id": "z1", "number": "Z0118", "outlet": "", "currency": "EUR", "closed_at": at, "updated_at": at}
        return {**facts, "tenders": [cash, card]}

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
                "by": "hand",
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
        taxes = [{"code": code, "title": title, "percent": percent} for code, percent, title in TAX_CODES]
        chart = [{"code": c, "name": n} for _, c, n in sorted(CHART, key=lambda row: row[1])]
        self.setup["daybook"] = {
            "account": {**_account("ledger", "Daybook", "daybook-token"), "chart": chart, "locked": [], "tax_codes": taxes},
            "document": documents,
        }
        accounts_of.cache_clear()

    def suppliers(self) -> None:
        """Inboxes; the joinery answers by hand, the others by themselves."""
        for spec in SUPPLIERS:
            self.setup[spec.code] = {
                "account": {
                    "id": spec.name,
                    "sort": "supplier",
                    "name": spec.name,
                    "keys": {"larkmead": {"secret": f"{spec.code}-secret", "scopes": SCOPES["supplier"]}},
                    "answers_by_itself": spec.code != "brackwater",
                },
            }
