"""Sheets: every order they can stand in, views kept and shared, files that hold what is seen."""

from __future__ import annotations

import csv
import io
import itertools
import json
from datetime import date, datetime, timedelta
from decimal import Decimal as D
from typing import Any

import openpyxl
import pytest
from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from tests.snapshot import once
from tests.world import (
    NOW,
    give,
    incoming,
    make_bundle,
    make_company,
    make_connection,
    make_item,
    make_listing,
    make_supplier,
    make_user,
    order_line,
)
from yuvrel.buying import actions as buying
from yuvrel.buying import queries as purchases
from yuvrel.buying import suppliers
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue.models import Item
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.models import Run, Snag
from yuvrel.people.models import AuditRow, Location, SheetView
from yuvrel.people.queries import company_zone
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning import forecasts
from yuvrel.planning import queries as planning
from yuvrel.platform import faults
from yuvrel.sales import order_page, return_queries, returns, till_counts
from yuvrel.sales import queries as sales
from yuvrel.sales.actions import take_order, take_till_sale
from yuvrel.sales.models import SalesOrder
from yuvrel.server import sheets, today
from yuvrel.server.sheets import SHEETS
from yuvrel.stock import queries as stock

pytestmark = pytest.mark.django_db
PATHS = {
    "items": "/api/v1/items",
    "stock": "/api/v1/stock",
    "moves": "/api/v1/moves",
    "orders": "/api/v1/orders",
    "replenishment": "/api/v1/replenishment/rows",
    "purchase_orders": "/api/v1/purchase-orders",
    "suppliers": "/api/v1/suppliers",
    "forecasts": "/api/v1/forecasts",
    "journal": "/api/v1/journal",
    "agreement": "/api/v1/agreement/items",
    "runs": "/api/v1/runs",
    "till_counts": "/api/v1/till-counts",
    "returns": "/api/v1/returns",
}


@pytest.fixture
def company(db: None) -> Location:
    """A company in which something of everything has happened."""
    return Location.objects.get(pk=once("sheets", _much))


def _much() -> int:
    place = make_company()
    mill = Location.objects.get(code="mill-lane")
    honey, hive, glove = (
        make_item(f"SKU {name}", on_hand=units, cost=cost)
        for name, units, cost in (("b", 30, "2.35"), ("A", 7, "41.5"), ("=c", 90, "3"))
    )
    give(honey, 4, "2.10", mill)
    make_bundle("kit", {honey: 2, glove: 1})
    make_supplier(honey, pack=6)
    make_supplier(hive, currency="PLN", price="40.00", lead_days=30)
    make_supplier(glove, currency="GBP", order_minimum=100)
    shop, till = make_connection(), make_connection("till")
    for listed, (shown, item) in enumerate(((3, honey), (0, hive), (12, glove))):
        for channel in (shop, till)[: 1 + listed % 2]:
            make_listing(channel, item, shown=shown, offered=shown, offer_state="agreed")
    for number, kind in enumerate(("orders", "push", "listings", "orders")):
        said = [[NOW.isoformat(), f"{number} new versions"]]
        Run.objects.create(connection=(shop, till)[number % 2], kind=kind, state="done", taken=number, ended_at=NOW, log=said)
    for number, item in enumerate((honey, hive, glove, honey)):
        take_order(
            SYSTEM, incoming(shop, order_line(item, number + 1, f"{12 + number}.30"), placed_at=NOW - timedelta(days=number)), NOW
        )
    take_order(SYSTEM, incoming(shop, order_line(hive, 50), placed_at=NOW), NOW)
    for days in range(1, 8):
        take_till_sale(SYSTEM, incoming(till, order_line(honey, 1), placed_at=timezone.now() - timedelta(days=days)))
    for number, sale in enumerate(SalesOrder.objects.filter(kind="till").order_by("pk")[:3]):
        returns.announce(SYSTEM, sale.pk, [returns.Coming(sale.lines.get().pk, D(1))], NOW - timedelta(hours=number))
    for day, counted in ((3, "12.30"), (1, "30.00")):
        tenders = [till_counts.CountedTender(way, D(0), D(counted) * share) for share, way in enumerate(("cash", "card"), 1)]
        closed = timezone.now() - timedelta(days=day)
        till_counts.take_count(SYSTEM, till, f"z{day}", f"Z{day}", closed, "EUR", tenders)
    drafts = [buying.Wanted(item.pk, spot.pk, D(12), {}) for item, spot in ((honey, place), (hive, place), (honey, mill))]
    buying.draft(SYSTEM, drafts, timezone.now())
    forecasts.carry_out(forecasts.begin_run(SYSTEM, timezone.now()).pk, timezone.now)
    return place.pk


def post(client: Client, path: str, body: Any, method: str = "post") -> Any:
    return getattr(client, method)(f"/api/v1/sheets/{path}", json.dumps(body), content_type="application/json")


def file(client: Client, sheet: str, fields: list[str], form: str = "csv", **more: Any) -> Any:
    columns = [{"field": name, "head": name.upper()} for name in fields]
    return post(client, f"{sheet}/file", {"form": form, "columns": columns, **more})


def content(answer: Any) -> bytes:
    assert answer.status_code == 200, answer.content
    return b"".join(answer.streaming_content)


def read_csv(data: bytes) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(data.decode("utf-8-sig"), newline="")))


def all_rows(client: Client, sheet: str, limit: int = 200, **query: str) -> list[dict[str, Any]]:
    """Every row of a sheet, page by page."""
    found: list[dict[str, Any]] = []
    cursor = ""
    while True:
        answer = client.get(PATHS[sheet], {**query, "cursor": cursor, "limit": limit})
        assert answer.status_code == 200, answer.content
        page = answer.json()
        found += page["rows"]
        cursor = page["next"]
        if not cursor:
            return found


def as_text(told: Any, name: str) -> str:
    """A value of the API as a CSV has it."""
    if isinstance(told, bool):
        return "yes" if told else "no"
    if told and name.endswith("_at"):
        return datetime.fromisoformat(told).astimezone(company_zone()).strftime("%Y-%m-%d %H:%M:%S")
    return "" if told is None else str(told)


def same(cell: Any, text: str) -> bool:
    """A cell of a workbook says what the CSV says, and would not be worked out."""
    if cell.value is None:
        return text == ""
    if cell.data_type == "n":
        return D(str(cell.value)) == D(text)
    if cell.data_type == "d":
        return bool(cell.value.isoformat(" ").startswith(text[:10]))
    return bool(cell.data_type == "s" and cell.value == text.removeprefix("'"))


@pytest.mark.parametrize("sheet", PATHS)
def test_a_file_holds_what_the_sheet_shows(manager: Client, sheet: str, monkeypatch: pytest.MonkeyPatch) -> None:
    of = SHEETS[sheet]
    names = sorted(of.fields)
    query = {"show": "all"} if sheet == "replenishment" else {}
    shown = all_rows(manager, sheet, **query)
    if of.inner:
        shown = [{**row, **inner} for row in shown for inner in row[of.inner]]
    assert len(shown) >= (1 if sheet == "forecasts" else 3)
    monkeypatch.setattr(sheets, "BY_COLUMN", 3)
    monkeypatch.setattr(sheets, "AT_ONCE", 3)  # so that the file is put together from many pages
    lines = read_csv(content(file(manager, sheet, names, filters=query)))
    assert [[line[name.upper()].removeprefix("'") for name in names] for line in lines] == [
        [as_text(row[name], name) for name in names] for row in shown
    ]
    # The workbook, read by its own library, holds the same as numbers, days and texts.
    book = openpyxl.load_workbook(io.BytesIO(content(file(manager, sheet, names, "xlsx", filters=query))))
    header, *rows = book.active.iter_rows()
    assert [cell.value for cell in header] == [name.upper() for name in names]
    assert len(rows) == len(lines)
    for cells, line in zip(rows, lines, strict=True):
        for cell, name in zip(cells, names, strict=True):
            assert same(cell, line[name.upper()]), (sheet, name, cell.value, line[name.upper()])


def test_money_is_a_number_with_cents_and_a_moment_is_told_by_our_clocks(manager: Client) -> None:
    take_order(
        SYSTEM,
        incoming(
            make_connection(),
            order_line(Item.objects.get(sku="SKU b"), 2),
            placed_at=datetime.fromisoformat("2027-07-01T23:30:00+00:00"),
        ),
        NOW,
    )
    data = content(file(manager, "orders", ["placed_at", "total", "units"], "xlsx", sort="-placed"))
    sheet = openpyxl.load_workbook(io.BytesIO(data)).active
    placed, total, units = sheet[2]
    assert placed.value == datetime(2027, 7, 2, 0, 30)  # summer time in Dublin
    assert (total.value, total.number_format) == (12.3, "#,##0.00")
    assert (units.value, units.number_format) == (2, "#,##0")
    assert sheet.freeze_panes == "A2"
    assert sheet["A1"].font.bold


def test_a_file_keeps_order_filters_heads_and_name(manager: Client) -> None:
    body = {
        "form": "csv",
        "title": "Was übrig ist",
        "columns": [{"field": "sku", "head": "=Our number"}, {"field": "on_hand", "head": "On hand"}],
        "sort": "-on_hand",
        "filters": {"show": "held", "q": "SKU"},
    }
    answer = post(manager, "stock/file", body)
    text = content(answer).decode("utf-8-sig")
    assert text == "'=Our number,On hand\r\nSKU =c,90\r\nSKU b,23\r\nSKU A,7\r\nSKU b,4\r\n"
    assert "%C3%BCbrig" in answer["Content-Disposition"]
    assert answer["Content-Type"] == "text/csv; charset=utf-8"


def test_a_post_for_a_file_with_a_key_makes_the_file_each_time(manager: Client) -> None:
    body = json.dumps({"form": "xlsx", "columns": [{"field": "sku", "head": "SKU"}]})
    for _ in range(2):
        answer = manager.post(
            "/api/v1/sheets/items/file", body, content_type="application/json", headers={"Idempotency-Key": "once"}
        )
        assert openpyxl.load_workbook(io.BytesIO(content(answer))).active.max_row == 5


def test_what_cannot_be_taken_as_a_file_is_refused_by_name(manager: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    for more, field in (
        ({"filters": {"colour": "red"}}, "colour"),
        ({"filters": {"location": "somewhere"}}, "location"),
        ({"filters": {"as_at": "2027-02-30"}}, "as_at"),
        ({"filters": {"as_at": "2027-02-03"}, "sort": "value"}, "sort"),
        ({"sort": "colour"}, "sort"),
    ):
        answer = file(manager, "stock", ["sku"], **more)
        assert (answer.status_code, answer.json()["field"]) == (422, field), more
    assert file(manager, "stock", ["secret"]).json()["field"] == "columns"
    assert file(manager, "agreement", ["cells"]).json()["field"] == "columns"
    assert file(manager, "stock", []).status_code == 422
    assert file(manager, "safes", ["sku"]).status_code == 404
    monkeypatch.setattr("yuvrel.core.sheets.MOST_ROWS", 3)
    answer = file(manager, "stock", ["sku"], "xlsx")
    assert (answer.status_code, answer.json()["field"]) == (422, "form")
    assert len(read_csv(content(file(manager, "stock", ["sku"])))) == 4


def test_the_agreement_file_has_a_column_for_each_channel(manager: Client) -> None:
    columns = manager.get("/api/v1/agreement").json()["columns"]
    assert len(columns) == 2
    lines = read_csv(content(file(manager, "agreement", ["sku", *(f"shown_{column['id']}" for column in columns)])))
    shown = {
        row["sku"]: {f"SHOWN_{cell['connection_id']}": as_text(cell["shown"], "shown") for cell in row["cells"]}
        for row in all_rows(manager, "agreement")
    }
    assert {line.pop("SKU").removeprefix("'"): {head: text for head, text in line.items() if text} for line in lines} == shown
    told = sorted(text for cells in shown.values() for text in cells.values())
    assert told == ["0", "0", "12", "3"]


# For each sheet: what it can be sorted by, and the field of its rows that shows it.
SORTS = {
    "items": (stock.ITEM_SORTS, {"cost": "average_cost"}),
    "stock": (
        stock.STOCK_SORTS,
        {
            "item": "title",
            "place": "location",
        },
    ),
    "moves": (stock.MOVE_SORTS, {"happened": "happened_at", "recorded": "recorded_at"}),
    "orders": (sales.SORTS, {"placed": "placed_at"}),
    "till_counts": (till_counts.SORTS, {"closed": "closed_at"}),
    "returns": (return_queries.SORTS, {"made": "made_at"}),
    "suppliers": (suppliers.SORTS, {"lead": "lead_days", "minimum": "order_minimum"}),
    "purchase_orders": (purchases.SORTS, {"place": "location", "expected": "expected_on", "made": "made_at"}),
}


def in_order(value: Any) -> Any:
    """A value as it is compared: a number where it is one, nothing below all numbers here."""
    if value is None:
        return D(0)
    try:
        return D(value)
    except ArithmeticError:
        return value


@pytest.mark.parametrize("sheet", SORTS)
def test_sorted_pages_hold_every_row_once_in_order(manager: Client, sheet: str) -> None:
    sorts, fields = SORTS[sheet]
    plain = {row["id"] for row in all_rows(manager, sheet)}
    for sort in sorts:
        for sign in ("", "-"):
            rows = all_rows(manager, sheet, limit=2, sort=sign + sort)
            assert len(rows) == len(plain)
            assert {row["id"] for row in rows} == plain
            if sort != "created":  # no row shows it
                values = [in_order(row[fields.get(sort, sort)]) for row in rows]
                assert values == sorted(values, reverse=sign == "-"), sign + sort
    refused = manager.get(PATHS[sheet], {"sort": "magic"})
    assert (refused.status_code, refused.json()["field"]) == (422, "sort")


def test_sorting_costs_no_more_queries(manager: Client) -> None:
    def queries(sort: str) -> int:
        with CaptureQueriesContext(connection) as seen:
            assert manager.get("/api/v1/stock", {"sort": sort}).status_code == 200
        return len(seen)

    assert queries("-value") == queries("available") == queries("")


SETTINGS = {
    "columns": [{"name": "sku", "width": 120}, {"name": "value", "width": None}],
    "sort": "-value",
    "filters": {"show": "held"},
    "group": None,
}


def keep(client: Client, name: str, view: int | None = None, **more: Any) -> Any:
    body = {"name": name, "settings": SETTINGS, **more}
    return post(client, f"stock/views/{view}", body, "put") if view else post(client, "stock/views", body)


def seen(client: Client) -> Any:
    return client.get("/api/v1/sheets/stock").json()


def test_a_view_is_kept_shared_opened_with_and_taken_away(company: Location) -> None:
    buyer, viewer, manager = Client(), Client(), Client()
    for client, role in ((buyer, Role.BUYER), (viewer, Role.VIEWER), (manager, Role.MANAGER)):
        client.force_login(make_user(role))
    assert seen(buyer) == {"views": [], "last": None, "opens_with": None}
    said = keep(buyer, "  What is   worth most ").json()
    assert said["said"] == "Kept as What is worth most."
    one = said["id"]
    assert [(view["name"], view["mine"], view["settings"]) for view in seen(buyer)["views"]] == [
        ("What is worth most", True, SETTINGS)
    ]
    assert seen(viewer)["views"] == []
    assert post(viewer, "stock/opens-with", {"view": one}, "put").status_code == 404
    assert keep(viewer, "mine now", one, version=1).status_code == 404

    assert keep(buyer, "Worth most", one, version=1, shared=True).status_code == 200
    assert keep(buyer, "Worth more", one, version=1).status_code == 409  # kept meanwhile in another tab
    assert [(view["name"], view["mine"], view["owner"]) for view in seen(viewer)["views"]] == [("Worth most", False, "buyer")]
    assert post(viewer, "stock/opens-with", {"view": one}, "put").status_code == 204
    assert seen(viewer)["opens_with"] == one
    refused = keep(viewer, "Worth most", one, version=2)
    assert (refused.status_code, refused.json()["detail"][:38]) == (403, "This view belongs to somebody else. Ke")
    assert viewer.delete(f"/api/v1/sheets/stock/views/{one}").status_code == 403
    assert viewer.delete(f"/api/v1/sheets/orders/views/{one}").status_code == 404

    # No longer shared, it is gone for the others, and their sheet opens as it comes.
    assert keep(buyer, "Worth most", one, version=2).status_code == 200
    assert (seen(viewer)["views"], seen(viewer)["opens_with"]) == ([], None)
    assert manager.delete(f"/api/v1/sheets/stock/views/{one}").status_code == 404
    assert keep(buyer, "Worth most", one, version=3, shared=True).status_code == 200
    assert manager.delete(f"/api/v1/sheets/stock/views/{one}").status_code == 204
    assert AuditRow.objects.get(action="took away a view").before["name"] == "Worth most"
    assert (seen(buyer)["views"], SheetView.objects.count()) == ([], 0)


def test_a_view_that_cannot_be_looked_at_is_not_kept(manager: Client) -> None:
    for settings, field in (
        ({"sort": "colour"}, "sort"),
        ({"filters": {"colour": "red"}}, "colour"),
        ({"filters": {"as_at": "2027-01-01"}, "sort": "value"}, "sort"),
    ):
        answer = post(manager, "stock/views", {"name": "x", "settings": settings})
        assert (answer.status_code, answer.json()["field"]) == (422, field)
    assert keep(manager, "   ").json()["field"] == "name"
    assert keep(manager, "One").status_code == 200
    again = keep(manager, "One")
    assert (again.status_code, again.json()["detail"]) == (422, "You have a view called One already.")
    assert post(manager, "orders/views", {"name": "One", "settings": {}}).status_code == 200
    assert SheetView.objects.count() == 2


def test_how_a_sheet_was_last_is_each_persons_own(manager: Client) -> None:
    assert post(manager, "stock/last", SETTINGS, "put").status_code == 204
    assert seen(manager)["last"] == SETTINGS
    assert post(manager, "stock/last", {**SETTINGS, "filters": {"colour": "red"}}, "put").json()["field"] == "colour"
    assert post(manager, "stock/last", {**SETTINGS, "columns": [{"name": "sku", "width": 9}]}, "put").status_code == 422
    other = Client()
    other.force_login(make_user(Role.VIEWER))
    assert seen(other)["last"] is None
    assert post(manager, "safes/last", SETTINGS, "put").status_code == 404


def test_too_many_views_are_refused(manager: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("yuvrel.people.views.MOST_VIEWS", 2)
    assert [keep(manager, name).status_code for name in ("a", "b", "c")] == [200, 200, 422]


def test_a_past_day_stands_in_the_order_of_its_items(manager: Client) -> None:
    day = date(2027, 1, 1).isoformat()
    assert manager.get("/api/v1/stock", {"as_at": day}).status_code == 200
    answer = manager.get("/api/v1/stock", {"as_at": day, "sort": "value"})
    assert (answer.status_code, answer.json()["field"]) == (422, "sort")


# A screen outlives its rows

LISTS = {
    **PATHS,
    "accounts": "/api/v1/accounts",
    "connections": "/api/v1/connections",
    "listings": "/api/v1/listings?link=linked",
    "beams": "/api/v1/agreement",
}


@pytest.fixture
def every_second_fails(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every second thing that is worked out for a screen cannot be."""
    real, count = faults.row_or, itertools.count()

    def row_or(make: Any, *others: Any) -> Any:
        def fails() -> Any:
            raise OverflowError("too much")

        return real(make if next(count) % 2 else fails, *others)

    for module in (faults, planning, order_page, today):
        monkeypatch.setattr(module, "row_or", row_or)
    # Rows that are all sound are checked together; here they never are.
    monkeypatch.setattr(faults, "_checker", lambda *of: None)


@pytest.mark.usefixtures("company", "every_second_fails")
@pytest.mark.parametrize("name", LISTS)
def test_a_sheet_outlives_rows_that_cannot_be_worked_out(manager: Client, name: str) -> None:
    asked = {"show": "all"} if name in ("replenishment", "agreement") else {"state": ""} if name == "orders" else {}
    found = manager.get(LISTS[name], asked).json()
    rows = found if isinstance(found, list) else found["beams"] if name == "beams" else found["rows"]
    said = [row["fault"] for row in rows]
    assert any(said), "one could not be worked out, and says so"
    assert len(said) == 1 or not all(said), "the others stand"
    assert all(fault.endswith("cannot be worked out (OverflowError).") for fault in said if fault)
    if name in SHEETS:
        field = next(n for n in ("number", "title", "memo", "name", "label") if SHEETS[name].has(n))
        names = [field, *sorted(SHEETS[name].fields - {field})]
        lines = [list(line.values()) for line in read_csv(content(file(manager, name, names, filters=asked)))]
        broken = [line for line in lines if any("cannot be worked out" in cell for cell in line)]
        assert 0 < len(broken) < len(lines) or len(lines) == 1
        assert all(line[0] for line in lines), "what a line is about is known"
    faults.record_faults()
    relay_now()
    assert Snag.objects.filter(title="A row of a sheet cannot be worked out").count() >= sum(map(bool, said))


@pytest.mark.usefixtures("company", "every_second_fails")
def test_pages_and_paper_outlive_lines_that_cannot_be_worked_out(manager: Client) -> None:
    assert manager.get("/api/v1/today").json()["faults"]
    order = manager.get(f"/api/v1/orders/{SalesOrder.objects.latest('pk').pk}").json()
    assert order["contribution"] is None or any(line["fault"] for line in order["lines"])
    bought = PurchaseOrder.objects.latest("pk").pk
    page = manager.get(f"/api/v1/purchase-orders/{bought}").json()
    assert page["total"] is None or any(line["fault"] for line in page["lines"])
    assert manager.get(f"/api/v1/documents/purchase-order/{bought}/forms/order").content.startswith(b"%PDF")


def test_an_order_whose_total_is_no_number_stands_in_its_place(manager: Client) -> None:
    """A value that no figure of the wire takes, in the very column that a row is known by no more."""
    broken = SalesOrder.objects.latest("pk")
    with connection.cursor() as cursor:
        cursor.execute("UPDATE sales_salesorder SET total = 'NaN' WHERE id = %s", [broken.pk])
    found = manager.get("/api/v1/orders").json()
    faults = {row["number"]: row["fault"] for row in found["rows"]}
    assert faults.pop(broken.number).endswith("cannot be worked out (ValidationError).")
    assert faults and not any(faults.values())
    assert found["total"] is None
    assert manager.get("/api/v1/today").status_code == 200
    assert len(read_csv(content(file(manager, "orders", ["number", "total"])))) == len(found["rows"])
