"""Background work of planning."""

from __future__ import annotations

from django.utils import timezone

from yuvrel.events.actions import waiting_for
from yuvrel.people.jobs import company_job, every
from yuvrel.people.roles import SYSTEM

from . import alerts, forecasts, plan


@every("* * * * * */10", "planning.refresh", lock="planning.refresh")
def refresh() -> None:
    """Every few seconds: the rows of the replenishment sheet that something happened to; all of them on a new day."""
    plan.refresh(timezone.now())
    look_for_alerts()
    forecasts.follow_late_demand(timezone.now())


@every("*/10 * * * *", "planning.daily")
def daily() -> None:
    """Once a day of the company: everything is forecast anew. A run whose worker died is taken up again."""
    now = timezone.now()
    if forecasts.is_due(now):
        forecasts.begin_run(SYSTEM, now)
    else:
        forecasts.take_up_again()


def look_for_alerts() -> None:
    """What fell below its alert level, told at once."""
    fresh = 0
    while waiting_for(alerts.CONSUMER).exists():
        fresh += alerts.work(timezone.now())
    if fresh:
        alerts.tell(timezone.now())


@every("*/5 * * * *", "planning.tell")
def tell() -> None:
    """What could not be mailed a moment ago."""
    alerts.tell(timezone.now())


@company_job("planning.forecast")
def forecast(run_id: int) -> None:
    """One run over everything."""
    forecasts.carry_out(run_id, timezone.now)


@company_job("planning.forecast_category")
def forecast_category(item_id: int) -> None:
    """One item with its category."""
    forecasts.forecast_category(item_id, timezone.now())
