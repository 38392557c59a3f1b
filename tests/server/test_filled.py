"""Places that another place of ours fills: what they need is sent from there, and counts there."""

from __future__ import annotations

import json
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from tests.snapshot import once
from tests.world import give, incoming, make_company, make_connection, make_item, make_supplier, order_line
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import BadInputError
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.planning import plan, policies
from yuvrel.planning.models import PlanRow
from yuvrel.planning.queries import Line, one_line, replenishment
from yuvrel.rules.actions import change
from yuvrel.rules.queries import history, sheet
from yuvrel.sales.actions import take_till_sale
from yuvrel.stock import transfers
from yuvrel.stock.models import Transfer

pytestmark = pytest.mark.django_db
NOW = timezone.now()
TODAY = NOW.date()


@pytest.fixture
def wagon(company: Location) -> Location:
    return Location.objects.get(code="wagon")


def at(place: Location) -> Rung:
    return Rung(Level.PLACE, place.name, place.pk)


def sells_at(place: Location, sku: str, a_day: int, left: int) -> Item:
    """An item that sells so many a day there, for sixty days, of which so many are left."""
    item = Item.objects.filter(sku=sku).first() or make_item(sku)
    give(item, a_day * 60 + left, place=place)
    till = make_connection("till", fulfils_from=place, state="paused")
    for day in range(1, 61):
        take_till_sale(SYSTEM, incoming(till, order_line(item, a_day), placed_at=NOW - timedelta(days=day)))
    return item


def fixed(place: Location, **values: Any) -> None:
    """No safety stock, so that the sums can be followed by hand."""
    change(SYSTEM, at(place), {"safety": "units", "safety_units": "0", **values}, NOW)


@pytest.fixture
def company(db: None) -> Location:
    """One item, of which a day one is sold at the wagon with 5 left and two at the yard with 20 left; the supplier takes
    ten days. Returns the yard."""

    def build() -> int:
        yard = make_company()
        wagon = Location.objects.get(code="wagon")
        item = sells_at(wagon, "SMK", 1, 5)
        sells_at(yard, "SMK", 2, 20)
        make_supplier(item, lead_days=10)
        fixed(yard, cover_days=20)
        fixed(wagon, cover_days=20)
        return yard.pk

    return Location.objects.get(pk=once("two places", build))


@pytest.fixture
def two(company: Location) -> Item:
    return Item.objects.get(sku="SMK")


def line(item: Item, place: Location) -> Line:
    return one_line(item.pk, place.pk, company_day(NOW))


def per_day(found: Line) -> D:
    return found.suggestion.terms.demand / found.policy.days


def test_what_a_place_needs_is_sent_from_the_other_and_counts_there(company: Location, wagon: Location, two: Item) -> None:
    alone = line(two, company)
    assert line(two, wagon).source is None
    assert line(two, wagon).terms is not None
    change(SYSTEM, at(wagon), {"fed_from": company.code, "transfer_days": 3}, NOW)
    fed, feeding = line(two, wagon), line(two, company)
    assert (fed.source, fed.terms, fed.policy.lead_days) == (company, None, 3)
    demand = fed.suggestion.terms.demand
    assert fed.suggestion.quantity == (demand - 5).to_integral_value(rounding="ROUND_CEILING"), "3 + 20 days, less what is there"
    assert feeding.source is None
    assert feeding.suggestion.position.to_feed == fed.suggestion.quantity
    assert feeding.suggestion.need == alone.suggestion.need + fed.suggestion.quantity
    assert fed.ready == min(fed.suggestion.quantity, D(20)), "what is free at the yard can go at once"
    working = fed.suggestion.working
    assert working.title == f"How many should come from {company.name}?"
    assert any(step.label == "To feed other places" for step in feeding.suggestion.working.steps)


def test_what_is_reserved_for_a_transfer_is_not_needed_twice(company: Location, wagon: Location, two: Item) -> None:
    change(SYSTEM, at(wagon), {"fed_from": company.code, "transfer_days": 3}, NOW)
    fed, feeding = line(two, wagon), line(two, company)
    row = transfers.draft(SYSTEM, company.pk, wagon.pk, [transfers.Load(two.pk, D(8))], TODAY + timedelta(days=2))
    transfers.reserve(SYSTEM, row.pk, row.version)
    # Eight of what the wagon needs are seen to; of the yard's twenty twelve are left, and all in all as much is to be bought.
    assert line(two, wagon).suggestion.quantity == fed.suggestion.quantity - 8
    assert line(two, company).suggestion.need == feeding.suggestion.need
    assert line(two, wagon).ready == min(fed.suggestion.quantity - 8, D(12))


def test_a_place_that_fills_two_sends_first_to_the_one_that_runs_out_first(company: Location, wagon: Location, two: Item) -> None:
    mill = Location.objects.get(code="mill-lane")
    sells_at(mill, "SMK", 1, 12)
    fixed(mill, cover_days=20, fed_from=company.code)
    change(SYSTEM, at(wagon), {"fed_from": company.code}, NOW)
    first, second = line(two, wagon), line(two, mill)
    assert first.suggestion.cover_days < second.suggestion.cover_days  # type: ignore[operator]
    assert first.ready == first.suggestion.quantity
    assert second.ready == min(second.suggestion.quantity, D(20) - first.ready)
    assert line(two, company).suggestion.position.to_feed == first.suggestion.quantity + second.suggestion.quantity


def test_one_row_of_the_sheet_says_the_same_as_all_of_it(company: Location, wagon: Location, two: Item) -> None:
    change(SYSTEM, at(wagon), {"fed_from": company.code}, NOW)
    whole = {(row.item.pk, row.location.pk): row.suggestion.quantity for row in replenishment(company_day(NOW), rates=False)}
    assert whole[two.pk, wagon.pk] > 0
    for place in (company, wagon):
        assert line(two, place).suggestion.quantity == whole[two.pk, place.pk]


def test_a_circle_is_named_in_its_rows(company: Location, wagon: Location, two: Item) -> None:
    change(SYSTEM, at(wagon), {"fed_from": company.code}, NOW)
    change(SYSTEM, at(company), {"fed_from": wagon.code}, NOW)
    rows = replenishment(company_day(NOW), {(two.pk, wagon.pk), (two.pk, company.pk)})
    assert len(rows) == 2
    assert all("feed one another in a circle: Tannery Yard > The Wagon" in row.fault for row in rows), [row.fault for row in rows]


def test_a_place_can_only_be_filled_by_another_that_there_is(company: Location, wagon: Location) -> None:
    for code, said in (("nowhere", "no such place"), (wagon.code, "cannot fill itself")):
        with pytest.raises(BadInputError, match=said):
            change(SYSTEM, at(wagon), {"fed_from": code}, NOW)


def test_where_it_is_filled_from_is_read_by_name(
    company: Location, wagon: Location, two: Item, django_assert_max_num_queries: Any
) -> None:
    change(SYSTEM, at(wagon), {"fed_from": company.code}, NOW)
    with django_assert_max_num_queries(16), CaptureQueriesContext(connection) as asked:
        found = sheet("stocked", f"{two.pk}-{wagon.pk}")["settings"]
    places = [one for one in asked.captured_queries if one["sql"].startswith('SELECT "people_location"')]
    assert len(places) <= 2, "the places that can be chosen are asked for once, whatever the levels"
    (setting,) = [one for one in found if one["name"] == "fed_from"]
    assert (setting["said"], setting["source"]) == (company.name, wagon.name)
    assert {"value": wagon.code, "label": wagon.name} in setting["choices"]
    assert history("stocked", f"{two.pk}-{wagon.pk}")[0]["after"] == company.name


def test_a_rehearsal_shows_both_sides_before_anything_is_set(company: Location, wagon: Location, two: Item) -> None:
    plan.refresh(NOW)
    told = policies.rehearse(SYSTEM, at(wagon), {"fed_from": company.code, "transfer_days": 3}, None, company_day(NOW))
    (moved,) = told["rows"]
    assert (moved["location"], moved["amount_then"]) == (wagon.name, 0)
    change(SYSTEM, at(wagon), {"fed_from": company.code, "transfer_days": 3}, NOW)
    assert line(two, wagon).suggestion.quantity == moved["then"]


def test_the_sheet_drafts_transfers_beside_purchase_orders(
    company: Location, wagon: Location, two: Item, manager: Client
) -> None:
    change(SYSTEM, at(wagon), {"fed_from": company.code, "transfer_days": 3}, NOW)
    plan.refresh(NOW)
    row = PlanRow.objects.get(item=two, location=wagon)
    assert (row.source, row.supplier, row.unsupplied) == (company, None, False)
    head = manager.get("/api/v1/replenishment").json()
    assert head["sources"] == [{"id": company.pk, "name": company.name}]
    shown = manager.get("/api/v1/replenishment/rows").json()["rows"]
    assert [(one["location"], one["source"], one["supplier"] != "") for one in shown] == [
        (wagon.name, company.name, False),
        (company.name, "", True),
    ]
    lines = [{"item_id": two.pk, "location_id": one["location_id"], "quantity": one["suggested"]} for one in shown]
    made = manager.post("/api/v1/purchase-orders", json.dumps({"lines": lines}), content_type="application/json").json()
    assert [one["number"] for one in made["orders"]] == ["PO-1001"]
    assert [one["number"] for one in made["transfers"]] == ["TR-1001"]
    moved = Transfer.objects.get()
    assert (moved.source, moved.destination, moved.expected_on) == (company, wagon, company_day(NOW) + timedelta(days=3))
    assert moved.lines.get().quantity == D(shown[0]["suggested"])  # type: ignore[attr-defined]
    assert PurchaseOrder.objects.get().lines.get().quantity == D(shown[1]["suggested"])


def test_what_is_wrong_in_one_line_drafts_nothing(company: Location, wagon: Location, two: Item, manager: Client) -> None:
    change(SYSTEM, at(wagon), {"fed_from": company.code}, NOW)
    lines = [
        {"item_id": two.pk, "location_id": wagon.pk, "quantity": "3"},
        {"item_id": two.pk, "location_id": company.pk, "quantity": "0"},
    ]
    answer = manager.post("/api/v1/purchase-orders", json.dumps({"lines": lines}), content_type="application/json")
    assert answer.status_code == 422
    assert not Transfer.objects.exists()
    assert not PurchaseOrder.objects.exists()
