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
from tests.world import give, make_supplier
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue import products
from yuvrel.catalogue.models import Item
from yuvrel.channels import actions, linking
from yuvrel.channels.models import Connection, Listing
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.models import StockBalance


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


def buy(person: Person, units: int, pay: str = "card") -> None:  # noqa: F811
    """A shopper buys on the shop's page, and the order is here."""
    before = SalesOrder.objects.count()
    form: dict[str, Any] = {"q-v2": f"{units}", "name": "Una Thorne", "email": "una@thorne.example", "street": "3 Weir Row"}
    form["pay"] = pay
    answer = httpx.post(f"{person.standins.base}/shop/web/buy", data=form, headers={"Accept": "application/json"})
    assert answer.status_code == 200, answer.text
    for _ in range(240):
        if SalesOrder.objects.count() > before:
            return
        person.page.wait_for_timeout(250)
    raise AssertionError("the order did not come in")


def test_a_marketplace_is_set_up_from_nothing_to_its_first_order(person: Person) -> None:  # noqa: F811
    page, store = person.page, person.standins.store
    item = Item.objects.get(sku="SMK-S")
    old = {"order": "IE-000900", "id": "IE-000900", "revision": 1, "state": "shipped", "currency": "EUR", "buyer": "Orla Finch"}
    at = (timezone.now() - timedelta(days=20)).isoformat()
    position = {
        "position": "1",
        "offer": "o1",
        "seller_code": "",
        "title": "Smoker small",
        "count": 2,
        "amount": "49.20",
        "tax": "23",
    }
    with store.transaction():
        body = {**old, "placed_at": at, "updated_at": at, "positions": [position], "postage": [], "total": "49.20", "parcels": []}
        store.put("hedge", "order-ie", "IE-000900", body)

    person.go("/connections/new")
    page.get_by_label("Kind").select_option(label="Marketplace")
    page.get_by_label("Name").fill("Hedgerow")
    page.get_by_label("Address").fill(f"{person.standins.base}/market/hedge")
    page.get_by_label("Client id").fill("us")
    page.get_by_label("Client secret", exact=True).fill("mistyped")
    page.get_by_label("Region").fill("ie")
    assert_accessible(page)
    page.get_by_role("button", name="Add as a draft").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Hedgerow")
    steps = page.get_by_role("list", name="Set-up")
    steps.get_by_role("button", name="Test", exact=True).click()
    expect(steps.get_by_role("alert")).to_contain_text("does not know this client id with this secret")
    expect(steps.get_by_role("button", name="Go live")).to_be_disabled()
    page.get_by_label("New client secret").fill("s")
    page.get_by_role("button", name="Save settings").click()
    person.says("Saved.")
    steps.get_by_role("button", name="Test", exact=True).click()
    expect(steps).to_contain_text("Connected to Hedge, ie")

    # What would come in, before anything does.
    steps.get_by_role("button", name="Look").click()
    found = steps.get_by_role("table", name="What would come in")
    expect(found.get_by_role("row").filter(has_text="match an item by SKU or barcode")).to_contain_text("3")
    expect(found.get_by_role("row").filter(has_text="Past orders")).to_contain_text("1")
    found.get_by_text("match an item by SKU or barcode").click()
    expect(found).to_contain_text("Smoker large")
    assert_accessible(page)
    assert not Connection.objects.get(name="Hedgerow").listings.exists()  # type: ignore[attr-defined]

    # It can be left here and taken up again.
    person.go("/connections")
    page.get_by_role("link", name="Hedgerow").click()
    steps.get_by_role("button", name="Take in now").click()
    expect(steps.get_by_role("link", name="the report")).to_be_visible()
    expect(steps).to_contain_text("as history: 1 new")
    past = SalesOrder.objects.get(external_id="IE-000900")
    assert (past.history, past.state) == (True, "closed")

    form = page.get_by_role("form", name="Orders")
    form.get_by_label("Order number prefix").fill("HM-")
    form.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    expect(
        steps.get_by_role("table", name="What would change there").get_by_role("row").filter(has_text="SMK-S")
    ).to_contain_text("0")
    steps.get_by_role("button", name="Go live").click()
    person.says("It is live.")

    # What it is told goes in batches, and each says what came of it.
    batches = page.get_by_role("table", name="Batches handed in")
    expect(batches.get_by_role("row").filter(has_text="quantities").filter(has_text="done").first).to_be_visible()
    assert_accessible(page)
    for _ in range(60):
        page.goto(f"{person.standins.base}/market/hedge/")
        if "sold out" not in page.get_by_role("row").filter(has_text="o1").first.inner_text():
            break
        page.wait_for_timeout(500)
    page.get_by_label("How many o1").fill("1")
    page.get_by_role("button", name="Order").click()
    expect(page.get_by_role("status")).to_contain_text("Ordered: IE-000001")
    person.go(f"/connections/{past.connection_id}")
    page.get_by_role("button", name="Run now: Orders in").click()
    person.says("Asking Hedgerow for news.")
    person.go("/orders")
    expect(page.get_by_role("row").filter(has_text="HM-IE-000001")).to_be_visible()
    order = SalesOrder.objects.get(number="HM-IE-000001")
    assert (order.state, order.history, order.lines.get(kind="item").item) == ("ready", False, item)


def test_a_template_is_put_right_and_a_refused_publication_mended(person: Person) -> None:  # noqa: F811
    page = person.page
    given = {"client": "us", "secret": "s", "region": "ie"}
    address = f"{person.standins.base}/market/hedge"
    market = actions.add(SYSTEM, kind="market", name="Hedgerow", address=address, sign_in=given)
    actions.test(SYSTEM, market.pk, timezone.now())
    linking.take_listings(SYSTEM, market.pk, timezone.now(), create=False)
    actions.go_live(SYSTEM, market.pk, timezone.now())

    person.go(f"/connections/{market.pk}")
    page.get_by_role("link", name="New listings").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("What shall be listed?")
    page.get_by_role("region", name="Not listed there").get_by_role("checkbox", name="GLV-9").check()
    page.get_by_role("button", name="Prepare 1 chosen").click()
    person.says("1 prepared.")
    row = page.get_by_role("table", name="Prepared").get_by_role("row").filter(has_text="GLV-9")
    expect(row).to_contain_text("Choose a category.")
    assert_accessible(page)

    # A template with an error is refused with its place; put right, its text is what would stand there.
    content = page.get_by_role("form", name="Content")
    content.get_by_label("Title there").fill("Forbidden {{ titel }}")
    content.get_by_role("button", name="Save rules").click()
    expect(content.get_by_role("alert")).to_contain_text("Line 1: 'titel' is undefined.")
    content.get_by_label("Title there").fill("Forbidden {{ title | upper }}")
    content.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    expect(row).to_contain_text("Forbidden GLOVES")

    row.get_by_label("Category of Gloves").select_option(label="Gloves")
    expect(row).to_contain_text("It lacks Material.")
    expect(page.get_by_role("button", name="Publish 0 complete ones")).to_be_disabled()
    # What a category asks is filled in by rule, and where the channel allows only its own words, a map says which.
    content.get_by_label("Attributes there: material").fill("{{ options.Leather | default('Goat', true) }}")
    content.get_by_role("button", name="Save rules").click()
    expect(row).to_contain_text("Material Goat: not a value that is allowed there.")
    content.get_by_label("Values there: material: Goat").select_option(label="goatskin")
    content.get_by_role("button", name="Save rules").click()
    expect(row.get_by_label("Material of Gloves")).to_contain_text("by rule: goatskin")
    assert_accessible(page)
    page.get_by_role("button", name="Publish 1 complete one").click()
    person.says("Handing in to Hedgerow.")
    expect(row).to_contain_text("There: we do not sell this")
    assert_accessible(page)

    content.get_by_label("Title there").fill("{{ title }} for beekeepers")
    content.get_by_role("button", name="Save rules").click()
    expect(row).to_contain_text("Gloves for beekeepers")
    page.get_by_role("button", name="Publish 1 complete one").click()
    expect(row).to_contain_text("listed")
    listing = market.listings.get(item__sku="GLV-9")  # type: ignore[attr-defined]
    for _ in range(60):
        page.goto(f"{address}/")
        there = page.get_by_role("row").filter(has_text=listing.external_id).first
        if "sold out" not in there.inner_text():
            break
        page.wait_for_timeout(500)
    expect(there).to_contain_text("Gloves for beekeepers")
    expect(there).to_contain_text("10")

    # From now on what changes here is told there by itself, and the listing says so.
    person.go(f"/connections/{market.pk}/publish", check=False)
    content.get_by_label("Titles and descriptions").select_option(label="told when they change here")
    content.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    product = listing.item.product
    products.change(SYSTEM, product.pk, product.version, {"title": "Goatskin gloves"})
    for _ in range(60):
        page.goto(f"{address}/")
        if "Goatskin gloves for beekeepers" in there.inner_text():
            break
        page.wait_for_timeout(500)
    expect(there).to_contain_text("Goatskin gloves for beekeepers")
    person.go(f"/range/listings/{listing.pk}", check=False)
    expect(page.get_by_role("main")).to_contain_text("texts told anew")

    # The same goods in the words of their market: what is not said yet is a snag, and heals when it is said.
    person.go(f"/connections/{market.pk}", check=False)
    listings = page.get_by_role("form", name="Listings")
    listings.get_by_label("Language there").select_option(label="French")
    listings.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    person.go(f"/range/products/{product.pk}", check=False)
    page.get_by_label("Another language").select_option(label="French")
    texts = page.get_by_role("form", name="Texts in French")
    texts.get_by_label("Title in French").fill("Gants de chèvre")
    assert_accessible(page)
    texts.get_by_role("button", name="Save in French").click()
    person.says("Saved.")
    expect(page.get_by_role("button", name="French", exact=True)).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_role("table").last).to_contain_text("title in French: empty → Gants de chèvre")
    page.get_by_role("link", name="words in French").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("What do we call it in other languages?")
    page.get_by_label("Clothing in French").fill("Vêtements")
    assert_accessible(page)
    page.get_by_role("button", name="Save words").click()
    person.says("1 translation changed.")
    for _ in range(60):
        page.goto(f"{address}/")
        if "Gants de chèvre for beekeepers" in there.inner_text():
            break
        page.wait_for_timeout(500)
    expect(there).to_contain_text("Gants de chèvre for beekeepers")


def test_what_the_shop_s_words_mean_and_a_card_that_is_charged_when_it_leaves(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")
    # An account of its own for what the card terminal brings in.
    person.go("/books/accounts")
    page.get_by_role("button", name="Open a clearing account").click()
    form = page.get_by_role("form", name="Clearing account")
    form.get_by_label("Code").fill("1150")
    form.get_by_label("Name").fill("Card terminal")
    form.get_by_role("button", name="Open it").click()
    expect(form.get_by_role("alert")).to_have_text("There is an account 1150 already.")
    form.get_by_label("Code").fill("1160")
    form.get_by_role("button", name="Open it").click()
    person.says("1160 Card terminal is open.")
    expect(page.get_by_role("row").filter(has_text="Card terminal")).to_be_visible()
    assert_accessible(page)

    # What the shop calls things, and what it means here.
    person.go(f"/connections/{shop.pk}", check=False)
    rules = page.get_by_role("form", name="Orders", exact=True)
    state = rules.get_by_label("What order states mean: awaiting payment")
    expect(state.locator("option:checked")).to_have_text("left at the channel")
    state.select_option(label="taken in and held")
    rules.get_by_label("Payments settle through: card").select_option(label="1160 Card terminal")
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    expect(rules.get_by_text("awaiting_payment: taken in and held")).to_be_visible()
    assert_accessible(page)

    # One pays by transfer and waits; one by card, charged when it leaves.
    buy(person, 1, pay="bank_transfer")
    buy(person, 2, pay="card_later")
    waits = SalesOrder.objects.get(state="held")
    person.go(f"/orders/{waits.pk}", check=False)
    expect(page.locator(".filters")).to_contain_text("It stands as awaiting payment at The shop.")
    order = SalesOrder.objects.get(state="ready")
    person.go(f"/orders/{order.pk}", check=False)
    paid = page.get_by_role("table", name="Payments").locator("tr[data-row]")
    expect(paid).to_contain_text("authorised")
    expect(paid).to_contain_text("1160 Card terminal")
    assert_accessible(page)
    page.get_by_role("button", name="Ship", exact=True).click()
    expect(page.locator(".filters")).to_contain_text("shipped")
    expect(paid).to_contain_text(re.compile(r"paid.*56\.10"), timeout=30_000)

    # The money for the other one comes: it goes on by itself.
    httpx.post(f"{person.standins.base}/shop/web/office/money", data={"id": waits.external_id})
    person.go(f"/orders/{waits.pk}", check=False)
    expect(page.locator(".filters")).to_contain_text("ready", timeout=30_000)


def test_a_shop_that_sells_in_pounds_and_tells_the_ledger_once_a_day(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")
    store = person.standins.store
    with store.transaction():
        store.put("web", "account", "web", {**(store.get("web", "account", "web") or {}), "currency": "GBP"})
    # Without a rule the order waits and says what it waits for.
    listing = Listing.objects.filter(connection=shop, sku="SMK-L")
    for _ in range(120):
        if listing.filter(offer_state="agreed", shown__gt=2).exists():
            break
        page.wait_for_timeout(250)
    buy(person, 1)
    waits = SalesOrder.objects.get(state="held")
    person.go(f"/orders/{waits.pk}", check=False)
    expect(page.locator(".filters")).to_contain_text("It is in GBP, and this connection sells in EUR.")

    person.go("/books/accounts")
    form = page.get_by_role("form", name="Exchange rate")
    form.get_by_label("Currency").fill("xqq")
    form.get_by_label("For one EUR").fill("0,8")
    form.get_by_role("button", name="Set the rate").click()
    expect(form.get_by_role("alert")).to_contain_text("'XQQ' is not a currency of ISO 4217.")
    form.get_by_label("Currency").fill("gbp")
    form.get_by_role("button", name="Set the rate").click()
    person.says("one of ours is 0.8 GBP")
    expect(page.get_by_role("table", name="Exchange rates").get_by_role("row").last).to_contain_text("GBP")
    assert_accessible(page)

    person.go(f"/connections/{shop.pk}", check=False)
    rules = page.get_by_role("form", name="Orders", exact=True)
    rules.get_by_label("Also sells in").fill("GBP")
    rules.get_by_label("The ledger gets").select_option(label="one journal a day")
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    buy(person, 2)
    order = SalesOrder.objects.get(state="ready")
    assert (order.currency, order.stated_currency, order.rate) == ("EUR", "GBP", D("0.8"))
    person.go(f"/orders/{order.pk}", check=False)
    expect(page.get_by_text(f"{order.stated_total} GBP at 0.8 for one EUR")).to_be_visible()
    page.get_by_role("button", name="Ship", exact=True).click()
    expect(page.locator(".filters")).to_contain_text("shipped")
    expect(page.get_by_role("row").filter(has_text=order.number).first).to_contain_text("gathered")
    person.open_working("order-total", "Does it add up?")
    expect(page.locator("aside")).to_contain_text("In our currency")
    # The one that waited goes on when somebody releases it: there is a rate now.
    person.go(f"/orders/{waits.pk}", check=False)
    page.get_by_role("button", name="Release it").click()
    expect(page.locator(".filters")).to_contain_text("ready")
    assert SalesOrder.objects.get(pk=waits.pk).stated_currency == "GBP"


def test_a_listing_is_hidden_shown_again_and_stands_for_a_tray(person: Person) -> None:  # noqa: F811
    page, item = person.page, Item.objects.get(sku="SMK-L")
    person.go(f"/range/items/{item.pk}", check=False)
    page.get_by_role("link", name="The shop", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Smoker large")
    assert_accessible(page)
    there = page.get_by_role("table", name="There and here")
    expect(there.get_by_role("row").filter(has_text="Quantity")).to_contain_text("agreed")
    page.get_by_role("button", name="Hide").click()
    person.says("is to be hidden at The shop.")
    expect(there.get_by_role("row").filter(has_text="Stands as")).to_contain_text("hiddenhidden", timeout=30_000)
    assert "SMK-L" not in httpx.get(f"{person.standins.base}/shop/web/").text
    page.get_by_role("button", name="Show again").click()
    expect(there.get_by_role("row").filter(has_text="Stands as")).to_contain_text("for salefor sale", timeout=30_000)
    history = page.get_by_role("list", name="History")
    expect(history).to_contain_text("hidden there")
    expect(history).to_contain_text("Stands there as: inherited → hidden")

    # It is sold in trays of four, and one less than there could be by hand.
    page.get_by_label("Units it stands for").fill("4")
    page.get_by_role("button", name="Save", exact=True).click()
    person.says("Linked to SMK-L.")
    quantity = there.get_by_role("row").filter(has_text="Quantity")
    expect(quantity.locator("td").nth(2)).to_have_text("2", timeout=30_000)
    form = page.get_by_role("form", name="Held by hand")
    form.get_by_label("Quantity", exact=True).fill("1")
    expect(form.get_by_role("region", name="Rehearsal")).to_contain_text("fewer")
    form.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    expect(quantity.locator("td").nth(2)).to_have_text("1", timeout=30_000)
    assert_accessible(page)


def test_what_a_shop_says_of_its_goods_comes_along_and_a_person_chooses(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")

    def write(variant: str, text: str, maker: str, details: str = "") -> None:
        """Somebody edits what the shop says of a product, in its back office."""
        told = {"id": variant, "text": text, "maker": maker, "labels": "", "details": details}
        httpx.post(f"{person.standins.base}/shop/web/office/words", data=told, follow_redirects=True).raise_for_status()

    write("v4", "A cap for summer.", "Aldermoor", "Made in: Eire\nInner code: 7")
    person.go(f"/connections/{shop.pk}")
    page.get_by_role("button", name="Import listings, match only").click()
    rules = page.get_by_role("form", name="Listings")
    rules.get_by_label("What attributes are here: Made in").select_option(label="country of origin")
    rules.get_by_label("SKU of a listing without one").fill("CAP")
    rules.get_by_role("button", name="Save rules").click()
    expect(rules.get_by_role("alert")).to_contain_text("The pattern needs {id} or {title}")
    rules.get_by_label("SKU of a listing without one").fill("CAP-{id}")
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    page.get_by_role("button", name="Import listings, match only").click()
    rules.get_by_label("What values are called here: Made in: Eire").fill("Ireland")
    assert_accessible(page)
    rules.get_by_role("button", name="Save rules").click()
    expect(rules.get_by_role("button", name="Undo")).to_have_count(0)
    page.get_by_role("button", name="Import and create items").click()
    taken = page.get_by_role("table", name="Latest runs").get_by_role("row").filter(has_text="1 made into items")
    expect(taken.first).to_be_visible()
    cap = Item.objects.select_related("product").get(sku="CAP-v4")
    assert (cap.product.description, cap.product.brand, cap.product.country) == ("<p>A cap for summer.</p>", "Aldermoor", "IE")

    # Written otherwise there since, and the maker here: both are shown, and a person chooses.
    products.change(SYSTEM, cap.product_id, cap.product.version, {"brand": "Our own"})
    write("v4", "A cap for summer and rain.", "Aldermoor Textiles", "Made in: Eire")
    page.get_by_role("button", name="Import listings, match only").click()
    page.get_by_role("link", name="1 says otherwise than we do").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Where do channels say otherwise?")
    told = page.get_by_role("table", name=re.compile("What The shop says"))
    expect(told.get_by_role("row").filter(has_text="Description")).to_contain_text("changed there")
    expect(told.get_by_role("row").filter(has_text="Brand")).to_contain_text("changed here and there")
    assert_accessible(page)
    told.get_by_role("button", name="Keep ours: Brand").click()
    person.says("Brand: kept as it is here.")
    told.get_by_role("button", name="Take over Description").click()
    expect(page.get_by_text("No channel says anything else than we do")).to_be_visible()
    cap.product.refresh_from_db()
    assert (cap.product.description, cap.product.brand) == ("<p>A cap for summer and rain.</p>", "Our own")
    person.go(f"/range/listings/{cap.listings.get().pk}")  # type: ignore[attr-defined]
    expect(page.get_by_role("main")).to_contain_text("what it says was taken over")
    expect(page.get_by_label("What it says", exact=True)).to_contain_text("Aldermoor Textiles")


def test_the_ledger_knows_the_order_its_customer_its_items_and_tax_codes(person: Person) -> None:  # noqa: F811
    page, shop, store = person.page, Connection.objects.get(name="The shop"), person.standins.store
    with store.transaction():
        codes = [{"code": "S23", "title": "Standard", "percent": "23"}, {"code": "OLD23", "title": "Old", "percent": "23"}]
        store.put("books", "account", "books", {**(store.get("books", "account", "books") or {}), "tax_codes": codes})
    person.connect("Ledger", "Daybook", "ledger/books", "t")
    person.go_live()
    codes_in = page.get_by_role("form", name="Ledger", exact=True)
    codes_in.get_by_label("Tax codes: 23 %").select_option("S23")
    codes_in.get_by_label("Items in the ledger").select_option(label="what is sold is an item there")
    codes_in.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    assert_accessible(page)

    buy(person, 1)
    order = SalesOrder.objects.get()
    assert store.get("books", "order", order.number) is None
    person.go(f"/connections/{shop.pk}", check=False)
    rules = page.get_by_role("form", name="Orders", exact=True)
    rules.get_by_label("Orders in the ledger").select_option(label="as a sales order")
    rules.get_by_label("Customers in the ledger").select_option(label="every customer is a contact")
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")

    # The order that was open is told, and after it its invoice; both name the customer and the item that are kept there.
    person.go(f"/orders/{order.pk}", check=False)
    expect(page.get_by_text("Daybook knows of it")).to_be_visible()
    page.get_by_role("button", name="Ship", exact=True).click()
    expect(page.locator(".filters")).to_contain_text("shipped")
    person.go(f"/orders/customers/{order.customer_id}")
    kept = page.get_by_role("region", name="In the ledger")
    expect(kept).to_contain_text(f"Daybook knows them as C{order.customer_id}")
    expect(kept).to_contain_text("told")
    page.get_by_label("Street").fill("9 Kiln Quay")
    page.get_by_role("button", name="Save customer").click()
    for _ in range(60):
        page.goto(f"{person.standins.base}/ledger/books/")
        if "9 Kiln Quay" in page.content() and "closed" in page.content():
            break
        page.wait_for_timeout(500)
    contact = page.get_by_role("row").filter(has_text="9 Kiln Quay")
    expect(contact).to_contain_text("Una Thorne")
    expect(page.get_by_role("row").filter(has_text="sales order")).to_contain_text("closed")
    (invoice,) = [document for document in store.all("books", "document") if document["kind"] == "invoice"]
    assert (invoice["contact_key"], invoice["order"]) == (f"C{order.customer_id}", order.number)
    item = Item.objects.get(sku="SMK-L")
    assert [(line["item"], line["tax_code"]) for line in invoice["details"] if line["sku"]] == [(f"I{item.pk}", "S23")]


def test_an_order_that_has_to_leave_today_is_seen_first(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")
    person.go(f"/connections/{shop.pk}", check=False)
    rules = page.get_by_role("form", name="Orders", exact=True)
    rules.get_by_label("Orders leave within", exact=True).fill("0")
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    buy(person, 1)
    order = SalesOrder.objects.get()
    person.go("/")
    page.get_by_role("link", name=re.compile("order has to leave today")).click()
    expect(page.get_by_label("State")).to_have_value("due")
    row = page.locator("tr[data-row]").filter(has_text=order.number)
    expect(row).to_contain_text("today")
    assert_accessible(page)
    row.get_by_role("link").first.click()
    expect(page.get_by_text("to leave by")).to_be_visible()
    page.get_by_role("button", name="Ship", exact=True).click()
    expect(page.locator(".filters")).to_contain_text("shipped")
    person.go("/orders?state=due")
    expect(page.get_by_text("Nothing has to leave today.")).to_be_visible()


def test_a_connection_is_disconnected_and_taken_up_again(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")
    person.go(f"/connections/{shop.pk}", check=False)
    expect(page.get_by_label("Test", exact=True)).to_contain_text("0 pending", timeout=30_000)
    buy(person, 1)
    page.get_by_role("button", name="Disconnect").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("Orders placed there are not heard of any more.")
    expect(dialogue).to_contain_text("1 open order of it can still be shipped")
    expect(dialogue).to_contain_text("it goes on where it stopped")
    assert_accessible(page)
    dialogue.get_by_role("button", name="Keep it").click()
    expect(dialogue).to_have_count(0)
    page.get_by_role("button", name="Disconnect").click()
    dialogue.get_by_role("button", name="Disconnect").click()
    person.says("The shop is disconnected. Its history stays.")
    expect(page.locator(".filters")).to_contain_text("disconnected")
    expect(page.get_by_role("button", name="Go live")).to_have_count(0)
    expect(page.get_by_role("table", name="Latest runs").locator("tbody tr").first).to_contain_text("done")
    settings = page.get_by_role("form", name="Settings")
    settings.get_by_label("Token").fill("t")
    settings.get_by_role("button", name="Save settings").click()
    person.says("Saved.")
    page.get_by_role("button", name="Test", exact=True).click()
    person.go_live()
    expect(page.locator(".filters")).to_contain_text("live")


def _free(item: Item) -> D:
    balance = StockBalance.objects.get(item=item)
    return balance.on_hand - balance.committed


def test_goods_of_a_cancelled_order_are_put_back_before_they_are_sold_again(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")
    item = Item.objects.get(sku="SMK-L")
    free = _free(item)
    person.go(f"/connections/{shop.pk}", check=False)
    rules = page.get_by_role("form", name="Orders", exact=True)
    rules.get_by_label("Goods of cancelled orders").select_option("wait")
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    buy(person, 2)
    order = SalesOrder.objects.get()
    gone = httpx.post(f"{person.standins.base}/shop/web/office/cancel", data={"id": order.external_id})
    assert gone.status_code < 400, gone.text
    person.go(f"/orders/{order.pk}")
    expect(page.locator(".filters")).to_contain_text("cancelled", timeout=60_000)
    assert _free(item) == free - 2
    person.go("/")
    page.get_by_role("link", name=re.compile("cancelled order has goods to put back")).click()
    expect(page.get_by_role("heading", level=1)).to_have_text("What goes back on the shelf?")
    assert_accessible(page)
    page.locator("tr[data-row]").get_by_role("link").first.click()
    page.get_by_role("button", name="Goods are back on the shelf").click()
    person.says("2 of")
    expect(page.get_by_role("button", name="Goods are back on the shelf")).to_have_count(0)
    assert _free(item) == free


def test_a_shop_with_two_places_shows_what_lies_at_each_and_somebody_handles_its_orders(person: Person) -> None:  # noqa: F811
    page = person.page
    row = actions.add(
        SYSTEM, kind="web_shop", name="Two places", address=f"{person.standins.base}/shop/trade", sign_in={"token": "t"}
    )
    row.feeds.set(Location.objects.filter(code__in=("tannery-yard", "mill-lane")))
    actions.test(SYSTEM, row.pk, timezone.now())
    actions.go_live(SYSTEM, row.pk, timezone.now())
    linking.take_listings(SYSTEM, row.pk, timezone.now(), create=False)
    small = Item.objects.get(sku="SMK-S")
    give(small, 4, "8.00", Location.objects.get(code="mill-lane"))

    # Two of its places can not be the same one of ours; each is one of its own.
    person.go(f"/connections/{row.pk}", check=False)
    shown = page.get_by_role("form", name="Quantities shown")
    shown.get_by_label("Its places: Depot").select_option(label="Tannery Yard")
    shown.get_by_label("Its places: Shop in the lane").select_option(label="Tannery Yard")
    expect(shown.get_by_role("region", name="Rehearsal")).to_contain_text("shown twice")
    shown.get_by_label("Its places: Shop in the lane").select_option(label="Mill Lane")
    shown.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    expect(shown.get_by_text("lane: Mill Lane")).to_be_visible()
    orders = page.get_by_role("form", name="Orders", exact=True)
    orders.get_by_label("Orders are handled by").select_option(label="manager")
    orders.get_by_role("button", name="Save rules").click()
    expect(orders.get_by_role("button", name="Undo")).to_have_count(0)
    assert_accessible(page)

    article = page.get_by_role("row").filter(has_text="SMK-S")
    for _ in range(60):
        page.goto(f"{person.standins.base}/shop/trade/")
        if "Depot 10, Shop in the lane 4" in article.inner_text():
            break
        page.wait_for_timeout(500)
    expect(article).to_contain_text("Depot 10, Shop in the lane 4")
    page.get_by_label("How many SMK-S").fill("2")
    page.get_by_label("From").select_option(label="Shop in the lane")
    page.get_by_role("button", name="Buy").click()
    expect(page.locator("body")).to_contain_text("Thank you")

    # It leaves from the lane, and whoever handles it finds it among their own.
    person.go("/orders")
    page.get_by_label("Handled by").select_option(label="mine")
    order = page.locator("tr[data-row]").filter(has_text="Two places")
    expect(order).to_contain_text("Mill Lane")
    order.get_by_role("link").first.click()
    expect(page.get_by_text("from Mill Lane · handled by manager")).to_be_visible()
    listing = Listing.objects.get(connection=row, item=small)
    person.go(f"/range/listings/{listing.pk}")
    expect(page.get_by_text("Shop in the lane: 2")).to_be_visible()


def test_an_order_is_held_and_cancelled_here_and_the_shop_s_customer_sees_it(person: Person) -> None:  # noqa: F811
    page, shop = person.page, Connection.objects.get(name="The shop")
    person.go(f"/connections/{shop.pk}", check=False)
    rules = page.get_by_role("form", name="Orders", exact=True)
    for ours, theirs in (("held", "on hold"), ("ready", "in hand"), ("cancelled", "cancelled")):
        rules.get_by_label(f"Order states told there: {ours}").select_option(label=theirs)
    rules.get_by_role("button", name="Save rules").click()
    person.says("Saved.")
    assert_accessible(page)
    buy(person, 2)
    order = SalesOrder.objects.get()
    office = f"{person.standins.base}/shop/web/office"

    def sees(said: str) -> None:
        for _ in range(60):
            page.goto(office)
            if f"the shopper sees: {said}" in page.content():
                break
            page.wait_for_timeout(500)
        expect(page.get_by_role("row").filter(has_text=order.external_number)).to_contain_text(f"the shopper sees: {said}")

    sees("in hand")
    person.go(f"/orders/{order.pk}", check=False)
    page.get_by_role("button", name="Hold it").click()
    expect(page.locator(".filters")).to_contain_text("held by")
    sees("on hold")
    person.go(f"/orders/{order.pk}", check=False)
    page.get_by_role("button", name="Cancel it").click()
    asked = page.get_by_role("dialog")
    expect(asked).to_contain_text("Reserved units (2) are for sale again.")
    expect(asked).to_contain_text("The shop is told, and pays back what was paid there.")
    assert_accessible(page)
    asked.get_by_label("Reason").fill("ordered twice")
    asked.get_by_role("button", name="Cancel the order").click()
    person.says(f"{order.number} is cancelled.")
    expect(page.locator(".filters")).to_contain_text("ordered twice")
    expect(page.get_by_role("button", name="Ship", exact=True)).to_have_count(0)
    sees("cancelled, ordered twice")
    person.go(f"/orders/{order.pk}", check=False)
    expect(page.get_by_text("The shop was told how it stands")).to_be_visible()
    expect(page.get_by_text("cancelled here")).to_be_visible()
    assert_accessible(page)
