"""Background work on files that were sent in."""

from __future__ import annotations

from django.utils import timezone
from procrastinate.contrib.django import app

from . import actions


@app.periodic(cron="* * * * *")
@app.task(name="intake.take_up_again", queueing_lock="intake.take_up_again", pass_context=False)
def take_up_again(timestamp: int) -> None:
    """Every minute: what was cut off by a crash."""
    actions.take_up_again()


@app.task(name=actions.TASK)
def work(intake_id: int) -> None:
    """Check a file, or take it in."""
    actions.work(intake_id, timezone.now)
