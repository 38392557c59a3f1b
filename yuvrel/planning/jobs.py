"""Background work of planning."""

from __future__ import annotations

from django.utils import timezone
from procrastinate.contrib.django import app

from yuvrel.people.models import Company

from . import plan


@app.periodic(cron="* * * * * */10")
@app.task(name="planning.refresh", queueing_lock="planning.refresh", lock="planning.refresh")
def refresh(timestamp: int = 0) -> None:
    """Every few seconds: the rows of the replenishment sheet that something happened to; all of them on a new day."""
    if Company.objects.exists():
        plan.refresh(timezone.now())
