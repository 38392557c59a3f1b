"""Background work of planning."""

from __future__ import annotations

from django.utils import timezone
from procrastinate.contrib.django import app

from yuvrel.people.models import Company
from yuvrel.people.queries import company_day

from .models import Outlook
from .queries import count_late


@app.periodic(cron="*/2 * * * *")
@app.task(name="planning.outlook", queueing_lock="planning.outlook", lock="planning.outlook")
def outlook(timestamp: int = 0) -> None:
    """Every other minute: what the morning sheet says of replenishment."""
    if not Company.objects.exists():
        return
    now = timezone.now()
    day = company_day(now)
    Outlook.objects.update_or_create(day=day, defaults={"late": count_late(day), "at": now})
    Outlook.objects.filter(day__lt=day).delete()
