"""Goods and money come back: taken back on an order, looked at, credited, paid back by the shop; and the other way round."""

from __future__ import annotations

from decimal import Decimal as D

from playwright.sync_api import expect

from tests.browser.conftest import assert_accessible
from tests.browser.test_journey import Person, person  # noqa: F401
from tests.channels.test_payments import all_level
from tests.world import make_item
from yuvrel.catalogue.models import Item
from yuvrel.channels.linking import take_listings
from yuvrel.channels.models import Connection
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import CreditNote, Return
from yuvrel.stock.models import StockBalance


def _held(item: Item, place: str) -> D:
    row = StockBalance.objects.filter(item=item, location__code=place).first()
    return row.on_hand if row else D(0)


def test_goods_come_back_and_the_shop_pays_for_them(person: Person) -> None:  # noqa: F811
    page = person.page
    small = make_item("SMK-S", on_hand=10, cost="8.00")
    make_item("SMK-L", on_hand=4, cost="12.00")
    person.sign_in("manager")
    person.connect("Web shop", "The shop", "shop/web", "t")
    person.go_live()
    shop = Connection.objects.get()
    take_listings(SYSTEM, shop.pk, shop.live_since or shop.created_at, create=False)
    person.shopper_reads("SMK-S", "10")
    page.get_by_label("How many SMK-S").fill("3")
    page.get_by_label("Name").fill("Una Thorne")
    page.get_by_label("Coupon").fill("HONEY10")
    page.get_by_role("button", name="Buy").click()
    expect(page.locator("body")).to_contain_text("Thank you")

    person.go("/orders")
    row = page.get_by_role("row").filter(has_text="Una Thorne")
    expect(row).to_contain_text("ready")
    row.get_by_role("link").first.click()
    page.get_by_role("button", name="Ship", exact=True).click()
    person.says("Shipped as")
    order = page.url

    # Two come back: it is said why, and nothing moves before they are here.
    page.get_by_role("link", name="Take goods back").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("comes back?")
    page.get_by_label("Units of").fill("4")
    page.get_by_label("Why").select_option("does not fit")
    page.get_by_role("button", name="Expect it back").click()
    expect(page.get_by_role("alert")).to_contain_text("3 can come back, not 4")
    page.get_by_label("Units of").fill("2")
    assert_accessible(page)
    page.get_by_role("button", name="Expect it back").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("RT-1001 of")
    expect(page.locator(".state-mark").first).to_have_text("expected")
    assert _held(small, "tannery-yard") == 7

    # One is as new, the other has to be repaired.
    page.get_by_label("Back to stock").fill("1")
    page.get_by_label("To repair").fill("1")
    assert_accessible(page)
    page.get_by_role("button", name="Take it in").click()
    person.says("Done.")
    expect(page.locator(".state-mark").first).to_have_text("received")
    expect(page.get_by_text("16.00").first).to_be_visible()
    assert _held(small, "tannery-yard") == 8
    assert _held(small, Location.objects.get(for_sale=False).code) == 1

    # What is given back is worked out while it is typed: two thirds of the goods after the coupon, less a fee.
    page.get_by_role("link", name="Credit it").click()
    expect(page.get_by_label("Units of")).to_have_value("2")
    expect(page.get_by_role("table", name="It comes to")).to_be_visible()
    page.get_by_label("Kept for taking it back").fill("9999")
    expect(page.get_by_role("alert")).to_contain_text("A fee lies between nothing and")
    page.get_by_label("Kept for taking it back").fill("3.00")
    expect(page.get_by_text("goes back through The shop")).to_be_visible()
    assert_accessible(page)
    page.get_by_role("button", name="Write the credit note").click()
    expect(page.get_by_role("link", name="CN-1001")).to_be_visible()
    expect(page.get_by_text("by The shop", exact=True)).to_be_visible()
    person.open_working("credit", "What is given back?")
    note = CreditNote.objects.get()
    there = person.standins.store.all("web", "order")[0]
    assert [(one["key"], D(one["amount"])) for one in there["refunds"]] == [(note.number, note.total)]
    person.open_working("profit", "What did it earn?")
    expect(page.locator("aside")).to_contain_text("Cost of what came back")

    # The last one is paid back in the shop's own back office; its goods are expected by themselves.
    page.goto(f"{person.standins.base}/shop/web/office")
    page.get_by_label("How many to pay back of order").fill("1")
    page.get_by_role("button", name="Pay back").click()
    expect(page.locator("body")).to_contain_text("Paid back")
    page.goto(order)
    expect(page.get_by_role("link", name="CN-1002")).to_be_visible()
    person.go("/orders/returns")
    expect(page.get_by_role("row").filter(has_text="RT-1002")).to_contain_text("expected")
    page.get_by_role("link", name="RT-1002").click()
    page.get_by_role("button", name="Cancel the return").click()
    expect(page.locator(".state-mark").first).to_have_text("cancelled")
    assert Return.objects.count() == 2
    all_level()
