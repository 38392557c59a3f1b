"""What a rehearsal says is what comes when the rules are saved."""

from __future__ import annotations

import json
from decimal import Decimal as D
from typing import Any

import pytest
from django.test import Client
from hypothesis import given
from hypothesis import strategies as st

from tests.world import give, make_bundle, make_company, make_connection, make_item, make_listing, make_user
from yuvrel.channels.actions import change_settings
from yuvrel.channels.models import Connection, Listing
from yuvrel.channels.offers import recompute_connections
from yuvrel.channels.rehearsal import rehearse_rules
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.core.rehearsal import Shift, rehearse
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Actor, Role

pytestmark = pytest.mark.django_db


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
        {"share_percent": D(50), "maximum": D(4)},
        {"minimum": D(6)},
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
    said = rehearse_rules(SYSTEM, shop.pk, changes)
    assert dict(Listing.objects.exclude(offered=None).values_list("pk", "offered")) == before
    assert (said["listings"], said["units_now"]) == (4, sum(before.values()))
    change_settings(SYSTEM, shop.pk, shop.version, changes)
    recompute_connections({shop.pk: "rules"})
    after = dict(Listing.objects.exclude(offered=None).values_list("pk", "offered"))
    moved = {pk: (before[pk], units) for pk, units in after.items() if units != before[pk]}
    assert {row["listing_id"]: (row["now"], row["then"]) for row in said["rows"]} == moved
    assert said["rising"] == sum(1 for now, then in moved.values() if then > now)
    assert said["to_zero"] == sum(1 for _, then in moved.values() if then == 0)
    assert said["units_then"] == sum(after.values())


def test_the_margin_at_stake_is_price_without_tax_less_average_cost(shop: Connection) -> None:
    """12.30 with 23 % tax is 10.00 net; ONE costs 2.00, TWO 9.00, the kit 4 × 2.00 + 2.00."""
    said = rehearse_rules(SYSTEM, shop.pk, {"buffer": D(3)})
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
        ({"maximum": "-1"}, "maximum"),
        ({"feeds": [10**6]}, "feeds"),
    ],
)
def test_rules_that_cannot_be_are_refused_by_name(shop: Connection, client: Client, changes: dict[str, Any], field: str) -> None:
    client.force_login(make_user(Role.MANAGER))
    answer = client.post(f"/api/v1/connections/{shop.pk}/rehearsal", json.dumps(changes), content_type="application/json")
    assert (answer.status_code, answer.json()["field"]) == (422, field)
    with pytest.raises(BadInputError):
        change_settings(SYSTEM, shop.pk, shop.version, {k: D(v) if isinstance(v, str) else v for k, v in changes.items()})


def test_only_who_may_connect_rehearses_and_only_what_shows_quantities(shop: Connection) -> None:
    with pytest.raises(ForbiddenError):
        rehearse_rules(Actor("B", Role.BUYER), shop.pk, {})
    ledger = make_connection("ledger", accounts={})
    with pytest.raises(RefusedError, match="shows no quantities"):
        rehearse_rules(SYSTEM, ledger.pk, {})


def test_a_rehearsal_takes_a_fixed_number_of_queries(shop: Connection, django_assert_max_num_queries: Any) -> None:
    for n in range(12):
        make_listing(shop, make_item(f"MORE-{n}", on_hand=5), price=D("12.30"))
    with django_assert_max_num_queries(18):
        assert rehearse_rules(SYSTEM, shop.pk, {"buffer": D(1)})["falling"] == 16
