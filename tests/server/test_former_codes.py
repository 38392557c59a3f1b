"""What an item was called goes on matching: SKUs and barcodes it had, until something else is called so."""

from __future__ import annotations

from typing import Any

import pytest

from tests.world import make_connection, make_item
from yuvrel.catalogue.models import Barcode, FormerCode, Item
from yuvrel.catalogue.products import change_items
from yuvrel.channels import inbound
from yuvrel.channels.linking import pairing_index
from yuvrel.connectors.messages import RemoteLine
from yuvrel.core.pairing import ListingFacts
from yuvrel.people.roles import SYSTEM

pytestmark = pytest.mark.django_db
CODE = "2100000000012"


def renamed(item: Item, **facts: Any) -> Item:
    version = Item.objects.get(pk=item.pk).version
    return change_items(SYSTEM, {item.pk: {"version": version, **facts}})[0]


def matched(sku: str = "", barcode: str = "") -> tuple[int | None, str]:
    found = pairing_index().verdict(ListingFacts(sku, barcode, "x"), most=0)
    return found.linked, found.reason


def ordered(sku: str) -> int | None:
    shop = make_connection()
    line = RemoteLine(kind="item", sku=sku, title="x", amount="1.00")  # type: ignore[arg-type]
    return inbound.resolve(shop, [line])[0].item_id


def test_a_sku_it_had_matches_listings_and_orders(company: Any) -> None:
    item = renamed(make_item("JAR-OLD"), sku="JAR-340")
    assert matched("jar-old ") == (item.pk, "former SKU")
    assert matched("JAR-340") == (item.pk, "same SKU")
    assert (ordered("Jar-Old"), ordered("jar-340"), ordered("JAR-X")) == (item.pk, item.pk, None)
    # Written otherwise it is the same SKU, and nothing was left behind.
    renamed(item, sku="jar-340")
    assert FormerCode.objects.count() == 1


def test_a_barcode_it_had_matches(company: Any) -> None:
    item = make_item("A")
    renamed(item, barcodes=[CODE])
    renamed(item, barcodes=[])
    assert not Barcode.objects.exists()
    assert matched(barcode=CODE) == (item.pk, "former barcode")


def test_what_is_called_so_now_comes_first(company: Any) -> None:
    renamed(make_item("JAR"), sku="JAR-340")
    now = make_item("JAR")
    assert matched("JAR") == (now.pk, "same SKU")
    assert (ordered("JAR"), ordered("jar")) == (now.pk, now.pk)


def test_two_that_were_called_so_are_left_to_a_person(company: Any) -> None:
    renamed(make_item("JAR"), sku="JAR-1")
    renamed(make_item("JAR"), sku="JAR-2")
    assert matched("JAR") == (None, "More than one item matches.")
    assert ordered("JAR") is None
