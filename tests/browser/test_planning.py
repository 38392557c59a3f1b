"""Forecasts, policies and a channel's rules: looked at, doubted, tried out, then changed."""

from __future__ import annotations

import re
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.utils import timezone
from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible, until
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.world import incoming, make_connection, make_item, make_listing, make_supplier, make_user, order_line
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning import forecasts
from yuvrel.planning.models import ForecastRun, ItemForecast
from yuvrel.planning.queries import one_line
from yuvrel.rules.models import SettingChange, SettingValue
from yuvrel.sales.actions import take_till_sale
from yuvrel.stock.actions import OpeningRow, take_opening


@pytest.fixture
def buyer(page: Page, live_server: Any, house: Standins) -> Person:
    make_user(Role.BUYER)
    found = Person(page, live_server.url, house)
    found.sign_in("buyer")
    return found


def test_a_forecast_is_read_doubted_and_changed(buyer: Person) -> None:
    page = buyer.page
    buyer.go("/buying/forecasts")
    expect(page.get_by_text("Nothing has been forecast yet.")).to_be_visible()

    place = Location.objects.get(code="tannery-yard")
    item, till, now = make_item("SMK-1"), make_connection("till", state="paused"), timezone.now()
    make_supplier(item, lead_days=10)
    take_opening(SYSTEM, [OpeningRow(item.pk, place.pk, D(260), D(1))], now - timedelta(days=300))
    for week in range(40):
        when = now - timedelta(days=7 * (40 - week) - 3)
        take_till_sale(SYSTEM, incoming(till, order_line(item, 4), placed_at=when))
    take_till_sale(SYSTEM, incoming(till, order_line(item, 90), placed_at=now - timedelta(days=20)))

    # All of it is worked out in the background, and the sheet shows it when it is done.
    page.get_by_role("button", name="Run the forecast").click()
    row = page.locator("tr[data-row]", has_text="SMK-1")
    expect(row).to_be_visible()
    expect(row.locator("td").last).to_have_text("1")
    until(lambda: ForecastRun.objects.latest("pk").state == "done")
    assert_accessible(page)
    kept = ItemForecast.objects.get()
    row.locator("button[data-fig=month]").click()
    expect(page.locator("aside tr.result .value")).to_have_text(f"{kept.month:f}")
    assert_accessible(page)

    # One item: its one-off is set aside, and counts when the buyer says so.
    page.get_by_role("link", name="Forecast and policy").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Thing SMK-1")
    expect(page.get_by_role("navigation", name="Sheets of this station").locator("[aria-current]")).to_have_text("Forecasts")
    assert_accessible(page)
    page.get_by_role("button", name="Include").click()
    buyer.says("Counted; the forecast follows.")
    expect(page.get_by_text("counted by hand")).to_be_visible()
    until(lambda: ItemForecast.objects.get().month > kept.month)
    page.get_by_role("button", name="Set aside").click()
    expect(page.get_by_text("set aside by hand")).to_be_visible()

    # A policy is tried out before it is saved; what cannot be is refused by name and keeps what was typed.
    form = page.get_by_role("form", name="Replenishment")
    today = timezone.localdate()
    before = one_line(item.pk, place.pk, today).suggestion.quantity
    form.get_by_label("Cover", exact=True).fill("120")
    rehearsal = page.get_by_role("table", name="This item here")
    expect(rehearsal.get_by_role("row", name=re.compile("^Order"))).to_be_visible()
    assert one_line(item.pk, place.pk, today).suggestion.quantity == before
    form.get_by_label("Lead time").fill("1o")
    expect(form.get_by_role("region", name="Rehearsal").get_by_role("alert")).to_contain_text("Lead time must be a number.")
    expect(form.get_by_label("Lead time")).to_have_value("1o")
    form.get_by_label("Lead time").fill("")
    form.get_by_label("Service level").fill("150")
    expect(form.get_by_role("region", name="Rehearsal").get_by_role("alert")).to_contain_text("between 0.1 and 99.9")
    form.get_by_label("Service level").fill("98")
    expect(rehearsal).to_be_visible()
    assert_accessible(page)
    form.get_by_role("button", name="Save rules").click()
    buyer.says("Saved. What follows from it is being worked out anew.")
    cover = form.get_by_role("row").filter(has=page.get_by_label("Cover", exact=True))
    expect(cover).to_contain_text("Thing SMK-1 at Tannery Yard")
    line = one_line(item.pk, place.pk, today)
    assert (line.policy.cover_days, line.policy.safety_figure) == (120, D("0.98"))
    assert line.suggestion.quantity > before
    # The same for everything: what is set for the item here goes before it. Then it inherits again.
    form.get_by_label("Set for").select_option(label="Larkmead (company)")
    form.get_by_label("Cover", exact=True).fill("60")
    form.get_by_role("button", name="Save rules").click()
    expect(form.get_by_role("button", name="Save rules")).to_be_disabled()
    assert one_line(item.pk, place.pk, today).policy.cover_days == 120
    form.get_by_label("Set for").select_option(label="Thing SMK-1 at Tannery Yard (item at a place)")
    cover.get_by_role("button", name="inherit again").click()
    form.get_by_role("button", name="Save rules").click()
    expect(cover).to_contain_text("Larkmead")
    assert one_line(item.pk, place.pk, today).policy.cover_days == 60


def test_one_place_is_filled_from_another(buyer: Person) -> None:
    page = buyer.page
    yard, wagon = (Location.objects.get(code=code) for code in ("tannery-yard", "wagon"))
    item, now = make_item("SMK-1"), timezone.now()
    make_supplier(item, lead_days=10)
    for place, units in ((yard, 200), (wagon, 64)):
        take_opening(SYSTEM, [OpeningRow(item.pk, place.pk, D(units), D(1))], now - timedelta(days=61))
    till = make_connection("till", state="paused", fulfils_from=wagon)
    for day in range(1, 61):
        take_till_sale(SYSTEM, incoming(till, order_line(item, 1), placed_at=now - timedelta(days=day)))
    forecasts.carry_out(forecasts.begin_run(SYSTEM, now).pk, timezone.now)

    # What it would mean is shown first; then the place is filled from the yard, all of it.
    buyer.go(f"/buying/forecasts/{item.pk}/{wagon.pk}")
    form = page.get_by_role("form", name="Replenishment")
    form.get_by_label("Set for").select_option(label="The Wagon (place)")
    form.get_by_label("Filled from").select_option(label="Tannery Yard")
    expect(page.get_by_role("table", name="This item here")).to_be_visible()
    form.get_by_label("Transfer time").fill("3")
    form.get_by_role("button", name="Save rules").click()
    buyer.says("Saved.")
    expect(form.get_by_role("row").filter(has=page.get_by_label("Filled from"))).to_contain_text("The Wagon")
    assert_accessible(page)

    buyer.go("/buying")
    expect(page.get_by_text("From Tannery Yard")).to_be_visible(timeout=30_000)
    row = page.locator("tr[data-row]", has_text="The Wagon")
    row.locator("button[data-fig=suggestion]").click()
    expect(page.locator("aside h2")).to_have_text("How many should come from Tannery Yard?")
    assert_accessible(page)
    row.get_by_role("checkbox").check()
    page.get_by_role("button", name="Draft 1 transfer").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("TR-1001 to The Wagon")
    expect(page.get_by_label("Units of Thing SMK-1")).to_have_value(
        f"{one_line(item.pk, wagon.pk, timezone.localdate()).suggestion.quantity:f}"
    )


def test_a_viewer_sees_forecasts_and_changes_none(person_viewing: Person) -> None:
    page = person_viewing.page
    item = make_item("SMK-2", on_hand=3)
    place = Location.objects.get(code="tannery-yard")
    forecasts.forecast_category(item.pk, timezone.now())
    person_viewing.go("/buying/forecasts")
    expect(page.get_by_role("button", name="Run the forecast")).to_have_count(0)
    person_viewing.go(f"/buying/forecasts/{item.pk}/{place.pk}")
    expect(page.get_by_label("Cover", exact=True)).to_be_disabled()
    expect(page.get_by_role("button", name="Save rules")).to_have_count(0)


@pytest.fixture
def person_viewing(page: Page, live_server: Any, house: Standins) -> Person:
    found = Person(page, live_server.url, house)
    found.sign_in("viewer")
    return found


def test_the_rules_of_a_channel_are_rehearsed_before_they_are_saved(page: Page, live_server: Any, house: Standins) -> None:
    manager = Person(page, live_server.url, house)
    manager.sign_in("manager")
    shop = make_connection(state="paused")
    for n, units in enumerate((9, 4, 0)):
        make_listing(shop, make_item(f"T-{n}", on_hand=units), title=f"Thing {n}", price=D("12.30"))
    manager.go(f"/connections/{shop.pk}")
    rehearsal = page.get_by_role("region", name="Rehearsal")
    expect(rehearsal).to_have_count(0)
    page.get_by_label("Order number prefix").fill("X-")
    expect(rehearsal).to_have_count(0)
    page.get_by_label("Buffer").fill("5")
    save = page.get_by_role("form", name="Quantities shown").get_by_role("button", name="Save rules")
    stands = save.bounding_box()
    expect(rehearsal.get_by_role("status")).to_contain_text("2 of 3 listings would show something else: 2 fewer, none more.")
    # Where a hand that is on its way to it finds it.
    assert save.bounding_box() == stands
    expect(rehearsal.get_by_role("status")).to_contain_text("1 listing would fall to zero.")
    # What falls to zero stands first: 4 units at 12.30 with 23 % tax, bought at 2.00.
    expect(rehearsal.get_by_role("row").nth(1)).to_contain_text("T-1")
    expect(rehearsal.get_by_role("row").nth(1).get_by_role("cell").last).to_have_text("32.00")
    expect(rehearsal.get_by_role("row").last.get_by_role("cell").last).to_have_text("72.00")
    assert_accessible(page)
    page.get_by_label("Buffer").fill("-1")
    expect(rehearsal.get_by_role("alert")).to_contain_text("Buffer must lie between")
    page.get_by_label("Buffer").fill("0")
    expect(rehearsal).to_contain_text("Nothing: all 3 listings would show what they show now.")
    assert not SettingValue.objects.filter(name="buffer").exists()
    page.get_by_label("Buffer").fill("5")
    save.click()
    manager.says("Saved.")
    expect(rehearsal).to_have_count(0)
    assert SettingValue.objects.get(name="buffer").value == "5"


def test_a_rule_is_overridden_on_a_category_and_an_item_and_taken_back(page: Page, live_server: Any, house: Standins) -> None:
    manager = Person(page, live_server.url, house)
    manager.sign_in("manager")
    shop = make_connection(state="paused", buffer=3)
    item = make_item("JAR", on_hand=40)
    make_listing(shop, item, title="Jar", offered=37)
    manager.go(f"/range/items/{item.pk}")
    page.get_by_role("button", name="Rules", exact=True).click()
    sheet = page.get_by_role("form", name="Quantities shown")
    buffer = sheet.get_by_label("Buffer")
    row = sheet.get_by_role("row", name="Buffer")

    def save(level: str, units: str, counts: str) -> None:
        sheet.get_by_label("Set for").select_option(level)
        buffer.fill(units)
        sheet.get_by_role("button", name="Save rules").click()
        expect(row.get_by_role("cell").nth(2)).to_have_text(counts)

    expect(row.get_by_role("cell").nth(2)).to_have_text("3 units")
    save("category", "6", "6 units")
    save("item", "4", "4 units")
    row.get_by_role("button", name="Thing JAR").click()
    ladder = sheet.get_by_role("list", name="Where Buffer comes from")
    expect(ladder.get_by_role("listitem").nth(1)).to_contain_text("4 units")
    expect(ladder.get_by_role("listitem").nth(4)).to_contain_text("6 units")
    assert_accessible(page)
    row.get_by_role("button", name="inherit again").click()
    expect(sheet.get_by_role("region", name="Rehearsal").get_by_role("status")).to_contain_text("1 of 1 listing")
    sheet.get_by_role("button", name="Save rules").click()
    expect(row.get_by_role("cell").nth(2)).to_have_text("6 units")
    page.get_by_role("dialog").get_by_text("Who changed what").first.click()
    expect(page.get_by_role("dialog").get_by_role("table", name="Changes of rules")).to_contain_text("4 units → inherited")
    assert SettingChange.objects.filter(level="item").count() == 2
