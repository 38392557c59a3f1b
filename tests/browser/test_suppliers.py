"""A buyer says who sells what for how much, and the replenishment sheet orders there."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone
from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.world import incoming, make_connection, make_item, make_supplier, make_user, order_line
from yuvrel.books.models import ExchangeRate
from yuvrel.buying.actions import Wanted, draft
from yuvrel.buying.models import PurchaseOrder, Supplier, SupplierItem
from yuvrel.buying.suppliers import keep
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.actions import take_till_sale
from yuvrel.stock.actions import OpeningRow, take_opening


@pytest.fixture
def buyer(page: Page, live_server: Any, house: Standins) -> Person:
    make_user(Role.BUYER)
    found = Person(page, live_server.url, house)
    found.sign_in("buyer")
    return found


def selling(sku: str) -> None:
    """An item that sells two a day and is nearly out."""
    item, till, now = make_item(sku), make_connection("till", state="paused"), timezone.now()
    take_opening(
        SYSTEM, [OpeningRow(item.pk, Location.objects.get(code="tannery-yard").pk, D(130), D(3))], now - timedelta(days=61)
    )
    for day in range(1, 61):
        take_till_sale(SYSTEM, incoming(till, order_line(item, 2), placed_at=now - timedelta(days=day)))


def test_from_no_supplier_to_a_purchase_order(buyer: Person) -> None:
    selling("SMK-10")
    page = buyer.page
    buyer.go("/buying?show=all")
    page.get_by_role("link", name="Add suppliers for these").click()
    expect(page.get_by_text("No supplier yet.")).to_be_visible()

    # What cannot be is said beside the field, and what was typed stays.
    page.get_by_role("button", name="Add a supplier").click()
    form = page.get_by_role("form", name="Supplier")
    form.get_by_label("Currency").fill("xqq")
    form.get_by_label("Name").fill("Stavrin Steelworks")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(form.get_by_role("alert")).to_have_text("'XQQ' is not a currency of ISO 4217.")
    expect(form.get_by_label("Currency")).to_have_attribute("aria-invalid", "true")
    assert_accessible(page)
    form.get_by_label("Currency").fill("pln")
    form.get_by_label("Lead time, days").fill("2o")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(form.get_by_role("alert")).to_be_visible()
    expect(form.get_by_label("Lead time, days")).to_have_value("2o")
    form.get_by_label("Lead time, days").fill("20")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Stavrin Steelworks")
    assert Supplier.objects.get().lead_days == 20
    expect(page.get_by_text("No rate is known")).to_be_visible()
    assert_accessible(page)
    page.get_by_label("From today").fill("4.25")
    page.get_by_role("button", name="Set rate").click()
    buyer.says("one of ours is 4.25 PLN")
    assert ExchangeRate.objects.get().rate == D("4.25")

    # Its terms: found by number, with a price from more on.
    page.get_by_role("button", name="Add an item").click()
    page.get_by_label("Find an item").fill("smk")
    page.get_by_role("button", name="Thing SMK-10").click()
    page.get_by_label("Supplier SKU").fill("ST-7")
    page.get_by_label("Pack size").fill("0")
    page.get_by_label("Price, 1").fill("9.50")
    page.get_by_role("button", name="Add a price break").click()
    page.get_by_label("From quantity, 2").fill("100")
    page.get_by_label("Price, 2").fill("8.5")
    assert_accessible(page)
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("alert")).to_have_text("A pack size must be greater than zero.")
    page.get_by_label("Pack size").fill("10")
    page.get_by_role("button", name="Save", exact=True).click()
    row = page.locator("tr[data-row]")
    expect(row).to_contain_text("ST-7")
    expect(row).to_contain_text("100: 8.50")
    expect(row).to_contain_text("yes")
    terms = SupplierItem.objects.get()
    assert (terms.pack, list(terms.prices.values_list("price", flat=True))) == (10, [D("9.50"), D("8.50")])

    # The sheet suggests it there, in packs, at the price of that quantity.
    page.get_by_role("link", name="Replenishment").click()
    expect(page.locator("tr.group").first).to_contain_text("Stavrin Steelworks")
    page.get_by_role("checkbox", name="Order Thing SMK-10").check()
    page.get_by_role("button", name="Draft 1 purchase order").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("PO-")
    line = PurchaseOrder.objects.get().lines.get()
    assert line.quantity % 10 == 0
    assert line.price == (D("8.50") if line.quantity >= 100 else D("9.50"))


def test_a_change_made_meanwhile_is_said_and_terms_are_taken_away(buyer: Person) -> None:
    make_item("SMK-10")
    supplier = keep(SYSTEM, None, 0, {"name": "Brackwater Joinery"})
    page = buyer.page
    buyer.go(f"/buying/suppliers/{supplier.pk}")
    form = page.get_by_role("form", name="Supplier")
    form.get_by_label("Order minimum").fill("150")
    keep(Actor("Ines", Role.BUYER), supplier.pk, 1, {"lead_days": 7})
    expect(page.get_by_text("Somebody changed this after you began to type.")).to_be_visible()
    expect(form.get_by_label("Order minimum")).to_have_value("150")
    expect(form.get_by_label("Lead time, days")).to_have_value("7")
    page.get_by_role("button", name="Keep what I typed").click()
    form.get_by_role("button", name="Save supplier").click()
    buyer.says("Saved.")
    kept = Supplier.objects.get()
    assert (kept.order_minimum, kept.lead_days, kept.version) == (150, 7, 3)

    page.get_by_role("button", name="Add an item").click()
    page.get_by_role("button", name="Thing SMK-10").click()
    page.get_by_label("Price, 1").fill("2")
    page.get_by_role("button", name="Save", exact=True).click()
    page.get_by_role("button", name="Change SMK-10").click()
    page.get_by_role("button", name="Remove from this supplier").click()
    buyer.says("Brackwater Joinery does not sell SMK-10 any more.")
    expect(page.locator("tr[data-row]")).to_have_count(0)
    assert not SupplierItem.objects.exists()


def test_who_may_not_buy_looks_and_changes_nothing(buyer: Person) -> None:
    supplier = keep(SYSTEM, None, 0, {"name": "Brackwater Joinery"})
    page = buyer.page
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_label("Password")).to_be_visible()
    buyer.sign_in("viewer")
    buyer.go(f"/buying/suppliers/{supplier.pk}")
    expect(page.get_by_label("Order minimum")).to_be_disabled()
    expect(page.get_by_role("button", name="Save supplier")).to_have_count(0)
    expect(page.get_by_role("button", name="Add an item")).to_have_count(0)


def test_a_new_item_is_made_from_a_draft_and_joins_the_suppliers_list(page: Page, live_server: Any, house: Standins) -> None:
    buyer = Person(page, live_server.url, house)
    make_user(Role.BUYER)
    item, other = make_item("HIV-1"), make_item("FRM-1")
    make_supplier(item, price="20.00")
    place = Location.objects.get(code="tannery-yard")
    (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(2))], timezone.now())
    buyer.sign_in("buyer")
    buyer.go(f"/buying/orders/{order.pk}")
    form = page.get_by_role("form", name="Add a line")
    form.get_by_label("Add a line").fill("frm")
    form.get_by_role("button", name="Thing FRM-1").click()
    form.get_by_label("Quantity").fill("10")
    form.get_by_role("button", name="Add the line").click()
    expect(form.get_by_role("alert")).to_contain_text("has not sold it yet: enter its price.")
    form.get_by_label("Price EUR").fill("3,25")
    assert_accessible(page)
    form.get_by_role("button", name="Add the line").click()
    buyer.says("The line is added.")
    expect(page.get_by_role("table", name="Money").get_by_role("row", name="Ordered EUR")).to_contain_text("72.50")
    buyer.open_working("purchase-order", "What is still to come?")
    page.get_by_role("button", name="Close").click()
    form.get_by_label("Add a line").fill("Bee gym")
    form.get_by_role("button", name="A new item “Bee gym”").click()
    form.get_by_label("SKU", exact=True).fill("GYM-1")
    form.get_by_label("Retail price").fill("19,90")
    form.get_by_label("Quantity").fill("12")
    form.get_by_label("Price EUR", exact=False).last.fill("7,50")
    form.get_by_label("Supplier SKU").fill("G1")
    form.get_by_role("button", name="Add the line").click()
    expect(page.locator("tr[data-row]").filter(has_text="GYM-1")).to_contain_text("G1")
    expect(page.locator("tr[data-row]")).to_have_count(3)
    assert order.lines.count() == 3
    assert {row.item.sku for row in order.supplier.items.all()} == {"HIV-1", "FRM-1", "GYM-1"}
    assert other.pk
