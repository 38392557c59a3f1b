"""Checking on a schedule."""

from __future__ import annotations

from django.utils import timezone

from yuvrel.events.actions import wake
from yuvrel.people.jobs import company_job, every

from . import actions


@every("* * * * *", "agreement.check", lock="agreement.check")
def check() -> None:
    """Every minute, and when asked for. Accounts are read side by side: each allows only so many calls a second."""
    for connection_id in actions.live_connections().values_list("pk", flat=True):
        wake(check_connection.name, f"agreement:{connection_id}", connection_id=connection_id)
    actions.check_own()


@company_job("agreement.check_connection")
def check_connection(connection_id: int) -> None:
    """One account against ours."""
    connection = actions.live_connections().filter(pk=connection_id).first()
    if connection:
        actions.check_connection(connection)


@every("* * * * * */5", "agreement.heal")
def heal() -> None:
    """Close drifts that a push has put right."""
    actions.heal_pushed(timezone.now())
