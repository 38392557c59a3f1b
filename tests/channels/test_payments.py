"""What an account's words mean here: where an order stands, how it is paid and sent; and edits after a part has left."""

from __future__ import annotations

import json
from decimal import Decimal as D

import httpx
import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.invariants import assert_invariants
from tests.world import forget_accounts, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.books.actions import add_clearing
from yuvrel.books.models import JournalLine
from yuvrel.channels import inbound, snags
from yuvrel.channels.models import HeardWord, InboundMessage, Snag
from yuvrel.channels.queries import connection_page
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.actions import release, ship
from yuvrel.sales.models import Capture, SalesOrder
from yuvrel.sales.order_page import order_page

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def taken(world: World, number: str) -> SalesOrder:
    """What the shop has is read, and what follows is done."""
    inbound.poll(world.shop)
    for message in InboundMessage.objects.filter(state="new"):
        inbound.apply(message.pk)
    settle()
    return SalesOrder.objects.get(external_number=number)


def balance(role: str) -> D:
    return sum(JournalLine.objects.filter(account__role=role).values_list("amount", flat=True), D(0))


def office(world: World, what: str, order: dict[str, str], **form: str) -> None:
    httpx.post(f"{world.standins.base}/shop/web/office/{what}", data={"id": order["id"], **form})


def all_level() -> None:
    """Every book against every other: nothing differs, and what must hold holds."""
    agreement.check_all()
    assert list(Drift.objects.filter(healed_at=None).values_list("code", "title", "expected", "found")) == []
    assert_invariants()


@pytest.mark.parametrize(("rule", "there"), [("all", [("Packhorse", "PH-1")]), ("plain", [("", "")]), ("no", [])])
def test_a_channel_is_told_of_shipments_as_the_rule_says(world: World, rule: str, there: list[tuple[str, str]]) -> None:
    set_rules(world.shop, shipments_told=rule)
    sold = world.buy({"v1": 1}, pay="card_later")
    order = taken(world, sold["number"])
    assert ("tell the channel" in order_page(order.pk)["then"]) == bool(there)
    ship(SYSTEM, order.pk, at=timezone.now(), carrier="Packhorse", tracking="PH-1")
    settle()
    known = world.standins.store.get("web", "order", sold["id"]) or {}
    assert [(one["carrier"], one["tracking"]) for one in known["shipments"]] == there
    (shown,) = order_page(order.pk)["shipments"]
    assert (shown["is_told"], shown["told_channel_at"] is not None) == (bool(there), bool(there))
    # The payment is charged in any case.
    assert known["payments"][0]["captures"]
    all_level()


def test_an_authorised_payment_is_charged_when_the_goods_go(world: World) -> None:
    sold = world.buy({"v1": 2, "v2": 2}, pay="card_later")
    order = taken(world, sold["number"])
    total = D(sold["total"])
    assert (order.state, order.paid, balance("prepayments"), balance("clearing")) == ("ready", False, 0, 0)
    first = order.lines.get(sku="SMK-S")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={first.pk: D(1)})
    settle()
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    (charge,) = there["payments"][0]["captures"]
    assert D(charge["amount"]) == Capture.objects.get().amount == balance("clearing") > 0
    assert balance("receivable") == 0
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    order = taken(world, sold["number"])
    # The shop says it is paid now: that is no second payment.
    assert (order.state, order.paid, balance("clearing"), balance("prepayments")) == ("shipped", True, total, 0)
    (paid,) = order_page(order.pk)["payments"]
    assert (paid["state"], paid["charged"], paid["told"], paid["account"]) == ("paid", total, True, "1150 Channel clearing")
    all_level()


def test_a_charge_that_is_refused_there_is_a_snag_and_tried_again(world: World) -> None:
    sold = world.buy({"v1": 1}, pay="card_later")
    order = taken(world, sold["number"])
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    there["payments"][0]["amount"] = "1.00"
    world.standins.store.put("web", "order", sold["id"], there)
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    snag = Snag.objects.get(kind="delivery", resolved_at=None)
    assert snag.title == "The channel did not charge a payment"
    assert "1.00 can be charged" in snag.detail
    there["payments"][0]["amount"] = sold["total"]
    there["shipments"] = (world.standins.store.get("web", "order", sold["id"]) or {})["shipments"]
    world.standins.store.put("web", "order", sold["id"], there)
    snags.try_again(SYSTEM, snag.pk)
    settle()
    assert not Capture.objects.filter(told_channel_at=None).exists()
    assert not Snag.objects.filter(resolved_at=None).exists()


def test_each_way_to_pay_settles_through_its_own_account(world: World) -> None:
    add_clearing(SYSTEM, "1160", "Card terminal")
    add_clearing(SYSTEM, "1170", "Cash drawer")
    set_rules(world.till, payment_accounts={"cash": "1170", "card": "1160"})
    set_rules(world.shop, payment_accounts=json.dumps({"card": "1160"}))
    for tender in ("cash", "card"):
        httpx.post(f"{world.standins.base}/till/mill/sell", data={"q-1": "1", "tender": tender})
    httpx.post(f"{world.standins.base}/till/mill/upload")
    inbound.poll(world.till)
    sold = world.buy({"v2": 1})
    order = taken(world, sold["number"])
    each = D("24.60")
    assert (balance("clearing:1170"), balance("clearing:1160"), balance("clearing")) == (each, each + order.total, 0)
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    # The ledger knows one clearing account: what is not mapped counts to the first.
    all_level()
    office(world, "cancel", world.buy({"v1": 1}))
    taken(world, sold["number"])
    assert balance("prepayments") == 0
    forget_accounts()


@pytest.mark.parametrize(
    "code, name, field", [("1150", "Again", "code"), ("11 50", "Odd", "code"), ("", "None", "code"), ("1190", " ", "name")]
)
def test_an_account_that_cannot_be_is_refused(world: World, code: str, name: str, field: str) -> None:
    with pytest.raises(BadInputError) as refused:
        add_clearing(SYSTEM, code, name)
    assert refused.value.field == field
    with pytest.raises(ForbiddenError):
        add_clearing(Actor("b", Role.BUYER), "1190", "Drawer")
    with pytest.raises(BadInputError, match="no clearing account 4000"):
        set_rules(world.shop, payment_accounts={"card": "4000"})


def test_states_mean_what_the_rules_say_and_what_was_left_comes_in_then(world: World) -> None:
    sold = world.buy({"v1": 3}, pay="bank_transfer")
    inbound.poll(world.shop)
    assert not SalesOrder.objects.exists()
    assert InboundMessage.objects.get().state == "skipped"
    heard = {(one["sort"], one["word"]): one["proposed"] for one in connection_page(world.shop)["words"]}
    assert heard["order_states", "awaiting_payment"] == "left"
    assert ("payment_methods", "bank_transfer") in heard
    assert ("shipping_methods", "Postage") in heard
    set_rules(world.shop, order_states={"awaiting_payment": "held"}, carriers={"Postage": "Packhorse night"})
    settle()
    order = taken(world, sold["number"])
    assert (order.state, order.held_because) == ("held", "It stands as awaiting payment at Web.")
    assert order.lines.get(kind="item").reservations.get().quantity == 3
    # It waits for the money, as the rule says: nobody is called, and nothing is booked.
    assert not Snag.objects.filter(resolved_at=None).exists()
    assert balance("prepayments") == 0
    assert order_page(order.pk)["carrier"] == "Packhorse night"
    office(world, "money", sold)
    order = taken(world, sold["number"])
    assert (order.state, balance("prepayments")) == ("ready", -order.total)
    all_level()


def test_a_state_that_nobody_knows_is_pointed_out_once(world: World) -> None:
    for _ in range(2):
        sold = world.buy({"v1": 1})
        there = (world.standins.store.get("web", "order", sold["id"]) or {}) | {"status": "on_review", "version": 2}
        world.standins.store.put("web", "order", sold["id"], there)
    inbound.poll(world.shop)
    (snag,) = Snag.objects.filter(resolved_at=None)
    assert snag.title == "Web has orders in a state that means nothing here yet: on_review"
    assert HeardWord.objects.filter(word="on_review").count() == 1
    set_rules(world.shop, order_states={"on_review": "taken"})
    settle()
    for message in InboundMessage.objects.filter(state="new"):
        inbound.apply(message.pk)
    assert SalesOrder.objects.filter(state="ready").count() == 2
    assert not Snag.objects.filter(resolved_at=None).exists()


@pytest.mark.parametrize(
    "rules, said",
    [
        ({"order_states": {"paid": "perhaps"}}, "must be one of taken, held, left, cancelled"),
        ({"order_states": "paid"}, "must be words with their meanings"),
        ({"order_states": ["paid"]}, "words with their meanings"),
        ({"carriers": {"Postage": 7}}, "What Postage means"),
        ({"carriers": {"Postage": "x" * 61}}, "at most 60"),
    ],
)
def test_a_map_that_cannot_be_is_refused(world: World, rules: dict[str, object], said: str) -> None:
    with pytest.raises(BadInputError, match=said):
        set_rules(world.shop, **rules)


def test_lines_that_match_nothing_hold_the_order_or_are_pointed_out(world: World) -> None:
    there = world.standins.store.get("web", "product", "p3") or {}
    there["variants"][0]["quantity"] = 5
    world.standins.store.put("web", "product", "p3", there)
    first = taken(world, world.buy({"v1": 1, "v4": 1})["number"])
    assert first.state == "held"
    set_rules(world.shop, unknown_lines="flagged")
    second = taken(world, world.buy({"v1": 1, "v4": 1})["number"])
    assert second.state == "ready"
    snag = Snag.objects.get(order=second, resolved_at=None)
    assert (snag.title, snag.detail) == (
        f"Order {second.number} needs a look",
        "No item is linked to No code. Its stock is not known here.",
    )
    ship(SYSTEM, second.pk, at=timezone.now())
    settle()
    second.refresh_from_db()
    assert (second.state, second.shipments.get().lines.count()) == ("shipped", 2)
    with pytest.raises(RefusedError, match="A line has no item"):
        release(SYSTEM, first.pk, timezone.now())
    all_level()


def test_what_has_not_left_follows_an_edit_and_what_has_left_stands(world: World) -> None:
    sold = world.buy({"v1": 4, "v2": 1})
    order = taken(world, sold["number"])
    line = order.lines.get(sku="SMK-S")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(2)})
    settle()
    office(world, "edit", sold, line="1", count="3")
    order = taken(world, sold["number"])
    line.refresh_from_db()
    assert (order.state, line.quantity, line.shipped) == ("part-shipped", D(3), D(2))
    assert line.reservations.get(state="open").quantity == 1
    assert balance("prepayments") + order.total == order.shipments.get().invoice.total
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    order.refresh_from_db()
    invoiced = sum((one.invoice.total for one in order.shipments.all()), D(0))
    assert (order.state, invoiced, balance("prepayments")) == ("shipped", order.total, 0)
    # More of what has left altogether is an order that waits again.
    office(world, "edit", sold, line="2", count="2")
    order = taken(world, sold["number"])
    assert (order.state, order.lines.get(sku="SMK-L").quantity) == ("part-shipped", D(2))
    all_level()


def test_an_edit_that_takes_back_what_has_left_is_a_snag(world: World) -> None:
    sold = world.buy({"v1": 3})
    order = taken(world, sold["number"])
    line = order.lines.get(kind="item")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(2)})
    settle()
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    there["lines"][0] |= {"quantity": 1, "amount": "24.60"}
    there |= {"version": there["version"] + 1, "total": str(D(there["total"]) - D("49.20"))}
    world.standins.store.put("web", "order", sold["id"], there)
    order = taken(world, sold["number"])
    assert (order.state, order.lines.get(kind="item").quantity) == ("part-shipped", D(3))
    (snag,) = Snag.objects.filter(resolved_at=None)
    assert snag.detail == "Of Smoker small, 2 have left; the channel wants fewer now."


def test_cancelled_after_a_part_has_left_that_part_stays_as_it_was_invoiced(world: World) -> None:
    sold = world.buy({"v1": 3})
    order = taken(world, sold["number"])
    line = order.lines.get(kind="item")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(2)})
    settle()
    there = (world.standins.store.get("web", "order", sold["id"]) or {}) | {"status": "cancelled"}
    there["version"] += 1
    world.standins.store.put("web", "order", sold["id"], there)
    order = taken(world, sold["number"])
    line.refresh_from_db()
    invoice = order.shipments.get().invoice
    assert (order.state, line.quantity, order.net) == ("cancelled", D(2), invoice.net)
    assert (balance("prepayments"), balance("clearing")) == (0, invoice.total)
    assert world.small.balances.get().committed == 0
    all_level()


def test_a_cancelled_order_keeps_its_lines_and_earns_nothing(world: World) -> None:
    sold = world.buy({"v1": 2})
    taken(world, sold["number"])
    office(world, "cancel", sold)
    order = taken(world, sold["number"])
    page = order_page(order.pk)
    assert (order.state, len(page["lines"]), page["contribution"]) == ("cancelled", 3, 0)
    assert page["margin_percent"] is None
    assert (balance("prepayments"), balance("clearing")) == (0, 0)
    all_level()


def test_what_is_left_of_an_edited_order_takes_from_its_limit_once(world: World) -> None:
    set_rules(world.shop, selling_past_zero="preorder_at_once", past_zero_limit=6)
    settle()
    sold = world.buy({"v2": 4})
    order = taken(world, sold["number"])
    line = order.lines.get(kind="item")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(1)})
    settle()
    office(world, "edit", sold, line="1", count="5")
    order = taken(world, sold["number"])
    line.refresh_from_db()
    # Five of six are sold, whichever of them have left.
    assert (order.state, line.past_zero, world.shown("SMK-L")) == ("part-shipped", D(5), 1)


def test_an_account_that_makes_up_words_is_not_listened_to_for_ever(world: World) -> None:
    rows = [HeardWord(connection=world.shop, sort="shipping_methods", word=f"way {n}") for n in range(200)]
    HeardWord.objects.bulk_create(rows)
    order = taken(world, world.buy({"v1": 1})["number"])
    assert order.shipping_method == "Postage"
    assert not HeardWord.objects.filter(word="Postage").exists()
