"""The shelf: adjustments, opening stock, and what the database itself refuses."""

from __future__ import annotations

from datetime import date
from decimal import Decimal as D

import pytest
from django.db import DatabaseError, IntegrityError, connection, transaction

from tests.invariants import assert_invariants
from tests.world import NOW, give, incoming, make_company, make_connection, make_item, order_line
from yuvrel.books.actions import Posting, post, set_period
from yuvrel.books.models import Account, JournalEntry, JournalLine
from yuvrel.catalogue.models import Item
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.events.models import Event
from yuvrel.people.models import AuditRow, Location
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.actions import take_order
from yuvrel.sales.models import Reservation
from yuvrel.stock import opening, queries
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import ItemCost, StockBalance, StockMove

pytestmark = pytest.mark.django_db


def _adjust(item: object, place: Location, reason: str, **what: str) -> JournalEntry | None:
    values = {k: D(v) for k, v in what.items()}
    return adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason=reason, at=NOW, **values)  # type: ignore[attr-defined]


def test_damage_takes_stock_at_average_and_posts(company: Location) -> None:
    item = make_item(on_hand=10, cost="3.50")
    entry = _adjust(item, company, "damaged", change="-2")
    assert entry is not None
    lines = {line.account.role: line.amount for line in entry.lines.select_related("account")}
    assert lines == {"inventory": D("-7.00"), "damage": D("7.00")}
    assert StockBalance.objects.get(item=item).on_hand == 8
    assert AuditRow.objects.filter(action="adjust: damaged").count() == 1
    assert Event.objects.filter(kind="availability", subject_id=item.pk, done_at=None).exists()
    assert_invariants()


def test_a_count_posts_the_difference_and_an_equal_count_nothing(company: Location) -> None:
    item = make_item(on_hand=10, cost="3.50")
    assert _adjust(item, company, "count", counted="10") is None
    assert _adjust(item, company, "count", counted="13") is not None
    assert ItemCost.objects.get(item=item).value == D("45.50")
    _adjust(item, company, "count", counted="0")
    assert ItemCost.objects.get(item=item).value == 0
    assert_invariants()


@pytest.mark.parametrize(
    ("reason", "what", "field"),
    [
        ("damaged", {"change": "2"}, "change"),
        ("found", {"change": "-2"}, "change"),
        ("whim", {"change": "1"}, "reason"),
        ("found", {"change": "0"}, "change"),
        ("found", {"change": "0.5"}, "change"),
        ("count", {"counted": "-1"}, "counted"),
        ("lost", {"change": "-11"}, "change"),
        ("count", {}, "change"),
        ("count", {"change": "1", "counted": "1"}, "change"),
    ],
)
def test_adjustments_that_cannot_be_are_refused_by_field(
    company: Location, reason: str, what: dict[str, str], field: str
) -> None:
    item = make_item(on_hand=10)
    with pytest.raises((BadInputError, RefusedError)) as refusal:
        _adjust(item, company, reason, **what)
    assert refusal.value.field == field
    assert StockBalance.objects.get(item=item).on_hand == 10


def test_a_viewer_may_not_adjust(company: Location) -> None:
    item = make_item(on_hand=1)
    with pytest.raises(ForbiddenError, match="Ask a manager or stockkeeper"):
        adjust(Actor("V", Role.VIEWER), item_id=item.pk, location_id=company.pk, reason="lost", change=D(-1), at=NOW)


@pytest.mark.parametrize("table", ["stock_stockmove", "books_journalentry", "books_journalline", "stock_costchange"])
@pytest.mark.parametrize("statement", ["UPDATE {} SET id = id", "DELETE FROM {}"])
def test_history_cannot_be_edited_even_by_sql(company: Location, table: str, statement: str) -> None:
    make_item(on_hand=3)
    with pytest.raises(DatabaseError, match="Cannot update or delete"), transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(statement.format(table))


def test_an_entry_that_does_not_balance_cannot_be_committed(company: Location) -> None:
    make_item(on_hand=3)
    account = JournalLine.objects.first().account  # type: ignore[union-attr]
    with pytest.raises(IntegrityError), transaction.atomic():
        entry = JournalEntry.objects.create(kind="opening", date=NOW.date(), document="X")
        JournalLine.objects.create(entry=entry, account=account, amount=D("1.00"))
        with connection.cursor() as cursor:
            cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")


def test_nothing_is_posted_into_a_closed_period(company: Location) -> None:
    item = make_item(on_hand=5)
    set_period(SYSTEM, date(2027, 3, 1), closed=True, at=NOW)
    with pytest.raises(RefusedError, match="March 2027 is closed") as refusal:
        _adjust(item, company, "lost", change="-1")
    assert refusal.value.field == "date"
    with pytest.raises(IntegrityError), transaction.atomic():
        JournalEntry.objects.create(kind="opening", date=NOW.date(), document="X")
    set_period(SYSTEM, date(2027, 3, 1), closed=False, at=NOW)
    post(Posting("adjustment", NOW.date(), "X", postings.prepayment({"clearing": D(1)})))


def test_more_than_is_free_cannot_be_reserved_even_by_hand(company: Location) -> None:
    item = make_item(on_hand=2)
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 2)), NOW).order
    with pytest.raises(IntegrityError), transaction.atomic():
        Reservation.objects.create(line=order.lines.get(), item=item, location=company, quantity=1, state="open")


def test_lots_that_expire_first_leave_first(company: Location) -> None:
    item = make_item("PATTY", expiry_tracked=True)
    data = b"sku,location,quantity,unit_cost,lot,expires_on\nPATTY,tannery-yard,5,3.40,L2,2027-09-01\nPATTY,tannery-yard,4,3.40,L1,2027-06-01\n"
    checked = opening.check(data)
    assert not checked.faults
    from yuvrel.stock.actions import take_opening

    take_opening(SYSTEM, opening.confirmed(checked.token()), NOW)
    _adjust(item, company, "expired", change="-6")
    left = {m.lot.code: m.quantity for m in StockMove.objects.filter(reason="expired").select_related("lot")}  # type: ignore[union-attr]
    assert left == {"L1": D(-4), "L2": D(-2)}
    assert_invariants()


def test_opening_file_names_line_column_value_and_reason(company: Location) -> None:
    make_item("A")
    make_item("LOT", expiry_tracked=True)
    data = (
        b"sku;location;quantity;unit_cost;lot;expires_on\nA;tannery-yard;5;1,50;;\nB;tannery-yard;5;1;;\nA;nowhere;x;-1;;\n"
        b"A;Mill Lane;0,5;1;;\nLOT;tannery-yard;1;1;;\na;Tannery Yard;1;1;;\nA;wagon;=1+1;1;;\n"
    )
    checked = opening.check(data)
    assert [(line, row.quantity, row.unit_cost) for line, _, _, row in checked.rows] == [(2, D(5), D("1.50"))]
    assert {(f.line, f.column, f.value) for f in checked.faults} == {
        (3, "sku", "B"),
        (4, "location", "nowhere"),
        (4, "quantity", "x"),
        (4, "unit_cost", "-1"),
        (5, "quantity", "0,5"),
        (6, "lot", ""),
        (6, "expires_on", ""),
        (7, "sku", "a"),
        (8, "quantity", "=1+1"),
    }
    # What is left out comes back as a file: put right, it is taken in.
    left = checked.left_out_csv()
    again = opening.check(left.encode())
    assert len(again.table.rows) == 6
    assert [sku for _, sku, _, _ in again.rows] == ["a"], "the other row of this item was taken in"
    assert again.table.rows[1]["why"] == (
        "location nowhere is not a location; quantity x is not a number; unit_cost -1 cannot be negative"
    )
    assert "'=1+1" in left
    mended = opening.check(left.replace("LOT,tannery-yard,1,1,,", "LOT,tannery-yard,1,1,L1,2027-05-31").encode())
    assert [sku for _, sku, _, _ in mended.rows] == ["LOT", "a"]
    assert mended.table.columns.count("why") == 1
    assert opening.check(mended.left_out_csv().encode()).table.columns.count("why") == 1
    assert not StockMove.objects.exists()


def test_the_template_can_be_taken_in_as_it_is(company: Location) -> None:
    assert "YOUR-SKU-1" in opening.template()
    make_item("A")
    make_item("B,2")
    make_item("LOT", expiry_tracked=True)
    checked = opening.check(opening.template().encode())
    assert checked.faults == []
    assert {sku for _, sku, _, _ in checked.rows} == {"A", "B,2", "LOT"}


def test_opening_of_what_has_moved_already_is_refused(company: Location) -> None:
    make_item("A", on_hand=3)
    (fault,) = opening.check(b"sku,location,quantity,unit_cost\nA,tannery-yard,5,1\n").faults
    assert "moves at this location already" in fault.reason
    with pytest.raises(BadInputError):
        opening.confirmed("forged")


def test_values_by_place_add_up_to_the_item(company: Location) -> None:
    item = make_item(on_hand=1, cost="3.33")
    give(item, 2, "3.34", Location.objects.get(code="mill-lane"))
    values = queries.place_values({item.pk})
    assert sum(values.values()) == ItemCost.objects.get(item=item).value


@pytest.mark.parametrize("limit", [1, 4, 5, 200])
def test_values_are_the_same_wherever_a_page_cuts_through_an_item(company: Location, limit: int) -> None:
    """Items of one title lie between each other; their values are spread over all places, not over those of the page."""
    for units in (1, 2, 4):
        item = make_item(on_hand=units, cost="3.33")
        give(item, 2, "3.34", Location.objects.get(code="mill-lane"))
        give(item, 1, "0.02", Location.objects.get(code="wagon"))
    Item.objects.update(title="Smoker")
    make_item()  # never in stock
    found, cursor = {}, ""
    while True:
        sheet = queries.stock_sheet("", None, "all", cursor, limit)
        found |= {(row.item_id, row.location_id): row.value for row in sheet["rows"]}
        cursor = sheet["next"]
        if not cursor:
            break
    assert found == queries.place_values({item for item, _ in found})
    assert sum(found.values()) == sum(ItemCost.objects.values_list("value", flat=True))


@pytest.mark.parametrize("rows", [1, 40])
def test_the_shelf_takes_a_fixed_number_of_queries(company: Location, rows: int, django_assert_num_queries: object) -> None:
    for _ in range(rows):
        make_item(on_hand=2)
    with django_assert_num_queries(7):  # type: ignore[operator]
        sheet = queries.stock_sheet("", None, "all", "", 200)
    assert len(sheet["rows"]) == rows
    assert sheet["total_value"] == 4 * rows


def test_cursor_pages_meet_without_gap_or_overlap(company: Location) -> None:
    for _ in range(7):
        make_item(on_hand=1)
    seen, cursor = [], ""
    while True:
        sheet = queries.stock_sheet("", None, "all", cursor, 3)
        seen += [row.id for row in sheet["rows"]]
        cursor = sheet["next"]
        if not cursor:
            break
    assert len(seen) == len(set(seen)) == 7


def _lines_of(entry: JournalEntry, *amounts: str) -> None:
    account = Account.objects.get(role="inventory")
    JournalLine.objects.bulk_create([JournalLine(entry=entry, account=account, amount=D(a)) for a in amounts])


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("amounts", [("5", "-4"), ("-5", "4", "2"), ("1", "1", "-3")])
def test_only_a_whole_entry_can_be_committed_whatever_the_order_of_its_lines(amounts: tuple[str, ...]) -> None:
    make_company()
    with pytest.raises(IntegrityError, match="does not balance"), transaction.atomic():
        entry = JournalEntry.objects.create(kind="summary", date=NOW.date(), document="X")
        _lines_of(entry, *amounts)
    assert not JournalEntry.objects.exists()


@pytest.mark.django_db(transaction=True)
def test_lines_added_to_an_entry_afterwards_must_balance_too() -> None:
    make_company()
    with transaction.atomic():
        entry = JournalEntry.objects.create(kind="summary", date=NOW.date(), document="X")
        _lines_of(entry, "5", "-5")
    with pytest.raises(IntegrityError, match="does not balance"), transaction.atomic():
        _lines_of(entry, "1")
    with transaction.atomic():
        _lines_of(entry, "2", "-2")
    assert entry.lines.count() == 4
