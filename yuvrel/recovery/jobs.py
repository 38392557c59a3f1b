"""Background work after a restore."""

from __future__ import annotations

from django.utils import timezone

from yuvrel.people.jobs import company_job

from . import actions, asking
from .models import Recovery


@company_job(actions.TASK)
def ask(recovery_id: int) -> None:
    """Ask every other end what it holds."""
    found = Recovery.objects.select_related("epoch").filter(pk=recovery_id, ended_at=None).first()
    if found is not None:
        asking.ask(found, timezone.now())
