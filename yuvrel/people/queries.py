"""Who we are, and what day it is here."""

from __future__ import annotations

from datetime import date, datetime
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
