"""A stockkeeper moves goods to another place, takes in what arrives, and reads what it did on the documents."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone
from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.world import give, make_item, make_user
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import StockBalance


@pytest.fixture
def keeper(page: Page, live_server: Any, house: Standins) -> Person:
    make_user(Role.STOCKKEEPER)
    found = Person(page, live_server.url, house)
    found.sign_in("stockkeeper")
    return found


def _held(sku: str, place: str) -> D:
    row = StockBalance.objects.filter(item__sku=sku, location__code=place).first()
    return row.on_hand if row else D(0)


def test_goods_go_to_another_place_and_arrive_there(keeper: Person) -> None:
    make_item("SMK-10", on_hand=12, cost="3.00")
    make_item("GLV-M", on_hand=7, cost="2.00")
    page = keeper.page
    keeper.go("/shelf")
    page.get_by_role("row").filter(has_text="SMK-10").get_by_role("link", name="Move").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("What goes where?")
    form = page.locator("form")
    expect(form.get_by_label("From")).to_have_value(f"{StockBalance.objects.get(item__sku='SMK-10').location_id}")
    form.get_by_label("To").select_option(label="The Wagon")
    form.get_by_label("Units of").fill("50")
    form.get_by_label("Note").fill("Saturday market")
    assert_accessible(page)
    form.get_by_role("button", name="Make the draft").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("TR-1001 to The Wagon")

    # More than is free cannot leave, and it is said which.
    page.get_by_role("button", name="Send", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("SMK-10: 12 are free at Tannery Yard, 50 are to go.")
    page.get_by_label("Units of Thing SMK-10").fill("5")
    page.get_by_label("Add an item").fill("glv")
    page.get_by_role("button", name="Save").click()
    keeper.says("Saved.")
    page.get_by_role("list", name="Items found").get_by_role("button").click()
    expect(page.get_by_label("Units of Thing GLV-M")).to_have_value("1")
    page.get_by_label("Units of Thing GLV-M").fill("4")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("button", name="Save")).to_have_count(0)

    # The goods are reserved for it until the wagon goes: who looks at them sees by whom.
    page.get_by_role("button", name="Reserve the goods").click()
    keeper.says("Reserved.")
    line = page.get_by_role("row").filter(has_text="SMK-10")
    expect(line.get_by_role("cell").nth(2)).to_have_text("5")
    assert_accessible(page)
    keeper.go("/shelf")
    page.get_by_role("row").filter(has_text="SMK-10").locator("button[data-fig=committed]").click()
    expect(page.locator("aside")).to_contain_text("TR-1001")
    page.locator("aside").get_by_role("link", name="TR-1001").click()
    page.get_by_role("button", name="Release the goods").click()
    keeper.says("Released.")
    page.get_by_role("button", name="Reserve the goods").click()
    keeper.says("Reserved.")
    page.get_by_role("button", name="Send", exact=True).click()
    keeper.says("Sent.")
    expect(page.get_by_text("23.00").first).to_be_visible()
    assert (_held("SMK-10", "tannery-yard"), _held("GLV-M", "tannery-yard")) == (7, 3)
    assert_accessible(page)

    # Three smokers are there, one was damaged on the way; the gloves are all there.
    page.get_by_label("Now of Thing SMK-10").fill("4")
    page.get_by_label("Now of Thing GLV-M").fill("4")
    page.get_by_role("button", name="Receive").click()
    keeper.says("Received.")
    expect(page.locator(".state-mark").first).to_have_text("part-received")
    page.get_by_role("button", name="Everything arrived").click()
    page.get_by_label("Why it will not arrive").select_option("damaged")
    page.get_by_role("button", name="Write off").click()
    keeper.says("Written off.")
    expect(page.locator(".state-mark").first).to_have_text("received")
    expect(page.get_by_role("list", name="What happened").get_by_role("listitem")).to_contain_text(
        [
            *("drafted", "changed", "line added", "changed", "goods reserved", "goods released", "goods reserved"),
            *("sent", "received", "written off"),
        ]
    )
    assert (_held("SMK-10", "wagon"), _held("GLV-M", "wagon")) == (4, 4)

    # The moves lead back to it, and the sheet has it.
    keeper.go("/shelf/moves")
    page.get_by_role("link", name="TR-1001").first.click()
    expect(page.get_by_role("heading", level=1)).to_have_text("TR-1001 to The Wagon")
    keeper.go("/shelf/transfers")
    expect(page.get_by_role("row").filter(has_text="TR-1001")).to_contain_text("The Wagon")


def test_goods_are_valued_first_in_first_out_once_it_is_chosen(page: Page, live_server: Any, house: Standins) -> None:
    item = make_item("SMK-10", on_hand=10, cost="2.00")
    place = Location.objects.get(code="tannery-yard")
    person = Person(page, live_server.url, house)
    person.sign_in("manager")
    person.go("/books/accounts")
    rules = page.get_by_role("region", name="Cost of goods")
    rules.get_by_label("Goods leave at").select_option(label="first in, first out")
    assert_accessible(page)
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    give(item, 10, "4.00", place)
    adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason="lost", at=timezone.now(), change=D(-3))
    person.go(f"/range/items/{item.pk}")
    there = page.get_by_role("region", name="What is there")
    expect(there.get_by_role("row")).to_contain_text(["Document", "72.0014.00", "104.0040.00"])
    assert_accessible(page)


def test_a_count_is_a_document_that_can_be_opened(keeper: Person) -> None:
    make_item("SMK-10", on_hand=12, cost="3.00")
    page = keeper.page
    keeper.go("/shelf")
    page.get_by_role("row").filter(has_text="SMK-10").get_by_role("button", name="Adjust").click()
    page.get_by_label("How many are there?").fill("10")
    page.get_by_label("Note").fill("spring count")
    page.get_by_role("button", name="Post").click()
    keeper.says("CNT-1001")
    keeper.go("/shelf/moves")
    page.get_by_role("link", name="CNT-1001").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Count CNT-1001")
    expect(page.get_by_text("spring count")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="Shrinkage")).to_contain_text("6.00")
    assert_accessible(page)
