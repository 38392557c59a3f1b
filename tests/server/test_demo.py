"""The Larkmead demo: what a person finds on first opening is whole, agrees, and is worth looking at."""

from __future__ import annotations

from collections import defaultdict
from datetime import date
from decimal import Decimal as D
from typing import Any

import pytest
from django.db.models import Count, Sum

from tests.invariants import assert_invariants
from yuvrel.agreement.actions import compare_value
from yuvrel.books.models import JournalLine
from yuvrel.buying.models import PurchaseOrder, Supplier
from yuvrel.catalogue.models import Barcode, Item
from yuvrel.channels.models import Listing, PriceOffer
from yuvrel.core.gtin import normal_gtin
from yuvrel.core.pricing import sum_of_parts
from yuvrel.demo import history
from yuvrel.demo.history import DAYS, simulate
from yuvrel.demo.range import SPECS, gtin
from yuvrel.planning.queries import replenishment
from yuvrel.sales.models import Customer, OrderLine, SalesOrder
from yuvrel.stock.models import LotBalance, StockMove, Transfer

TODAY = date(2027, 3, 14)


def test_the_generator_is_deterministic(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(history, "DAYS", 90)
    one, two = simulate(TODAY), simulate(TODAY)
    assert [b.lines for b in one.baskets[:500]] == [b.lines for b in two.baskets[:500]]
    assert one.stock == two.stock


def test_barcodes_are_valid_and_of_the_in_store_range() -> None:
    """GS1 General Specifications: prefixes 20 to 29 are for use inside a company."""
    for number in (1, 77, 901):
        code = gtin(number)
        assert normal_gtin(code).lstrip("0") == code
        assert 20 <= int(code[:2]) <= 29


def test_the_kits_are_made_of_what_is_sold() -> None:
    skus = {spec.sku for spec in SPECS}
    assert len(skus) == len(SPECS)
    assert all(part in skus for spec in SPECS for part, _ in spec.parts)
    price = {spec.sku: spec.price for spec in SPECS}
    for kit in (spec for spec in SPECS if spec.parts):
        # A kit is cheaper than what it holds.
        assert kit.price < (sum_of_parts([(price[part], D(each)) for part, each in kit.parts], D(0)) or 0)
        if kit.less:
            assert kit.price == sum_of_parts([(price[part], D(each)) for part, each in kit.parts], D(kit.less))


@pytest.mark.django_db
def test_larkmead_is_whole_and_its_three_books_agree(larkmead: dict[str, dict[str, Any]]) -> None:
    _check_range()
    _check_history()
    _check_books(larkmead)
    _check_channels(larkmead)
    _check_prices(larkmead)
    _check_buying()
    assert_invariants()


def _check_range() -> None:
    kinds = dict(Item.objects.values_list("kind").annotate(n=Count("id")).order_by())
    assert 140 <= sum(kinds.values()) <= 160
    assert kinds["bundle"] >= 3
    assert kinds["service"] >= 3
    assert Barcode.objects.count() == kinds["stocked"] + kinds["bundle"]
    assert Supplier.objects.count() == 6
    assert {s.currency for s in Supplier.objects.all()} == {"EUR", "USD", "PLN"}
    assert Customer.objects.filter(on_account=True).exists()
    assert LotBalance.objects.filter(on_hand__gt=0).exists()


def _check_history() -> None:
    orders = SalesOrder.objects.filter(history=True)
    days = {order.placed_at.date() for order in orders.only("placed_at")}
    assert min(days) == date(2024, 12, 12)
    assert len(days) > DAYS - 30
    assert max(days) == date(2027, 3, 13)
    assert StockMove.objects.filter(reason="return").exists()
    by_month: dict[tuple[str, int], D] = defaultdict(D)
    lines = OrderLine.objects.filter(item__isnull=False).select_related("item__product__category", "order")
    for line in lines.only("quantity", "item__product__category__name", "order__placed_at"):
        assert line.item
        assert line.item.product.category
        by_month[line.item.product.category.name, line.order.placed_at.month] += line.quantity
    assert by_month["Jars and packing", 8] > 3 * by_month["Jars and packing", 2]
    assert by_month["Hives and frames", 4] > 2 * by_month["Hives and frames", 10]
    lines_now = replenishment(TODAY)
    assert any(line.velocity.days_out > 5 for line in lines_now)
    assert any(line.velocity.per_day < D("0.05") for line in lines_now if line.velocity.days_in_stock)


def _check_books(setup: dict[str, dict[str, Any]]) -> None:
    assert compare_value().agrees
    # The transfers and returns of the last days are told once the ledger is live.
    told = JournalLine.objects.filter(entry__ledger_document__state="sent")
    ours = dict(told.values_list("account__code").annotate(t=Sum("amount")).order_by())
    waiting = JournalLine.objects.filter(entry__ledger_document__state="pending").values_list("entry__kind", flat=True)
    assert set(waiting) == {"transfer", "return", "credit note"}
    theirs: dict[str, D] = defaultdict(D)
    for document in setup["daybook"]["document"]:
        for posting in document["postings"]:
            theirs[posting["account"]] += D(posting["amount"])
    off = {code for code in {*ours, *theirs} if ours.get(code, D(0)) != theirs.get(code, D(0))}
    assert off == {"1300", "5400"}  # the one entry that somebody booked by hand
    assert sum(ours.values()) == 0


def _check_channels(setup: dict[str, dict[str, Any]]) -> None:
    shop = {
        variant["sku"]: variant["quantity"] for product in setup["larkmead-web"]["product"] for variant in product["variants"]
    }
    sold: dict[str, int] = defaultdict(int)
    orders = setup["larkmead-web"]["order"]
    for order in orders:
        for line in order["lines"]:
            sold[line["sku"]] += line["quantity"]
    for listing in Listing.objects.filter(connection__name="Larkmead web shop", offered__isnull=False):
        assert shop[listing.sku] == listing.offered - sold[listing.sku]
    assert Listing.objects.filter(link="unlinked").count() == 7
    off_by = [D(o["total"]) - _lines_total(o) for o in orders]
    assert sorted(off_by)[-1] == D("0.40")
    assert sum(1 for x in off_by if x) == 1


def _lines_total(order: dict[str, Any]) -> D:
    plus = [row["amount"] for kind in ("lines", "surcharges", "shipping_lines") for row in order[kind]]
    return sum(map(D, plus), D(0)) - sum((D(row["amount"]) for row in order["discounts"]), D(0))


def _check_prices(larkmead: dict[str, dict[str, Any]]) -> None:
    """Every price that is kept here is shown there; none starts out below its floor."""
    offers = PriceOffer.objects.select_related("listing")
    assert {offer.state for offer in offers} == {"agreed"}
    assert all(offer.listing.price == offer.price for offer in offers)
    by_connection = dict(offers.values_list("listing__connection__name").annotate(n=Count("pk")).order_by())
    assert len(by_connection) == 4
    assert min(by_connection.values()) > 20
    shown = {v["id"]: v for p in larkmead["larkmead-web"]["product"] for v in p["variants"]}
    web = offers.filter(listing__connection__kind="web_shop")
    assert len(web) > 100
    assert all(D(shown[offer.listing.external_id]["price"]) == offer.price for offer in web)


def _check_buying() -> None:
    states = dict(PurchaseOrder.objects.values_list("state").annotate(n=Count("id")).order_by())
    assert states["acknowledged"] >= 5
    assert states["draft"] >= 1
    assert PurchaseOrder.objects.filter(state="acknowledged", expected_on__lt=TODAY).count() == 1
    moved = dict(Transfer.objects.values_list("state").annotate(n=Count("id")).order_by())
    assert moved == {"received": 1, "sent": 1, "draft": 1}
