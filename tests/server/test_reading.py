"""What the sheets say: the morning, the bar, the journal, accounts, agreement; each in a fixed number of queries."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal as D
from io import StringIO
from typing import Any

import pytest
from django.core.management import CommandError, call_command
from django.utils import timezone

from tests.world import (
    NOW,
    give,
    incoming,
    make_bundle,
    make_connection,
    make_item,
    make_listing,
    make_supplier,
    make_user,
    order_line,
    set_rules,
)
from yuvrel.agreement import queries as agreement
from yuvrel.agreement.actions import check_shelf, check_value, compare_value
from yuvrel.agreement.models import Check, Drift
from yuvrel.books import queries as books
from yuvrel.books.actions import Posting, post, set_period
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.buying.arrivals import incoming_working
from yuvrel.channels import queries as channels
from yuvrel.channels.models import Connection, Listing
from yuvrel.channels.offers import recompute
from yuvrel.channels.runs import raise_snag, run_of, settle_snags
from yuvrel.connectors.http import UnreachableError
from yuvrel.core import postings
from yuvrel.core.errors import ForbiddenError, RefusedError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Ability, Actor, Role, actor_of
from yuvrel.planning.queries import demand, history, one_line
from yuvrel.sales.actions import ship, take_order, take_till_sale
from yuvrel.sales.models import SalesOrder
from yuvrel.server import today
from yuvrel.stock import queries as stock
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db


def test_the_bar_counts_what_waits_in_each_station(company: Location) -> None:
    item, shop = make_item(on_hand=1), make_connection()
    make_listing(shop)
    take_order(SYSTEM, incoming(shop, order_line(item, 3)), NOW)
    take_till_sale(SYSTEM, incoming(make_connection("till"), order_line(item, 4)))
    raise_snag(shop, "order", "A thing", "went wrong")
    Connection.objects.filter(pk=shop.pk).update(state="paused")
    check_shelf()
    counts = today.bar()
    assert (counts["range"], counts["shelf"], counts["orders"]) == (1, 1, 1)
    assert counts["books"] == Drift.objects.filter(healed_at=None).count() == 1
    assert counts["connections"] == 2
    assert counts["today"] == 2


def test_the_morning_names_one_thing_and_many_things(company: Location) -> None:
    shop = make_connection()
    for _ in range(2):
        make_listing(shop)
    take_order(SYSTEM, incoming(shop, order_line(make_item(on_hand=5), 1), placed_at=timezone.now()), NOW)
    morning = today.morning()
    waits = {wait["what"]: wait["count"] for wait in morning["waits"]}
    assert waits["order to pack"] == 1
    assert waits["listings are not paired"] == 2
    assert (morning["orders"], morning["net"]) == (1, D("10.00"))
    assert morning["days"][-1].net == D("10.00")
    assert len(morning["days"]) == morning["span_days"] == 28


def test_drifts_open_once_are_renewed_and_heal(company: Location) -> None:
    item = make_item(on_hand=1)
    take_till_sale(SYSTEM, incoming(make_connection("till"), order_line(item, 3)))
    check_shelf()
    first = Drift.objects.get()
    check_shelf()
    again = Drift.objects.get()
    assert (again.pk, again.since) == (first.pk, first.since)
    assert again.seen_at > first.seen_at
    give(item, 10)
    check_shelf()
    assert Drift.objects.get().healed_at is not None
    assert Check.objects.get(code="A4").differing == 0


def test_a_journal_line_without_its_move_is_found(company: Location) -> None:
    item = make_item(on_hand=4)
    check_value()
    assert not Drift.objects.exists()
    lines = (postings.Line(postings.Role.INVENTORY, D("1.00"), item.pk), postings.Line(postings.Role.SHRINKAGE, D("-1.00")))
    post(Posting("adjustment", NOW.date(), "HAND", lines))
    assert not compare_value().agrees
    check_value()
    drift = Drift.objects.get()
    assert (drift.code, drift.expected, drift.found, drift.item) == ("A5", "8.00", "9.00", item)
    working = agreement.drift_working(drift.pk)
    assert working.result == D("1.00")
    assert agreement.booked_working(item.pk).result == D("1.00")


def test_the_agreement_sheet_in_a_fixed_number_of_queries(company: Location, django_assert_num_queries: Any) -> None:
    shop = make_connection()
    for _ in range(9):
        make_listing(shop, make_item(on_hand=3))
    recompute({i: "test" for i in Listing.objects.values_list("item_id", flat=True)})
    with django_assert_num_queries(6):
        rows = agreement.items("", "off", "", 50)["rows"]
    assert len(rows) == 9
    assert {row.state for row in rows} == {"pending"}
    first = agreement.items("", "all", "", 4)
    assert len(first["rows"]) == 4
    assert len(agreement.items("", "all", first["next"], 50)["rows"]) == 5
    Listing.objects.update(offer_state="agreed")
    assert agreement.items("", "off", "", 50)["rows"] == []
    with django_assert_num_queries(8):
        sheet = agreement.head(NOW)
    assert sheet["worth"] == sheet["booked"] == D("54.00")
    assert sheet["checking"] is False
    assert [beam.code for beam in sheet["beams"]] == ["A1", "A2", "A3", "A4", "A5", "A6"]


def test_a_kit_is_offered_by_its_scarcest_part(company: Location) -> None:
    frame, tool = make_item(on_hand=7), make_item(on_hand=2)
    kit = make_bundle("KIT", {frame: 3, tool: 1})
    listing = make_listing(make_connection(maximum_shown=D(60)), kit)
    recompute({tool.pk: "a part moved"})
    listing.refresh_from_db()
    assert (listing.offered, listing.offer_cause) == (D(2), "a part moved")
    working = channels.offer_working(listing.pk, NOW.date())
    assert next(step.value for step in working.steps if step.kind == "result") == D(2)


def test_a_channel_that_takes_its_own_orders_off_is_told_what_is_on_hand(company: Location) -> None:
    part = make_item("PART", on_hand=20)
    item, kit = make_item("ITEM", on_hand=10), make_bundle("KIT", {part: 2})
    shop = make_connection(basis="on_hand", buffer=1)
    shown = [make_listing(shop, one) for one in (item, kit)]
    other = make_listing(make_connection(), item)
    for connection, units in ((shop, 3), (other.connection, 4)):
        take_order(SYSTEM, incoming(connection, order_line(item, units), order_line(kit, 1)), NOW)
    # Ten less the four of others less the buffer; twenty less two for a kit of others, by two.
    assert [channels.offer_working(row.pk, NOW.date()).result for row in shown] == [5, 8]
    recompute({item.pk: "test", part.pk: "test"})
    assert list(Listing.objects.filter(connection=shop).order_by("pk").values_list("offered", flat=True)) == [5, 8]
    # Others see what is free.
    assert channels.offer_working(other.pk, NOW.date()).result == 3
    # An order that is cancelled is none that the channel takes off, though its goods are still to be put back.
    gone = incoming(shop, order_line(item, 3), order_line(kit, 1), version=2, cancelled=True, goods_wait=True)
    last = SalesOrder.objects.get(connection=shop)
    take_order(SYSTEM, replace(gone, external_id=last.external_id, number=last.external_number), NOW)
    assert [channels.offer_working(row.pk, NOW.date()).result for row in shown] == [2, 7]


def test_projected_stock_counts_what_is_due_in_time(company: Location) -> None:
    item = make_item(on_hand=2)
    make_supplier(item, lead_days=10)
    (order,) = draft(SYSTEM, [Wanted(item.pk, company.pk, D(30))], timezone.now())
    send(SYSTEM, order.pk, 1, timezone.now())
    listing = make_listing(make_connection(basis="projected", projected_days=14), item)
    recompute({item.pk: "test"})
    listing.refresh_from_db()
    assert listing.offered == 32
    set_rules(listing.connection, projected_days=5)
    recompute({item.pk: "test"})
    listing.refresh_from_db()
    assert listing.offered == 2
    assert incoming_working(item.pk, company.pk).result == 30


def test_the_journal_shows_both_sides_and_the_ledger_document(company: Location) -> None:
    order = take_order(SYSTEM, incoming(make_connection(), order_line(make_item(on_hand=5), 2, "24.60")), NOW).order
    ship(SYSTEM, order.pk, at=NOW)
    rows = books.journal("", "invoice", "", 10)["rows"]
    assert len(rows) == 1
    assert rows[0].ledger_number == order.number
    assert sum(line.debit or 0 for line in rows[0].lines) == sum(line.credit or 0 for line in rows[0].lines) == D("24.60")
    assert books.journal(order.number, "", "", 10)["rows"]
    told = books.accounts(NOW.date())
    assert [row.code for row in told["rows"]] == sorted(row.code for row in told["rows"])
    assert told["total"] == sum(row.balance for row in told["rows"]) == 0
    assert books.account_working("4000").result == D("-20.00")
    assert books.entry_working(rows[0].id).result == 0


def test_workings_of_the_shelf_add_up(company: Location) -> None:
    item = make_item(on_hand=10, cost="3.00")
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 3)), NOW).order
    assert stock.on_hand_working(item.pk, company.pk).result == 10
    assert stock.available_working(item.pk, company.pk).result == 7
    assert stock.value_working(item.pk, company.pk).result == D("30.00")
    assert stock.latest_cost_working(item.pk).result == D("3.000000")
    from yuvrel.sales.queries import committed_working, total_working

    working = committed_working(item.pk, company.pk)
    assert working.result == 3
    assert working.steps[0].link == f"/orders/{order.pk}"
    assert total_working(order.pk).result == order.total


def test_demand_masks_days_without_stock_and_explodes_kits(company: Location) -> None:
    """Twenty days ago ten units came; one kit of two sold a day for five days; since then the shelf is empty."""
    item = make_item()
    kit = make_bundle("KIT", {item: 2})
    day = timezone.now()
    from yuvrel.stock.actions import OpeningRow, take_opening

    take_opening(SYSTEM, [OpeningRow(item.pk, company.pk, D(10), D(1))], day - timedelta(days=20))
    till = make_connection("till")
    for n in range(5):
        take_till_sale(SYSTEM, incoming(till, order_line(kit, 1), placed_at=day - timedelta(days=20 - n) + timedelta(minutes=5)))
    assert StockBalance.objects.get(item=item).on_hand == 0
    line = one_line(item.pk, company.pk, day.date())
    assert (line.velocity.units, line.velocity.days_in_stock) == (D(10), 5)
    assert line.velocity.per_day == D(2)
    seen = demand(day.date(), {(item.pk, company.pk)}, 30)
    assert seen.units.sum() == 10
    weeks = history(item.pk, company.pk, day.date(), weeks=4)["weeks"]
    assert sum(week["units"] for week in weeks) == 10
    assert min(week["in_stock"] for week in weeks) == 0


def test_a_run_that_fails_says_so_and_ends(company: Location) -> None:
    shop = make_connection()
    with pytest.raises(UnreachableError), run_of(shop, "orders") as run:
        run.note("began")
        raise UnreachableError("nobody there")
    stored = shop.runs.get()
    assert (stored.state, [line[1] for line in stored.log]) == ("failed", ["began", "nobody there"])
    assert stored.ended_at is not None


def test_a_snag_about_one_thing_is_one_snag(company: Location) -> None:
    shop = make_connection()
    listing = make_listing(shop)
    first = raise_snag(shop, "offer", "refused", "because", listing=listing)
    second = raise_snag(shop, "offer", "refused", "again", listing=listing)
    assert first.pk == second.pk
    assert channels.snags("", "", None, "", 10)["rows"][0].detail == "again"
    settle_snags("offer", "done", listing=listing)
    assert not channels.snags("", "", None, "", 10)["rows"]


def test_only_those_who_keep_the_books_close_a_period(company: Location) -> None:
    with pytest.raises(ForbiddenError):
        set_period(Actor("B", Role.BUYER), date(2027, 3, 1), closed=True, at=NOW)
    with pytest.raises(RefusedError):
        set_period(SYSTEM, date(2027, 3, 2), closed=True, at=NOW)
    closed = set_period(Actor("K", Role.BOOKKEEPER), date(2027, 3, 1), closed=True, at=NOW)
    assert closed.closed_at == NOW


def test_someone_without_a_role_may_only_look(db: None) -> None:
    user = make_user(Role.MANAGER)
    assert actor_of(user).may(Ability.CONNECT)
    user.groups.clear()
    assert actor_of(user).role is Role.VIEWER


def test_a_token_is_shown_once_works_and_can_be_revoked(company: Location, client: Any) -> None:
    make_user(Role.BUYER)
    out = StringIO()
    call_command("token", "buyer", "export", stdout=out)
    token = out.getvalue().strip()
    headers = {"Authorization": f"Bearer {token}"}
    assert client.get("/api/v1/session", headers=headers).json()["role"] == "buyer"
    call_command("token", "buyer", "export", "--revoke", stdout=out)
    assert client.get("/api/v1/session", headers=headers).status_code == 401
    with pytest.raises(CommandError):
        call_command("token", "nobody", "x")


def test_a_held_order_is_on_the_sheet_with_its_reason(company: Location, monkeypatch: pytest.MonkeyPatch) -> None:
    from yuvrel.sales.queries import order_sheet

    shop = make_connection()
    take_order(SYSTEM, incoming(shop, order_line(make_item("A-9", on_hand=2)), total=D("99.00")), NOW)
    take_order(SYSTEM, incoming(shop, order_line(make_item(on_hand=2))), NOW)
    held = order_sheet("", "held", None, "", 10)
    assert len(held["rows"]) == 1
    assert "less than its total" in held["rows"][0].held_because
    assert order_sheet("A-9", "", None, "", 10)["rows"][0].id == held["rows"][0].id
    assert order_sheet("", "waiting", shop.pk, "", 10)["counts"] == {"held": 1, "ready": 1}
    first = order_sheet("", "", None, "", 1)
    # Of all that the filter finds, not of the page.
    assert first["total"] == sum(SalesOrder.objects.values_list("total", flat=True)) > held["total"] == D("99.00")
    monkeypatch.setattr("yuvrel.sales.queries.MOST_ADDED", 1)
    assert order_sheet("", "", None, "", 1)["total"] is None
    second = order_sheet("", "", None, first["next"], 1)
    assert {first["rows"][0].id, second["rows"][0].id} == set(SalesOrder.objects.values_list("pk", flat=True))
