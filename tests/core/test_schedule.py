"""When a connection is asked: every so often, hourly, daily, by hand, not in quiet hours, over changes of the clock."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.errors import BadInputError
from yuvrel.core.rules import OF_CONNECTIONS, Setting
from yuvrel.core.schedule import Schedule, clock

DUBLIN = ZoneInfo("Europe/Dublin")
NOW = datetime(2027, 3, 14, 9, 30, tzinfo=DUBLIN)
NIGHT: dict[str, Any] = {"quiet_from": time(22), "quiet_until": time(6)}
TIMES = st.times().map(lambda at: at.replace(second=0, microsecond=0, tzinfo=None))
MOMENTS = st.datetimes(datetime(2027, 1, 1), datetime(2027, 12, 31)).map(lambda at: at.replace(tzinfo=DUBLIN))


def at(hour: int, minute: int = 0, day: int = 14) -> datetime:
    return datetime(2027, 3, day, hour, minute, tzinfo=DUBLIN)


@pytest.mark.parametrize(
    ("schedule", "last", "following"),
    [
        (Schedule("every", 60), None, NOW),
        (Schedule("every", 60), NOW - timedelta(seconds=20), NOW + timedelta(seconds=40)),
        (Schedule("every", 60), NOW - timedelta(hours=3), NOW),
        (Schedule("hourly"), at(9, 5), at(10)),
        (Schedule("hourly"), at(8, 59), NOW),
        (Schedule("daily", at=time(6)), at(6, 1), at(6, day=15)),
        (Schedule("daily", at=time(6)), at(5, day=13), NOW),
        (Schedule("daily", at=time(18)), None, at(18)),
        (Schedule("hand"), None, None),
        (Schedule("every", 60, quiet_from=time(9), quiet_until=time(11)), None, at(11)),
    ],
)
def test_when_it_is_due(schedule: Schedule, last: datetime | None, following: datetime | None) -> None:
    assert schedule.following(last, NOW) == following
    assert schedule.is_due(last, NOW) is (following == NOW)


def test_quiet_hours_reach_over_midnight() -> None:
    schedule = Schedule("every", 60, **NIGHT)
    assert [schedule.is_quiet(at(hour)) for hour in (21, 22, 23, 0, 5, 6, 7)] == [False, True, True, True, True, False, False]
    assert schedule.following(at(21, 59), at(23)) == at(6, day=15)
    assert schedule.following(at(21, 59), at(2, day=15)) == at(6, day=15)


def test_a_day_of_25_hours_has_one_morning() -> None:
    """The clocks go back on 31 October 2027: asked for at six, it is due once a day."""
    schedule = Schedule("daily", at=time(6))
    last, mornings = datetime(2027, 10, 30, 6, 1, tzinfo=DUBLIN), []
    for _ in range(3):
        due = schedule.following(last, last)
        assert due is not None
        mornings.append(due)
        last = due + timedelta(minutes=1)
    assert [(due.day, due.hour) for due in mornings] == [(31, 6), (1, 6), (2, 6)]


@given(st.sampled_from(["every", "hourly", "daily"]), st.integers(5, 86_400), TIMES, TIMES, TIMES, MOMENTS, st.none() | MOMENTS)
def test_what_is_due_is_never_past_and_never_in_quiet_hours(
    when: Any, seconds: int, daily: time, begin: time, end: time, now: datetime, last: datetime | None
) -> None:
    schedule = Schedule(when, seconds, daily, begin, end)
    due = schedule.following(last, now)
    assert due is not None
    assert due >= now
    assert not schedule.is_quiet(due)
    assert due - now <= timedelta(days=3) or (last is not None and last > now)


def test_a_time_of_day_as_a_setting() -> None:
    setting = Setting("t", "At", "", "time", "06:00", OF_CONNECTIONS, "g", "")
    assert setting.take(" 7:05 ") == "07:05"
    assert clock("23:59") == time(23, 59)
    for wrong in ("24:00", "six", "", "12:60", "1200"):
        with pytest.raises(BadInputError, match="a time like 06:30"):
            setting.take(wrong)
