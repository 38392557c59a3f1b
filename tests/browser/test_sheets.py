"""A sheet made one's own: sorted, its columns chosen, kept under a name, shared, taken away as a file."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook
from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible, until
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.world import make_item
from yuvrel.people.models import SheetHabit, SheetView, User


@pytest.fixture
def manager(page: Page, live_server: Any, house: Standins) -> Person:
    for sku, units, cost in (("SKU-A", 30, "2.00"), ("SKU-B", 7, "41.50"), ("SKU-C", 90, "1.00")):
        make_item(sku, on_hand=units, cost=cost)
    found = Person(page, live_server.url, house)
    found.sign_in("manager")
    return found


def skus(page: Page) -> list[str]:
    """Numbers of the items on the sheet, from the top."""
    expect(page.locator("tr[data-row]")).to_have_count(3)
    return [text.split()[-1] for text in page.locator("tr[data-row] td:first-child").all_inner_texts()]


def heads(page: Page) -> list[str]:
    told = [text.split("\n")[0] for text in page.locator("thead th").all_inner_texts()]
    return [text for text in told if text and text != "Actions"]


def remembered(name: str) -> dict[str, Any]:
    """How the shelf is kept for somebody."""
    habit = SheetHabit.objects.filter(user__username=name).first()
    return habit.settings if habit and habit.settings else {}


def take(page: Page, form: str, folder: Path) -> Path:
    with page.expect_download() as found:
        page.get_by_role("button", name=form, exact=True).click()
    path = folder / found.value.suggested_filename
    found.value.save_as(path)
    return path


def test_a_sheet_is_made_ones_own_and_shared(manager: Person, tmp_path: Path) -> None:
    page = manager.page
    manager.go("/shelf")
    assert skus(page) == ["SKU-A", "SKU-B", "SKU-C"]

    # A head sorts: what is worth most first, then the least, then default.
    value = page.get_by_role("columnheader", name="Value EUR")
    for order, first in (("descending", "SKU-B"), ("ascending", "SKU-A"), ("none", "SKU-A")):
        value.get_by_role("button").click()
        expect(value).to_have_attribute("aria-sort", order)
        expect(page.locator("tr[data-row]").first).to_contain_text(first)
    value.get_by_role("button").click()
    expect(page.locator("tr[data-row]").first).to_contain_text("SKU-B")

    # Columns are left out, added, moved and widened, by keyboard alone.
    page.get_by_role("button", name="Columns").focus()
    page.keyboard.press("Enter")
    assert_accessible(page)
    for name in ("Committed", "Backordered", "Incoming", "Expires"):
        page.get_by_role("checkbox", name=name).focus()
        page.keyboard.press("Space")
        expect(page.get_by_role("checkbox", name=name)).to_be_focused()
    page.get_by_role("checkbox", name="Category").focus()
    page.keyboard.press("Space")
    page.get_by_role("button", name="Category further left").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("status").filter(has_text="Category stands at place 5.")).to_be_visible()
    page.get_by_label("Width of Item in pixels").fill("5000")
    page.keyboard.press("Tab")
    expect(page.get_by_label("Width of Item in pixels")).to_have_value("900")
    page.get_by_label("Width of Item in pixels").fill("300")
    page.keyboard.press("Tab")
    page.get_by_role("button", name="Done").click()
    chosen = ["Item", "Location", "On hand", "Available", "Category", "Value EUR"]
    assert heads(page) == chosen
    box = page.get_by_role("columnheader", name="Item").bounding_box()
    assert box is not None
    assert round(box["width"]) == 300

    # It stays so, for this person; what was searched for does not.
    page.get_by_label("Filter").fill("SKU")
    until(lambda: remembered("manager").get("sort") == "-value" and len(remembered("manager")["columns"]) == 6)
    assert remembered("manager")["filters"] == {}
    page.reload()
    assert skus(page) == ["SKU-B", "SKU-C", "SKU-A"]
    assert heads(page) == chosen

    # The files hold what is seen.
    with take(page, "CSV", tmp_path).open(encoding="utf-8-sig", newline="") as text:
        first, *rows = csv.reader(text)
    assert first == ["Item", "SKU", "Location", "On hand", "Available", "Category", "Value EUR"]
    assert [(row[1], row[3], row[6]) for row in rows] == [
        ("SKU-B", "7", "290.50"),
        ("SKU-C", "90", "90.00"),
        ("SKU-A", "30", "60.00"),
    ]
    book = load_workbook(take(page, "XLSX", tmp_path)).active
    assert [cell.value for cell in book[2]] == ["Thing SKU-B", "SKU-B", "Tannery Yard", 7, 7, "Things", 290.5]

    # Under a name, shared, and opened by somebody else.
    page.get_by_role("button", name="Views").click()
    page.get_by_label("Name").fill("What is worth most")
    page.get_by_label("Share with everyone").check()
    page.get_by_role("button", name="Save as a new view").click()
    manager.says("Kept as What is worth most.")
    expect(page.get_by_label("View", exact=True)).to_have_value(str(SheetView.objects.get().pk))
    page.get_by_label("Show").select_option(label="in stock")
    expect(page.get_by_label("View", exact=True).locator("option:checked")).to_have_text("What is worth most, changed")
    page.get_by_role("button", name="Views").click()
    assert_accessible(page)
    page.get_by_role("button", name="Save the changes to What is worth most").click()
    until(lambda: SheetView.objects.get().settings["filters"] == {"show": "held"})
    page.get_by_role("button", name="Views").click()
    page.get_by_label("Name").fill("What is worth most")
    page.get_by_role("button", name="Save as a new view").click()
    expect(page.get_by_role("alert")).to_have_text("You have a view called What is worth most already.")
    page.keyboard.press("Escape")

    page.get_by_role("button", name="Sign out").click()
    manager.sign_in("viewer")
    manager.go("/shelf")
    assert skus(page) == ["SKU-A", "SKU-B", "SKU-C"]
    page.get_by_label("View", exact=True).select_option(label="What is worth most")
    expect(page.locator("tr[data-row]").first).to_contain_text("SKU-B")
    assert heads(page) == chosen
    page.get_by_role("button", name="Views").click()
    expect(page.get_by_role("button", name="Delete What is worth most")).to_have_count(0)
    page.get_by_role("checkbox", name="Open the sheet with this view").check()
    expect(page.get_by_role("checkbox", name="Open the sheet with this view")).to_be_enabled()
    opened = SheetHabit.objects.filter(user=User.objects.get(username="viewer"))
    until(lambda: opened.get().opens_with == SheetView.objects.get())
    page.keyboard.press("Escape")
    page.get_by_label("View", exact=True).select_option(label="default")
    page.reload()
    expect(page.locator("tr[data-row]").first).to_contain_text("SKU-B")
    # A link says itself what it wants to show.
    manager.go("/shelf?q=SKU-C")
    expect(page.locator("tr[data-row]")).to_have_count(1)
    expect(page.get_by_label("Filter")).to_have_value("SKU-C")


def test_a_column_is_dragged_wider_and_gets_its_own_width_back(manager: Person) -> None:
    page = manager.page
    manager.go("/shelf")
    head = page.get_by_role("columnheader", name="Location")
    before = head.bounding_box()
    assert before is not None
    edge = before["x"] + before["width"] - 3
    page.mouse.move(edge, before["y"] + 12)
    page.mouse.down()
    page.mouse.move(edge + 80, before["y"] + 12, steps=4)
    page.mouse.up()
    after = head.bounding_box()
    assert after is not None
    assert abs(after["width"] - before["width"] - 80) < 4
    expect(head).not_to_have_attribute("aria-sort", "ascending")  # dragging is no click on the head
    page.mouse.dblclick(after["x"] + after["width"] - 3, after["y"] + 12)
    expect(head).not_to_have_attribute("style", "width")
    until(lambda: [one["width"] for one in remembered("manager").get("columns", [])] == [None] * 9)


def test_a_past_day_has_its_own_columns_and_no_order_but_that_of_items(manager: Person) -> None:
    page = manager.page
    manager.go("/shelf?as_at=2027-12-31")
    expect(page.get_by_role("columnheader", name="On hand then")).to_be_visible()
    assert page.locator("th[aria-sort]").count() == 0
    expect(page.get_by_role("button", name="Columns")).to_have_count(0)
    assert_accessible(page)
