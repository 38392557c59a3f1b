"""Checking on a schedule."""

from __future__ import annotations

from django.utils import timezone
from procrastinate.contrib.django import app

from . import actions


@app.periodic(cron="* * * * *")
@app.task(name="agreement.check", queueing_lock="agreement.check", lock="agreement.check")
def check(timestamp: int = 0) -> None:
    """Every minute, and when asked for."""
    actions.check_all()


@app.periodic(cron="* * * * * */5")
@app.task(name="agreement.heal", queueing_lock="agreement.heal")
def heal(timestamp: int = 0) -> None:
    """Close drifts that a push has put right."""
    actions.heal_pushed(timezone.now())
