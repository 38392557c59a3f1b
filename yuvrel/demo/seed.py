"""Seeding Larkmead: the database, and the set-up file of the stand-ins that goes with it."""

from __future__ import annotations

import json
import random
from collections import defaultdict
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from django.db import transaction
from django.db.models import F, OuterRef, Subquery
from django.utils import timezone

from yuvrel.books.actions import CHART
from yuvrel.buying import actions as buying
from yuvrel.buying.models import PurchaseOrder, Supplier, SupplierInbox
from yuvrel.catalogue.models import Category, Item
from yuvrel.channels import mapping, prices
from yuvrel.channels.credentials import seal
from yuvrel.channels.models import ChannelGroup, Connection, Feed, GroupPrice, Listing, OutboundMessage, PriceOffer, Publication
from yuvrel.channels.offers import wanted_of
from yuvrel.channels.price_rules import SET, owner_of
from yuvrel.channels.rules import Ids
from yuvrel.connectors.base import order_states
from yuvrel.connectors.capabilities import Capability
from yuvrel.connectors.registry import KINDS
from yuvrel.core.credits import Wanted
from yuvrel.core.price_change import PriceRule
from yuvrel.core.pricing import Rounding
from yuvrel.core.rules import Level, Rung
from yuvrel.ownership import working_for
from yuvrel.people.models import AuditRow, Location
from yuvrel.people.roles import SYSTEM
from yuvrel.planning import forecasts
from yuvrel.planning.queries import replenishment
from yuvrel.pricing.actions import keep_list
from yuvrel.pricing.changes import Selection, Typed, apply_rule, type_prices
from yuvrel.pricing.loading import base_list
from yuvrel.rules.actions import change
from yuvrel.rules.queries import by_level
from yuvrel.sales import returns as returning
from yuvrel.sales.credits import credit
from yuvrel.sales.customers import keep_group
from yuvrel.sales.models import Customer, OrderLine, Return
from yuvrel.stock import transfers
from yuvrel.stock.models import StockBalance, Transfer

from .company import make_people, make_range, make_suppliers
from .drawings import picture_range
from .history import History, simulate
from .outside import EDITED, MARKET_CATEGORIES, SCOPES, TAX_CODES, THERE, Outside, Setup
from .past import Past
from .range import BY_SKU, SPECS, SUPPLIERS


class Seeder(Outside):
    """One seeding; `base` is where the stand-ins answer."""

    def __init__(self, base: str, now: datetime | None = None) -> None:
        self.base = base.rstrip("/")
        self.now = now or timezone.now()
        self.today = company_day_of(self.now)
        self.random = random.Random(11)
        self.setup = {}
        self.connections = {}

    @transaction.atomic
    def run(self) -> Setup:
        """Fill the database; returns what the stand-ins start with."""
        with working_for(make_people()):
            return self.fill()

    def fill(self) -> Setup:
        """All that is the company's."""
        make_suppliers(self.today)
        self.items = make_range()
        picture_range(self.items)
        self.connect()
        history = simulate(self.today)
        past = Past(history, self.items, self.connections)
        past.write()
        told = past.journal()
        self.purchase_orders(history)
        self.transfers()
        self.returns()
        self.rules()
        self.prices()
        self.listings()
        self.publications()
        self.shops()
        self.market()
        self.ledger(told)
        self.suppliers()
        return self.setup

    def rules(self) -> None:
        """What somebody has set: the shop never shows more than sixty, keeps two of all jars back, says when few are
        left, is told how its orders get on, and takes pre-orders for the one extractor that is made to order; buyers hear
        when jars run low."""
        shop = self.connections["tannery-yard"]
        jars = Category.objects.get(name="Jars and packing")
        told = {"received": "waiting_for_goods", "held": "on_hold", "ready": "in_hand", "cancelled": "cancelled"}
        set_there = {"maximum_shown": "60", "low_stock_below": "4", "states_told": json.dumps(told)}
        change(SYSTEM, Rung(Level.CONNECTION, shop.name, shop.pk), set_there, self.now)
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
        group = keep_group(SYSTEM, None, 0, {"name": "Beekeepers' clubs", "price_list_id": clubs.pk})
        Customer.objects.filter(on_account=True).update(group=group)
        ChannelGroup.objects.create(connection=self.connections["tannery-yard"], key="clubs", title="Bee clubs", group=group)
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
        for key in ("tannery-yard", "hedgerow", "mill-lane", "wagon"):
            row = self.connections[key]
            row.refresh_from_db()
            change(SYSTEM, Rung(Level.CONNECTION, row.name, row.pk), {"price_owner": "here"}, self.now)

    def connect(self) -> None:
        """The connections, tested and ready to go live; the trade shop is left for a person to add."""
        of_shop = {"fee_percent": "1.80", "fee_fixed": "0.25", "cash_customer": "Web shop cash sales", "order_prefix": "WS-"}
        of_shop |= {"ledger_order": "order", "ledger_contact": "account"}
        self.connection("tannery-yard", "web_shop", "Larkmead web shop", "shop/larkmead-web", "shop-web-token", of_shop)
        of_market = {"fee_percent": "12", "cash_customer": "Hedgerow sales", "order_prefix": "HM-"}
        signed_in = {"account": {"client": "larkmead", "region": "ie"}}
        self.connection("hedgerow", "market", "Hedgerow Market", "market/hedgerow", "hedgerow-secret", of_market, **signed_in)
        tills = (("mill-lane", "Mill Lane till", "till-mill-token", "ML-"), ("wagon", "Wagon till", "till-wagon-token", "WG-"))
        for key, name, token, prefix in tills:
            customer = "Mill Lane cash sales" if key == "mill-lane" else "Market cash sales"
            of_till = {"order_prefix": prefix, "cash_customer": customer, "ledger_document": "day"}
            self.connection(key, "till", name, f"till/{key}", token, of_till)
        accounts = {role.value: code for role, code, _ in CHART}
        ledger = self.connection("daybook", "ledger", "Daybook", "ledger/daybook", "daybook-token", {"ledger_items": "sold"})
        mapping.keep(ledger, accounts)
        for spec in SUPPLIERS:
            path, secret = f"supplier/{spec.code}", f"{spec.code}-secret"
            row = self.connection(spec.code, "supplier", f"{spec.name} inbox", path, secret, account={"key": "larkmead"})
            SupplierInbox.objects.create(supplier=Supplier.objects.get(code=spec.code), connection=row)

    def connection(
        self, key: str, kind: str, name: str, path: str, secret: str, rules: dict[str, Any] | None = None, **more: Any
    ) -> Connection:
        """A connection that has been tested; it goes live once the simulated services answer."""
        since = self.now - timedelta(hours=22)
        has_orders = bool(order_states(KINDS[kind]))
        place = Location.objects.filter(code=key).first() or Location.objects.get(code="tannery-yard")
        (entry,) = (one.name for one in KINDS[kind].sign_in.entries if one.secret)
        row = Connection.objects.create(
            kind=kind,
            name=name,
            address=f"{self.base}/{path}",
            secrets_sealed=seal(json.dumps({entry: secret})),
            hook_key=f"hook-{key}-{self.random.getrandbits(64):x}",
            state="tested",
            tested_at=self.now,
            fulfils_from=place,
            live_since=since,
            test_report={
                "ok": True,
                "name": name,
                "scopes": SCOPES[path.split("/")[0]],
                "accounts": [[c, n] for _, c, n in CHART] if kind == "ledger" else [],
                "tax_codes": [list(one) for one in TAX_CODES] if kind == "ledger" else [],
            },
            **more,
        )
        row.feeds.set([place])
        if has_orders:
            Feed.objects.create(connection=row, part="orders", watermark=since.isoformat())
        often = {"orders_every": 20} if has_orders else {"answers_every": 20} if kind == "supplier" else {}
        change(SYSTEM, Rung(Level.CONNECTION, row.name, row.pk), {**often, **(rules or {})}, self.now)
        row.refresh_from_db()
        self.connections[key] = row
        return row

    def listings(self) -> None:
        """What each channel shows: linked and agreed, but for a few that wait on the bench."""
        rows = []
        for spec in SPECS:
            for key in ("tannery-yard", "hedgerow", "mill-lane", "wagon"):
                if key != "tannery-yard" and (spec.kind != "stocked" or (key in ("wagon", "hedgerow") and not spec.wagon)):
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
        hedgerow = self.connections["hedgerow"]
        unknown = (("HM90001", "Smoker, brass, large size", "41.00"), ("HM90002", "Beekeeper's veil, folding", "18.90"))
        rows += [
            Listing(connection=hedgerow, external_id=key, title=title, product_title=title, price=price)
            for key, title, price in unknown
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

    def publications(self) -> None:
        """Some things are about to be listed on the market: complete, lacking something, refused once."""
        hedgerow = self.connections["hedgerow"]
        Connection.objects.filter(pk=hedgerow.pk).update(categories=MARKET_CATEGORIES)
        for category in Category.objects.filter(name__in=THERE):
            rung = Rung(Level.CATEGORY_ON_CONNECTION, f"{category.name} on {hedgerow.name}", category.pk, hedgerow.pk)
            change(SYSTEM, rung, {"category_there": THERE[category.name]}, self.now)
        rung = Rung(Level.CONNECTION, hedgerow.name, hedgerow.pk)
        change(SYSTEM, rung, {"title_there": "{{ title | cut(70) }}, Larkmead"}, self.now)
        told = {"material": "ventilated mesh", "size": "L"}
        for sku, attributes in (("SUI-VEN-M", {}), ("SUI-VEN-L", told), ("ROF-FLT", {}), ("BKT-015", {}), ("PEN-FLD", {})):
            Publication.objects.create(connection=hedgerow, item=self.items[sku], attributes=attributes, by="Hester Larkmead")
        refused = {"state": "refused", "said": "this product needs a safety sheet", "ended_at": self.now}
        Publication.objects.create(connection=hedgerow, item=self.items["MLT-STM"], by="Hester Larkmead", **refused)

    def agree(self) -> None:
        """Offers worked out by the same code as ever; the stand-ins start out showing them."""
        rows = []
        for connection in self.connections.values():
            linked = Listing.objects.filter(connection=connection, link="linked")
            offers = wanted_of(connection, Ids.of(linked)) if Capability.QUANTITIES in KINDS[connection.kind].can else {}
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
        pending = GroupPrice.objects.filter(state=PriceOffer.State.PENDING)
        pending.update(state=PriceOffer.State.AGREED, offered_at=self.now, agreed_at=self.now, shown=F("price"))
        offered = PriceOffer.objects.filter(listing=OuterRef("pk")).values("price")
        Listing.objects.exclude(price_offer=None).update(price=Subquery(offered))

    def purchase_orders(self, history: History) -> None:
        """What the simulation had under way becomes purchase orders; the oldest is late; one draft waits."""
        groups: dict[tuple[str, str, int], list[tuple[str, int]]] = defaultdict(list)
        for (sku, place), rows in sorted(history.coming.items()):
            for due, units in rows:
                if sku != EDITED:
                    groups[BY_SKU[sku].supplier, place, (due - self.today).days // 12].append((sku, units))
        places = {place.code: place for place in Location.objects.all()}
        for code, days in (("mill-lane", 1), ("wagon", 2)):
            filled = {"fed_from": "tannery-yard", "transfer_days": days}
            change(SYSTEM, Rung(Level.PLACE, places[code].name, places[code].pk), filled, self.now)
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

    def transfers(self) -> None:
        """Goods from the yard to the other places: some arrived with one missing, some are on the way, some wait."""
        place = {row.code: row for row in Location.objects.all()}
        yard = place["tannery-yard"]
        plenty = StockBalance.objects.filter(location=yard, on_hand__gte=F("committed") + 30, item__expiry_tracked=False)
        goods = [row.item_id for row in plenty.exclude(item__sku=EDITED).order_by("item__sku")[:14]]

        def load(to: str, items: list[int], due: int, note: str = "") -> Transfer:
            loads = [transfers.Load(item, Decimal(4 + n % 3 * 2)) for n, item in enumerate(items)]
            return transfers.draft(SYSTEM, yard.pk, place[to].pk, loads, self.today + timedelta(days=due), note)

        def leave(row: Transfer, hours: int) -> None:
            at = self.now - timedelta(hours=hours)
            transfers.send(SYSTEM, row.pk, row.version, at)
            Transfer.objects.filter(pk=row.pk).update(made_at=at - timedelta(hours=2))
            _dated("transfer", row.pk, {"draft transfer": at - timedelta(hours=2), "send transfer": at})

        here = load("mill-lane", goods[:5], -2, "for the shop window")
        leave(here, 70)
        lines = list(here.lines.order_by("pk"))  # type: ignore[attr-defined]
        came = {line.pk: line.quantity - (line == lines[0]) for line in lines}
        arrived = transfers.receive(SYSTEM, here.pk, came, self.now - timedelta(hours=47))
        later = self.now - timedelta(hours=46)
        transfers.give_up(SYSTEM, here.pk, arrived.version, {lines[0].pk: Decimal(1)}, "damaged", later)
        _dated("transfer", here.pk, {"receive transfer": self.now - timedelta(hours=47), "give up transfer": later})
        leave(load("wagon", goods[4:11], 1, "Saturday market"), 5)
        load("mill-lane", goods[9:14], 3)

    def returns(self) -> None:
        """Two orders of the shop come back: one is here and credited, of the other the goods are awaited."""
        sold = OrderLine.objects.filter(
            order__connection=self.connections["tannery-yard"],
            order__placed_at__lt=self.now - timedelta(days=4),
            kind=OrderLine.Kind.ITEM,
            item__kind=Item.Kind.STOCKED,
            item__expiry_tracked=False,
            shipped__gte=1,
        )
        worn = sold.filter(item__product__category__name="Clothing")
        lines = list((worn if worn.count() > 1 else sold).select_related("order").order_by("-order__placed_at", "pk")[:8])
        first, second = lines[0], next(line for line in lines if line.order_id != lines[0].order_id)
        here = self.announced(first, "does not fit", 52, "one size larger would do")
        at = self.now - timedelta(hours=27)
        found = {row.pk: returning.Found(restock=row.quantity) for row in here.lines.all()}  # type: ignore[attr-defined]
        returning.inspect(SYSTEM, here.pk, found, at)
        wanted = {first.pk: Wanted(Decimal(1))}
        credit(SYSTEM, first.order_id, wanted, at + timedelta(hours=1), back_id=here.pk, note="with our regrets")
        _dated("return", here.pk, {"look at return": at})
        _dated("order", first.order_id, {"credit order": at + timedelta(hours=1)})
        self.announced(second, "faulty", 20, "seam is open")

    def announced(self, line: OrderLine, reason: str, hours: int, note: str) -> Return:
        """A return of one of a line, announced so many hours ago."""
        at = self.now - timedelta(hours=hours)
        row = returning.announce(SYSTEM, line.order_id, [returning.Coming(line.pk, Decimal(1), reason)], at, note)
        _dated("return", row.pk, {"expect return": at})
        return row

    def under_way(self, code: str, due: date, wanted: list[buying.Wanted]) -> None:
        """An order sent a lead time before it is due, delivered and acknowledged."""
        lead = next(s.lead for s in SUPPLIERS if s.code == code)
        at = min(self.now - timedelta(days=1), datetime.combine(due, self.now.timetz()) - timedelta(days=lead))
        (order,) = buying.draft(SYSTEM, wanted, at)
        buying.send(SYSTEM, order.pk, 1, at)
        buying.acknowledge(SYSTEM, order.number, buying.Answer(f"OR-{order.number}", accepted=True), at)
        PurchaseOrder.objects.filter(pk=order.pk).update(delivered_at=at, made_at=at, expected_on=due)
        steps = ("draft purchase order", "send purchase order", "supplier answered")
        _dated("purchase order", order.pk, {step: at + timedelta(minutes=n) for n, step in enumerate(steps)})
        OutboundMessage.objects.create(
            connection=self.connections[code],
            kind="purchase_order",
            subject_id=order.pk,
            state="sent",
            next_try_at=at,
            sent_at=at,
        )


def _dated(subject: str, subject_id: int, steps: dict[str, datetime]) -> None:
    """Let what was done to a document have been done when the story says."""
    for action, at in steps.items():
        AuditRow.objects.filter(subject=subject, subject_id=subject_id, action=action).update(at=at)


def company_day_of(now: datetime) -> Any:
    """The day in Larkmead's time zone, before there is a company to ask."""
    from zoneinfo import ZoneInfo

    return now.astimezone(ZoneInfo("Europe/Dublin")).date()
