"""Background work on files that were sent in."""

from __future__ import annotations

from django.utils import timezone

from yuvrel.people.jobs import company_job, every

from . import actions


@every("* * * * *", "intake.take_up_again")
def take_up_again() -> None:
    """Every minute: what was cut off by a crash."""
    actions.take_up_again()


@company_job(actions.TASK)
def work(intake_id: int) -> None:
    """Check a file, or take it in."""
    actions.work(intake_id, timezone.now)
