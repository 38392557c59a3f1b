"""Prices made, changed with rehearsal and shown: on the shop's own page, from the till, and to a customer."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.utils import timezone
from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible, until
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.world import give
from yuvrel.catalogue.models import Item
from yuvrel.channels import actions, linking
from yuvrel.channels.models import Connection, Listing
from yuvrel.people.roles import SYSTEM
from yuvrel.pricing.actions import keep_list
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.pricing.models import PriceList
from yuvrel.sales.models import Customer, CustomerGroup


@pytest.fixture
def person(page: Page, live_server: Any, house: Standins) -> Person:
    """A manager with a shop and a till, both live, and three items from the shop's listings in stock."""
    manager = Person(page, live_server.url, house)
    manager.sign_in("manager")
    for kind, name, path in (("web_shop", "The shop", "shop/web"), ("till", "The till", "till/mill")):
        row = actions.add(SYSTEM, kind=kind, name=name, address=f"{house.base}/{path}", sign_in={"token": "t"})
        actions.test(SYSTEM, row.pk, timezone.now())
        actions.go_live(SYSTEM, row.pk, timezone.now())
        linking.take_listings(SYSTEM, row.pk, timezone.now(), create=kind == "web_shop")
    for item in Item.objects.all():
        give(item, 10, "8.00")
    # What is rehearsed is compared with what is shown.
    until(lambda: not Listing.objects.filter(item__isnull=False).exclude(offer_state="agreed").exists())
    return manager


def follow(person: Person, connection: str, kept: str) -> None:
    """Say where a connection's prices are kept."""
    person.go(f"/connections/{Connection.objects.get(name=connection).pk}", check=False)
    person.page.get_by_label("Prices are kept").select_option(label=kept)
    rehearsal = person.page.get_by_role("form", name="Prices").get_by_role("region", name="Rehearsal")
    expect(rehearsal.get_by_role("status").or_(rehearsal.get_by_text("Nothing")).first).to_be_visible()
    person.page.get_by_role("form", name="Prices").get_by_role("button", name="Save rules").click()
    person.says("Saved.")


def test_a_derived_list_is_changed_with_rehearsal_and_the_shop_shows_it(person: Person) -> None:
    page = person.page
    person.go("/range/prices")
    page.get_by_role("button", name="New price list").click()
    page.get_by_label("Name", exact=True).fill("Shop prices")
    page.get_by_label("Per cent up or down").fill("15")
    page.get_by_label("Ending").fill("0.955")
    assert_accessible(page)
    page.get_by_role("button", name="Make the list").click()
    expect(page.get_by_role("alert").filter(has_text="no more than 2 decimal places")).to_be_visible()
    page.get_by_label("Ending").fill("0,95")
    page.get_by_role("button", name="Make the list").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Shop prices")
    row = page.get_by_role("row").filter(has_text="SMK-S")
    expect(row).to_contain_text("28.95")  # 24.60 and 15 % are 28.29
    assert_accessible(page)
    row.locator("button[data-fig=price]").click()
    expect(page.locator("aside")).to_contain_text("Price in Base prices")
    expect(page.locator("aside")).to_contain_text("Ending 0.95")
    assert_accessible(page)

    person.go(f"/connections/{Connection.objects.get(name='The shop').pk}", check=False)
    page.get_by_label("Price list").select_option(label="Shop prices")
    person.says("Saved.")
    follow(person, "The shop", "here and shown there")
    expect(page.get_by_text("3 prices agreed")).to_be_visible()
    assert_accessible(page)
    person.shopper_reads("SMK-S", "28.95")

    # The list is changed: what that would do is said before it is done.
    person.go(f"/range/prices/{PriceList.objects.get(name='Shop prices').pk}", check=False)
    page.get_by_role("button", name="The list").click()
    page.get_by_label("Per cent up or down").fill("-10")
    rehearsal = page.get_by_role("region", name="Rehearsal")
    expect(rehearsal.get_by_role("status")).to_contain_text("3 prices of 3 items: none dearer, 3 cheaper")
    expect(rehearsal.get_by_role("row").nth(1)).to_contain_text("22.95")
    assert_accessible(page)
    page.get_by_role("button", name="Save price list").click()
    person.says("Saved.")
    expect(page.get_by_role("row").filter(has_text="SMK-S")).to_contain_text("22.95")
    person.shopper_reads("SMK-S", "22.95")

    # Prices are changed by a rule, and taken back as one.
    base = PriceList.objects.get(base=True)
    person.go(f"/range/prices/{base.pk}")
    page.get_by_role("button", name="Change prices").click()
    form = page.get_by_role("form", name="Change prices")
    expect(form.get_by_label("Name or SKU holds")).to_be_visible()
    page.keyboard.press("Escape")
    for name in ("Smoker small", "Smoker large"):
        page.get_by_label(f"Choose {name}").check()
    page.get_by_role("button", name="Change prices").click()
    expect(form).to_contain_text("2 chosen items")
    form.get_by_role("textbox", name="Per cent").fill("-100")
    expect(form.get_by_role("alert").filter(has_text="More than everything")).to_be_visible()
    form.get_by_role("textbox", name="Per cent").fill("10")
    expect(form.get_by_role("status")).to_contain_text("2 prices of 2 items: 2 dearer")
    expect(form).to_contain_text("Shop prices (2)")
    assert_accessible(page)
    form.get_by_role("button", name="Change these prices").click()
    person.says("+10 % on 2 chosen items: 2 items changed.")
    assert Item.objects.get(sku="SMK-S").price == D("27.06")
    page.get_by_role("button", name="Changes", exact=True).click()
    assert_accessible(page)
    page.get_by_role("dialog").get_by_role("button", name="Take back").first.click()
    person.says("Taken back: +10 %")
    assert Item.objects.get(sku="SMK-S").price == D("24.60")


def test_a_till_that_keeps_prices_drives_the_shop_and_what_the_shop_changes_is_a_drift(person: Person) -> None:
    page = person.page
    follow(person, "The shop", "here and shown there")
    follow(person, "The till", "there and taken in here")
    page.goto(f"{person.standins.base}/till/mill/")
    page.get_by_label("Article").select_option(label="Big smoker · 24.60")
    page.get_by_label("New price").fill("31.00")
    page.get_by_role("button", name="Change the price").click()
    person.go(f"/connections/{Connection.objects.get(name='The till').pk}", check=False)
    page.get_by_role("button", name="Run now: Prices in").click()
    # Which run took it in, the one that was asked for, one that came of itself or a check just before, is all the same.
    read = page.get_by_role("row").filter(has_text="Prices in").filter(has_text="1 prices read")
    expect(read.first).to_be_visible(timeout=90_000)
    person.shopper_reads("SMK-L", "31.00")

    with httpx.Client(base_url=f"{person.standins.base}/shop/web") as office:
        office.post("/office/price", data={"id": "v2", "price": "29.00"})
    person.go("/books", check=False)
    page.get_by_role("button", name="Check now").click()
    drift = page.get_by_role("row").filter(has_text="Smoker large, price")
    expect(drift).to_contain_text("29.00")
    assert_accessible(page)
    drift.get_by_role("button", name="Push ours").click()
    person.says("Our price is being sent again.")
    expect(drift).to_have_count(0)
    person.shopper_reads("SMK-L", "31.00")


def test_a_price_typed_in_the_list_and_what_a_customer_of_a_group_pays(person: Person) -> None:
    page = person.page
    person.go("/orders/customers")
    page.get_by_role("button", name="New customer").click()
    page.get_by_label("Name", exact=True).fill("Hollow Lane Bees")
    page.get_by_label("Mail").fill("not a mail")
    page.get_by_role("button", name="Add the customer").click()
    expect(page.get_by_role("alert").filter(has_text="is no mail address")).to_be_visible()
    page.get_by_label("Mail").fill("hollow@lane.example")
    page.get_by_role("button", name="Add the customer").click()
    person.says("Hollow Lane Bees is added.")
    expect(page.get_by_role("heading", level=1)).to_have_text("Hollow Lane Bees")
    page.get_by_label("Item").fill("gloves")
    expect(page.get_by_role("table", name="What they pay")).to_contain_text("24.60")

    person.go("/range/prices")
    page.get_by_role("button", name="New price list").click()
    page.get_by_label("Name", exact=True).fill("Members")
    page.get_by_label("Prices come from").select_option(label="typing only")
    page.get_by_role("button", name="Make the list").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Members")
    page.get_by_label("Price of Gloves").fill("19,995")
    page.get_by_role("button", name="Save 1 price").click()
    expect(page.get_by_role("alert").filter(has_text="decimal places")).to_be_visible()
    page.get_by_label("Price of Gloves").fill("19,90")
    page.get_by_role("button", name="Save 1 price").click()
    person.says("GLV-9: none → 19.90.")

    person.go("/orders/customers", check=False)
    page.get_by_role("button", name="Groups").click()
    page.get_by_label("Name of a new group").fill("Members")
    page.get_by_role("button", name="Add the group").click()
    person.says("Saved.")
    page.get_by_label("Price list of Members").select_option(label="Members")
    assert_accessible(page)
    page.keyboard.press("Escape")
    page.get_by_role("link", name="Hollow Lane Bees").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Hollow Lane Bees")
    page.get_by_role("form", name="Customer").get_by_role("combobox").first.select_option(label="Members")
    page.get_by_role("button", name="Save customer").click()
    person.says("Saved.")
    page.get_by_label("Item").fill("gloves")
    expect(page.get_by_role("table", name="What they pay")).to_contain_text("19.90")
    page.locator("button[data-fig=asked]").first.click()
    expect(page.locator("aside")).to_contain_text("overruled")
    assert_accessible(page)


def test_a_group_of_the_shops_customers_sees_its_list_and_orders_in_its_steps(person: Person) -> None:
    page = person.page
    follow(person, "The shop", "here and shown there")
    members = keep_list(SYSTEM, None, 0, {"name": "Members"})
    type_prices(SYSTEM, members.pk, [Typed(Item.objects.get(sku="GLV-9").pk, D("19.90"))], timezone.now())
    person.go("/orders/customers")
    page.get_by_role("button", name="Groups").click()
    page.get_by_label("Name of a new group").fill("Bee clubs")
    page.get_by_role("button", name="Add the group").click()
    person.says("Saved.")
    page.get_by_label("In steps of, Bee clubs").fill("-6")
    page.get_by_label("Minimum per order, Bee clubs").focus()
    expect(page.get_by_role("alert").filter(has_text="greater than zero")).to_be_visible()
    page.get_by_label("In steps of, Bee clubs").fill("6")
    page.get_by_label("Minimum per order, Bee clubs").focus()
    expect(page.get_by_role("alert").filter(has_text="greater than zero")).to_be_hidden()

    person.go(f"/connections/{Connection.objects.get(name='The shop').pk}", check=False)
    page.get_by_role("button", name="Read from the account").click()
    person.says("2 groups there.")
    page.get_by_label("Group here of Clubs").select_option(label="Bee clubs")
    expect(page.get_by_text("0 prices of its own for Clubs")).to_be_visible()
    page.get_by_label("Price list of Clubs").select_option(label="Members")
    expect(page.get_by_text("1 price of its own for Clubs; 1 would be other than now")).to_be_visible()
    assert_accessible(page)
    page.get_by_role("table", name="Customer groups there").get_by_role("button", name="Save").click()
    person.says("Saved. What it is shown")
    expect(page.get_by_role("table", name="Customer groups there")).to_contain_text("1 agreed", timeout=20_000)

    shop = f"{person.standins.base}/shop/web/?group=club"
    page.goto(shop)
    gloves = page.get_by_role("row").filter(has_text="GLV-9")
    for _ in range(40):
        if "in steps of 6" in gloves.inner_text():
            break
        page.wait_for_timeout(500)
        page.reload()
    expect(gloves).to_contain_text("24.60 19.90")
    page.get_by_label("How many GLV-9").fill("4")
    page.get_by_role("button", name="Buy").click()
    expect(page.get_by_text("Gloves comes in steps of 6.")).to_be_visible()
    page.get_by_label("How many GLV-9").fill("6")
    page.get_by_role("button", name="Buy").click()
    expect(page.get_by_text("Thank you.")).to_be_visible()
    person.go("/orders", check=False)
    page.get_by_role("link", name="Una Thorne").or_(
        page.get_by_role("row").filter(has_text="Una Thorne").get_by_role("link")
    ).first.click()
    expect(page.get_by_role("main")).to_contain_text("119.40")
    assert Customer.objects.get(name="Una Thorne").group == CustomerGroup.objects.get(name="Bee clubs")


def test_a_till_is_closed_and_what_is_missing_is_in_the_books(person: Person) -> None:
    page = person.page
    page.goto(f"{person.standins.base}/till/mill/")
    page.get_by_label("How many Big smoker").fill("2")
    page.get_by_role("button", name="Ring up").click()
    page.get_by_role("button", name="Upload the batch").click()
    page.get_by_label("Float").fill("100")
    page.get_by_label("Cash counted").fill("148.20")
    page.get_by_role("button", name="Close and count").click()
    expect(page.get_by_text("Closed, Z0001.")).to_be_visible()
    person.go("/connections", check=False)
    page.get_by_role("link", name="The till").click()
    page.get_by_role("button", name="Run now: Till counts in").click()
    person.go("/books/counts", check=False)
    cash = page.get_by_role("row").filter(has_text="Z0001")
    expect(cash).to_contain_text("−1.00", timeout=20_000)
    page.locator("button[data-fig=till-count]").first.click()
    expect(page.locator("aside")).to_contain_text("149.20")
    assert_accessible(page)
    page.keyboard.press("Escape")
    page.get_by_role("link", name="Z0001").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Till count Z0001")
    expect(page.get_by_role("main")).to_contain_text("Cash differences")
