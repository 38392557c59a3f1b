"""What a connection is asked for by itself, and when: a schedule for each part, through the settings of the house."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any, cast

from django.utils import timezone

from yuvrel.connectors.capabilities import Capability
from yuvrel.core.rules import OF_CONNECTIONS, Setting
from yuvrel.core.schedule import Schedule, When, clock
from yuvrel.people.queries import company_zone
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import by_level
from yuvrel.rules.registry import declare

from .credentials import kind_of
from .models import Connection, Feed
from .price_rules import owner_of
from .rules import Kept, connection_value

GROUP = "Schedule"


@dataclass(frozen=True)
class Part:
    """One thing that a connection is asked for: `run` is what its runs are called."""

    name: str
    label: str
    needs: Capability
    when: When
    run: str
    every: int = 60


PARTS = (
    Part("orders", "Orders", Capability.ORDERS, "every", "orders"),
    Part("prices", "Prices changed there", Capability.PRICE_CHANGES, "every", "prices taken in"),
    Part("closes", "Till counts", Capability.CLOSES, "every", "closes", 300),
    Part("feeds", "What came of batches", Capability.FEEDS, "every", "feeds", 15),
    Part("answers", "Answers to purchase orders", Capability.PURCHASES, "every", "answers"),
    Part("listings", "Listings", Capability.LISTINGS, "hand", "listings"),
)
BY_NAME = {part.name: part for part in PARTS}


def _settings(part: Part) -> list[Setting]:
    own: dict[str, Any] = {
        "levels": OF_CONNECTIONS,
        "group": GROUP,
        "ability": Ability.CONNECT.value,
        "needs": part.needs.value,
    }
    when = f"{part.name}_when"
    return [
        Setting(
            when,
            part.label,
            "When they are asked for." if part.name != "orders" else "When they are asked for, beside what webhooks tell.",
            "choice",
            part.when,
            choices=(("every", "every so often"), ("hourly", "every hour"), ("daily", "once a day"), ("hand", "by hand only")),
            **own,
        ),
        Setting(
            f"{part.name}_every",
            f"{part.label}: every",
            "From one time to the next.",
            "whole",
            part.every,
            unit="seconds",
            low=Decimal(5),
            high=Decimal(86_400),
            only_with=(when, "every"),
            **own,
        ),
        Setting(
            f"{part.name}_at",
            f"{part.label}: at",
            "The time of day.",
            "time",
            "06:00",
            only_with=(when, "daily"),
            **own,
        ),
    ]


QUIET: dict[str, Any] = {"levels": OF_CONNECTIONS, "group": GROUP, "ability": Ability.CONNECT.value, "limitless": True}
declare(
    *(setting for part in PARTS for setting in _settings(part)),
    Setting("quiet_from", "Quiet from", "From then on nothing is asked for by itself.", "time", None, no_limit="never", **QUIET),
    Setting("quiet_until", "Quiet until", "Then it begins again.", "time", None, no_limit="never", **QUIET),
    Setting(
        "keep_calls_days",
        "Keep payloads for",
        "What was sent and what was answered, to be read in the runs.",
        "whole",
        7,
        unit="days",
        low=Decimal(1),
        high=Decimal(90),
        levels=OF_CONNECTIONS,
        group=GROUP,
        ability=Ability.CONNECT.value,
    ),
)
NAMES = (
    *(f"{part.name}_{field}" for part in PARTS for field in ("when", "every", "at")),
    "quiet_from",
    "quiet_until",
    "keep_calls_days",
)


def parts_of(connection: Connection) -> list[Part]:
    """What a connection can be asked for."""
    can = kind_of(connection).can
    return [part for part in PARTS if part.needs in can]


def is_wanted(connection: Connection, part: Part) -> bool:
    """Whether there is anything to ask for: prices are taken in only where they are kept there, and nothing came of
    batches where none is under way."""
    if part.name == "feeds":
        return connection.submissions.filter(state="waiting").exists()  # type: ignore[attr-defined]
    return part.name != "prices" or owner_of(connection) == "there"


def all_set() -> Kept:
    """Everything that is set about schedules, in one query."""
    return by_level(NAMES)


def schedule_of(connection: Connection, part: Part, kept: Kept) -> Schedule:
    """When a part of a connection is asked for."""

    def value(name: str) -> Any:
        return connection_value(name, connection, kept)

    quiet = [clock(str(text)) if text else None for text in (value("quiet_from"), value("quiet_until"))]
    return Schedule(
        cast(When, value(f"{part.name}_when")),
        int(value(f"{part.name}_every")),
        clock(str(value(f"{part.name}_at"))),
        quiet[0],
        quiet[1],
    )


def feed_of(connection: Connection, part: str) -> Feed:
    """How far a part of a connection has been read."""
    return Feed.objects.get_or_create(connection=connection, part=part)[0]


def read_whole(feed: Feed) -> None:
    """Note that a part was read to its end just now."""
    Feed.objects.filter(pk=feed.pk).update(succeeded_at=timezone.now())


def due_parts(connections: Sequence[Connection], now: datetime) -> list[tuple[Connection, Part]]:
    """The parts that are to be asked for now; each is noted as asked for, all of them in one statement."""
    kept = all_set()
    local = now.astimezone(company_zone())
    asked = {(feed.connection_id, feed.part): feed.asked_at for feed in Feed.objects.filter(connection__in=connections)}
    found = []
    for connection in connections:
        for part in parts_of(connection):
            schedule = schedule_of(connection, part, kept)
            last = asked.get((connection.pk, part.name))
            # After a fault it is tried again as soon as the pause is over.
            again = connection.faults > 0 and schedule.when != "hand" and not schedule.is_quiet(local)
            due = again or schedule.is_due(last.astimezone(local.tzinfo) if last else None, local)
            if due and is_wanted(connection, part):
                found.append((connection, part))
    asks = [Feed(connection=connection, part=part.name, asked_at=now) for connection, part in found]
    once = ["connection", "part"]
    Feed.objects.bulk_create(asks, update_conflicts=True, unique_fields=once, update_fields=["asked_at"])
    return found
