"""Who we are, and what day it is here."""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from .models import Company


def company() -> Company:
    """The one company of this installation."""
    return Company.objects.get()


def company_zone() -> ZoneInfo:
    """The company's time zone."""
    return ZoneInfo(company().time_zone)


def company_day(at: datetime) -> date:
    """The company's day on which `at` lies."""
    return at.astimezone(company_zone()).date()


def end_of_day(day: date) -> datetime:
    """The moment at which a company's day is over; the day may have 23 or 25 hours.

    A day that begins twice or not at all where clocks change at midnight begins at its first moment.
    """
    following = datetime.combine(day + timedelta(days=1), time(), tzinfo=company_zone())
    return following.astimezone(UTC)
