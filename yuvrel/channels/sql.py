"""All SQL of this app that the ORM does not write, named and commented."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any

from django.db import connection

# One statement for any number of listings: CASE lists, as the ORM writes them, grow with the square.
# Listings are locked in order of their id, so that two of these never block each other for good.
SET_OFFERS = """
    WITH worked AS (
        SELECT * FROM unnest(%(ids)s::bigint[], %(offers)s::numeric[], %(causes)s::text[]) AS v(id, offer, cause)
    ), locked AS (
        SELECT l.id FROM channels_listing l WHERE l.id = ANY(%(ids)s) AND l.link = 'linked' ORDER BY l.id FOR UPDATE
    )
    UPDATE channels_listing AS l
    SET offered = worked.offer, offered_at = %(at)s, offer_state = 'pending', offer_cause = worked.cause, retry_at = NULL
    FROM worked JOIN locked USING (id)
    WHERE l.id = worked.id
"""

# What a push came to: an offer that changed meanwhile stays pending and only what is shown is noted.
SETTLE = """
    WITH read AS (
        SELECT * FROM unnest(%(ids)s::bigint[], %(offers)s::numeric[], %(stamps)s::timestamptz[], %(shown)s::numeric[])
            AS v(id, offer, stamp, shown)
    ), locked AS (
        SELECT l.id, l.offer_state = 'pending' AND l.offered = read.offer AND l.offered_at = read.stamp AS newest
        FROM channels_listing l JOIN read USING (id) ORDER BY l.id FOR UPDATE OF l
    )
    UPDATE channels_listing AS l SET
        shown = read.shown,
        shown_at = %(at)s,
        offer_state = CASE WHEN NOT newest THEN l.offer_state WHEN read.shown = read.offer THEN 'agreed' ELSE 'drifting' END,
        agreed_at = CASE WHEN newest AND read.shown = read.offer THEN %(at)s ELSE l.agreed_at END,
        pushed_at = CASE WHEN newest THEN %(at)s ELSE l.pushed_at END,
        refusals = CASE WHEN newest THEN 0 ELSE l.refusals END
    FROM read JOIN locked USING (id)
    WHERE l.id = read.id
    RETURNING l.id, newest AND read.shown = read.offer
"""

# What a check found: states follow, unless an offer has moved since it was read.
JUDGE = """
    UPDATE channels_listing AS l SET offer_state = CASE WHEN found.agrees THEN 'agreed' ELSE 'drifting' END
    FROM unnest(%(ids)s::bigint[], %(offers)s::numeric[], %(stamps)s::timestamptz[], %(agrees)s::boolean[])
        AS found(id, offer, stamp, agrees)
    WHERE l.id = found.id AND l.offered = found.offer AND l.offered_at = found.stamp
      AND l.offer_state NOT IN ('pending', 'held')
      AND l.offer_state <> CASE WHEN found.agrees THEN 'agreed' ELSE 'drifting' END
"""

# What a check read that was not known, unless a push has been read back since the check asked.
NOTE_SHOWN = """
    UPDATE channels_listing AS l SET shown = read.shown, shown_at = %(at)s
    FROM unnest(%(ids)s::bigint[], %(shown)s::numeric[]) AS read(id, shown)
    WHERE l.id = read.id AND (l.shown_at IS NULL OR l.shown_at < %(at)s)
"""

# One run of a consumer at a time: it locks orders and listings across items, and two would only wait for each other.
ALONE = "SELECT pg_advisory_xact_lock(7265, hashtext(%s))"


@dataclass(frozen=True)
class Read:
    """A listing as it was when it was read: the offer of that moment, its time, and what the channel showed."""

    pk: int
    offer: Decimal
    stamp: datetime
    shown: Decimal | None


def set_offers(ids: Sequence[int], offers: Sequence[Decimal], causes: Sequence[str], at: datetime) -> None:
    """Write new offers and mark them to be pushed; a listing unlinked meanwhile is left alone."""
    with connection.cursor() as cursor:
        values: dict[str, Any] = {"ids": list(ids), "offers": list(offers), "causes": [c[:120] for c in causes], "at": at}
        cursor.execute(SET_OFFERS, values)


def alone(name: str) -> None:
    """Wait until no other transaction does the work of that name; the lock ends with the transaction."""
    with connection.cursor() as cursor:
        cursor.execute(ALONE, [name])


def settle(rows: Sequence[Read], at: datetime) -> list[int]:
    """Note what a push was read back as; returns the listings that agree now."""
    with connection.cursor() as cursor:
        cursor.execute(SETTLE, {**_columns(rows), "shown": [row.shown for row in rows], "at": at})
        return [key for key, agreed in cursor.fetchall() if agreed]


def note_shown(shown: Mapping[int, Decimal | None], at: datetime) -> None:
    """Keep what listings were seen to show, by their id; `at` is when the account was asked."""
    if shown:
        with connection.cursor() as cursor:
            cursor.execute(NOTE_SHOWN, {"ids": list(shown), "shown": list(shown.values()), "at": at})


def judge(rows: Sequence[Read]) -> None:
    """Say of each listing that was read whether it agrees."""
    with connection.cursor() as cursor:
        cursor.execute(JUDGE, {**_columns(rows), "agrees": [row.shown == row.offer for row in rows]})


def _columns(rows: Sequence[Read]) -> dict[str, list[Any]]:
    return {"ids": [row.pk for row in rows], "offers": [row.offer for row in rows], "stamps": [row.stamp for row in rows]}
