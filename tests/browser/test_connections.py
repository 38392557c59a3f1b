"""The station of connections: schedules and runs that can be read, and goods that are sold past zero."""

from __future__ import annotations

import re
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import httpx
from django.utils import timezone
from playwright.sync_api import expect

from tests.browser.conftest import assert_accessible
from tests.browser.test_journey import Person
from tests.browser.test_prices import person  # noqa: F401
from tests.world import make_supplier
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue.models import Item
from yuvrel.channels.models import Connection
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import SalesOrder


def test_a_schedule_is_changed_and_a_run_is_asked_for_and_read(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")
    person.go(f"/connections/{shop.pk}")
    health = page.get_by_role("region", name="How it is doing")
    orders = health.get_by_role("row").filter(has_text="Orders in")
    expect(orders.get_by_role("button", name="Run now: Orders in")).to_be_visible()
    form = page.get_by_role("form", name="Schedule")
    form.get_by_label("Orders", exact=True).select_option(label="once a day")
    form.get_by_label("Orders: at").fill("04:30")
    form.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    expect(orders).to_contain_text(re.compile("04:30"))

    with httpx.Client(base_url=f"{person.standins.base}/shop/web") as shopper:
        person.standins.faults("web", webhook_late=1.0)
        shopper.post("/buy", data={"q-v1": "1", "name": "Una Thorne"})
    orders.get_by_role("button", name="Run now: Orders in").click()
    person.says("Asking The shop for news.")
    taken = page.get_by_role("table", name="Latest runs").get_by_role("row").filter(has_text="1 new versions of orders")
    expect(taken.first).to_be_visible()
    assert_accessible(page)
    assert SalesOrder.objects.count() == 1

    person.go("/connections/runs")
    found = page.locator("tr[data-row]").filter(has_text="1 new versions of orders")
    found.first.get_by_role("link").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Orders in, The shop")
    calls = page.get_by_role("table", name="Calls")
    calls.get_by_role("button").first.click()
    expect(calls.get_by_label("Answered")).to_have_value(re.compile("Una Thorne"))
    assert_accessible(page)
    page.get_by_placeholder("Filter").fill("nothing of the kind")
    expect(calls).to_contain_text("None of its calls holds that.")


def test_a_pre_order_is_bought_past_zero_promised_filled_and_shipped(person: Person) -> None:  # noqa: F811
    page, item = person.page, Item.objects.get(sku="SMK-L")
    make_supplier(item, price="8.00")
    place = Location.objects.get(code="tannery-yard")
    (po,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(6))], timezone.now())
    send(SYSTEM, po.pk, po.version, timezone.now())
    due = company_day(timezone.now()) + timedelta(days=12)
    PurchaseOrder.objects.filter(pk=po.pk).update(expected_on=due)

    # Set for this one variant on the shop; what it means is said before it is saved.
    person.go(f"/range/items/{item.pk}", check=False)
    listing = page.get_by_role("row").filter(has_text="The shop").filter(has=page.get_by_role("button", name="Rules"))
    listing.get_by_role("button", name="Rules", exact=True).click()
    form = page.get_by_role("form", name="Selling past zero")
    form.get_by_label("Selling past zero").select_option(label="pre-orders, when none are left")
    rehearsal = form.get_by_role("region", name="Rehearsal")
    expect(rehearsal).to_contain_text("Nothing is sold past zero before a limit is set")
    form.get_by_label("Limit").fill("5")
    expect(rehearsal).to_contain_text("Up to 5 units can be sold that are not there")
    form.get_by_label("Text for the shopper").fill("The next ones leave about {date}.")
    expect(rehearsal).to_contain_text("would tell the shopper something else")
    assert_accessible(page)
    form.get_by_role("button", name="Save rules").click()
    person.says("Saved.")

    # Ten are there: they sell as ever. Then the shopper reads what is promised, and buys two more.
    person.shopper_reads("SMK-L", "10")
    buy(person, 10)
    said = f"The next ones leave about {due:%-d %b %Y}."
    person.shopper_reads("SMK-L", said)
    expect(page.get_by_role("row").filter(has_text="SMK-L")).to_contain_text("Pre-order")
    buy(person, 2)
    person.go("/orders", check=False)
    waiting = page.locator("tr[data-row]").filter(has_text="received")
    expect(waiting).to_contain_text(f"by {due:%-d %b %Y}")
    assert_accessible(page)
    waiting.get_by_role("link").first.click()
    expect(page.get_by_text(f"2 to come, promised by {due:%-d %b %Y}")).to_be_visible()
    assert_accessible(page)

    # The goods arrive: the order is ready without anyone pressing a key, and goes.
    order = page.url
    person.go(f"/buying/orders/{po.pk}", check=False)
    page.get_by_role("button", name="Everything arrived").click()
    page.get_by_role("button", name="Receive", exact=True).click()
    person.says("Received.")
    page.goto(order)
    expect(page.locator(".filters")).to_contain_text("ready")
    page.get_by_role("button", name="Ship", exact=True).click()
    expect(page.locator(".filters")).to_contain_text("shipped")


def buy(person: Person, units: int) -> None:  # noqa: F811
    """A shopper buys on the shop's page, and the order is here."""
    before = SalesOrder.objects.count()
    form: dict[str, Any] = {"q-v2": f"{units}", "name": "Una Thorne", "email": "una@thorne.example", "street": "3 Weir Row"}
    answer = httpx.post(f"{person.standins.base}/shop/web/buy", data=form, headers={"Accept": "application/json"})
    assert answer.status_code == 200, answer.text
    for _ in range(240):
        if SalesOrder.objects.count() > before:
            return
        person.page.wait_for_timeout(250)
    raise AssertionError("the order did not come in")
