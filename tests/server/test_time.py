"""Two times of every move: when it happened and when we heard of it; days of 23 and 25 hours; two time zones."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal as D
from zoneinfo import ZoneInfo

import pytest
from django.test import Client
from django.utils import timezone

from tests.invariants import assert_invariants
from tests.world import give, incoming, make_company, make_connection, make_item, make_supplier, make_user, order_line
from yuvrel.books.actions import open_day, set_period
from yuvrel.books.models import JournalEntry, JournalLine
from yuvrel.buying.actions import Arrived, Wanted, draft, receive, send
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import RefusedError
from yuvrel.people.models import Company, Location
from yuvrel.people.queries import company_day, end_of_day
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.sales.actions import take_order, take_till_sale
from yuvrel.sales.models import SalesOrder
from yuvrel.sales.queries import daily_sales
from yuvrel.stock.actions import OpeningRow, adjust, take_opening
from yuvrel.stock.models import StockBalance, StockCount, StockMove
from yuvrel.stock.queries import stock_sheet

pytestmark = pytest.mark.django_db
MORNING = datetime(2027, 3, 10, 8, 0, tzinfo=UTC)
DAY = timedelta(days=1)
HOUR = timedelta(hours=1)


def stocked(units: int, at: datetime = MORNING) -> Item:
    """An item with opening stock at 2.00 taken in at a moment."""
    item = make_item()
    place = Location.objects.get(code="tannery-yard")
    take_opening(SYSTEM, [OpeningRow(item.pk, place.pk, D(units), D("2.00"))], at)
    return item


def sell(item: Item, units: int, at: datetime) -> None:
    """A till sale that happened at a moment and is heard of now."""
    till = make_connection("till")
    take_till_sale(SYSTEM, incoming(till, order_line(item, units), placed_at=at))


def count(item: Item, units: int, at: datetime) -> None:
    """Somebody counts."""
    place = Location.objects.get(code="tannery-yard")
    adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason="count", counted=D(units), at=at)


def as_at(item: Item, day: date) -> tuple[D, D]:
    """(on hand, value) as at the end of a day, by the sheet."""
    (row,) = stock_sheet(item.sku, None, "all", "", 10, day)["rows"]
    return row.on_hand, row.value


@pytest.mark.parametrize(
    ("zone", "day", "hours"),
    [
        # Clock changes of 2027 by the tz database: Dublin on 28 March and 31 October, New York on 14 March and 7 November.
        ("Europe/Dublin", date(2027, 3, 28), 23),
        ("Europe/Dublin", date(2027, 10, 31), 25),
        ("Europe/Dublin", date(2027, 6, 1), 24),
        ("America/New_York", date(2027, 3, 14), 23),
        ("America/New_York", date(2027, 11, 7), 25),
    ],
)
def test_a_day_has_as_many_hours_as_its_clocks_say(db: None, zone: str, day: date, hours: int) -> None:
    make_company(zone)
    start, end = end_of_day(day - DAY), end_of_day(day)
    assert end - start == hours * HOUR
    assert company_day(end - timedelta(seconds=1)) == company_day(start) == day
    assert company_day(end) == day + DAY


@pytest.mark.parametrize(("zone", "on_the_30th", "on_the_31st"), [("Europe/Dublin", 10, 7), ("America/New_York", 7, 4)])
def test_the_longest_day_belongs_to_its_company(db: None, zone: str, on_the_30th: int, on_the_31st: int) -> None:
    """Sales at 00:30 UTC on 31 October and at 03:30 UTC on 1 November fall on different days in the two zones."""
    make_company(zone)
    item = stocked(10)
    sell(item, 3, datetime(2027, 10, 31, 0, 30, tzinfo=UTC))
    sell(item, 3, datetime(2027, 11, 1, 3, 30, tzinfo=UTC))
    assert as_at(item, date(2027, 10, 30))[0] == on_the_30th
    assert as_at(item, date(2027, 10, 31))[0] == on_the_31st
    days = set(JournalEntry.objects.filter(kind="invoice").values_list("date", flat=True))
    local = ZoneInfo(zone)
    assert days == {
        datetime(2027, 10, 31, 0, 30, tzinfo=UTC).astimezone(local).date(),
        datetime(2027, 11, 1, 3, 30, tzinfo=UTC).astimezone(local).date(),
    }


def test_an_order_keeps_the_time_it_was_placed_and_the_time_it_came(company: Location) -> None:
    item = stocked(10)
    placed = timezone.now() - 3 * DAY
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 2), placed_at=placed), timezone.now()).order
    order = SalesOrder.objects.get(pk=order.pk)
    assert order.placed_at == placed
    assert timezone.now() - order.received_at < HOUR


def test_moves_carry_both_times_and_the_past_changes_when_it_is_heard_of(company: Location) -> None:
    item = stocked(10)
    assert as_at(item, date(2027, 3, 11)) == (D(10), D("20.00"))
    sell(item, 4, MORNING + DAY)
    move = StockMove.objects.get(reason="till sale")
    assert move.happened_at == MORNING + DAY
    assert timezone.now() - move.recorded_at < HOUR
    assert as_at(item, date(2027, 3, 9)) == (D(0), D(0))
    assert as_at(item, date(2027, 3, 10)) == (D(10), D("20.00"))
    assert as_at(item, date(2027, 3, 11)) == (D(6), D("12.00"))


def test_a_sale_before_a_count_that_is_heard_of_after_it(company: Location) -> None:
    """Ten in the books, two sold at the till, eight counted, then the till's batch arrives: eight it is."""
    item = stocked(10)
    count(item, 8, MORNING + 2 * HOUR)
    shrinkage = JournalLine.objects.filter(account__role="shrinkage")
    assert sum(line.amount for line in shrinkage) == D("4.00")
    sell(item, 2, MORNING + HOUR)
    assert StockBalance.objects.get(item=item).on_hand == 8
    assert sum(line.amount for line in shrinkage.all()) == 0
    assert sum(line.amount for line in JournalLine.objects.filter(account__role="cost_of_sales")) == D("4.00")
    times = {m.reason: m.happened_at for m in StockMove.objects.order_by("pk")}
    assert times == {"opening": MORNING, "till sale": MORNING + HOUR, "count": MORNING + 2 * HOUR}
    assert_invariants()


def test_a_count_that_agreed_counts_as_well(company: Location) -> None:
    item = stocked(10)
    count(item, 10, MORNING + 2 * HOUR)
    assert StockCount.objects.get().expected == 10
    sell(item, 2, MORNING + HOUR)
    assert StockBalance.objects.get(item=item).on_hand == 10
    sell(item, 2, MORNING + 3 * HOUR)
    assert StockBalance.objects.get(item=item).on_hand == 8
    assert_invariants()


def test_two_counts_correct_a_late_sale_once(company: Location) -> None:
    item = stocked(10)
    count(item, 8, MORNING + 2 * HOUR)
    count(item, 7, MORNING + DAY)
    sell(item, 2, MORNING + HOUR)
    assert StockBalance.objects.get(item=item).on_hand == 7
    assert as_at(item, date(2027, 3, 10))[0] == 8
    assert as_at(item, date(2027, 3, 11))[0] == 7
    assert_invariants()


def test_a_sale_before_a_receipt_that_is_heard_of_after_it(company: Location) -> None:
    """The day before the receipt shows what lay there; the value agrees at every moment."""
    item = stocked(3)
    make_supplier(item, price="2.60")
    (order,) = draft(SYSTEM, [Wanted(item.pk, company.pk, D(10))], MORNING)
    send(SYSTEM, order.pk, 1, MORNING)
    receive(SYSTEM, order.pk, [Arrived(order.lines.get().pk, D(10))], MORNING + 2 * DAY)
    sell(item, 5, MORNING + DAY)
    assert as_at(item, date(2027, 3, 11))[0] == -2
    assert as_at(item, date(2027, 3, 12))[0] == StockBalance.objects.get(item=item).on_hand == 8
    assert_invariants()


def test_a_late_sale_of_a_closed_month_is_booked_into_the_next_open_one(company: Location) -> None:
    item = stocked(10)
    set_period(SYSTEM, date(2027, 3, 1), closed=True, at=MORNING)
    set_period(SYSTEM, date(2027, 4, 1), closed=True, at=MORNING)
    sell(item, 2, MORNING + DAY)
    assert {e.date for e in JournalEntry.objects.filter(kind__in=("invoice", "cost"))} == {date(2027, 5, 1)}
    assert StockMove.objects.get(reason="till sale").happened_at == MORNING + DAY
    place = Location.objects.get(code="tannery-yard")
    with pytest.raises(RefusedError, match="period March 2027 is closed") as refusal:
        adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason="lost", change=D(-1), at=MORNING + DAY)
    assert refusal.value.field == "date"
    assert open_day(date(2027, 12, 31)) == date(2027, 12, 31)
    assert_invariants()


def test_the_sheet_as_at_a_day_adds_up_over_the_api(company: Location, client: Client) -> None:
    item, other = stocked(10), stocked(5)
    give(other, 5)
    sell(item, 4, MORNING + DAY)
    client.force_login(make_user(Role.VIEWER))
    then = client.get("/api/v1/stock?as_at=2027-03-10").json()
    assert {row["sku"]: row["on_hand"] for row in then["rows"]} == {item.sku: "10", other.sku: "5"}
    assert then["total_value"] == "30.00"
    assert client.get("/api/v1/stock?as_at=2027-03-11").json()["total_value"] == "22.00"
    one = client.get(f"/api/v1/stock?as_at=2027-03-11&q={item.sku}").json()
    assert (one["total_value"], one["rows"][0]["value"]) == ("12.00", "12.00")
    assert client.get("/api/v1/stock?as_at=soon").json()["field"] == "as_at"
    assert Company.objects.get().time_zone == "Europe/Dublin"


def test_revenue_of_days_of_23_and_25_hours_falls_on_the_right_day(company: Location) -> None:
    zone = ZoneInfo("Europe/Dublin")
    shop, item = make_connection(), make_item(on_hand=50)
    # 28 March 2027 has 23 hours, 31 October 2027 has 25.
    for month, day, hour in ((3, 28, 0), (3, 28, 23), (3, 29, 0), (10, 31, 0), (10, 31, 23), (11, 1, 0)):
        at = datetime(2027, month, day, hour, 30, tzinfo=zone)
        take_order(SYSTEM, incoming(shop, order_line(item), placed_at=at), at)
    for start in (datetime(2027, 3, 27, tzinfo=zone), datetime(2027, 10, 30, tzinfo=zone)):
        assert [(day.day, net) for day, net in daily_sales(start, 3)][1:] == [
            ((start + timedelta(days=1)).day, D("20.00")),
            ((start + timedelta(days=2)).day, D("10.00")),
        ]
