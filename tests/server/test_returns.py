"""Goods that come back: announced, looked at, put where they belong at the cost at which they left, and credited."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal as D
from io import BytesIO
from typing import Any

import pytest
from django.test import Client
from pypdf import PdfReader

from tests.invariants import assert_invariants
from tests.world import NOW, give, incoming, make_bundle, make_connection, make_item, make_user, order_line
from yuvrel.books.actions import add_clearing
from yuvrel.books.models import JournalEntry, JournalLine, LedgerDocument, Period
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.obstacles import obstacles
from yuvrel.channels.actions import check_settings
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.models import Connection
from yuvrel.core.credits import Wanted
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError, StaleError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.planning.queries import replenishment
from yuvrel.sales import returns
from yuvrel.sales.actions import ship, take_order, take_till_sale
from yuvrel.sales.credits import Refund, RefundLine, TakenRefund, credit, take_refund
from yuvrel.sales.earnings import earnings
from yuvrel.sales.incoming import IncomingPayment
from yuvrel.sales.models import CreditNote, OrderLine, Return, SalesOrder
from yuvrel.sales.order_page import order_page
from yuvrel.sales.return_queries import open_returns
from yuvrel.sales.returns import Coming, Found
from yuvrel.stock.actions import OpeningRow, adjust, take_opening
from yuvrel.stock.models import ItemCost, LotBalance, StockBalance, StockMove

pytestmark = pytest.mark.django_db


def sent(*lines: Any, shop: Connection | None = None, **more: Any) -> SalesOrder:
    """An order that has left as a whole."""
    order = take_order(SYSTEM, incoming(shop or make_connection(), *lines, **more), NOW).order
    ship(SYSTEM, order.pk, at=NOW)
    return SalesOrder.objects.get(pk=order.pk)


def goods(order: SalesOrder) -> OrderLine:
    found: OrderLine = order.lines.filter(kind="item").order_by("pk")[0]
    return found


def back(order: SalesOrder, units: int | str = 1, **found: int) -> Return:
    """A return of the first line, looked at when it is said what was found."""
    row = returns.announce(SYSTEM, order.pk, [Coming(goods(order).pk, D(units), "faulty")], NOW)
    if found:
        looked = {row.lines.get().pk: Found(**{name: D(n) for name, n in found.items()})}  # type: ignore[attr-defined]
        row = returns.inspect(SYSTEM, row.pk, looked, NOW)
    return row


def booked(kind: str) -> dict[str, D]:
    """The lines of the newest entry of a kind, by account."""
    found: dict[str, D] = {}
    for line in JournalEntry.objects.filter(kind=kind).latest("pk").lines.select_related("account"):
        found[line.account.role] = found.get(line.account.role, D(0)) + line.amount
    return found


def test_units_go_back_to_stock_to_repair_or_are_written_off_at_what_they_left_at(company: Location) -> None:
    item = make_item(on_hand=3, cost="3.333333")
    order = sent(order_line(item, 3, "36.90"))
    give(item, 10, "9.00")
    row = back(order, 3, restock=1, repair=1)
    assert (row.number, row.state, row.lines.get().left) == ("RT-1001", "part-received", 1)  # type: ignore[attr-defined]
    # 3 left at 10.00: two come back at 3.33 each, the last at the cent that is left.
    assert booked("return") == {"inventory": D("6.66"), "cost_of_sales": D("-6.66")}
    row = returns.inspect(SYSTEM, row.pk, {row.lines.get().pk: Found(write_off=D(1))}, NOW, row.version)  # type: ignore[attr-defined]
    assert row.state == "received"
    assert booked("return") == {"write_off": D("3.34"), "cost_of_sales": D("-3.34")}
    bench = Location.objects.get(for_sale=False)
    assert (bench.name, StockBalance.objects.get(item=item, location=bench).on_hand) == ("Repair bench", 1)
    assert StockBalance.objects.get(item=item, location=company).on_hand == 11
    assert ItemCost.objects.get(item=item).value == D("96.66")
    assert_invariants()


def test_nothing_is_sold_from_the_repair_bench_or_bought_for_it(company: Location) -> None:
    item = make_item(on_hand=2)
    back(sent(order_line(item, 2)), 2, repair=2)
    bench = Location.objects.get(for_sale=False)
    with pytest.raises(BadInputError, match="sold from") as refused:
        check_settings(Connection.objects.get(), {"feeds": [bench.pk]})
    assert refused.value.field == "feeds"
    assert bench.name not in {line.location.name for line in replenishment(NOW.date())}


def test_a_kit_comes_back_as_what_left_even_if_it_is_made_of_others_now(company: Location) -> None:
    one, two, other = make_item(on_hand=9, cost="1.00"), make_item(on_hand=9, cost="0.50"), make_item(on_hand=9)
    kit = make_bundle("KIT", {one: 2, two: 1})
    order = sent(order_line(kit, 2, "24.60"))
    kit.components.all().delete()
    kit.components.create(component=other, quantity=1)
    back(order, 1, restock=1)
    assert {row.item.sku: row.on_hand for row in StockBalance.objects.filter(location=company)} == {
        one.sku: 7, two.sku: 8, other.sku: 9,
    }  # fmt: skip
    assert booked("return") == {"inventory": D("2.50"), "cost_of_sales": D("-2.50")}
    assert_invariants()


def test_units_of_a_lot_go_back_to_the_one_they_left_from(company: Location) -> None:
    item = make_item(expiry_tracked=True)
    for code, month in (("LATE", 9), ("SOON", 5)):
        take_opening(SYSTEM, [OpeningRow(item.pk, company.pk, D(4), D("2.00"), code, date(2027, month, 1))], NOW)
    order = sent(order_line(item, 3))
    back(order, 2, restock=2)
    assert {row.lot.code: row.on_hand for row in LotBalance.objects.all()} == {"SOON": 3, "LATE": 4}
    assert_invariants()


@pytest.mark.parametrize(
    "units, reason, said",
    [
        ("4", "faulty", "3 can come back, not 4"),
        ("-1", "faulty", "negative"),
        ("0.5", "faulty", "0 decimals"),
        ("1", "x", "reason"),
    ],
)
def test_what_cannot_come_back_is_refused_by_its_line(company: Location, units: str, reason: str, said: str) -> None:
    order = sent(order_line(make_item(on_hand=3), 3))
    with pytest.raises(BadInputError, match=said) as refused:
        returns.announce(SYSTEM, order.pk, [Coming(goods(order).pk, D(units), reason)], NOW)
    assert refused.value.field == f"lines.{goods(order).pk}"


def test_a_service_a_charge_and_another_order_have_no_goods_that_come_back(company: Location) -> None:
    course = make_item()
    Item.objects.filter(pk=course.pk).update(kind="service")
    order = sent(order_line(make_item(on_hand=1), 1), order_line(course, 1, kind="service"))
    for line in (order.lines.get(kind="service").pk, 0):
        with pytest.raises(BadInputError, match="not goods of this order"):
            returns.announce(SYSTEM, order.pk, [Coming(line, D(1))], NOW)
    with pytest.raises(BadInputError, match="Enter what comes back"):
        returns.announce(SYSTEM, order.pk, [], NOW)
    with pytest.raises(NotFoundError):
        returns.announce(SYSTEM, 0x7FFFFFFF, [Coming(goods(order).pk, D(1))], NOW)


def test_a_return_takes_no_more_than_was_expected_and_ends_once(company: Location) -> None:
    order = sent(order_line(make_item(on_hand=3), 3))
    row = back(order, 2)
    line = row.lines.get().pk  # type: ignore[attr-defined]
    for found, said in ((Found(D(3)), "2 are expected"), (Found(D(-1), D(2)), "negative"), (Found(D("0.5")), "0 decimals")):
        with pytest.raises(BadInputError, match=said):
            returns.inspect(SYSTEM, row.pk, {line: found}, NOW)
    with pytest.raises(BadInputError, match="not on this return"):
        returns.inspect(SYSTEM, row.pk, {line + 1: Found(D(1))}, NOW)
    with pytest.raises(StaleError):
        returns.inspect(SYSTEM, row.pk, {line: Found(D(1))}, NOW, row.version + 1)
    with pytest.raises(ForbiddenError):
        returns.inspect(Actor("x", Role.VIEWER), row.pk, {line: Found(D(1))}, NOW)
    row = returns.inspect(SYSTEM, row.pk, {line: Found(D(1))}, NOW)
    row = returns.close(SYSTEM, row.pk, row.version)
    assert (row.state, goods(order).returned) == ("received", 1)
    with pytest.raises(RefusedError, match="nothing more comes"):
        returns.close(SYSTEM, row.pk, row.version)
    assert (returns.close(SYSTEM, back(order, 2).pk, 1).state, goods(order).returned) == ("cancelled", 1)
    with pytest.raises(NotFoundError):
        returns.close(SYSTEM, 0x7FFFFFFF, 1)
    assert_invariants()


def test_an_item_that_is_to_come_back_is_not_retired(company: Location) -> None:
    item = make_item(on_hand=1)
    row = back(sent(order_line(item, 1)), 1)
    assert f"Return {row.number} is to bring it back." in [one.said for one in obstacles(item.pk)]


def test_a_credit_posts_returns_tax_and_what_was_paid_and_lowers_the_profit(company: Location) -> None:
    extras = [order_line(None, amount="-2.46", kind="discount"), order_line(None, amount="6.15", kind="shipping")]
    order = sent(order_line(make_item(on_hand=2, cost="4.00"), 2, "24.60"), *extras)
    before = earnings([order])(order)
    row = back(order, 2, restock=1, write_off=1)
    postage = order.lines.get(kind="shipping")
    wanted = {goods(order).pk: Wanted(D(2)), postage.pk: Wanted(gross=D("6.15"))}
    note = credit(SYSTEM, order.pk, wanted, NOW, fee=D("1.23"), note="Seam was open", back_id=row.pk)
    # 24.60 - 2.46 + 6.15 - 1.23 with tax.
    assert (note.number, note.total, note.net, note.tax, note.refunded) == ("CN-1001", D("27.06"), D(22), D("5.06"), D("27.06"))
    assert booked("credit note") == {
        "sales_returns": D("18.00"),
        "shipping_income": D("5.00"),
        "surcharge_income": D("-1.00"),
        "output_tax": D("5.06"),
        "clearing": D("-27.06"),
    }
    after = earnings([order])(order)
    # One of two is back in stock at 4.00; the other is written off and stays a cost of the sale.
    assert (before.contribution, after.contribution) == (D("15.00"), D("-3.00"))
    assert after.cost == D("4.00")
    labels = [step.label for step in after.working.steps]
    assert "Credited" in labels
    assert "Cost of what came back" in labels
    document = LedgerDocument.objects.get(number="CN-1001")
    assert (document.kind, document.details[-1]["net"]) == ("credit", "-1.00")
    assert sum(D(line["net"]) + D(line["tax"]) for line in document.details) == note.total
    assert_invariants()


def test_what_is_owed_is_set_off_first_and_the_rest_goes_the_way_it_was_paid(company: Location) -> None:
    add_clearing(SYSTEM, "1170", "Cash drawer")
    owing = sent(order_line(make_item(on_hand=2), 2, "24.60"), paid=False, customer={"name": "Club", "on_account": True})
    note = credit(SYSTEM, owing.pk, {goods(owing).pk: Wanted(D(1))}, NOW)
    assert (booked("credit note")["receivable"], note.refunded) == (D("-12.30"), 0)
    assert LedgerDocument.objects.get(number=note.number).contact == "Club"
    till = make_connection("till")
    payments = [IncomingPayment("a", "cash", D("10.00"), account="1170"), IncomingPayment("b", "card", D("14.60"))]
    sale = take_till_sale(SYSTEM, incoming(till, order_line(make_item(on_hand=2), 2, "24.60"), payments=payments)).order
    credit(SYSTEM, sale.pk, {goods(sale).pk: Wanted(D(1))}, NOW)
    assert {role: booked("credit note").get(role) for role in ("clearing:1170", "clearing")} == {
        "clearing:1170": D("-10.00"), "clearing": D("-2.30"),
    }  # fmt: skip
    credit(SYSTEM, sale.pk, {goods(sale).pk: Wanted(D(1))}, NOW)
    assert booked("credit note")["clearing"] == D("-12.30"), "the drawer has given back what it took"
    assert_invariants()


def test_nothing_is_credited_twice_by_somebody_who_may_not_or_into_a_closed_month(company: Location) -> None:
    order = sent(order_line(make_item(on_hand=1), 1))
    wanted = {goods(order).pk: Wanted(D(1))}
    with pytest.raises(ForbiddenError, match="bookkeeper"):
        credit(Actor("x", Role.STOCKKEEPER), order.pk, wanted, NOW)
    with pytest.raises(NotFoundError, match="no such return"):
        credit(SYSTEM, order.pk, wanted, NOW, back_id=0x7FFFFFFF)
    month = Period.objects.create(month=NOW.date().replace(day=1), closed_at=NOW)
    with pytest.raises(RefusedError, match="closed"):
        credit(SYSTEM, order.pk, wanted, NOW)
    month.delete()
    credit(SYSTEM, order.pk, wanted, NOW)
    with pytest.raises(BadInputError, match="0 can be credited"):
        credit(SYSTEM, order.pk, wanted, NOW)


def test_a_refund_that_names_no_line_or_pays_more_than_its_lines_is_refused(company: Location) -> None:
    order = sent(order_line(make_item(on_hand=1), 1))
    OrderLine.objects.filter(order=order).update(external_id="l1")
    for lines, amount, said in (
        ([RefundLine("l9", D(1), D("12.30"))], "12.30", "a line that this order does not have"),
        ([RefundLine("l1", D(1), D("12.30"))], "12.31", "0.01 less than the 12.31"),
    ):
        with pytest.raises((BadInputError, RefusedError), match=said):
            take_refund(SYSTEM, order.pk, TakenRefund("r1", NOW, D(amount), lines))
    kept = take_refund(SYSTEM, order.pk, TakenRefund("r1", NOW, D("10.00"), [RefundLine("l1", D(1), D("12.30"))]))
    assert (kept.total, kept.fee) == (D("10.00"), D("2.30")), "the shop kept something for taking it back"
    assert CreditNote.objects.count() == 1
    assert_invariants()


def test_units_that_were_back_before_a_count_are_not_counted_twice(company: Location) -> None:
    item = make_item(on_hand=5)
    till = make_connection("till")
    sale = take_till_sale(SYSTEM, incoming(till, order_line(item, 2), placed_at=NOW - timedelta(hours=3))).order
    # Counted with the unit that had come back over the counter, of which we hear only now.
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="count", at=NOW - timedelta(hours=1), counted=D(4))
    row = returns.announce(SYSTEM, sale.pk, [Coming(goods(sale).pk, D(1))], NOW - timedelta(hours=2))
    found = {row.lines.get().pk: Found(restock=D(1))}  # type: ignore[attr-defined]
    returns.inspect(SYSTEM, row.pk, found, NOW - timedelta(hours=2))
    assert StockBalance.objects.get(item=item, location=company).on_hand == 4
    assert StockMove.objects.filter(reason="count").count() == 2
    assert_invariants()


def test_the_pages_say_what_comes_back_and_what_was_given_back(company: Location, client: Client) -> None:
    item = make_item(on_hand=2)
    order = sent(order_line(item, 2, "24.60"), customer={"name": "Una Thorne"})
    client.force_login(make_user(Role.MANAGER))
    said = client.post(
        f"/api/v1/orders/{order.pk}/returns",
        {"lines": [{"line_id": goods(order).pk, "quantity": "2", "reason": "does not fit"}], "note": "by post"},
        "application/json",
    ).json()
    (row,) = client.get("/api/v1/returns", {"state": "open", "q": "Thorne"}).json()["rows"]
    assert (row["id"], row["units"], row["left"], row["reasons"]) == (said["id"], "2", "2", "does not fit")
    assert client.get("/api/v1/returns", {"q": "nobody"}).json()["rows"] == []
    assert client.get("/api/v1/returns", {"connection": order.connection_id, "state": "expected"}).json()["rows"]
    page = client.get(f"/api/v1/returns/{said['id']}").json()
    line = page["lines"][0]["id"]
    body = {"version": page["version"], "lines": [{"line_id": line, "restock": "1"}]}
    page = client.post(f"/api/v1/returns/{said['id']}/inspect", body, "application/json").json()
    assert (page["state"], page["lines"][0]["value"], page["to_credit"]) == ("part-received", "2.00", True)
    assert [moment["what"] for moment in page["history"]] == ["expected", "looked at"]
    assert client.get("/api/v1/returns", {"state": "uncredited"}).json()["rows"][0]["id"] == said["id"]
    waits = {one["what"]: one["count"] for one in client.get("/api/v1/today").json()["waits"]}
    assert (waits["return is expected"], waits["return is not credited"]) == (1, 1)
    page = client.post(f"/api/v1/returns/{said['id']}/close", {"version": page["version"]}, "application/json").json()
    assert (page["state"], page["lines"][0]["quantity"]) == ("received", "1")

    proposed = client.get(f"/api/v1/orders/{order.pk}/creditable", {"back": said["id"]}).json()
    assert [(one["units"], one["units_left"], one["gross_left"]) for one in proposed["lines"]] == [("1", "2", "24.60")]
    assert (proposed["channel_pays"], proposed["owed"]) == (True, "0.00")
    wanted = {"lines": [{"line_id": goods(order).pk, "quantity": "1"}], "fee": "2.30"}
    trial = client.post(f"/api/v1/orders/{order.pk}/credits/rehearsal", wanted, "application/json").json()
    assert (trial["total"], trial["refunded"], trial["lines"][0]["gross"]) == ("10.00", "10.00", "12.30")
    assert not CreditNote.objects.exists(), "a rehearsal writes nothing"
    made = client.post(
        f"/api/v1/orders/{order.pk}/credits", {**wanted, "back_id": said["id"], "note": "sorry"}, "application/json"
    ).json()
    assert made["said"] == "Credited as CN-1001: 10.00 EUR."
    working = client.get(f"/api/v1/workings/credit/{made['id']}").json()
    assert [D(step["value"]) for step in working["steps"]] == [D("12.30"), D("2.30"), D("10.00")]
    pdf = client.get(f"/api/v1/documents/credit-note/{made['id']}/forms/credit-note")
    text = PdfReader(BytesIO(pdf.content)).pages[0].extract_text()
    assert all(word in text for word in ("Credit note", "CN-1001", "Una Thorne", "10.00", "sorry"))
    document = client.get(f"/api/v1/documents/credit-note/{made['id']}").json()
    assert {"label": "Paid back", "value": "10.00 EUR, by hand"} in document["facts"]
    assert document["entries"][0]["kind"] == "credit note"
    shown = order_page(order.pk)
    assert [(one["number"], one["way"]) for one in shown["credits"]] == [("CN-1001", "paid back by hand")]
    assert [(one["number"], one["left"]) for one in shown["returns"]] == [("RT-1001", 0)]
    assert (shown["lines"][0].can_return, shown["lines"][0].returned) == (1, 1)
    assert page["value"] == "2.00"
    assert "credited" in [moment["what"] for moment in shown["history"]]
    relay_now()
    assert JournalLine.objects.filter(account__role="sales_returns").count() == 1


def test_a_credit_finds_the_return_that_it_is_for(company: Location) -> None:
    """Whoever credits the goods, here or at the channel: what came back is no longer said to be uncredited."""
    order = sent(order_line(make_item(on_hand=3), 3, "36.90"))
    OrderLine.objects.filter(order=order).update(external_id="l1")
    row = back(order, 1, restock=1)
    assert open_returns() == (0, 1)
    told = take_refund(SYSTEM, order.pk, TakenRefund("r1", NOW, D("12.30"), [RefundLine("l1", D(1), D("12.30"))]))
    assert (told.back, open_returns()) == (row, (0, 0))
    assert Return.objects.count() == 1, "what is on a return already is not expected twice"
    again = back(order, 1)
    mine = credit(SYSTEM, order.pk, {goods(order).pk: Wanted(D(1))}, NOW)
    assert mine.back == again
    lowered = credit(SYSTEM, order.pk, {goods(order).pk: Wanted(gross=D("1.00"))}, NOW)
    assert lowered.back is None, "a lower price is for no goods that come back"


def test_a_note_of_nothing_is_not_written_by_hand_but_a_channel_may_say_so(company: Location) -> None:
    order = sent(order_line(make_item(on_hand=2), 2, "24.60"))
    OrderLine.objects.filter(order=order).update(external_id="l1")
    credit(SYSTEM, order.pk, {goods(order).pk: Wanted(gross=D("24.60"))}, NOW)
    with pytest.raises(BadInputError, match="Nothing of that is left"):
        credit(SYSTEM, order.pk, {goods(order).pk: Wanted(D(1))}, NOW)
    told = take_refund(SYSTEM, order.pk, TakenRefund("r1", NOW, D(0), [RefundLine("l1", D(1), D(0))]))
    assert (told.total, goods(order).credited, goods(order).returned) == (0, 1, 1)
    assert_invariants()


def test_goods_that_come_after_their_credit_are_not_said_to_be_uncredited(company: Location) -> None:
    order = sent(order_line(make_item(on_hand=2), 2))
    credit(SYSTEM, order.pk, {goods(order).pk: Wanted(D(1))}, NOW)
    back(order, 1, restock=1)
    assert open_returns() == (0, 0)
    back(order, 1, restock=1)
    assert open_returns() == (0, 1), "the second one nothing was given back for"


def test_only_a_channel_that_can_is_asked_to_pay_back(company: Location) -> None:
    """Anything else would stand as *being asked* for ever."""
    sale = take_till_sale(SYSTEM, incoming(make_connection("till"), order_line(make_item(on_hand=1), 1))).order
    with pytest.raises(BadInputError, match="cannot be asked to pay this back") as refused:
        credit(SYSTEM, sale.pk, {goods(sale).pk: Wanted(D(1))}, NOW, refund=Refund(tell_channel=True))
    assert refused.value.field == "tell_channel"
    assert not CreditNote.objects.exists()
