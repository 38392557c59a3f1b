"""How items are replenished, as settings: every level, many at once, tried out before they count, and what follows."""

from __future__ import annotations

from typing import Any

import pytest
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from tests.server.test_forecasts import BUYER, sold
from tests.world import NOW, make_item, make_supplier
from yuvrel.catalogue.models import Category, Item
from yuvrel.channels import offers, price_rules
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.planning import forecasts, plan, policies
from yuvrel.planning import rules as planning_rules
from yuvrel.planning.models import ItemForecast, PlanRow
from yuvrel.planning.queries import one_line, terms_of
from yuvrel.planning.rules import NAMES, standing_of, standings, stocked_rungs
from yuvrel.rules.actions import change, rung_at
from yuvrel.rules.models import SettingValue
from yuvrel.rules.queries import setting_working
from yuvrel.rules.registry import SETTINGS
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db


def put(item: Item, place: Location, level: Level, **values: Any) -> Rung:
    """Set values at a level on the way of an item at a place."""
    rung = rung_at("stocked", f"{item.pk}-{place.pk}", level.value)
    change(BUYER, rung, values, NOW)
    return rung


def cover(item: Item, place: Location) -> int:
    return one_line(item.pk, place.pk, NOW.date()).policy.cover_days


def test_the_nearest_level_counts_and_inherits_again(company: Location) -> None:
    item, other = make_item(on_hand=5), make_item(on_hand=5)
    wagon = Location.objects.get(code="wagon")
    StockBalance.objects.get_or_create(item=item, location=wagon)
    levels = [Level.COMPANY, Level.PLACE, Level.CATEGORY, Level.PRODUCT, Level.ITEM, Level.ITEM_AT_PLACE]
    assert cover(item, company) == 30
    for days, level in enumerate(levels, 40):
        put(item, company, level, cover_days=days)
        assert cover(item, company) == days
    # Another item of the category, and the same one elsewhere, share what their ways share.
    assert (cover(other, company), cover(item, wagon)) == (42, 44)
    for level in reversed(levels):
        SettingValue.objects.filter(level=level.value).delete()
    assert cover(item, company) == 30


def test_the_lead_time_is_the_suppliers_unless_the_item_has_its_own(company: Location) -> None:
    item, unsupplied = make_item(on_hand=5), make_item(on_hand=5)
    make_supplier(item, lead_days=9)
    lead = [one_line(one.pk, company.pk, NOW.date()).policy.lead_days for one in (item, unsupplied)]
    assert lead == [9, 14]
    put(item, company, Level.COMPANY, lead_days=20)
    lead = [one_line(one.pk, company.pk, NOW.date()).policy.lead_days for one in (item, unsupplied)]
    assert lead == [9, 20]
    put(item, company, Level.ITEM, lead_days=3)
    assert one_line(item.pk, company.pk, NOW.date()).policy.lead_days == 3
    working = setting_working("stocked", f"{item.pk}-{company.pk}", "lead_days")
    notes = {step.label: step.note for step in working.steps}
    assert "overruled" in notes[next(label for label in notes if label.startswith("Supplier"))]
    with pytest.raises(BadInputError, match="cannot be set for a supplier"):
        change(BUYER, rung_at("stocked", f"{item.pk}-{company.pk}", "supplier"), {"lead_days": 5}, NOW)


def test_many_at_once_are_what_each_is_alone(company: Location) -> None:
    items = [make_item(on_hand=1) for _ in range(4)]
    make_supplier(items[0], lead_days=33)
    mill = Location.objects.get(code="mill-lane")
    put(items[1], company, Level.ITEM_AT_PLACE, cover_days=5, safety="units", safety_units="4")
    put(items[2], company, Level.ITEM, reorder="min_max", reorder_point="3", order_up_to="9")
    put(items[3], mill, Level.PLACE, safety="days", safety_days="2.5")
    put(items[3], mill, Level.COMPANY, service_level="98.5", lead_days=21)
    pairs = [(item.pk, place.pk) for item in items for place in (company, mill)]
    found = standings(pairs, terms_of(None))
    for pair in pairs:
        assert found[pair].values == standing_of(*pair).values, pair
        assert found[pair].policy == standing_of(*pair).policy
    assert set(found[pairs[0]].values) == set(NAMES)


def test_a_change_is_tried_out_then_made_and_what_follows_is_worked_out(company: Location) -> None:
    item = make_item(on_hand=0)
    make_supplier(item, lead_days=10)
    sold(item, company, 30, left=1)
    plan.refresh(timezone.now())
    today = company_day(timezone.now())
    rung = stocked_rungs(item.pk, company.pk)[0]
    told = policies.rehearse(BUYER, rung, {"cover_days": 900}, (item.pk, company.pk), today)
    assert told["then"]["quantity"] > told["now"]["quantity"]
    assert (told["reached"], told["rehearsed"], told["changing"]) == (1, 1, 1)
    assert told["rows"][0]["more"] == told["amount_then"] - told["amount_now"] > 0
    assert not SettingValue.objects.filter(name="cover_days").exists()
    put(item, company, Level.ITEM_AT_PLACE, cover_days=900)
    assert PlanRow.objects.get(item=item).suggested < told["then"]["quantity"]
    plan.catch_up(timezone.now())
    assert PlanRow.objects.get(item=item).suggested == told["then"]["quantity"]


def test_a_category_is_rehearsed_over_all_it_reaches(company: Location, monkeypatch: pytest.MonkeyPatch) -> None:
    items = [make_item(on_hand=0) for _ in range(3)]
    for item in items:
        make_supplier(item, lead_days=10)
        sold(item, company, 20, left=1)
    plan.refresh(timezone.now())
    category = Category.objects.get(name="Things")
    rung = Rung(Level.CATEGORY, category.name, category.pk)
    today = company_day(timezone.now())
    told = policies.rehearse(BUYER, rung, {"cover_days": "300"}, None, today)
    assert (told["reached"], told["rehearsed"], told["changing"], told["now"]) == (3, 3, 3, None)
    assert told["amount_then"] == sum(row["amount_then"] for row in told["rows"])
    monkeypatch.setattr(policies, "MOST_REHEARSED", 2)
    told = policies.rehearse(BUYER, rung, {"cover_days": "300"}, None, today)
    assert (told["reached"], told["rehearsed"]) == (3, 2)
    nowhere = policies.rehearse(
        BUYER, Rung(Level.PLACE, "x", Location.objects.get(code="wagon").pk), {"cover_days": 1}, None, today
    )
    assert (nowhere["reached"], nowhere["rows"]) == (0, [])


def test_another_method_has_its_category_forecast_anew(company: Location, django_capture_on_commit_callbacks: Any) -> None:
    item = make_item(on_hand=0)
    make_supplier(item, lead_days=10)
    sold(item, company, 30, left=1)
    plan.refresh(timezone.now())
    with django_capture_on_commit_callbacks(execute=True):
        put(item, company, Level.CATEGORY, forecast_method="sba")
        plan.catch_up(timezone.now())
    job = ProcrastinateJob.objects.get(task_name="planning.forecast_category")
    forecasts.forecast_category(job.args["item_id"], timezone.now())
    kept = ItemForecast.objects.get()
    assert (kept.method, kept.why) == ("sba", "asked")


def test_a_reorder_point_and_a_maximum_go_before_the_sum(company: Location) -> None:
    item = make_item(on_hand=4)
    make_supplier(item, pack=1)
    put(item, company, Level.ITEM, reorder="min_max", reorder_point="5", order_up_to="20")
    assert one_line(item.pk, company.pk, company_day(timezone.now())).suggestion.quantity == 16
    # Levels that do not know each other: the maximum is then the point itself.
    put(item, company, Level.ITEM_AT_PLACE, reorder_point="30")
    assert one_line(item.pk, company.pk, company_day(timezone.now())).suggestion.quantity == 26


@pytest.mark.parametrize(
    ("values", "field"),
    [
        ({"service_level": "100"}, "service_level"),
        ({"forecast_method": "tea leaves"}, "forecast_method"),
        ({"reorder_point": "9", "order_up_to": "3"}, "order_up_to"),
        ({"order_up_to": "2"}, "order_up_to"),
        ({"safety_units": "-1"}, "safety_units"),
        ({"lead_days": "-1"}, "lead_days"),
        ({"lead_days": "1o"}, "lead_days"),
    ],
)
def test_what_cannot_be_is_refused_by_name(company: Location, values: dict[str, Any], field: str) -> None:
    item = make_item(on_hand=4)
    put(item, company, Level.ITEM_AT_PLACE, reorder_point="3")
    with pytest.raises(BadInputError) as refused:
        put(item, company, Level.ITEM_AT_PLACE, **values)
    assert refused.value.field == field
    assert SettingValue.objects.count() == 1


def test_what_is_stocked_nowhere_has_no_way(company: Location) -> None:
    service = make_item()
    Item.objects.filter(pk=service.pk).update(kind=Item.Kind.SERVICE)
    for key in (f"{service.pk}-{company.pk}", f"{service.pk}", "1-2-3", "-", "x-1", f"{service.pk}-{'9' * 30}"):
        with pytest.raises(NotFoundError):
            rung_at("stocked", key, "item")


def test_every_rule_that_changes_what_is_shown_or_reordered_is_rehearsed() -> None:
    shown = {SETTINGS[name].rehearsal for name in (*offers.SETTING_NAMES, *price_rules.SET)}
    assert shown == {"shown"}
    assert {setting.rehearsal for setting in SETTINGS.values() if setting.group == planning_rules.GROUP} == {"reorder"}
