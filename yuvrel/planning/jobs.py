"""Background work of planning."""

from __future__ import annotations

from django.utils import timezone
from procrastinate.contrib.django import app

from yuvrel.events.actions import waiting_for
from yuvrel.people.models import Company
from yuvrel.people.roles import SYSTEM

from . import alerts, forecasts, plan


@app.periodic(cron="* * * * * */10")
@app.task(name="planning.refresh", queueing_lock="planning.refresh", lock="planning.refresh")
def refresh(timestamp: int = 0) -> None:
    """Every few seconds: the rows of the replenishment sheet that something happened to; all of them on a new day."""
    if Company.objects.exists():
        plan.refresh(timezone.now())
        look_for_alerts()


@app.periodic(cron="*/10 * * * *")
@app.task(name="planning.daily", queueing_lock="planning.daily")
def daily(timestamp: int = 0) -> None:
    """Once a day of the company: everything is forecast anew. A run whose worker died is taken up again."""
    now = timezone.now()
    if not Company.objects.exists():
        return
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


@app.periodic(cron="*/5 * * * *")
@app.task(name="planning.tell", queueing_lock="planning.tell")
def tell(timestamp: int = 0) -> None:
    """What could not be mailed a moment ago."""
    alerts.tell(timezone.now())


@app.task(name="planning.forecast")
def forecast(run_id: int) -> None:
    """One run over everything."""
    forecasts.carry_out(run_id, timezone.now)


@app.task(name="planning.forecast_category")
def forecast_category(item_id: int) -> None:
    """One item with its category."""
    forecasts.forecast_category(item_id, timezone.now())
