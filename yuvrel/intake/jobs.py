"""Background work on files that were sent in."""

from __future__ import annotations

from django.utils import timezone
from procrastinate.contrib.django import app

from . import actions


@app.task(name=actions.TASK)
def work(intake_id: int) -> None:
    """Check a file, or take it in."""
    actions.work(intake_id, timezone.now)
