"""Every view as every role, on both papers, with names as long as they may be, with nothing in it, and on a bad network."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.db import transaction
from django.utils import timezone
from playwright.sync_api import Page, Route, expect

from tests.browser.conftest import (
    AXE,
    NOTHING_TO_SAY,
    assert_accessible,
    assert_readable,
    empty_queue,
    follow,
    is_new_look,
    sign_in,
)
from tests.server.test_pictures import drawn
from tests.snapshot import once
from tests.world import (
    give,
    incoming,
    make_company,
    make_connection,
    make_item,
    make_listing,
    make_supplier,
    make_user,
    order_line,
)
from yuvrel.agreement.actions import check_own
from yuvrel.agreement.models import Drift
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.catalogue import pictures
from yuvrel.channels.models import Call, Connection, HeardWord, Listing, ListingNote, Publication, Run
from yuvrel.channels.runs import raise_snag
from yuvrel.core.credits import Wanted as Credited
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning import forecasts
from yuvrel.pricing.actions import keep_list
from yuvrel.rules.actions import change
from yuvrel.sales import returns
from yuvrel.sales.actions import take_order, take_till_sale
from yuvrel.sales.credits import credit
from yuvrel.sales.customers import keep, keep_group
from yuvrel.sales.incoming import IncomingPayment
from yuvrel.stock import transfers
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import StockDocument

PEOPLE = (Role.MANAGER, Role.BUYER, Role.STOCKKEEPER, Role.BOOKKEEPER, Role.VIEWER)
SHEETS = (
    "/",
    "/account",
    "/recovery",
    "/first-steps",
    "/range",
    "/range/pairing",
    "/range/new",
    "/range/sheets",
    "/range/prices",
    "/range/categories",
    "/range/words",
    "/range/differences",
    "/shelf",
    "/shelf/moves",
    "/shelf/opening",
    "/shelf/transfers",
    "/shelf/transfers/new",
    "/orders",
    "/orders/returns",
    "/orders/customers",
    "/buying",
    "/buying/forecasts",
    "/buying/orders",
    "/buying/suppliers",
    "/books",
    "/books/journal",
    "/books/counts",
    "/books/accounts",
    "/connections",
    "/connections/runs",
    "/connections/snags",
    "/connections/new",
)
WORD = "Bienenwachsschmelzkesselabdeckungsdichtungsersatzteilsatz"
LONG = f"Ventilated suit in three layers with fencing veil, {WORD}, knees reinforced, zips doubled, extra long in leg and arm"
# What a person would see as broken: the page scrolls sideways, text is cut off without an ellipsis, or runs over its card.
CUT = """() => {
  const found = [];
  const root = document.documentElement;
  if (root.scrollWidth > root.clientWidth) found.push(`the page scrolls sideways by ${root.scrollWidth - root.clientWidth}`);
  for (const element of document.querySelectorAll('body *')) {
    if (element.closest('.sr-only, svg, input, #svelte-announcer')) continue;
    const style = getComputedStyle(element);
    const over = element.scrollWidth - element.clientWidth;
    if (over > 1 && (style.overflowX !== 'visible' || element.matches('.panel')) && element.clientWidth > 0 && style.textOverflow !== 'ellipsis')
      found.push(`${element.tagName}.${element.className} is cut by ${over}: ${element.textContent.trim().slice(0, 60)}`);
  }
  return found;
}"""


@dataclass
class Looker:
    """Somebody who opens views and takes note of what is wrong with them."""

    page: Page
    base: str
    complaints: list[str]

    def sign_in(self, name: str) -> None:
        sign_in(self.page, self.base, name)

    def look(self, path: str) -> None:
        """Open a view, and wait for what it shows."""
        follow(self.page, path)
        expect(self.page.get_by_role("heading", level=1)).to_be_visible(timeout=15_000)
        expect(self.page.get_by_text("Fetching…")).to_have_count(0, timeout=15_000)

    def measure(self, where: str) -> None:
        """What a person would see as broken, on both papers and in both sizes; a page that another role sees just so
        was measured then. The view stays loaded: neither the paper nor the window needs it anew."""
        if not is_new_look(self.page, "measured"):
            return
        page = self.page
        for width, height in ((1440, 900), (1280, 800)):
            page.set_viewport_size({"width": width, "height": height})
            self.note(f"{where} at {width}")
        assert_accessible(page)
        page.emulate_media(color_scheme="dark")
        # The paper changes colours and nothing else.
        assert_readable(page)
        self.note(f"{where} on dark paper")
        page.emulate_media(color_scheme="light")

    def note(self, where: str) -> None:
        """Take down what is cut off in the view as it stands."""
        self.complaints += [f"{where}: {fault}" for fault in self.page.evaluate(CUT)]


@pytest.fixture
def looker(page: Page, live_server: Any, nobody_left: None) -> Iterator[Looker]:
    empty_queue()
    found = Looker(page, live_server.url, [])
    page.on("pageerror", lambda error: found.complaints.append(f"script: {error}"))
    page.on("response", lambda r: found.complaints.append(f"{r.status} {r.url}") if r.status >= 402 else None)
    yield found


def _crowded() -> list[str]:
    """A company whose names are as long as they may be and whose figures are large; pages of single things in it."""
    place = make_company()
    for location in Location.objects.all():
        location.name = f"{location.name} behind the old tannery by the weir, second yard on the left hand side"[:80]
        location.save()
    for role in PEOPLE:
        user = make_user(role)
        user.first_name, user.last_name = "Wilhelmina Annabella", "Featherstonehaugh-Cholmondeley"
        user.save()
    item = make_item(f"SKU-{WORD}"[:60])
    item.title = LONG[:200]
    item.save()
    other = make_item("B", on_hand=3, cost="0.01")
    give(item, 1_234_567, "87.654321")  # 108 million in the books
    supplier = make_supplier(item, price="1234.5678", pack=12)
    supplier.name = f"Brackwater Joinery and {WORD} and Daughters of the Lower Marsh"[:120]
    supplier.save()
    shop = make_connection(name=f"Larkmead {WORD} for the trade"[:80], order_prefix="LARKMEAD-")
    till = make_connection("till", name="Till of the shop at the lower end of Mill Lane, next to the bakery")
    make_listing(shop, item, title=LONG[:200], offered=D(1_234_000), shown=D(3), offer_state="drifting")
    shown = Listing.objects.get(connection=shop, item=item)
    ListingNote.objects.create(listing=shown, at=timezone.now(), by=f"{WORD} {WORD}", what=WORD, why=LONG)
    make_listing(shop, title=LONG[:200], sku=f"X-{WORD}"[:60], barcode="2100000000012")
    buyer = {"name": f"Constantinopolitanischer {WORD} Imkerverein"[:160], "email": f"{WORD.lower()}@post.example"}
    place_to = {"street": f"{WORD} 12", "city": "Llanfairpwllgwyngyllgogerychwyrndrobwllllantysiliogogogoch", "country": "IE"}
    facts = {"customer": buyer, "ship_to": place_to, "number": "1029384756-2938475610"}
    paid = [IncomingPayment(f"{n}", WORD[:40], D("49382716.05"), n == 2) for n in (1, 2)]
    wanted = incoming(shop, order_line(item, 99_999, "98765432.10"), payments=paid, **facts)
    order = take_order(SYSTEM, wanted, timezone.now()).order
    for sort in HeardWord.Sort:
        HeardWord.objects.create(connection=shop, sort=sort, word=f"{WORD}_{sort}"[:80])
    take_order(SYSTEM, incoming(shop, order_line(item, 1), total=D("99999.99")), timezone.now())
    for day in range(2, 40):
        take_till_sale(SYSTEM, incoming(till, order_line(other, 1), placed_at=timezone.now() - timedelta(days=day)))
    (purchase,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(999_996))], timezone.now())
    send(SYSTEM, purchase.pk, purchase.version, timezone.now())
    stall = Location.objects.get(code="wagon")
    made = transfers.draft(SYSTEM, place.pk, stall.pk, [transfers.Load(item.pk, D(1))], timezone.now().date(), LONG)
    sent = transfers.draft(SYSTEM, place.pk, stall.pk, [transfers.Load(item.pk, D(1))], timezone.now().date())
    transfers.send(SYSTEM, sent.pk, sent.version, timezone.now())
    sold = take_till_sale(SYSTEM, incoming(till, order_line(item, 99_999, "98765432.10"), placed_at=timezone.now())).order
    coming = [returns.Coming(sold.lines.get().pk, D(99_998), "damaged on the way")]
    back = returns.announce(SYSTEM, sold.pk, coming, timezone.now(), LONG)
    credit(SYSTEM, sold.pk, {coming[0].line_id: Credited(D(90_000))}, timezone.now(), note=LONG, back_id=back.pk)
    adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason="count", at=timezone.now(), counted=D(1_234_567), note=LONG)
    raise_snag(shop, "deliver", f"{LONG} could not be told", f"The account said: {WORD} {WORD} {WORD}. {LONG}", field="lines")
    Drift.objects.create(
        code="A1", key="x", connection=shop, item=item, title=LONG[:200], expected="1234000", found="3", cause="order 7",
        since=timezone.now(), seen_at=timezone.now(),
    )  # fmt: skip
    run = Run.objects.create(
        connection=shop, kind="orders", state="failed", asked_by="Wilhelmina Annabella Featherstonehaugh-Cholmondeley",
        ended_at=timezone.now(), taken=1_234_567, failed=1_234_567, log=[[timezone.now().isoformat(), f"{LONG} {WORD}"]],
    )  # fmt: skip
    Call.objects.create(
        run=run, at=timezone.now(), method="POST", path=f"/api/orders?q={WORD * 4}", milliseconds=123_456,
        sent=f'{{"{WORD}": "{WORD * 9}"}}', received=WORD * 40, fault=f"{LONG} {WORD}",
    )  # fmt: skip
    asked = [{"name": "wood", "label": WORD, "required": True, "values": []}]
    kinds_there = [{"id": "c", "title": LONG[:100], "attributes": asked}]
    market = make_connection("market", name=f"Market of the {WORD}"[:80], account={"region": WORD}, categories=kinds_there)
    told = {"category": "c", "state": "refused", "said": f"{LONG} {WORD}"[:300], "by": "x"}
    Publication.objects.create(connection=market, item=item, attributes={"wood": WORD * 3}, **told)
    groups = [{"label": f"match {WORD}", "count": 1_234_567, "examples": [[LONG[:120], f"{WORD} {WORD}"]] * 10}]
    found = {"at": timezone.now().isoformat(), "since": "2026-01-01", "gives_no": [WORD, "costs"]}
    parts = [{"name": "listings", "label": "Listings", "count": 1_234_567, "groups": groups}]
    fresh = make_connection(name=f"New {WORD} shop", state="tested", live_since=None, survey={**found, "parts": parts})
    make_listing(fresh, other, title=LONG[:200], shown=D(1_234_567))
    pictures.add(SYSTEM, item.product_id, drawn(size=(900, 20)), LONG)
    change(
        SYSTEM, Rung(Level.ITEM, LONG, item.pk), {"selling_past_zero": "backorder", "past_zero_text": LONG[:150]}, timezone.now()
    )
    prices = keep_list(SYSTEM, None, 0, {"name": LONG[:80], "method": "derived", "percent": D("999.99"), "note": LONG})
    group = keep_group(SYSTEM, None, 0, {"name": WORD + " and friends", "price_list_id": prices.pk})
    customer = keep(SYSTEM, None, 0, {"name": LONG[:160], "email": f"{WORD}@{WORD.lower()}.example", "group_id": group.pk})
    check_own()
    forecasts.carry_out(forecasts.begin_run(SYSTEM, timezone.now()).pk, timezone.now)
    of_one = f"/buying/forecasts/{other.pk}/{place.pk}"
    return [
        of_one,
        f"/range/items/{item.pk}",
        f"/range/products/{item.product_id}",
        f"/range/listings/{Listing.objects.filter(item=item).order_by('pk')[0].pk}",
        f"/range/prices/{prices.pk}",
        f"/orders/customers/{customer.pk}",
        f"/orders/{order.pk}",
        f"/orders/{sold.pk}",
        f"/orders/{sold.pk}/return",
        f"/orders/{sold.pk}/credit",
        f"/orders/returns/{back.pk}",
        f"/buying/orders/{purchase.pk}",
        f"/shelf/transfers/{made.pk}",
        f"/shelf/transfers/{sent.pk}",
        f"/shelf/documents/count/{StockDocument.objects.latest('pk').pk}",
        f"/connections/{shop.pk}",
        f"/connections/{market.pk}/publish",
        f"/connections/{fresh.pk}",
        f"/connections/runs/{run.pk}",
        f"/buying/suppliers/{supplier.pk}",
    ]


@pytest.mark.parametrize("role", PEOPLE)
def test_nothing_is_cut_off_however_long_the_names_are(looker: Looker, role: Role) -> None:
    with transaction.atomic():
        views = [*SHEETS, *once("crowded", _crowded)]
    looker.sign_in(role.value)
    for path in views:
        looker.look(path)
        looker.measure(f"{path} as {role.value}")
    assert not looker.complaints, "\n".join(looker.complaints)


@pytest.mark.parametrize("role", [Role.MANAGER, Role.VIEWER])
def test_every_sheet_says_what_belongs_there_while_it_is_empty(looker: Looker, role: Role) -> None:
    make_company()
    make_user(role)
    looker.sign_in(role.value)
    for path in SHEETS:
        looker.look(path)
        looker.measure(f"{path} empty as {role.value}")
        # Below the title and the filters, where the rows would be.
        assert len(looker.page.get_by_role("region", name="Rows").inner_text().strip()) > 10, path
    assert not Connection.objects.exists()
    assert not looker.complaints, "\n".join(looker.complaints)


def test_a_slow_network_and_one_that_fails(looker: Looker) -> None:
    make_company()
    make_user(Role.MANAGER)
    make_item("SMK-1", on_hand=4)
    page = looker.page
    looker.sign_in("manager")
    held: list[Route] = []
    page.route("**/api/v1/stock?**", lambda route: held.append(route))
    page.goto(looker.base + "/shelf")
    expect(page.get_by_text("Fetching…")).to_be_visible(timeout=10_000)
    assert_accessible(page)
    for route in held:
        route.continue_()
    expect(page.get_by_text("SMK-1").first).to_be_visible()
    page.unroute_all()

    page.route("**/api/v1/items?**", lambda route: route.abort())
    page.goto(looker.base + "/range")
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("The server does not answer.", timeout=15_000)
    assert_accessible(page)
    page.unroute_all()
    alert.get_by_role("button", name="Try again").click()
    expect(page.get_by_text("SMK-1").first).to_be_visible()


def test_a_text_that_stands_out_too_little_is_found_wherever_it_stands(page: Page) -> None:
    """Of texts that are alike some are looked at; those on another ground are not alike, nor those of another size."""
    text = '<p style="color: #777; background: {}; font-size: {}">Wax</p>'
    page.set_content(text.format("#fff", "30px") * 5 + text.format("rgb(250, 250, 0)", "30px"))
    assert_readable(page)
    for ground, size in (("rgb(80, 80, 0)", "30px"), ("#fff", "12px"), ("rgba(0, 0, 0, 0.5)", "30px")):
        page.set_content(text.format("#fff", "30px") * 5 + text.format(ground, size))
        with pytest.raises(AssertionError, match="color-contrast"):
            assert_readable(page)


WRONG = {
    "target-size": '<a href="#" style="display: block; width: 15px; height: 15px; line-height: 1">a</a>' * 3,
    "avoid-inline-spacing": '<p style="letter-spacing: 1px !important">Wax</p>',
    "link-in-text-block": '<p>Wax by the <a href="#" style="color: #115; text-decoration: none">kilogram</a> only</p>',
}


@pytest.mark.parametrize("rule", WRONG)
def test_what_is_asked_only_where_it_may_be_wrong_is_found_there(page: Page, rule: str) -> None:
    whole = '<!doctype html><html lang="en"><title>Wax</title><body style="color: #111"><main>{}</main></body></html>'
    page.set_content(whole.format('<p>Wax by the <a href="#" style="color: #115">kilogram</a> only</p>'))
    assert_accessible(page)
    page.set_content(whole.format(WRONG[rule]))
    with pytest.raises(AssertionError, match=rule):
        assert_accessible(page)


def test_whether_a_box_that_scrolls_can_be_reached_is_asked_unless_it_can(page: Page) -> None:
    for inside, left_off in (("<p>Wax</p>", False), ('<p>Wax</p><a href="#">Wax</a>', True)):
        page.set_content(f'<div style="height: 40px; overflow: auto">{inside}<p style="height: 90px"></p></div>')
        assert ("scrollable-region-focusable" in page.evaluate(NOTHING_TO_SAY)) == left_off


def test_targets_are_left_to_axe_wherever_it_would_complain(page: Page) -> None:
    """Sixty drawings of buttons of every size, near each other, beside and over each other."""
    chance, found = random.Random(5), []
    page.evaluate(AXE)
    for _ in range(60):
        boxes = [
            f'<button style="position: absolute; padding: 0; border: 0; left: {chance.uniform(0, 90):.1f}px; top: '
            f'{chance.uniform(0, 60):.1f}px; width: {chance.randint(8, 34)}px; height: {chance.randint(8, 34)}px">a</button>'
            for _ in range(chance.randint(2, 4))
        ]
        page.evaluate("(boxes) => { document.body.innerHTML = boxes; }", "".join(boxes))
        size = "() => axe.run(document, {runOnly: {type: 'rule', values: ['target-size']}})"
        found.append((bool(page.evaluate(size)["violations"]), "target-size" in page.evaluate(NOTHING_TO_SAY)))
    assert (True, True) not in found
    assert min(found.count((True, False)), found.count((False, True))) > 5
