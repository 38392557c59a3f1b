"""Lines put on a draft by hand: an item that is there, one the supplier has not sold yet, one made on the spot."""

from __future__ import annotations

import json
from decimal import Decimal as D
from typing import Any

import pytest
from django.test import Client

from tests.world import NOW, make_item, make_supplier, make_user
from yuvrel.buying import lines
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.buying.models import PriceBreak, PurchaseOrder, SupplierItem
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError, StaleError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Actor, Role

pytestmark = pytest.mark.django_db


@pytest.fixture
def order(company: Location) -> PurchaseOrder:
    item = make_item("HIV-1")
    make_supplier(item, price="20.00")
    (found,) = draft(SYSTEM, [Wanted(item.pk, company.pk, D(2))], NOW)
    return found


def add(order: PurchaseOrder, item: Item, **more: Any) -> PurchaseOrder:
    facts = {"quantity": D(5), "price": None} | more
    version = PurchaseOrder.objects.get(pk=order.pk).version
    return lines.add_line(SYSTEM, order.pk, version, item.pk, facts["quantity"], facts["price"], more.get("code", ""))


def test_what_the_supplier_sells_comes_at_its_price(order: PurchaseOrder) -> None:
    item = make_item("FRM-1")
    terms = SupplierItem.objects.create(supplier=order.supplier, item=item, code="F-77", pack=1)
    for start, price in ((0, "2.00"), (5, "1.80")):
        PriceBreak.objects.create(supplier_item=terms, from_quantity=start, price=price)
    add(order, item)
    line = order.lines.get(item=item)
    assert (line.quantity, line.price, line.supplier_code) == (D(5), D("1.80"), "F-77")
    assert PurchaseOrder.objects.get(pk=order.pk).version == order.version + 1


def test_what_it_has_not_sold_yet_joins_its_list(order: PurchaseOrder) -> None:
    item = make_item("FRM-2")
    with pytest.raises(BadInputError, match="has not sold it yet") as refusal:
        add(order, item)
    assert refusal.value.field == "price"
    add(order, item, price=D("3.25"), code="NEW-1")
    terms = SupplierItem.objects.get(item=item)
    assert (terms.supplier_id, terms.code, terms.preferred) == (order.supplier_id, "NEW-1", True)
    assert terms.prices.get().price == D("3.25")


def test_what_cannot_be_put_on_is_refused(order: PurchaseOrder) -> None:
    item = make_item("FRM-3")
    bundle = make_item("KIT")
    Item.objects.filter(pk=bundle.pk).update(kind=Item.Kind.BUNDLE)
    there = order.lines.get().item
    for fault, said, wanted, more in (
        (BadInputError, "how many", item, {"quantity": D(0), "price": D(1)}),
        (BadInputError, "no stock of its own", bundle, {"price": D(1)}),
        (RefusedError, "on this order already", there, {}),
        (BadInputError, "decimals", item, {"quantity": D("1.5"), "price": D(1)}),
    ):
        with pytest.raises(fault, match=said):
            add(order, wanted, **more)
    with pytest.raises(StaleError):
        lines.add_line(SYSTEM, order.pk, 99, item.pk, D(1), D(1))
    with pytest.raises(NotFoundError):
        lines.add_line(SYSTEM, order.pk, order.version, 999_999, D(1), D(1))
    send(SYSTEM, order.pk, order.version, NOW)
    with pytest.raises(RefusedError, match="only a draft"):
        add(order, item, price=D(1))
    assert order.lines.count() == 1
    assert not SupplierItem.objects.filter(item=item).exists()


def test_a_new_item_is_made_whole_or_not_at_all(order: PurchaseOrder, client: Client) -> None:
    client.force_login(make_user(Role.BUYER))
    path = f"/api/v1/purchase-orders/{order.pk}/lines"
    body = {"version": order.version, "title": "Bee gym", "sku": "GYM-1", "retail": "19.90", "quantity": "12", "code": "G1"}

    def send_in(**more: Any) -> Any:
        return client.post(path, json.dumps(body | more), content_type="application/json")

    refused = send_in()
    assert (refused.status_code, refused.json()["field"]) == (422, "price")
    assert not Item.objects.filter(sku="GYM-1").exists(), "nothing of it stays"
    taken = send_in(price="7.50", sku="HIV-1")
    assert (taken.status_code, taken.json()["field"]) == (422, "sku")
    done = send_in(price="7.50")
    assert done.status_code == 200, done.content
    assert [(line["sku"], line["quantity"], line["price"]) for line in done.json()["lines"]][-1] == ("GYM-1", "12", "7.50")
    item = Item.objects.get(sku="GYM-1")
    assert (item.price, item.product.title) == (D("19.90"), "Bee gym")
    assert SupplierItem.objects.get(item=item).code == "G1"
    with pytest.raises(ForbiddenError):
        lines.add_line(Actor("x", Role.VIEWER), order.pk, order.version + 1, item.pk, D(1))
