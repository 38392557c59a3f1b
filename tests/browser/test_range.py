"""The range, made and changed by hand."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.invariants import assert_invariants
from tests.server.test_pictures import drawn
from tests.world import make_connection, make_item, make_listing, make_user
from yuvrel.catalogue.models import Item, Product
from yuvrel.channels.models import Listing
from yuvrel.people.roles import Role
from yuvrel.rules.models import SettingValue
from yuvrel.stock.models import StockBalance

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

    # What is said of it, formatted; letters that are commands elsewhere are letters here.
    page.get_by_label("Country of origin").select_option(label="Portugal")
    text = page.get_by_role("textbox", name="Description")
    text.click()
    page.keyboard.type("Sweeps without waking them,")
    page.get_by_role("button", name="Bold").click()
    page.keyboard.type(" washable")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="List", exact=True).click()
    page.keyboard.type("1 wood of your choice")
    assert_accessible(page)
    page.get_by_role("button", name="Save product").click()
    buyer.says("Saved.")
    said = Product.objects.get(title="Bee brush")
    assert said.country == "PT"
    assert said.description.startswith("<p>Sweeps without waking them,<strong> washable</strong></p><ul><li><p>1 wood")
    buyer.go(f"/range/items/{Item.objects.get(sku='BSH-S-ash').pk}")
    expect(page.locator("li", has_text="1 wood of your choice")).to_be_visible()
    expect(page.get_by_text("Portugal")).to_be_visible()
    buyer.go(f"/range/products/{said.pk}")

    # Three rows copied from a spreadsheet: price, barcode, weight; one barcode with a wrong check digit.
    cell = page.get_by_label("Price of BSH-S-ash")
    cell.evaluate(PASTE, "15.00\t4006381333931\t80\t200 x 40 x 30\n15.50\t4006381333932\t82\n16.00\t\t85\n")
    page.get_by_role("button", name="Save items").click()
    grid = page.get_by_role("form", name="Items", exact=True)
    expect(grid.get_by_role("alert")).to_contain_text("has check digit 2; it should be 1")
    expect(page.get_by_label("Barcodes of BSH-S-beech")).to_have_attribute("aria-invalid", "true")
    page.get_by_label("Barcodes of BSH-S-beech").fill("")
    page.get_by_role("button", name="Save items").click()
    buyer.says("3 items saved.")
    kept = Item.objects.get(sku="BSH-S-beech")
    assert (str(kept.price), kept.weight_grams) == ("15.50", 82)
    sized = Item.objects.get(sku="BSH-S-ash")
    assert (sized.length_mm, sized.width_mm, sized.height_mm) == (200, 40, 30)
    expect(page.get_by_label("L × W × H, mm of BSH-S-ash")).to_have_value("200 × 40 × 30")
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
    page.get_by_label("what its parts cost").check()
    page.get_by_label("Per cent less than its parts").fill("110")
    page.get_by_role("button", name="Save parts").click()
    expect(page.get_by_role("alert").filter(has_text="less than 100")).to_be_visible()
    page.get_by_label("Per cent less than its parts").fill("12,5")
    page.get_by_role("button", name="Save parts").click()
    buyer.says("Brush set is made of 1 part and costs 17.50.")
    expect(page.get_by_label("Price of SET-1")).to_be_disabled()
    expect(page.get_by_label("Price of SET-1")).to_have_value("17.50")

    buyer.go(f"/range/products/{taken.product_id}")
    page.get_by_role("button", name="Retire").click()
    reasons = page.get_by_role("dialog").get_by_role("listitem")
    expect(reasons.filter(has_text="It is part of Brush set.").get_by_role("link")).to_have_attribute(
        "href", re.compile("/range/items/")
    )
    expect(reasons.filter(has_text="4 are on hand at Tannery Yard.")).to_be_visible()
    assert Item.objects.get(pk=taken.pk).active


def test_a_sheet_with_wrong_rows_is_corrected_and_taken_in(page: Page, live_server: Any, house: Standins, tmp_path: Path) -> None:
    make_user(Role.BUYER)
    make_item("OLD-1")
    buyer = Person(page, live_server.url, house)
    buyer.sign_in("buyer")
    buyer.go("/range/sheets")
    lines = [f"NEW-{n},Thing,Size={n},{n}.50" for n in range(1, 500)]
    for n in range(20):
        lines[n * 20] = lines[n * 20].replace(".50", ".x")
    first = tmp_path / "range.csv"
    first.write_text("\n".join(["sku,product,options,price", "OLD-1,,,11.00", *lines]))

    def choose(file: Path) -> int:
        page.get_by_label("Choose a file").set_input_files(file)
        expect(page).to_have_url(re.compile("file="))
        expect(page.get_by_role("heading", name=file.name)).to_be_visible()
        return int(page.url.split("file=")[1])

    def take_in(button: str) -> None:
        page.get_by_role("button", name=button).click()

    found = choose(first)
    rows = page.get_by_role("table", name="Rows")
    expect(rows.get_by_role("row").nth(1)).to_contain_text("price 1.x is not a number")
    expect(rows).to_contain_text("price 10.00 → 11.00")
    assert_accessible(page)
    with page.expect_download() as download:
        page.get_by_role("link", name="20 wrong rows").click()
    second = tmp_path / "corrected.csv"
    second.write_text(Path(download.value.path()).read_text().replace(".x,", ".50,"))
    take_in("Take in the 480 good rows")
    expect(page.get_by_role("status").filter(has_text="480 of 480 rows taken in")).to_be_visible()
    assert choose(second) != found
    take_in("Take in 20 rows")
    expect(page.get_by_role("status").filter(has_text="20 of 20 rows taken in, 0 unchanged, 0 left out.")).to_be_visible()
    assert (Item.objects.filter(sku__startswith="NEW").count(), str(Item.objects.get(sku="OLD-1").price)) == (499, "11.00")

    # All of it as a workbook, which comes in again and changes nothing.
    page.get_by_label("Files as").select_option(label="as a workbook")
    with page.expect_download() as download:
        page.get_by_role("link", name="Export everything").click()
    whole = tmp_path / "whole.xlsx"
    download.value.save_as(whole)
    choose(whole)
    expect(page.get_by_text("There is nothing to change.")).to_be_visible()


def test_many_items_are_changed_at_once_and_changed_back_and_stock_comes_by_file(
    page: Page, live_server: Any, house: Standins, tmp_path: Path
) -> None:
    for sku in ("SMK-1", "SMK-2", "JAR-1"):
        make_item(sku, on_hand=4)
    listing = make_listing(make_connection(name="Web", state="paused"), sku="SMK-1", title="Smoker one")
    person = Person(page, live_server.url, house)
    person.sign_in("manager")
    person.go("/range?q=SMK")
    page.get_by_label("Choose Thing SMK-1").check()
    page.get_by_label("Choose Thing SMK-2").check()
    page.get_by_role("button", name="Change them").click()
    form = page.get_by_role("form", name="Change many")
    form.get_by_role("combobox", name="What").select_option("brand")
    form.get_by_label("Becomes").fill("Varga")
    assert_accessible(page)
    form.get_by_role("button", name="Show what would change").click()
    rows = page.get_by_role("table", name="Rows")
    expect(rows).to_contain_text("brand empty → Varga")
    assert set(Product.objects.values_list("brand", flat=True)) == {""}
    page.get_by_role("button", name="Take in 2 rows").click()
    expect(page.get_by_role("status").filter(has_text="2 of 2 rows taken in")).to_be_visible()
    assert Product.objects.filter(brand="Varga").count() == 2
    page.get_by_role("button", name="Undo 2 changes").click()
    expect(page.get_by_role("heading", name="Undo Brand of 2 items")).to_be_visible()
    expect(rows).to_contain_text("brand Varga → empty")
    page.get_by_role("button", name="Take in 2 rows").click()
    expect(page.get_by_role("status").filter(has_text="2 of 2 rows taken in")).to_be_visible()
    assert set(Product.objects.values_list("brand", flat=True)) == {""}

    # A rule of both, at one place; undone, they inherit again.
    person.go("/range?q=SMK")
    page.get_by_role("button", name="Change many").click()
    form.get_by_role("combobox", name="Of").select_option(label="Replenishment rules")
    form.get_by_role("combobox", name="What").select_option(label="Cover, in days")
    form.locator("select").nth(2).select_option(label="Mill Lane")
    form.get_by_label("Becomes").fill("21")
    assert_accessible(page)
    form.get_by_role("button", name="Show what would change").click()
    expect(rows).to_contain_text("cover_days 21")
    page.get_by_role("button", name="Take in 2 rows").click()
    expect(page.get_by_role("status").filter(has_text="2 of 2 rows taken in")).to_be_visible()
    rules = SettingValue.objects.filter(name="cover_days")
    assert set(rules.values_list("level", "value")) == {("item at a place", 21)}
    page.get_by_role("button", name="Undo 2 changes").click()
    expect(rows).to_contain_text("cover_days 21 → empty")
    page.get_by_role("button", name="Take in 2 rows").click()
    expect(page.get_by_role("status").filter(has_text="2 of 2 rows taken in")).to_be_visible()
    assert not rules.exists()

    person.go("/shelf")
    page.get_by_role("link", name="Import", exact=True).click()
    counted = tmp_path / "counted.csv"
    counted.write_text("place,sku,on_hand,cost\nTannery Yard,SMK-1,7,\nMill Lane,JAR-1,2,\nMill Lane,NONE,2,\n")
    page.get_by_label("Choose a file").set_input_files(counted)
    expect(rows).to_contain_text("on_hand 4 → 7")
    expect(rows).to_contain_text("sku NONE is no item of the range")
    page.get_by_role("button", name="Take in the 2 good rows").click()
    expect(page.get_by_role("status").filter(has_text="2 of 2 rows taken in, 0 unchanged, 1 left out.")).to_be_visible()
    held = StockBalance.objects.filter(on_hand__gt=0).values_list("item__sku", "location__code", "on_hand")
    assert set(held) == {
        ("SMK-1", "tannery-yard", 7),
        ("SMK-2", "tannery-yard", 4),
        ("JAR-1", "tannery-yard", 4),
        ("JAR-1", "mill-lane", 2),
    }

    person.go("/range/pairing")
    page.get_by_role("button", name="Ignore").click()
    person.says("Smoker one")
    assert Listing.objects.get(pk=listing.pk).link == "ignored"
    page.keyboard.press("u")
    person.says("Smoker one is as it was.")
    assert Listing.objects.get(pk=listing.pk).link == "unlinked"
    assert_invariants()


def test_pictures_are_added_described_ordered_and_seen_in_the_sheet(
    page: Page, live_server: Any, house: Standins, tmp_path: Path
) -> None:
    buyer = Person(page, live_server.url, house)
    make_user(Role.BUYER)
    item = make_item("SMK-P", on_hand=3)
    for name, data in (("red.png", drawn()), ("blue.png", drawn(colour=(0, 0, 200))), ("none.png", b"no picture")):
        (tmp_path / name).write_bytes(data)
    buyer.sign_in("buyer")
    buyer.go(f"/range/products/{item.product_id}")
    shown = page.get_by_role("region", name="Pictures")
    shown.get_by_label("Add pictures").set_input_files([tmp_path / "red.png", tmp_path / "blue.png"])
    buyer.says("2 pictures added.")
    shown.get_by_label("Add pictures").set_input_files(tmp_path / "none.png")
    buyer.says("That is no picture: PNG, JPEG, WEBP, GIF can be read.")
    second = shown.get_by_role("listitem").nth(1)
    second.get_by_label("What it shows").fill("The smoker from above")
    second.get_by_label("What it shows").blur()
    expect(shown.get_by_role("img", name="The smoker from above")).to_be_visible()
    assert_accessible(page)
    shown.get_by_role("button", name="Earlier: The smoker from above").click()
    expect(shown.get_by_role("img").first).to_have_attribute("alt", "The smoker from above")
    first = item.product.pictures.order_by("position").first()
    assert first and first.alt == "The smoker from above"
    buyer.go("/range")
    row = page.locator("tr[data-row]").filter(has_text="SMK-P")
    expect(row.locator("img")).to_have_attribute("src", f"/api/v1/pictures/{first.pk}/thumb")
    assert row.locator("img").evaluate("picture => picture.decode().then(() => picture.naturalWidth)") == 40
    buyer.go(f"/range/items/{item.pk}")
    expect(page.get_by_role("img", name="The smoker from above")).to_be_visible()
    buyer.go(f"/range/products/{item.product_id}", check=False)
    shown.get_by_role("button", name="Take away: The smoker from above").click()
    expect(shown.get_by_role("listitem")).to_have_count(1)
