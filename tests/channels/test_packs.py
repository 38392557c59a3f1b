"""A listing that stands for several units of an item: quantities divided and rounded down, sales multiplied, what left
told as the channel counts it. Check values of the design: 02-domain, *Pairing*."""

from __future__ import annotations

from decimal import Decimal as D

import numpy as np
import pytest
from django.utils import timezone
from hypothesis import given
from hypothesis import strategies as st

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.channels.test_prices import variant
from tests.invariants import assert_invariants
from tests.world import give, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.channels import inbound, linking
from yuvrel.channels.listing_page import listing_page
from yuvrel.channels.models import Listing
from yuvrel.channels.queries import offer_working
from yuvrel.core.availability import in_packs
from yuvrel.core.errors import BadInputError
from yuvrel.core.pairing import Side, units_of
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def tray(world: World, units: int = 3) -> Listing:
    """The shop's large smoker is a tray of small ones, of which ten are there."""
    row = Listing.objects.get(connection=world.shop, sku="SMK-L")
    linking.link(SYSTEM, row.pk, world.small.pk, units=units)
    settle()
    return Listing.objects.get(pk=row.pk)


@given(st.integers(0, 10**9), st.integers(2, 10**4))
def test_whole_ones_are_shown(thousandths: int, units: int) -> None:
    shown = int(in_packs(np.array([thousandths]), np.array([units]))[0])
    assert shown % 1000 == 0
    assert shown * units <= thousandths < (shown + 1000) * units


def test_one_unit_shows_what_it_did() -> None:
    assert in_packs(np.array([38_000, 38_000, 2_500]), np.array([12, 1, 1])).tolist() == [3_000, 38_000, 2_500]


@pytest.mark.parametrize(
    "there, here, units",
    [
        ("Honey jar 340 ml, tray of 24", "Honey jar 340 ml", 24),
        ("Honey jar, pack of 24", "Honey jar, pack of 12", 2),
        ("Honey jar, pack of 24", "Honey jar, pack of 10", 1),
        ("Honey jar", "Honey jar, pack of 12", 1),
        ("Honey jar, pack of 12", "Honey jar 12", 1),
        ("Smoker", "Smoker", 1),
    ],
)
def test_how_many_it_seems_to_be(there: str, here: str, units: int) -> None:
    assert units_of(Side(there, None, {}, ()), Side(here, None, {}, ())) == units


@pytest.mark.django_db
def test_a_tray_is_shown_sold_shipped_and_told(world: World) -> None:
    row = tray(world)
    assert (row.units, row.offered, world.shown("SMK-L")) == (3, D(3), 3)
    working = offer_working(row.pk, company_day(timezone.now()))
    assert [(s.label, s.value) for s in working.steps if s.kind == "result"] == [("Offered", D(10)), ("Shown", D(3))]
    sold = world.buy({"v2": 2, "v1": 1})
    inbound.poll(world.shop)
    settle()
    order = SalesOrder.objects.get(external_number=sold["number"])
    line = order.lines.get(units=3)
    assert (order.state, line.quantity, line.net + line.tax) == ("ready", D(6), D("49.20"))
    # Ten less seven: three single ones, or one tray.
    assert (world.shown("SMK-S"), world.shown("SMK-L")) == (3, 1)
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(4)})
    ship(SYSTEM, order.pk, at=timezone.now(), quantities={line.pk: D(2)})
    settle()
    there = world.standins.store.get("web", "order", sold["id"]) or {}
    told = [[(one["id"], D(one["quantity"])) for one in shipment["lines"]] for shipment in there["shipments"]]
    assert told == [[("l1", D(1))], [("l1", D(1))]]
    agreement.check_all()
    assert not Drift.objects.filter(healed_at=None).exists()
    assert_invariants()


@pytest.mark.django_db
def test_past_zero_is_told_in_trays(world: World) -> None:
    tray(world)
    set_rules(world.shop, selling_past_zero="backorder", past_zero_limit=7)
    settle()
    shown = variant(world, "SMK-L")
    # 10 there and 7 more: 17 are five trays, three of them from the shelf.
    assert (shown["quantity"], shown["selling"]["past_zero"]) == (5, "2")
    set_rules(world.shop, past_zero_limit=1)
    settle()
    shown = variant(world, "SMK-L")
    assert (shown["quantity"], "past_zero" in shown["selling"], "badge" in shown["selling"]) == (3, False, False)


@pytest.mark.django_db
def test_its_price_is_that_of_so_many_and_the_floor_counts_their_cost(world: World) -> None:
    row = tray(world)
    set_rules(world.shop, price_owner="here")
    settle()
    assert variant(world, "SMK-L")["price"] == "73.80"
    set_rules(world.shop, margin_floor="61")
    settle()
    # 60.00 net for three that cost 8.00 each leave 60 %.
    assert listing_page(row.pk)["price_state"] == "held"


@pytest.mark.django_db
def test_it_stands_for_one_again_when_it_goes_back_to_the_bench(world: World) -> None:
    row = tray(world)
    for units in (0, 10_001):
        with pytest.raises(BadInputError, match="1 to 10,000"):
            linking.link(SYSTEM, row.pk, world.small.pk, units=units)
    linking.unlink(SYSTEM, row.pk)
    assert Listing.objects.get(pk=row.pk).units == 1
    give(world.small, 1, "8.00")
