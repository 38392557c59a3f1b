"""The range, made and changed by hand."""

from __future__ import annotations

from typing import Any

from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.world import make_item, make_user
from yuvrel.catalogue.models import Item
from yuvrel.people.roles import Role

PASTE = """(element, text) => {
    const data = new DataTransfer();
    data.setData('text/plain', text);
    element.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }));
}"""


def test_a_product_of_three_by_four_options_and_a_bundle(page: Page, live_server: Any, house: Standins) -> None:
    make_user(Role.BUYER)
    taken = make_item("BRU-S-ash", on_hand=4)
    buyer = Person(page, live_server.url, house)
    buyer.sign_in("buyer")
    buyer.go("/range")
    page.get_by_role("link", name="New product").click()
    page.get_by_label("Title").fill("Bee brush")
    page.get_by_label("Category").fill("Tools")
    page.get_by_label("Price with tax").fill("14,50")
    for n, (name, values) in enumerate((("Size", "S, M, L"), ("Handle", "ash, beech, cork, oak")), 1):
        page.get_by_role("button", name="Add option").click()
        page.get_by_label(f"Option {n}", exact=True).fill(name)
        page.get_by_label(f"Values of {name}").fill(values)
    page.get_by_label("SKU pattern").fill("BRU-{size}-{handle}")
    expect(page.get_by_role("status")).to_contain_text("11 new items, 1 in clash with another item's SKU.")
    assert_accessible(page)
    page.get_by_role("button", name="Make the product").click()
    expect(page.get_by_role("alert")).to_contain_text("The SKU BRU-S-ash is in use already.")
    page.get_by_label("SKU pattern").fill("BSH-{size}-{handle}")
    page.get_by_role("button", name="Make the product with 12 items").click()
    buyer.says("Bee brush is made, 12 items.")
    expect(page.get_by_label("SKU of BSH-S-ash")).to_be_visible()
    assert_accessible(page)

    # Three rows copied from a spreadsheet: price, barcode, weight; one barcode with a wrong check digit.
    cell = page.get_by_label("Price of BSH-S-ash")
    cell.evaluate(PASTE, "15.00\t4006381333931\t80\n15.50\t4006381333932\t82\n16.00\t\t85\n")
    page.get_by_role("button", name="Save items").click()
    grid = page.get_by_role("form", name="Items", exact=True)
    expect(grid.get_by_role("alert")).to_contain_text("has check digit 2; it should be 1")
    expect(page.get_by_label("Barcodes of BSH-S-beech")).to_have_attribute("aria-invalid", "true")
    page.get_by_label("Barcodes of BSH-S-beech").fill("")
    page.get_by_role("button", name="Save items").click()
    buyer.says("3 items saved.")
    kept = Item.objects.get(sku="BSH-S-beech")
    assert (str(kept.price), kept.weight_grams) == ("15.50", 82)
    assert Item.objects.get(sku="BSH-S-ash").barcodes.get().gtin == "04006381333931"

    page.get_by_role("row").filter(has_text="L · oak").get_by_role("button", name="Retire").click()
    buyer.says("Bee brush L oak is retired.")
    expect(page.get_by_role("row").filter(has_text="L · oak").filter(has_text="retired")).to_be_visible()

    buyer.go("/range/new")
    page.get_by_label("Title").fill("Brush set")
    page.get_by_label("Kind").select_option("bundle")
    page.get_by_label("SKU", exact=True).fill("SET-1")
    page.get_by_role("button", name="Make the product").click()
    buyer.says("Brush set is made, 1 item.")
    page.get_by_label("Add a part").fill(taken.sku)
    page.get_by_role("button", name=taken.title).click()
    page.get_by_label(f"Quantity of {taken.sku}").fill("2")
    page.get_by_role("button", name="Save parts").click()
    buyer.says("Brush set is made of 1 part.")
    assert str(Item.objects.get(sku="SET-1").components.get().quantity) == "2.000"
    expect(page.get_by_role("table").last).to_contain_text("parts: empty → 2 × BRU-S-ash")
