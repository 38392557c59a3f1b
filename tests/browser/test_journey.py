"""The journey as a person makes it, in a real browser against the real worker and the stand-ins."""

from __future__ import annotations

import re
from datetime import timedelta
from decimal import Decimal as D
from pathlib import Path
from typing import Any

import pytest
from django.utils import timezone
from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible, follow, is_new, is_new_look, sign_in
from tests.channels.conftest import Standins
from tests.invariants import assert_invariants
from tests.world import give_inbox, incoming, make_connection, make_item, make_supplier, order_line
from yuvrel.buying.actions import Wanted, draft
from yuvrel.catalogue.models import Item
from yuvrel.channels.models import Connection
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import take_till_sale
from yuvrel.stock.models import StockBalance

SLOW = 60_000


class Person:
    """Somebody at the browser."""

    def __init__(self, page: Page, base: str, standins: Standins) -> None:
        self.page, self.base, self.standins = page, base, standins
        page.set_default_timeout(SLOW)
        expect.set_options(timeout=SLOW)

    def sign_in(self, name: str) -> None:
        sign_in(self.page, self.base, name)

    def go(self, path: str, check: bool = True) -> None:
        """Open a view: by its address if nobody in this run has opened its like so, else as a link does. It is checked by
        axe once it is there, if none that looks just so was in this run."""
        here = self.page.url.removeprefix(self.base)
        if here in (self.page.url, path) or is_new(re.sub(r"\d+", "#", path), "opened"):
            self.page.goto(self.base + path)
        else:
            follow(self.page, path)
        expect(self.page.get_by_role("heading", level=1)).to_be_visible()
        expect(self.page.get_by_text("Fetching…")).to_have_count(0)
        if check and is_new_look(self.page, "accessible"):
            assert_accessible(self.page)

    def says(self, text: str) -> None:
        expect(self.page.locator(".notices")).to_contain_text(text)

    def shopper_reads(self, sku: str, text: str) -> None:
        """The shop's own page, opened anew until it says so of an article: what is pushed is on its way for a moment."""
        row = self.page.get_by_role("row").filter(has_text=sku)
        for _ in range(120):
            self.page.goto(f"{self.standins.base}/shop/web/")
            if text in row.inner_text():
                return
            self.page.wait_for_timeout(500)
        expect(row).to_contain_text(text)

    def connect(self, kind: str, name: str, path: str, token: str = "", **sign_in: str) -> None:
        self.go("/connections/new")
        self.page.get_by_label("Kind").select_option(label=kind)
        self.page.get_by_label("Name").fill(name)
        self.page.get_by_label("Address").fill(f"{self.standins.base}/{path}")
        for label, value in (sign_in or {"Token": token}).items():
            self.page.get_by_label(label.replace("_", " "), exact=True).fill(value)
        self.page.get_by_role("button", name="Add as a draft").click()
        expect(self.page.get_by_role("heading", level=1)).to_have_text(name)
        self.page.get_by_role("button", name="Test", exact=True).click()

    def go_live(self) -> None:
        expect(self.page.get_by_text("The account allows").first).to_be_visible()
        self.page.get_by_role("button", name="Go live").click()
        self.says("It is live.")

    def open_working(self, kind: str, title: str) -> None:
        self.page.locator(f"button[data-fig={kind}]").first.click()
        expect(self.page.locator("aside h2")).to_have_text(title)
        assert_accessible(self.page)


@pytest.fixture
def person(page: Page, live_server: Any, house: Standins) -> Person:
    return Person(page, live_server.url, house)


def _past_sales(item: Item) -> None:
    """Sales before today, so that there is a demand to see."""
    old = make_connection("till", "Old till")
    for day in range(3, 63, 4):
        at = timezone.now() - timedelta(days=day)
        take_till_sale(SYSTEM, incoming(old, order_line(item, 4, "98.40"), placed_at=at))
    Connection.objects.filter(pk=old.pk).update(state="paused")


def test_the_whole_journey(person: Person, tmp_path: Path) -> None:
    page = person.page
    person.sign_in("manager")
    person.go("/")
    for path in ("/range", "/shelf", "/orders", "/buying", "/books", "/connections"):
        person.go(path)  # empty sheets say what belongs there

    # Connect: a wrong token is explained, the right one is taken, nothing moves before it is live.
    person.connect("Web shop", "The shop", "shop/web", "wrong")
    expect(page.get_by_role("alert").first).to_contain_text("This token is not known here.")
    expect(page.get_by_role("button", name="Go live")).to_be_disabled()
    page.get_by_label("New token").fill("t")
    page.get_by_role("button", name="Save settings").click()
    person.says("Saved.")
    page.get_by_label("Order number prefix").fill("WS-")
    page.get_by_role("form", name="Orders").get_by_role("button", name="Save rules").click()
    expect(page.get_by_role("form", name="Orders").get_by_role("button", name="Undo")).to_have_count(0)
    page.get_by_role("button", name="Test", exact=True).click()
    person.go_live()
    assert_accessible(page)

    # Build the range from the shop's listings.
    page.get_by_role("button", name="Import and create items").click()
    done = page.get_by_role("row").filter(has_text="Listings in").filter(has_text="made into items")
    expect(done.first).to_contain_text("3 made into items")
    person.connect("Till", "Mill Lane till", "till/mill", "t")
    person.go_live()
    page.get_by_role("button", name="Import listings, match only").click()
    person.says("Reading the listings of")
    expect(page.get_by_role("row").filter(has_text="Listings in").filter(has_text="to pair").first).to_be_visible()
    person.go("/range")
    expect(page.locator("tr[data-row]")).to_have_count(3)

    # The pairing bench by keyboard: down to the gloves, link to the best candidate.
    person.go("/range/pairing")
    rows = page.locator("tr[data-bench]")
    expect(rows).to_have_count(4)
    page.get_by_role("heading", level=1).click()
    gloves = next(i for i in range(4) if "Gloves size 9" in rows.nth(i).inner_text())
    for _ in range(gloves):
        page.keyboard.press("ArrowDown")
    page.keyboard.press("l")
    person.says("Linked to GLV-9")
    expect(rows).to_have_count(3)
    expect(rows.filter(has_text="The SKU names one item and the barcode another.")).to_have_count(1)

    person.connect("Ledger", "Daybook", "ledger/books", "t")
    person.go_live()

    # Opening stock: a bad row is named, the rest waits for a word.
    sheet = tmp_path / "opening.csv"
    sheet.write_text(
        "sku,location,quantity,unit_cost\nSMK-S,tannery-yard,70,2.00\nGLV-9,tannery-yard,twelve,8.00\nSMK-L,tannery-yard,4,12.00\n"
    )
    person.go("/shelf/opening")
    page.locator("input[type=file]").set_input_files(sheet)
    fault = page.locator("table").first
    for text in ("3", "quantity", "twelve", "is not a number"):
        expect(fault).to_contain_text(text)
    with page.expect_download() as left_out:
        page.get_by_role("button", name="Download it with the reasons").click()
    assert "GLV-9,tannery-yard,twelve,8.00,quantity twelve is not a number" in left_out.value.path().read_text("utf-8-sig")
    assert not StockBalance.objects.filter(on_hand__gt=0).exists()
    page.get_by_role("button", name="Import 2 rows").click()
    person.says("2 rows of opening stock imported.")
    _past_sales(Item.objects.get(sku="SMK-S"))
    person.go("/shelf")
    expect(page.locator("tr[data-row]").filter(has_text="Smoker small")).to_contain_text("10")
    person.open_working("available", "How many are free?")

    # A shopper buys on the shop's own page; the webhook brings the order; the rest follows by itself.
    shopper = page.context.new_page()
    shopper.goto(f"{person.standins.base}/shop/web/")
    expect(shopper.locator("tr", has_text="SMK-S")).to_contain_text("10")
    shopper.locator("input[name=q-v1]").fill("3")
    shopper.get_by_label("Coupon").fill("HONEY10")
    shopper.get_by_role("button", name="Buy").click()
    expect(shopper.locator(".said")).to_contain_text("Your order is number 1001")
    person.go("/orders")
    page.get_by_role("link", name="WS-1001").click()
    for text in ("Coupon HONEY10", "Postage", "Una Thorne"):
        expect(page.locator("main")).to_contain_text(text)
    person.open_working("order-total", "Does it add up?")
    person.open_working("profit", "What did it earn?")

    # Ship it: the channel hears of it, the ledger books it once.
    page.get_by_label("Tracking").fill("P-77")
    page.get_by_role("button", name="Ship", exact=True).click()
    person.says("Shipped as WS-1001.")
    shipped = page.locator("tr[data-row]", has_text="P-77")
    expect(shipped).to_contain_text(re.compile("just now|seconds ago"))
    expect(shipped).to_contain_text("sent")
    shopper.goto(f"{person.standins.base}/shop/web/office")
    expect(shopper.locator("tr", has_text="1001")).to_contain_text("P-77")
    shopper.goto(f"{person.standins.base}/ledger/books/")
    expect(shopper.locator("tr", has_text="WS-1001").filter(has_text="invoice")).to_have_count(1)
    person.go("/books/journal")
    person.open_working("entry", "Does it balance?")
    person.go("/books/accounts")
    person.open_working("account", "What made this balance?")

    # Replenish: what sold is to be bought, in whole packs, from the supplier's inbox.
    person.connect("Supplier's inbox", "Joinery inbox", "supplier/joinery", Key_id="us", Secret="s")
    person.go_live()
    supplier = make_supplier(Item.objects.get(sku="SMK-S"), price="3.00", pack=10)
    give_inbox(supplier, Connection.objects.get(name="Joinery inbox"))
    person.go("/buying")
    expect(page.locator("tr[data-row]", has_text="Smoker small")).to_be_visible()
    person.open_working("suggestion", "How many should we buy?")
    expect(page.locator("aside")).to_contain_text("whole packs of 10")
    page.keyboard.press("Escape")
    page.get_by_label("Order Smoker small for Tannery Yard").check()
    quantity = int(page.get_by_label("Quantity of Smoker small").input_value())
    assert quantity % 10 == 0
    page.get_by_role("button", name="Draft 1 purchase order").click()
    person.says("Drafted PO-")
    assert_accessible(page)
    page.get_by_role("button", name="Send", exact=True).click()
    expect(page.locator(".filters")).to_contain_text("acknowledged")

    # Receive it in two parts.
    page.get_by_label("Arrived of Smoker small").fill("4")
    page.get_by_role("button", name="Receive", exact=True).click()
    person.says("Received.")
    expect(page.locator(".filters")).to_contain_text("part-received")
    page.get_by_role("button", name="Everything arrived").click()
    page.get_by_role("button", name="Receive", exact=True).click()
    expect(page.locator("table").nth(1).locator("tbody tr")).to_have_count(2)
    item = Item.objects.get(sku="SMK-S")
    person.go(f"/range/items/{item.pk}")
    person.open_working("cost-change", "What does one cost?")
    person.open_working("offer", "How many may it show?")
    shopper.goto(f"{person.standins.base}/shop/web/")
    expect(shopper.locator("tr", has_text="SMK-S")).to_contain_text(str(7 + quantity))

    # Agree; then somebody edits at the shop, the drift says so, and ours is pushed again.
    person.go("/books")
    page.get_by_role("button", name="Check now").click()
    person.says("Everything agrees.")
    shopper.goto(f"{person.standins.base}/shop/web/office")
    line = shopper.locator("tr", has=shopper.get_by_label("Quantity of SMK-L"))
    line.get_by_label("Quantity of SMK-L").fill("99")
    line.get_by_role("button", name="Set").click()
    expect(shopper.locator(".said")).to_have_text("Saved.")
    page.get_by_role("button", name="Check now").click()
    person.says("1 drift found.")
    assert StockBalance.objects.get(item__sku="SMK-L").on_hand == 4
    person.open_working("drift", "What does not agree?")
    expect(page.locator("aside")).to_contain_text("count this item")
    page.get_by_role("button", name="Push 4 again").click()
    expect(page.locator(".lead")).to_contain_text("0 drifts stand")
    person.go("/")
    person.go("/connections/snags")
    person.go("/shelf/moves")
    assert_invariants()


def test_a_viewer_looks_and_changes_nothing(person: Person) -> None:
    page = person.page
    person.sign_in("viewer")
    person.go("/connections")
    expect(page.get_by_role("link", name="Add a connection")).to_have_count(0)
    person.go("/connections/new", check=False)
    expect(page.locator("main")).to_contain_text("As viewer you may not connect channels. Ask a manager")
    expect(page.get_by_label("Name")).to_have_count(0)
    assert not Connection.objects.exists()


def test_keys_command_line_and_dark_paper(person: Person) -> None:
    page = person.page
    person.sign_in("manager")
    page.keyboard.press("5")
    expect(page.get_by_role("heading", level=1)).to_have_text("What should we buy?")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("walk the rows")
    assert_accessible(page)
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press(":")
    page.get_by_label("Command").fill("go shelf")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("What do we hold, and where?")
    page.get_by_role("button", name="Dark").click()
    assert_accessible(page)
    page.goto(person.base + "/connections/999")
    expect(page.get_by_role("alert")).to_contain_text("There is no such connection.")


def test_what_another_tab_saved_is_not_overwritten_unasked(person: Person) -> None:
    """Two tabs at one draft: the page renews itself under the fingers, but what was typed belongs to what was seen."""
    item = make_item("SMK-1", on_hand=3)
    make_supplier(item, price="4.00")
    (order,) = draft(SYSTEM, [Wanted(item.pk, Location.objects.get(code="tannery-yard").pk, D(10))], timezone.now())
    person.sign_in("manager")
    page = person.page
    person.go(f"/buying/orders/{order.pk}")
    page.get_by_label(f"Quantity of {item.title}").fill("12")
    second = page.context.new_page()
    second.goto(page.url)
    second.get_by_label(f"Price of {item.title}").fill("3.50")
    second.get_by_role("button", name="Save").click()
    expect(second.get_by_role("button", name="Save")).to_have_count(0)
    second.close()
    alert = page.get_by_text("Somebody changed this after you began to type.")
    expect(alert).to_be_visible()
    assert_accessible(page)
    expect(page.get_by_label(f"Quantity of {item.title}")).to_have_value("12")
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    page.get_by_role("button", name="Keep what I typed").click()
    page.get_by_role("button", name="Save").click()
    person.says("Saved.")
    line = order.lines.get()
    assert (line.quantity, line.price) == (D(12), D("3.50"))


def test_a_wrong_password_is_said_and_the_name_stays(person: Person) -> None:
    page = person.page
    page.goto(person.base)
    page.get_by_label("Name").fill("manager")
    page.get_by_label("Password").fill("nope")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_have_text("Name or password is wrong.")
    expect(page.get_by_label("Name")).to_have_value("manager")
    assert_accessible(page)
