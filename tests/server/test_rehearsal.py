"""What a rehearsal says is what comes when the rules are saved."""

from __future__ import annotations

import json
from decimal import Decimal as D
from typing import Any

import pytest
from django.test import Client
from hypothesis import given
from hypothesis import strategies as st

from tests.world import NOW, give, make_bundle, make_company, make_connection, make_item, make_listing, make_user, set_rules
from yuvrel.catalogue.models import Category
from yuvrel.channels.actions import change_settings
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.models import Connection, Listing
from yuvrel.channels.offers import recompute_connections
from yuvrel.channels.rehearsal import rehearse_rules
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.core.rehearsal import Shift, rehearse
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.rules.actions import change

pytestmark = pytest.mark.django_db


def rung_of(connection: Connection) -> Rung:
    return Rung(Level.CONNECTION, connection.name, connection.pk)


@pytest.fixture
def shop(db: None) -> Connection:
    """Three things, a kit and a service listed; one of them lies at the other place too."""
    make_company()
    one, two, three = make_item("ONE", on_hand=40), make_item("TWO", on_hand=5, cost="9.00"), make_item("THREE", on_hand=2)
    give(two, 30, "9.00", Location.objects.get(code="mill-lane"))
    kit = make_bundle("KIT", {one: 4, three: 1})
    course = make_item("COURSE")
    course.kind = "service"
    course.save()
    found = make_connection()
    for item in (one, two, three, kit, course):
        make_listing(found, item, title=item.title, price=D("12.30"))
    make_listing(found, title="not linked")
    recompute_connections({found.pk: "begin"})
    return found


@pytest.mark.parametrize(
    "changes",
    [
        {"buffer": D(3)},
        {"share_percent": D(50), "maximum_shown": D(4)},
        {"minimum_shown": D(6)},
        {"quantity_step": D(12)},
        {"basis": "projected", "projected_days": 30},
        {"feeds": ["tannery-yard", "mill-lane"]},
        {"feeds": ["mill-lane"], "buffer": D(1)},
        {"feeds": []},
    ],
)
def test_what_is_rehearsed_is_what_comes(shop: Connection, changes: dict[str, Any]) -> None:
    places = dict(Location.objects.values_list("code", "pk"))
    if "feeds" in changes:
        changes = changes | {"feeds": [places[code] for code in changes["feeds"]]}
    before = dict(Listing.objects.exclude(offered=None).values_list("pk", "offered"))
    feeds = changes.pop("feeds", None)
    said = rehearse_rules(SYSTEM, rung_of(shop), changes, feeds)
    assert dict(Listing.objects.exclude(offered=None).values_list("pk", "offered")) == before
    assert (said["listings"], said["units_now"]) == (4, sum(before.values()))
    set_rules(shop, **changes)
    if feeds is not None:
        change_settings(SYSTEM, shop.pk, shop.version, {"feeds": feeds})
    relay_now()
    after = dict(Listing.objects.exclude(offered=None).values_list("pk", "offered"))
    moved = {pk: (before[pk], units) for pk, units in after.items() if units != before[pk]}
    assert {row["listing_id"]: (row["now"], row["then"]) for row in said["rows"]} == moved
    assert said["rising"] == sum(1 for now, then in moved.values() if then > now)
    assert said["to_zero"] == sum(1 for _, then in moved.values() if then == 0)
    assert said["units_then"] == sum(after.values())


def test_the_margin_at_stake_is_price_without_tax_less_average_cost(shop: Connection) -> None:
    """12.30 with 23 % tax is 10.00 net; ONE costs 2.00, TWO 9.00, the kit 4 × 2.00 + 2.00."""
    said = rehearse_rules(SYSTEM, rung_of(shop), {"buffer": D(3)})
    assert {row["sku"]: (row["then"] - row["now"], row["at_stake"]) for row in said["rows"]} == {
        "ONE": (-3, D("24.00")),
        "TWO": (-3, D("3.00")),
        "THREE": (-2, D("16.00")),
        "KIT": (-2, D("0.00")),
    }
    assert said["at_stake"] == D("43.00")
    assert [row["sku"] for row in said["rows"]] == ["THREE", "KIT", "ONE", "TWO"]


@given(st.lists(st.tuples(st.integers(0, 9), st.integers(0, 9), st.integers(-300, 300)), max_size=12))
def test_a_rehearsal_counts_each_listing_once(rows: list[tuple[int, int, int]]) -> None:
    shifts = [Shift(n, D(now), D(then), D(cents) / 100) for n, (now, then, cents) in enumerate(rows)]
    found = rehearse(shifts)
    assert found.rising + found.falling == len(found.shifts) == sum(1 for now, then, _ in rows if now != then)
    assert found.units_then - found.units_now == sum(shift.change for shift in found.shifts)
    assert found.at_stake == sum(D(now - then) * max(0, cents) for now, then, cents in rows if then < now) / 100
    falls = [shift.then == 0 < shift.now for shift in found.shifts]
    assert falls == sorted(falls, reverse=True)


@pytest.mark.parametrize(
    ("changes", "field"),
    [
        ({"share_percent": "101"}, "share_percent"),
        ({"buffer": "-1"}, "buffer"),
        ({"maximum_shown": "-1"}, "maximum_shown"),
        ({"basis": "guess"}, "basis"),
        ({"feeds": [10**6]}, "feeds"),
    ],
)
def test_rules_that_cannot_be_are_refused_by_name(shop: Connection, client: Client, changes: dict[str, Any], field: str) -> None:
    client.force_login(make_user(Role.MANAGER))
    body = {"feeds": changes.pop("feeds")} if "feeds" in changes else {"values": changes}
    path = f"/api/v1/settings/connection/{shop.pk}"
    answer = client.post(f"{path}/rehearsal", json.dumps(body), content_type="application/json")
    assert (answer.status_code, answer.json()["field"]) == (422, field)
    if changes:
        answer = client.patch(path, json.dumps({"level": "connection", **body}), content_type="application/json")
        assert (answer.status_code, answer.json()["field"]) == (422, field)
    else:
        with pytest.raises(BadInputError):
            change_settings(SYSTEM, shop.pk, shop.version, body)


def test_only_who_may_connect_rehearses_and_only_what_shows_quantities(shop: Connection) -> None:
    with pytest.raises(ForbiddenError):
        rehearse_rules(Actor("B", Role.BUYER), rung_of(shop), {})
    ledger = make_connection("ledger")
    with pytest.raises(RefusedError, match="shows no quantities"):
        rehearse_rules(SYSTEM, rung_of(ledger), {})


def test_a_rehearsal_takes_a_fixed_number_of_queries(shop: Connection, django_assert_max_num_queries: Any) -> None:
    for n in range(12):
        make_listing(shop, make_item(f"MORE-{n}", on_hand=5), price=D("12.30"))
    with django_assert_max_num_queries(28):
        assert rehearse_rules(SYSTEM, rung_of(shop), {"buffer": D(1)})["falling"] == 16


# Levels


def test_a_listing_goes_by_the_most_specific_level_and_inherits_again(shop: Connection, client: Client) -> None:
    """One for the company, the category, the item and the listing; each of them rehearsed, saved and taken back."""
    client.force_login(make_user(Role.MANAGER))
    listing = Listing.objects.get(title="Thing ONE")
    path = f"/api/v1/settings/listing/{listing.pk}"

    def send(level: str, **body: Any) -> int:
        said = client.post(f"{path}/rehearsal", json.dumps({"level": level, **body}), content_type="application/json").json()
        answer = client.patch(path, json.dumps({"level": level, **body}), content_type="application/json")
        assert answer.status_code == 200, answer.content
        relay_now()
        shown = {row["listing_id"]: D(row["then"]) for row in said["rows"]}
        listing.refresh_from_db()
        assert shown.get(listing.pk, listing.offered) == listing.offered
        return int(listing.offered or 0)

    assert send("company", values={"buffer": "1"}) == 39
    assert send("connection", values={"buffer": "3"}) == 37
    assert send("category", values={"buffer": 6}) == 34
    assert send("category on a connection", values={"buffer": "5"}) == 35
    assert send("product", values={"buffer": "7"}) == 33
    assert send("item", values={"buffer": "4"}) == 36
    assert send("listing", values={"buffer": "2", "maximum_shown": None}) == 38
    assert send("listing", inherit=["buffer"]) == 36
    found = client.get(path).json()
    (buffer,) = (one for one in found["settings"] if one["name"] == "buffer")
    assert (buffer["value"], buffer["level"], [rung["is_set"] for rung in buffer["rungs"]]) == (
        "4",
        "item",
        [False, True, True, True, True, True, False, True],
    )
    working = client.get(f"/api/v1/workings/setting/listing.{listing.pk}.buffer").json()
    assert [step["value"] for step in working["steps"]] == [
        "inherits",
        "4 units",
        "7 units",
        "5 units",
        "6 units",
        "3 units",
        "inherits",
        "1 unit",
        "0 units",
        "4 units",
    ]
    offer = client.get(f"/api/v1/workings/offer/{listing.pk}").json()
    assert next(step["note"] for step in offer["steps"] if step["label"] == "Buffer") == "Thing ONE"
    changes = client.get(f"{path}/changes").json()
    assert [(row["level"], row["before"], row["after"]) for row in changes[:2]] == [
        ("listing", "2 units", "inherited"),
        ("listing", "inherited", "no limit"),
    ]


def test_a_change_made_meanwhile_is_not_overwritten(shop: Connection, client: Client) -> None:
    client.force_login(make_user(Role.MANAGER))
    path = f"/api/v1/settings/connection/{shop.pk}"
    seen = client.get(path).json()["rungs"][0]["version"]
    set_rules(shop, buffer=2)
    body = {"level": "connection", "values": {"buffer": "9"}, "version": seen}
    assert client.patch(path, json.dumps(body), content_type="application/json").status_code == 409
    client.force_login(make_user(Role.BUYER))
    assert client.patch(path, json.dumps(body | {"version": None}), content_type="application/json").status_code == 403
    assert client.get("/api/v1/settings/listing/99999").status_code == 404
    assert client.get("/api/v1/settings/moon/1").status_code == 404
    body = {"level": "connection", "values": {"moonlight": 1}}
    assert client.patch(path, json.dumps(body), content_type="application/json").status_code in (403, 404)


def test_what_a_deeper_category_says_goes_before_what_it_lies_in(shop: Connection) -> None:
    things = Category.objects.get(name="Things")
    things.parent = Category.objects.create(name="Goods")
    things.save()
    change(SYSTEM, Rung(Level.CATEGORY, "Goods", things.parent.pk), {"buffer": 30}, NOW)
    relay_now()
    listing = Listing.objects.get(title="Thing ONE")
    assert listing.offered == 10
    change(SYSTEM, Rung(Level.CATEGORY, "Things", things.pk), {"buffer": 1}, NOW)
    relay_now()
    listing.refresh_from_db()
    assert (listing.offered, listing.offer_cause) == (39, "buffer of Things")


def test_two_things_of_one_name_are_both_worked_out(shop: Connection) -> None:
    """Changes of rules are told apart by what they were made for, not by what that is called."""
    one, two = Listing.objects.get(title="Thing ONE"), Listing.objects.get(title="Thing TWO")
    for listing in (one, two):
        change(SYSTEM, Rung(Level.LISTING, "Same", listing.pk), {"buffer": 3}, NOW)
    relay_now()
    assert [Listing.objects.get(pk=listing.pk).offered for listing in (one, two)] == [37, 2]
