"""Suppliers and what they ask, kept by people: what cannot be is named, and the replenishment sheet follows."""

from __future__ import annotations

import json
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.test import Client
from django.utils import timezone

from tests.world import NOW, incoming, make_connection, make_item, make_supplier, make_user, order_line
from yuvrel.books.models import ExchangeRate
from yuvrel.books.rates import rate_on
from yuvrel.buying import suppliers
from yuvrel.buying.actions import Wanted, draft
from yuvrel.buying.models import PurchaseOrder, Supplier, SupplierItem
from yuvrel.buying.suppliers import Terms, drop_terms, keep, keep_terms
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError, StaleError
from yuvrel.events.models import Event
from yuvrel.people.models import AuditRow, Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.planning.queries import one_line
from yuvrel.sales.actions import take_till_sale
from yuvrel.stock.actions import OpeningRow, take_opening

pytestmark = pytest.mark.django_db
BUYER = Actor("Bea", Role.BUYER)


def terms(*prices: tuple[int, str], pack: str = "1", minimum: str = "0", preferred: bool = False, code: str = "A-1") -> Terms:
    return Terms(code, D(pack), D(minimum), preferred, [(D(start), D(price)) for start, price in prices or ((0, "2.00"),)])


def refused(error: type[Exception], field: str, work: Any, *args: Any, **more: Any) -> None:
    with pytest.raises(error) as found:
        work(*args, **more)
    assert found.value.field == field  # type: ignore[attr-defined]


def test_a_supplier_is_added_and_changed_and_every_change_is_on_record(company: Location) -> None:
    row = keep(BUYER, None, 0, {"name": "  Brackwater   Joinery ", "currency": "eur", "lead_days": 9})
    assert (row.name, row.code, row.currency, row.version) == ("Brackwater Joinery", "brackwater-joiner", "EUR", 1)
    again = keep(BUYER, None, 0, {"name": "Brackwater Joinery two"})
    assert again.code == "brackwater-joi-2"
    keep(BUYER, row.pk, 1, {"lead_days": 12, "order_minimum": D("150")})
    kept = Supplier.objects.get(pk=row.pk)
    assert (kept.lead_days, kept.order_minimum, kept.name, kept.version) == (12, 150, "Brackwater Joinery", 2)
    change = AuditRow.objects.get(action="change", subject="supplier")
    assert (change.before["lead_days"], change.after["lead_days"]) == ("9", "12")
    with pytest.raises(StaleError):
        keep(BUYER, row.pk, 1, {"lead_days": 1})
    with pytest.raises(NotFoundError):
        keep(BUYER, 10**9, 1, {"lead_days": 1})
    with pytest.raises(ForbiddenError):
        keep(Actor("S", Role.STOCKKEEPER), row.pk, 2, {"lead_days": 1})


@pytest.mark.parametrize(
    ("facts", "field"),
    [
        ({"name": "   "}, "name"),
        ({"name": "Taken"}, "name"),
        ({"currency": "XQQ"}, "currency"),
        ({"lead_days": 731}, "lead_days"),
        ({"lead_days": 5, "lead_deviation_days": D(6)}, "lead_deviation_days"),
        ({"lead_deviation_days": D(-1)}, "lead_deviation_days"),
        ({"order_minimum": D("-0.01")}, "order_minimum"),
        ({"email": "orders"}, "email"),
        ({"inbox_id": 1}, "inbox_id"),
    ],
)
def test_what_a_supplier_cannot_be_is_named_and_nothing_is_kept(company: Location, facts: dict[str, Any], field: str) -> None:
    keep(BUYER, None, 0, {"name": "Taken"})
    refused(BadInputError, field, keep, BUYER, None, 0, {"name": "New", **facts})
    assert Supplier.objects.count() == 1


def test_an_inbox_belongs_to_one_supplier(company: Location) -> None:
    inbox, shop = make_connection("supplier", "Brackwater inbox"), make_connection()
    one = keep(BUYER, None, 0, {"name": "One", "inbox_id": inbox.pk})
    assert suppliers.free_inboxes(None) == []
    assert [row["id"] for row in suppliers.free_inboxes(one.pk)] == [inbox.pk]
    keep(BUYER, one.pk, 1, {"lead_days": 3})  # keeps its own
    for wrong in (inbox.pk, shop.pk):
        refused(BadInputError, "inbox_id", keep, BUYER, None, 0, {"name": "Two", "inbox_id": wrong})
    keep(BUYER, one.pk, 2, {"inbox_id": None})
    assert keep(BUYER, None, 0, {"name": "Two", "inbox_id": inbox.pk}).inbox_id == inbox.pk


def test_the_currency_stays_while_orders_in_it_are_open(company: Location) -> None:
    item = make_item()
    supplier = make_supplier(item)
    (order,) = draft(SYSTEM, [Wanted(item.pk, company.pk, D(6))], NOW)
    refused(RefusedError, "currency", keep, BUYER, supplier.pk, 1, {"currency": "PLN"})
    PurchaseOrder.objects.filter(pk=order.pk).update(state="cancelled")
    assert keep(BUYER, supplier.pk, 1, {"currency": "PLN"}).currency == "PLN"


def test_terms_are_kept_and_one_supplier_of_an_item_is_preferred(company: Location) -> None:
    item = make_item()
    first, second = (keep(BUYER, None, 0, {"name": name}) for name in ("First", "Second"))
    row = keep_terms(BUYER, first.pk, item.pk, 0, terms((24, "1.80"), (0, "2.00"), pack="6", minimum="12"))
    assert (row.preferred, row.pack, row.minimum, row.code) == (True, 6, 12, "A-1")  # nobody else sells it
    assert list(row.prices.values_list("from_quantity", "price")) == [(0, D("2.00")), (24, D("1.80"))]
    other = keep_terms(BUYER, second.pk, item.pk, 0, terms((0, "1.50")))
    assert not other.preferred
    with pytest.raises(StaleError):
        keep_terms(BUYER, first.pk, item.pk, 0, terms())
    refused(RefusedError, "preferred", drop_terms, BUYER, first.pk, item.pk)
    assert keep_terms(BUYER, second.pk, item.pk, 1, terms((0, "1.40"), preferred=True)).preferred
    assert list(SupplierItem.objects.filter(preferred=True).values_list("supplier__name", flat=True)) == ["Second"]
    # A preferred one stays so until another is preferred.
    assert keep_terms(BUYER, second.pk, item.pk, 2, terms((0, "1.40"))).version == 3
    drop_terms(BUYER, first.pk, item.pk)
    drop_terms(BUYER, second.pk, item.pk)
    assert SupplierItem.objects.count() == 0
    with pytest.raises(NotFoundError):
        drop_terms(BUYER, second.pk, item.pk)
    told = AuditRow.objects.filter(subject="supplier's terms").order_by("pk")
    assert [row.action for row in told] == ["add", "add", "change", "change", "take away", "take away"]
    assert told[0].after["prices"] == "0.000: 2.000000, 24.000: 1.800000"


@pytest.mark.parametrize(
    ("wrong", "field"),
    [
        (Terms("", D(1), D(0), False, []), "prices"),
        (terms((1, "2.00")), "prices"),
        (terms((0, "2.00"), (0, "1.00")), "prices"),
        (terms((0, "-2.00")), "prices"),
        (terms(*((n, "1.00") for n in range(13))), "prices"),
        (terms(pack="0"), "pack"),
        (terms(pack="0.5"), "pack"),
        (terms(minimum="-1"), "minimum"),
        (terms(minimum="1.5"), "minimum"),
    ],
)
def test_terms_that_cannot_be_are_named(company: Location, wrong: Terms, field: str) -> None:
    item, supplier = make_item(), keep(BUYER, None, 0, {"name": "One"})
    refused(BadInputError, field, keep_terms, BUYER, supplier.pk, item.pk, 0, wrong)
    assert SupplierItem.objects.count() == 0


def test_only_what_is_stocked_is_bought(company: Location) -> None:
    item, supplier = make_item(), keep(BUYER, None, 0, {"name": "One"})
    Item.objects.filter(pk=item.pk).update(kind=Item.Kind.SERVICE)
    with pytest.raises(NotFoundError):
        keep_terms(BUYER, supplier.pk, item.pk, 0, terms())


def test_the_replenishment_sheet_follows_terms_and_lead_time(company: Location) -> None:
    """From nothing: a supplier typed in, its terms typed in, and a purchase order drafted at its price break."""
    item, till, now = make_item(), make_connection("till"), timezone.now()
    take_opening(SYSTEM, [OpeningRow(item.pk, company.pk, D(200), D(1))], now - timedelta(days=99))
    for day in range(1, 90):
        take_till_sale(SYSTEM, incoming(till, order_line(item, 2), placed_at=now - timedelta(days=day)))
    today = company_day(now)
    assert one_line(item.pk, company.pk, today).terms is None
    supplier = keep(BUYER, None, 0, {"name": "One", "lead_days": 10})
    Event.objects.all().delete()
    keep_terms(BUYER, supplier.pk, item.pk, 0, terms((0, "2.00"), pack="20"))
    assert set(Event.objects.values_list("subject_id", flat=True)) == {item.pk}
    short = one_line(item.pk, company.pk, today)
    assert (short.policy.lead_days, short.policy.pack) == (10, 20)
    assert short.suggestion.quantity % 20 == 0
    keep(BUYER, supplier.pk, 1, {"lead_days": 40})
    assert Event.objects.filter(consumer="replenishment").count() == 2
    longer = one_line(item.pk, company.pk, today)
    assert longer.policy.lead_days == 40
    # 30 more days at two a day.
    assert longer.suggestion.quantity - short.suggestion.quantity == pytest.approx(D(60), abs=D(20))
    keep_terms(BUYER, supplier.pk, item.pk, 1, terms((0, "2.00"), (100, "1.75"), pack="20"))
    (order,) = draft(BUYER, [Wanted(item.pk, company.pk, D(120))], now)
    assert (order.lines.get().price, order.expected_on) == (D("1.75"), today + timedelta(days=40))


def test_a_rate_counts_from_its_day(company: Location) -> None:
    today = company_day(timezone.now())
    suppliers.set_rate(BUYER, "pln", today - timedelta(days=10), D("4.25"))
    suppliers.set_rate(BUYER, "PLN", today, D("4.30"))
    suppliers.set_rate(BUYER, "PLN", today, D("4.31"))  # put right
    assert ExchangeRate.objects.count() == 2
    assert [rate_on("PLN", today - timedelta(days=back), "EUR") for back in (0, 1, 10)] == [D("4.31"), D("4.25"), D("4.25")]
    for currency, rate, field in (
        ("EUR", "1", "currency"),
        ("XQQ", "1", "currency"),
        ("PLN", "0", "rate"),
        ("PLN", "-4", "rate"),
    ):
        refused(BadInputError, field, suppliers.set_rate, BUYER, currency, today, D(rate))


def test_the_page_of_a_supplier(company: Location, client: Client, django_assert_max_num_queries: Any) -> None:
    client.force_login(make_user(Role.BUYER))

    def send(method: str, path: str, body: Any) -> Any:
        return getattr(client, method)(f"/api/v1/{path}", json.dumps(body), content_type="application/json")

    made = send("post", "suppliers", {"name": "Stavrin Steelworks", "currency": "PLN", "lead_days": 60}).json()
    assert (made["rate"], made["rates"], made["terms"]) == (None, [], [])
    said = send("post", "exchange-rates", {"currency": "PLN", "rate": "4.25", "day": "2027-03-14"}).json()["said"]
    assert said == "From 14 Mar 2027 on, one of ours is 4.25 PLN."
    body = {"version": 0, "code": "ST-7", "pack": "10", "prices": [{"from_quantity": 0, "price": "8.5"}]}
    for item in (make_item("S-1", on_hand=3, cost="2.10"), make_item("S-2")):
        answer = send("put", f"suppliers/{made['id']}/items/{item.pk}", body)
        assert answer.status_code == 200, answer.content
    told = {row["sku"]: row for row in answer.json()["terms"]}
    assert told["S-1"]["average_cost"] == "2.10"
    assert told["S-2"]["prices"] == [{"from_quantity": "0", "price": "8.50"}]
    assert send("put", f"suppliers/{made['id']}/items/{item.pk}", body).status_code == 409
    with django_assert_max_num_queries(12):
        client.get(f"/api/v1/suppliers/{made['id']}")
    (row,) = client.get("/api/v1/suppliers", {"q": "st-7"}).json()["rows"]
    assert (row["items"], row["open_orders"], row["currency"]) == (2, 0, "PLN")
    assert client.get("/api/v1/suppliers", {"q": "nobody"}).json()["rows"] == []
    answer = send("patch", f"suppliers/{made['id']}", {"version": 1, "lead_days": 4000})
    assert (answer.status_code, answer.json()["field"]) == (422, "lead_days")
