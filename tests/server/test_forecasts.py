"""Forecasts kept: worked out for everything that sells, stopped, taken up again, and what people decide of them."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from decimal import Decimal as D
from typing import Any

import numpy as np
import pytest
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from tests.world import incoming, make_bundle, make_company, make_connection, make_item, make_supplier, order_line
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import ForbiddenError, NotFoundError, RefusedError
from yuvrel.core.forecast import forecast_with_categories
from yuvrel.core.outlook import Path
from yuvrel.people.models import AuditRow, Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.planning import forecasts, plan
from yuvrel.planning.demand_history import read_past
from yuvrel.planning.models import ForecastRun, ItemForecast, PlanRow
from yuvrel.planning.outlooks import head, month_of, one, sheet
from yuvrel.planning.queries import demand_of, one_line, replenishment
from yuvrel.sales.actions import take_order, take_till_sale
from yuvrel.sales.models import OrderLine
from yuvrel.stock.actions import OpeningRow, take_opening

pytestmark = pytest.mark.django_db
BUYER = Actor("Bea", Role.BUYER)


@pytest.fixture
def company() -> Location:
    return make_company()


def sold(item: Item, place: Location, weeks: int, each: int = 2, left: int = 500) -> None:
    """So many units a week for so many weeks, out of stock that lasts."""
    now = timezone.now()
    take_opening(SYSTEM, [OpeningRow(item.pk, place.pk, D(weeks * each + left), D(1))], now - timedelta(days=weeks * 7 + 1))
    till = make_connection("till", name=f"Till {item.pk}")
    for week in range(weeks):
        when = now - timedelta(days=7 * (weeks - week) - 3)
        take_till_sale(SYSTEM, incoming(till, order_line(item, each), placed_at=when))


def run() -> ForecastRun:
    found = forecasts.begin_run(BUYER, timezone.now())
    forecasts.carry_out(found.pk, timezone.now)
    found.refresh_from_db()
    return found


def test_a_run_keeps_what_the_core_says_and_the_sheet_stands_on_it(company: Location) -> None:
    item, never = make_item(), make_item()
    make_supplier(item)
    sold(item, company, 30)
    now = timezone.now()
    today = company_day(now)
    assert "sold on the" in one_line(item.pk, company.pk, today).suggestion.outlook.sentence
    take_opening(SYSTEM, [OpeningRow(never.pk, company.pk, D(1), D(1))], now)
    done = run()
    assert (done.state, done.done, done.total) == ("done", 2, 2)
    kept = ItemForecast.objects.get(item=item)
    said = forecast_with_categories(read_past([(item.pk, company.pk)], today).history.series, 13, [0])
    assert kept.path["mean"] == pytest.approx(said.mean[0].tolist(), rel=1e-4)
    assert kept.path["mean"] == pytest.approx([2.0] * 13, rel=0.15)
    assert kept.method == said.choice.names[0]
    assert kept.error == pytest.approx(said.choice.mase[kept.method][0], abs=1e-4)
    line = one_line(item.pk, company.pk, today)
    assert line.suggestion.outlook.measured
    assert line.suggestion.outlook.sentence == kept.sentence
    month = month_of(item.pk, company.pk)
    assert month.result == kept.month == sum(step.value for step in month.steps if step.kind == "term")
    working = demand_of(item.pk, company.pk, today)
    total, days = (next(step.value for step in working.steps if step.label.startswith(name)) for name in ("Demand", "Days"))
    assert line.suggestion.terms.demand == pytest.approx(total, abs=D("0.06"))
    assert working.result == line.per_day == pytest.approx(total / days, abs=D("0.006"))
    assert PlanRow.objects.get(item=item).suggested == line.suggestion.quantity


def test_a_row_with_a_forecast_needs_no_rate(company: Location) -> None:
    """The sheet does not read what was sold where a forecast stands: the row is the same, days out and all."""
    told, new = make_item(), make_item()
    sold(told, company, 20)
    run()
    sold(new, company, 5)
    today, pairs = company_day(timezone.now()), {(told.pk, company.pk), (new.pk, company.pk)}
    whole, quick = ({x.item.pk: x for x in replenishment(today, pairs, rates=rates)} for rates in (True, False))
    for pk in (told.pk, new.pk):
        assert quick[pk].suggestion.working == whole[pk].suggestion.working
        assert quick[pk].velocity.days_out == whole[pk].velocity.days_out
    assert (whole[told.pk].velocity.days_out, whole[new.pk].velocity.days_out > 0) == (0, True)
    assert (quick[told.pk].velocity.units, whole[told.pk].velocity.units > 0) == (0, True)
    assert quick[new.pk].velocity == whole[new.pk].velocity


def test_a_forecast_looks_on_from_today_and_gives_way_when_it_is_old(company: Location) -> None:
    item = make_item()
    sold(item, company, 20)
    run()
    kept = ItemForecast.objects.get()
    kept.path["mean"] = [7.0 * (n + 1) for n in range(13)]
    kept.save()
    today = kept.start
    assert one_line(item.pk, company.pk, today).suggestion.outlook.mean[0] == pytest.approx(1)
    later = one_line(item.pk, company.pk, today + timedelta(days=14)).suggestion.outlook
    assert later.mean[0] == pytest.approx(3)
    assert later.deviation[0] == pytest.approx(Path(**kept.path).outlook().deviation[0])
    assert not one_line(item.pk, company.pk, today + timedelta(days=70)).suggestion.outlook.measured


def test_kits_count_as_their_parts_and_time_without_stock_is_unknown(company: Location) -> None:
    part = make_item(on_hand=0)
    kit = make_bundle("KIT", {part: 3})
    now = timezone.now()
    take_opening(SYSTEM, [OpeningRow(part.pk, company.pk, D(60), D(1))], now - timedelta(days=140))
    till = make_connection("till")
    for week in range(10):
        take_till_sale(SYSTEM, incoming(till, order_line(kit, 2), placed_at=now - timedelta(days=137 - 7 * week)))
    past = read_past([(part.pk, company.pk)], company_day(now))
    series = past.history.series
    known = series.known[0]
    # A week seen in part counts for what the whole would have sold, and by that part.
    assert (series.values[0] * series.weight[0]).sum() == pytest.approx(60)
    # Sold out after ten weeks: the ten weeks since say nothing.
    assert 9 <= known.sum() <= 11
    assert np.isnan(past.last_year[0])


def test_a_one_off_is_set_aside_until_somebody_says_otherwise(company: Location) -> None:
    item = make_item()
    sold(item, company, 20)
    till = make_connection("till", name="club")
    big = take_till_sale(SYSTEM, incoming(till, order_line(item, 90), placed_at=timezone.now() - timedelta(days=9))).order
    line = OrderLine.objects.get(order=big)
    run()
    kept = ItemForecast.objects.get()
    (told,) = kept.one_offs
    assert (told["line"], told["units"], told["aside"], told["by_hand"]) == (line.pk, 90, True, False)
    assert max(kept.path["mean"]) < 4
    forecasts.set_aside(BUYER, line.pk, False, timezone.now())
    forecasts.forecast_category(item.pk, timezone.now())
    counted = ItemForecast.objects.get()
    assert (counted.one_offs[0]["aside"], counted.one_offs[0]["by_hand"]) == (False, True)
    assert sum(counted.path["mean"]) > sum(kept.path["mean"])
    small = OrderLine.objects.exclude(pk=line.pk).first()
    assert small is not None
    forecasts.set_aside(BUYER, small.pk, True, timezone.now())
    forecasts.forecast_category(item.pk, timezone.now())
    assert {one["line"] for one in ItemForecast.objects.get().one_offs if one["aside"]} == {small.pk}
    assert AuditRow.objects.filter(subject="order line").count() == 2
    with pytest.raises(NotFoundError):
        forecasts.set_aside(BUYER, 10**9, True, timezone.now())
    with pytest.raises(ForbiddenError):
        forecasts.set_aside(Actor("V", Role.VIEWER), line.pk, True, timezone.now())


def test_a_decision_outlives_a_change_of_its_order(company: Location) -> None:
    item = make_item()
    sold(item, company, 20)
    shop = make_connection(name="club")
    placed = timezone.now() - timedelta(days=9)
    first = incoming(shop, order_line(item, 90), placed_at=placed)
    order = take_order(SYSTEM, first, placed).order
    forecasts.set_aside(BUYER, order.lines.get().pk, False, timezone.now())
    changed = replace(first, version=2, lines=(order_line(item, 95),), total=first.total)
    assert take_order(SYSTEM, changed, timezone.now()).outcome == "changed"
    run()
    (told,) = ItemForecast.objects.get().one_offs
    assert (told["line"], told["units"], told["aside"], told["by_hand"]) == (order.lines.get().pk, 95, False, True)


def test_one_run_at_a_time_which_can_be_stopped_and_taken_up_again(company: Location, monkeypatch: pytest.MonkeyPatch) -> None:
    for _ in range(3):
        sold(make_item(), company, 9)
    monkeypatch.setattr(forecasts, "BATCH", 1)
    begun = forecasts.begin_run(BUYER, timezone.now())
    with pytest.raises(RefusedError, match="being worked out"):
        forecasts.begin_run(BUYER, timezone.now())
    forecasts.stop_run(BUYER)
    forecasts.carry_out(begun.pk, timezone.now)
    begun.refresh_from_db()
    assert (begun.state, begun.done) == ("stopped", 0)
    assert not ItemForecast.objects.exists()
    with pytest.raises(RefusedError, match="No forecast"):
        forecasts.stop_run(BUYER)
    # Cut off in the middle: the next to take it up works out all of it.
    again = forecasts.begin_run(BUYER, timezone.now())
    keep = forecasts._keep
    monkeypatch.setattr(forecasts, "_keep", lambda *given: keep(*given) if not ItemForecast.objects.exists() else _cut_off())
    with pytest.raises(KeyboardInterrupt):
        forecasts.carry_out(again.pk, timezone.now)
    assert ItemForecast.objects.count() == 1
    monkeypatch.setattr(forecasts, "_keep", keep)
    forecasts.carry_out(again.pk, timezone.now)
    again.refresh_from_db()
    assert (again.state, again.done, ItemForecast.objects.count()) == ("done", 3, 3)


def _cut_off() -> int:
    raise KeyboardInterrupt


def test_a_run_that_fails_says_why(company: Location, monkeypatch: pytest.MonkeyPatch) -> None:
    sold(make_item(), company, 9)
    begun = forecasts.begin_run(BUYER, timezone.now())
    monkeypatch.setattr(forecasts, "read_past", lambda *_: 1 / 0)
    with pytest.raises(ZeroDivisionError):
        forecasts.carry_out(begun.pk, timezone.now)
    begun.refresh_from_db()
    assert begun.state == "failed"
    assert "division" in begun.said


def test_a_day_of_the_company_has_one_run_of_its_own(company: Location) -> None:
    now = timezone.now()
    assert forecasts.is_due(now)
    forecasts.begin_run(SYSTEM, now)
    assert not forecasts.is_due(now)
    assert not forecasts.is_due(now + timedelta(days=1))  # still under way
    ForecastRun.objects.update(state="done", ended_at=now)
    assert not forecasts.is_due(now)
    assert forecasts.is_due(now + timedelta(days=1))


def test_a_run_that_failed_is_tried_again_after_an_hour_three_times_in_all(company: Location) -> None:
    now = timezone.now().replace(hour=9)
    for tried in (1, 2, 3):
        assert forecasts.is_due(now)
        forecasts.begin_run(SYSTEM, now)
        ForecastRun.objects.filter(state="running").update(state="failed", ended_at=now)
        assert not forecasts.is_due(now + timedelta(minutes=59))
        now += timedelta(hours=1)
        assert ForecastRun.objects.count() == tried
    assert not forecasts.is_due(now)
    assert not forecasts.is_due(now + timedelta(hours=5))
    assert forecasts.is_due(now + timedelta(days=1))
    # One that somebody asked for and that went through counts for the day.
    ForecastRun.objects.filter(pk=ForecastRun.objects.latest("pk").pk).update(
        state="done", day=company_day(now + timedelta(days=1))
    )
    assert not forecasts.is_due(now + timedelta(days=1))


def test_the_sheet_and_the_page_of_one(company: Location, django_assert_max_num_queries: Any) -> None:
    item = make_item("BRK-1", on_hand=0)
    sold(item, company, 30, each=4)
    sold(make_item("AAA-2", on_hand=0), company, 30, each=1)
    run()
    with django_assert_max_num_queries(1):
        rows = sheet("", "", None, "", "", 10)["rows"]
    assert [row.sku for row in rows] == ["BRK-1", "AAA-2"]
    assert rows[0].month == pytest.approx(D(4 * 30) / 7, rel=D("0.15"))
    assert sheet("brk", "", company.pk, "", "", 10)["rows"][0].sku == "BRK-1"
    assert sheet("", "no such", None, "", "", 10)["rows"] == []
    first = sheet("", "", None, "item", "", 1)
    assert len({first["rows"][0].sku, sheet("", "", None, "item", first["next"], 1)["rows"][0].sku}) == 2
    told = head()
    assert (told["n"], told["run"]["state"]) == (2, "done")
    assert sum(row["n"] for row in told["methods"]) == 2
    page = one(item.pk, company.pk, company_day(timezone.now()))
    assert len(page["past"]["weeks"]) == 104
    assert len(page["weeks"]) == 13
    assert all(week["low"] <= week["mean"] <= week["high"] for week in page["weeks"])
    assert [row["chosen"] for row in page["candidates"]].count(True) == 1


def test_sales_of_earlier_days_that_come_late_are_forecast_anew(
    company: Location, django_capture_on_commit_callbacks: Any
) -> None:
    """Stock is there and forecast before anybody has told what was sold: the forecast does not stay at nothing for a day."""
    item = make_item()
    make_supplier(item)
    now = timezone.now()
    take_opening(SYSTEM, [OpeningRow(item.pk, company.pk, D(130), D(1))], now - timedelta(days=61))
    run()
    plan.refresh(now)
    assert PlanRow.objects.get(item=item).suggested == 0
    till = make_connection("till")
    for day in range(1, 61):
        take_till_sale(SYSTEM, incoming(till, order_line(item, 2), placed_at=now - timedelta(days=day)))
    assert forecasts.follow_late_demand(timezone.now()) == 0, "more may be coming"
    with django_capture_on_commit_callbacks(execute=True):
        assert forecasts.follow_late_demand(now + timedelta(minutes=1)) == 1
    job = ProcrastinateJob.objects.get(task_name="planning.forecast_category")
    forecasts.forecast_category(job.args["item_id"], now)
    assert ItemForecast.objects.get(item=item).path["mean"] == pytest.approx([14.0] * 13, rel=0.1)
    assert PlanRow.objects.get(item=item).suggested > 0
    assert forecasts.follow_late_demand(now + timedelta(hours=1)) == 0, "told once"
