"""Jobs work for one company each: the one for which they were asked, or for every company in turn."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any

from procrastinate.contrib.django import app
from procrastinate.tasks import Task

from yuvrel.events.writes import tell_writes
from yuvrel.ownership import working_for

from .models import Company

Work = Callable[..., None]


def company_job(name: str) -> Callable[[Work], Task[..., Any, Any]]:
    """A job for one company: `company` is its id, which whoever wakes it adds (events.actions.wake)."""

    def declare(work: Work) -> Task[..., Any, Any]:
        @app.task(name=name)
        @wraps(work)
        def for_one(*given: Any, company: int = 0, **values: Any) -> None:
            try:
                if not company:
                    work(*given, **values)
                    return
                with working_for(Company.objects.get(pk=company)):
                    work(*given, **values)
            finally:
                tell_writes()

        return for_one

    return declare


def every(cron: str, name: str, lock: str | None = None) -> Callable[[Callable[[], None]], Task[..., Any, Any]]:
    """A job that runs by the clock, for every company in turn; or at once for the one that somebody woke it for. What
    goes wrong in one keeps no other waiting."""

    def declare(work: Callable[[], None]) -> Task[..., Any, Any]:
        @app.periodic(cron=cron)
        @app.task(name=name, queueing_lock=name, lock=lock, pass_context=False)
        @wraps(work)
        def for_each(timestamp: int = 0, company: int = 0) -> None:
            failed: list[Exception] = []
            everyone = Company.objects.order_by("pk")
            for one in everyone.filter(pk=company) if company else everyone:
                try:
                    with working_for(one):
                        work()
                except Exception as error:
                    failed.append(error)
            tell_writes()
            if failed:
                raise failed[0]

        return for_each

    return declare
