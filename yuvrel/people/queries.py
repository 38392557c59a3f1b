"""Who we are, and what day it is here."""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from yuvrel.core.errors import RefusedError
from yuvrel.ownership import in_hand

from .models import Company, Location, User

CLOCK = "%d %b, %H:%M:%S"


def company() -> Company:
    """The company that is worked for. Raises NoCompanyError where nobody has said which."""
    found: Company = in_hand()
    return found


def company_of(user: User) -> Company:
    """The company that a person works for: the person's own, else the first. Raises RefusedError before there is one."""
    # A statement that is ready: it is asked in every request.
    own_or_first = "SELECT * FROM people_company WHERE id = coalesce(%s, (SELECT min(id) FROM people_company))"
    found = next(iter(Company.objects.raw(own_or_first, [user.company_id])), None)
    if found is None:
        raise RefusedError("There is no company yet. Open one with: python manage.py begin NAME")
    return found


def username_of(user_id: int | None) -> str:
    """The sign-in name of a person; empty for the system."""
    return "" if user_id is None else User.objects.filter(pk=user_id).values_list("username", flat=True).first() or ""


def places_by_name() -> dict[str, Location]:
    """Every place by its name and by its short name, in small letters."""
    rows = list(Location.objects.all())
    return {row.code.casefold(): row for row in rows} | {row.name.casefold(): row for row in rows}


def company_zone() -> ZoneInfo:
    """The company's time zone."""
    return ZoneInfo(company().time_zone)


def company_time(at: datetime, form: str = "%d %b %Y, %H:%M") -> str:
    """A moment as the company's clocks show it."""
    return at.astimezone(company_zone()).strftime(form)


def company_day(at: datetime) -> date:
    """The company's day on which `at` lies."""
    return at.astimezone(company_zone()).date()


def start_of_day(day: date) -> datetime:
    """The first moment of a company's day."""
    return end_of_day(day - timedelta(days=1))


def end_of_day(day: date) -> datetime:
    """The moment at which a company's day is over; the day may have 23 or 25 hours.

    A day that begins twice or not at all where clocks change at midnight begins at its first moment.
    """
    following = datetime.combine(day + timedelta(days=1), time(), tzinfo=company_zone())
    return following.astimezone(UTC)
