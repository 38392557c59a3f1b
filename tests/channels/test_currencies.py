"""A shop that sells in another currency: its orders at the rate of their day, from the basket to the charge."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from decimal import ROUND_HALF_UP
from decimal import Decimal as D

import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_payments import all_level, balance, office, taken
from tests.invariants import assert_invariants
from tests.world import set_rules
from yuvrel.books.models import ExchangeRate, JournalEntry
from yuvrel.buying.suppliers import set_rate
from yuvrel.channels import inbound, snags
from yuvrel.channels.models import InboundMessage, Snag
from yuvrel.core.credits import Wanted
from yuvrel.core.currency import at_rate
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.actions import release, ship
from yuvrel.sales.credits import Refund, credit
from yuvrel.sales.history import take_past
from yuvrel.sales.models import Capture, CreditNote, SalesOrder
from yuvrel.sales.order_page import order_page
from yuvrel.sales.queries import total_working

pytestmark = pytest.mark.django_db
RATE = D("0.8531")


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    """The shop asks for pounds; a rate is known since last week."""
    found = World(standins)
    shop = standins.store.get("web", "account", "web") or {}
    with standins.store.transaction():
        standins.store.put("web", "account", "web", {**shop, "currency": "GBP"})
    return found


def sells_in_pounds(world: World) -> None:
    set_rules(world.shop, selling_currency="GBP")
    ExchangeRate.objects.create(currency="GBP", day=company_day(timezone.now()) - timedelta(days=7), rate=RATE)


def test_an_order_is_booked_at_the_rate_of_its_day_and_agrees_with_the_channel(world: World) -> None:
    sells_in_pounds(world)
    sold = world.buy({"v1": 2, "v2": 1})
    order = taken(world, sold["number"])
    stated = D(sold["total"])
    assert (order.state, order.currency, order.stated_currency, order.stated_total, order.rate) == (
        "ready",
        "EUR",
        "GBP",
        stated,
        RATE,
    )
    assert order.total == sum(line.net + line.tax for line in order.lines.all())
    assert abs(order.total - at_rate(stated, RATE, "EUR")) <= D("0.02"), "each line is rounded for itself"
    assert balance("prepayments") == -order.total
    ExchangeRate.objects.create(currency="GBP", day=company_day(timezone.now()), rate=D("0.9"))
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={order.lines.get(sku="SMK-S").pk: D(1)})
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    assert balance("prepayments") == 0, "what was paid in advance stays at the rate of its day"
    earned = [balance(role) for role in ("sales", "shipping_income", "surcharge_income")]
    assert -sum(earned) == sum(order.lines.values_list("net", flat=True), D(0))
    all_level()
    page = order_page(order.pk)
    assert (page["stated_total"], page["stated_currency"], page["rate"]) == (stated, "GBP", RATE)
    steps = {step.label: step.value for step in total_working(order.pk).steps}
    assert steps[f"{world.shop.name} says"] == stated


def test_a_card_is_charged_in_the_currency_it_was_authorised_in(world: World) -> None:
    sells_in_pounds(world)
    sold = world.buy({"v1": 2, "v2": 2}, pay="card_later")
    order = taken(world, sold["number"])
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={order.lines.get(sku="SMK-S").pk: D(1)})
    settle()
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    charged = [D(one["amount"]) for one in there["payments"][0]["captures"]]
    assert len(charged) == 2
    assert sum(charged) == D(sold["total"]), "all of it, in pounds"
    assert [row.stated for row in Capture.objects.order_by("pk")] == charged
    assert balance("clearing") == order.total
    all_level()


def test_what_is_paid_back_in_pounds_is_credited_at_the_rate_of_the_sale_and_the_other_way_round(world: World) -> None:
    sells_in_pounds(world)
    sold = world.buy({"v1": 3, "v2": 1}, coupon="HONEY10")
    order = taken(world, sold["number"])
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    for line in ("1", "1", "2"):
        office(world, "refund", sold, line=line, count="1", goods="back")
        taken(world, sold["number"])
    there = (world.standins.store.get("web", "order", sold["id"]) or {})["refunds"]
    notes = list(CreditNote.objects.order_by("pk"))
    assert [(note.stated, note.total) for note in notes] == [
        (D(one["amount"]), at_rate(D(one["amount"]), RATE, "EUR")) for one in there
    ]
    left = order.lines.get(sku="SMK-S")
    mine = credit(SYSTEM, order.pk, {left.pk: Wanted(D(1))}, timezone.now(), refund=Refund(tell_channel=True))
    settle()
    asked = (world.standins.store.get("web", "order", sold["id"]) or {})["refunds"][-1]
    assert (D(asked["amount"]), asked["key"]) == (mine.stated, mine.number)
    assert mine.stated == (mine.total * RATE).quantize(D("0.01"), ROUND_HALF_UP)
    taken(world, sold["number"])
    all_level()


def test_an_edit_keeps_the_rate_of_the_order(world: World) -> None:
    sells_in_pounds(world)
    sold = world.buy({"v1": 1})
    order = taken(world, sold["number"])
    ExchangeRate.objects.create(currency="GBP", day=company_day(timezone.now()), rate=D("0.5"))
    office(world, "edit", sold, count="3")
    order = taken(world, sold["number"])
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    assert D(there["total"]) > D(sold["total"])
    assert (order.rate, order.stated_total) == (RATE, D(there["total"]))
    assert abs(order.total - at_rate(D(there["total"]), RATE, "EUR")) <= D("0.02")
    assert balance("prepayments") == -order.total
    assert_invariants()


def test_a_line_that_has_left_stays_as_it_was_when_another_is_changed(world: World) -> None:
    sells_in_pounds(world)
    sold = world.buy({"v1": 1, "v2": 1}, pay="card_later")
    order = taken(world, sold["number"])
    line = order.lines.get(sku="SMK-S")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(1)})
    settle()
    office(world, "edit", sold, line="2", count="3")
    order = taken(world, sold["number"])
    assert not Snag.objects.filter(resolved_at=None).exists()
    assert (order.state, order.lines.get(sku="SMK-L").quantity) == ("part-shipped", 3)
    assert order.lines.get(sku="SMK-S").net == line.net
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    assert balance("prepayments") == 0
    assert balance("receivable") > 0, "what was added was authorised by nobody"
    all_level()


def test_without_the_rule_or_a_rate_it_waits_and_says_why(world: World) -> None:
    sold = world.buy({"v1": 1})
    order = taken(world, sold["number"])
    assert (order.state, order.currency) == ("held", "GBP")
    assert "this connection sells in EUR" in order.held_because
    set_rules(world.shop, selling_currency="GBP")
    again = taken(world, world.buy({"v1": 1})["number"])
    assert again.held_because.startswith("No exchange rate for GBP is known on")
    with pytest.raises(RefusedError, match="No exchange rate for GBP"):
        release(SYSTEM, again.pk, timezone.now())
    assert JournalEntry.objects.filter(kind="prepayment").count() == 0
    ExchangeRate.objects.create(currency="GBP", day=company_day(timezone.now()), rate=RATE)
    snag = Snag.objects.get(order=again, resolved_at=None)
    snags.try_again(SYSTEM, snag.pk)
    again.refresh_from_db()
    assert (again.state, again.currency, again.rate) == ("ready", "EUR", RATE)
    assert sum(line.net + line.tax for line in again.lines.all()) == again.total == -balance("prepayments")
    release(SYSTEM, order.pk, timezone.now())
    assert_invariants()


def test_past_orders_come_in_at_the_rate_of_their_day(world: World) -> None:
    sells_in_pounds(world)
    world.buy({"v1": 2})
    inbound.poll(world.shop)
    found = inbound.incoming_order(world.shop, inbound._read_kept(InboundMessage.objects.get(kind="order")))
    assert take_past(SYSTEM, replace(found, external_id="past", number="P-1")) == "new"
    row = SalesOrder.objects.get(external_id="past")
    assert (row.history, row.currency, row.stated_total) == (True, "EUR", found.total)
    ExchangeRate.objects.all().delete()
    assert take_past(SYSTEM, replace(found, external_id="another", number="A-2")) == "left out"


@pytest.mark.parametrize(("code", "said"), [("XQQ", "not a currency"), ("EUR", "sells in this currency anyway")])
def test_a_currency_to_sell_in_is_another_one_of_the_standard(world: World, code: str, said: str) -> None:
    with pytest.raises(BadInputError, match=said):
        set_rules(world.shop, selling_currency=code)


def test_rates_are_set_by_who_buys_and_who_keeps_the_books() -> None:
    with pytest.raises(ForbiddenError, match="may not set rates"):
        set_rate(Actor("S", Role.STOCKKEEPER), "GBP", timezone.now().date(), RATE)
