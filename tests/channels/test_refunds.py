"""What a shop or a till pays back, and what is credited here and paid back there: money, goods and books follow once."""

from __future__ import annotations

from decimal import Decimal as D

import httpx
import pytest
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_payments import all_level, balance, office, taken
from tests.channels.test_till_counts import at_till, close
from tests.world import set_rules
from yuvrel.books.actions import add_clearing
from yuvrel.books.models import JournalEntry, LedgerDocument, Period
from yuvrel.channels import inbound, snags
from yuvrel.channels.models import Connection, InboundMessage, OutboundMessage, Snag
from yuvrel.core.credits import Wanted
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import ship
from yuvrel.sales.credits import Refund, credit
from yuvrel.sales.models import CreditNote, Return, SalesOrder, TillCount
from yuvrel.sales.order_page import order_page
from yuvrel.sales.till_counts import count_working
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def sent(world: World, units: int = 2, coupon: str = "") -> tuple[SalesOrder, dict[str, str]]:
    """An order of small smokers that has left, and as the shop has it."""
    sold = world.buy({"v1": units}, coupon=coupon)
    order = taken(world, sold["number"])
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    return order, sold


def on_hand(world: World) -> D:
    return StockBalance.objects.get(item=world.small, location__code="tannery-yard").on_hand


def test_what_the_shop_pays_back_is_credited_once_and_its_goods_are_expected(world: World) -> None:
    order, sold = sent(world, 2, coupon="HONEY10")
    before, charged = on_hand(world), balance("clearing")
    office(world, "refund", sold, count="1")
    taken(world, sold["number"])
    taken(world, sold["number"])
    note = CreditNote.objects.get()
    there = (world.standins.store.get("web", "order", sold["id"]) or {})["refunds"][0]
    line = order.lines.get(kind="item")
    assert (note.number, note.total, note.external_id) == ("CN-1001", D(there["amount"]), there["id"])
    # Half of the goods less half of the coupon: what our own sum says, too.
    discount = order.lines.get(kind="discount")
    assert note.total == (line.net + line.tax + discount.net + discount.tax) / 2
    assert balance("clearing") == charged - note.total
    assert (balance("sales_returns"), line.credited, line.returned) == (note.net, 1, 1)
    back = Return.objects.get()
    assert (back.state, back.number, note.back, on_hand(world)) == ("expected", "RT-1001", back, before)
    document = LedgerDocument.objects.get(number="CN-1001")
    assert (document.kind, document.state) == ("credit", "sent")
    all_level()


def test_cents_that_the_shop_shares_out_otherwise_are_no_reason_to_refuse(world: World) -> None:
    """Three at 7.99 and one at 24.60 with 10 % off, paid back one by one: each time the shop rounds anew."""
    there = world.standins.store.all("web", "product")[0]
    there["variants"][0]["price"] = "7.99"
    world.standins.store.put("web", "product", there["id"], there)
    sold = world.buy({"v1": 3, "v2": 1}, coupon="HONEY10")
    order = taken(world, sold["number"])
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    for line in ("1", "1", "1", "2"):
        office(world, "refund", sold, line=line, count="1")
        taken(world, sold["number"])
    refunds = (world.standins.store.get("web", "order", sold["id"]) or {})["refunds"]
    assert [D(one["amount"]) for one in refunds] == list(CreditNote.objects.order_by("pk").values_list("total", flat=True))
    goods = D("7.99") * 3 + D("24.60")
    # The shop has paid back 7.19 three times where three come to 21.57: a cent less, or more, is its own business.
    assert abs(sum(D(one["amount"]) for one in refunds) - goods * D("0.9")) <= D("0.02")
    assert not Snag.objects.filter(kind="order", resolved_at=None).exists()
    all_level()


@pytest.mark.parametrize("said, state, more", [("returning", "expected", 0), ("back", "received", 2), ("kept", "", 0)])
def test_what_the_shop_says_of_the_goods_is_done(world: World, said: str, state: str, more: int) -> None:
    order, sold = sent(world)
    before = on_hand(world)
    office(world, "refund", sold, goods=said)
    taken(world, sold["number"])
    assert [back.state for back in Return.objects.all()] == ([state] if state else [])
    assert on_hand(world) == before + more
    earned = order_page(order.pk)
    # Two at a cost of 8.00 each: once they are back in stock, their cost is ours again.
    assert earned["cost"] == (0 if said == "back" else D("16.00"))
    all_level()


def test_the_rule_says_what_becomes_of_goods_where_the_shop_does_not(world: World) -> None:
    set_rules(world.shop, refund_goods="nothing")
    _, sold = sent(world)
    office(world, "refund", sold)
    taken(world, sold["number"])
    assert (CreditNote.objects.count(), Return.objects.count()) == (1, 0)


def test_more_than_has_left_is_a_snag_until_it_has(world: World) -> None:
    sold = world.buy({"v1": 2, "v2": 2})
    order = taken(world, sold["number"])
    first, second = order.lines.filter(kind="item").order_by("pk")
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={first.pk: D(2)})
    settle()
    office(world, "refund", sold, line="2")
    taken(world, sold["number"])
    snag = Snag.objects.get(kind="order", resolved_at=None)
    assert "more was paid back than has left" in snag.detail
    assert not CreditNote.objects.exists()
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={second.pk: D(2)})
    settle()
    snags.try_again(SYSTEM, snag.pk)
    settle()
    assert CreditNote.objects.get().lines.get().order_line == second
    assert not Snag.objects.filter(kind="order", resolved_at=None).exists()
    all_level()


def test_what_is_credited_here_the_shop_pays_back_and_tells_of_it_as_ours(world: World) -> None:
    order, sold = sent(world)
    line = order.lines.get(kind="item")
    note = credit(SYSTEM, order.pk, {line.pk: Wanted(D(2))}, timezone.now(), fee=D("5.00"), refund=Refund(tell_channel=True))
    settle()
    taken(world, sold["number"])
    there = (world.standins.store.get("web", "order", sold["id"]) or {})["refunds"]
    assert [(one["key"], D(one["amount"])) for one in there] == [(note.number, note.total)]
    note.refresh_from_db()
    assert (CreditNote.objects.count(), note.external_id) == (1, there[0]["id"])
    assert note.told_channel_at is not None
    said = [moment["what"] for moment in order_page(order.pk)["history"]]
    assert "credited" in said
    assert "the channel pays it back" in said
    all_level()


def test_a_refund_that_comes_before_the_answer_is_the_same_one(world: World) -> None:
    """The shop has paid back and told of it; its answer to us was lost."""
    order, sold = sent(world)
    line = order.lines.get(kind="item")
    note = credit(SYSTEM, order.pk, {line.pk: Wanted(D(1))}, timezone.now(), refund=Refund(tell_channel=True))
    headers = {"Authorization": "Bearer t", "Idempotency-Key": note.number}
    body = {"amount": str(note.total), "lines": []}
    made = httpx.post(f"{world.standins.base}/shop/web/api/orders/{sold['id']}/refunds", json=body, headers=headers).json()
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    there["refunds"][0]["lines"] = [{"id": line.external_id, "quantity": "1", "amount": str(note.total)}]
    world.standins.store.put("web", "order", sold["id"], there)
    inbound.poll(world.shop)
    settle()
    note.refresh_from_db()
    assert (CreditNote.objects.count(), note.external_id) == (1, made["id"])
    assert not OutboundMessage.objects.filter(kind="refund", state="snagged").exists()


def test_a_refund_that_the_shop_refuses_is_a_snag_and_tried_again(world: World) -> None:
    order, sold = sent(world)
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    world.standins.store.put("web", "order", sold["id"], {**there, "status": "on_account"})
    line = order.lines.get(kind="item")
    credit(SYSTEM, order.pk, {line.pk: Wanted(D(1))}, timezone.now(), refund=Refund(tell_channel=True))
    settle()
    snag = Snag.objects.get(kind="delivery", resolved_at=None)
    assert snag.title == "The channel did not pay a customer back"
    world.standins.store.put("web", "order", sold["id"], there)
    snags.try_again(SYSTEM, snag.pk)
    settle()
    assert CreditNote.objects.exclude(external_id="").count() == 1


def test_goods_over_the_counter_are_back_at_once_by_the_tender_that_was_paid(world: World) -> None:
    add_clearing(SYSTEM, "1170", "Cash drawer")
    set_rules(world.till, payment_accounts={"cash": "1170"})
    at_till(world, "sell", tender="card", **{"q-2": "2"})
    at_till(world, "upload")
    inbound.poll(world.till)
    sale = SalesOrder.objects.get()
    place = StockBalance.objects.get(item=world.large, location=sale.location)
    at_till(world, "refund", number=sale.external_number, count="1", tender="cash")
    at_till(world, "upload")
    inbound.poll(world.till)
    inbound.poll(world.till)
    settle()
    note = CreditNote.objects.get()
    assert (note.total, note.method, note.order) == (D("24.60"), "cash", sale)
    assert (balance("clearing"), balance("clearing:1170")) == (D("49.20"), D("-24.60"))
    now = StockBalance.objects.get(pk=place.pk)
    assert now.on_hand == place.on_hand + 1
    assert Return.objects.get().state == "received"
    close(world, counted_cash="0.00", counted_card="49.20")
    cash = TillCount.objects.get().lines.get(method="cash")
    # 24.60 were paid out of the drawer, which was counted empty.
    assert (cash.taken, cash.posted) == (D("-24.60"), D("24.60"))
    steps = {step.label: step.value for step in count_working(cash.pk).steps}
    assert (steps["Paid back"], steps["Should be there"]) == (D("24.60"), D("-24.60"))
    all_level()


def test_a_refund_at_a_till_that_is_heard_of_after_the_close_belongs_into_it(world: World) -> None:
    at_till(world, "sell", tender="cash", **{"q-2": "1"})
    at_till(world, "upload")
    inbound.poll(world.till)
    at_till(world, "refund", number=SalesOrder.objects.get().external_number, tender="cash")
    close(world, counted_cash="0.00")
    assert TillCount.objects.get().lines.get().posted == D("-24.60"), "it looks as if the money were missing"
    at_till(world, "upload")
    inbound.poll(world.till)
    assert TillCount.objects.get().lines.get().posted == 0
    assert balance("cash_difference") == 0
    settle()
    all_level()


def test_a_refund_of_a_sale_nobody_knows_waits_for_it(world: World) -> None:
    at_till(world, "sell", tender="cash", **{"q-2": "1"})
    number = world.standins.store.all("mill", "receipt")[0]["number"]
    at_till(world, "upload")
    at_till(world, "refund", number=number, tender="cash")
    at_till(world, "upload")
    sale, refund = world.standins.store.all("mill", "receipt")
    world.standins.store.put("mill", "receipt", sale["id"], {**sale, "uploaded_at": ""})
    inbound.poll(world.till)
    snag = Snag.objects.get(kind="order", resolved_at=None)
    assert "not known here" in snag.detail
    world.standins.store.put("mill", "receipt", sale["id"], {**sale, "uploaded_at": refund["uploaded_at"]})
    Connection.objects.get(pk=world.till.pk).parts.update(watermark="")
    inbound.poll(Connection.objects.get(pk=world.till.pk))
    snags.try_again(SYSTEM, snag.pk)
    settle()
    assert (CreditNote.objects.count(), balance("clearing")) == (1, 0)
    all_level()


def test_what_was_paid_back_in_a_closed_month_goes_into_the_next_open_one(world: World) -> None:
    _, sold = sent(world)
    today = company_day(timezone.now())
    Period.objects.create(month=today.replace(day=1), closed_at=timezone.now())
    office(world, "refund", sold, goods="back")
    taken(world, sold["number"])
    dates = JournalEntry.objects.filter(kind__in=("credit note", "return")).values_list("date", flat=True)
    assert len(dates) == 2
    assert all(day.replace(day=1) > today.replace(day=1) for day in dates)


def test_an_order_with_an_odd_refund_is_kept_and_read_again(world: World) -> None:
    _, sold = sent(world)
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    there["refunds"] = [
        {"id": "r1", "at": there["updated_at"], "amount": "1", "lines": [{"id": "l1", "quantity": "-1", "amount": "x"}]}
    ]
    world.standins.store.put("web", "order", sold["id"], {**there, "version": there["version"] + 1})
    taken(world, sold["number"])
    assert InboundMessage.objects.filter(kind="unreadable").count() == 1
    assert not CreditNote.objects.exists()
    there["refunds"][0]["lines"] = [{"id": "l1", "quantity": "1", "amount": "1"}]
    world.standins.store.put("web", "order", sold["id"], {**there, "version": there["version"] + 2})
    taken(world, sold["number"])
    assert CreditNote.objects.get().total == D(1)
    assert not Snag.objects.filter(kind="order", resolved_at=None).exists()
