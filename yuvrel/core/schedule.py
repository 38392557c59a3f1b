"""When something is asked for again: every so often, hourly, once a day or by hand, and not in quiet hours."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, time, timedelta
from typing import Literal

When = Literal["every", "hourly", "daily", "hand"]


@dataclass(frozen=True)
class Schedule:
    """`seconds` from one to the next when *every*; `at`: the time of day when *daily*. Quiet hours may reach over
    midnight; both ends None: there are none. All times of day are the company's.
    """

    when: When
    seconds: int = 60
    at: time = time(6)
    quiet_from: time | None = None
    quiet_until: time | None = None

    def is_quiet(self, moment: datetime) -> bool:
        """Whether a moment of the company's lies in the quiet hours; their end does not."""
        begin, end, now = self.quiet_from, self.quiet_until, moment.time()
        if begin is None or end is None or begin == end:
            return False
        return begin <= now < end if begin < end else now >= begin or now < end

    def following(self, last: datetime | None, now: datetime) -> datetime | None:
        """When it is due after `last` (None: never asked for yet), in the company's time; None by hand.

        What is overdue is due now; what would fall into quiet hours is due when they end.
        """
        if self.when == "hand":
            return None
        due = max(self._plain(last, now), now)
        if self.is_quiet(due) and self.quiet_until is not None:
            end = due.replace(hour=self.quiet_until.hour, minute=self.quiet_until.minute, second=0, microsecond=0)
            due = end if end > due else end + timedelta(days=1)
        return due

    def is_due(self, last: datetime | None, now: datetime) -> bool:
        """Whether it is to be asked for now."""
        due = self.following(last, now)
        return due is not None and due <= now

    def _plain(self, last: datetime | None, now: datetime) -> datetime:
        if self.when == "daily":
            begin = last or now
            due = begin.replace(hour=self.at.hour, minute=self.at.minute, second=0, microsecond=0)
            return due if due > begin else due + timedelta(days=1)
        if last is None:
            return now
        if self.when == "hourly":
            return last.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
        return last + timedelta(seconds=self.seconds)


def clock(text: str) -> time:
    """A time of day from HH:MM. Raises ValueError."""
    return datetime.strptime(text.strip(), "%H:%M").time()
