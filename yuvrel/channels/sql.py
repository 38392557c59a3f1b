"""All SQL of this app that the ORM does not write, named and commented."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any

from django.db import connection
from psycopg.types.json import Jsonb

from yuvrel.connectors.messages import RemoteQuantity

# One statement for any number of listings: CASE lists, as the ORM writes them, grow with the square.
# Listings are locked in order of their id, so that two of these never block each other for good.
SET_OFFERS = """
    WITH worked AS (
        SELECT * FROM unnest(%(ids)s::bigint[], %(offers)s::numeric[], %(terms)s::jsonb[], %(causes)s::text[])
            AS v(id, offer, terms, cause)
    ), locked AS (
        SELECT l.id FROM channels_listing l WHERE l.id = ANY(%(ids)s) AND l.link = 'linked' ORDER BY l.id FOR UPDATE
    )
    UPDATE channels_listing AS l
    SET offered = worked.offer, terms = worked.terms, offered_at = %(at)s, offer_state = 'pending',
        offer_cause = worked.cause, retry_at = NULL
    FROM worked JOIN locked USING (id)
    WHERE l.id = worked.id
"""

# What a push came to: an offer that changed meanwhile stays pending and only what is shown is noted.
SETTLE = """
    WITH read AS (
        SELECT * FROM unnest(
            %(ids)s::bigint[], %(offers)s::numeric[], %(stamps)s::timestamptz[], %(shown)s::numeric[], %(terms)s::jsonb[]
        ) AS v(id, offer, stamp, shown, terms)
    ), locked AS (
        SELECT l.id, l.offer_state = 'pending' AND l.offered = read.offer AND l.offered_at = read.stamp AS newest,
            read.shown IS NOT NULL AND read.shown = read.offer AND read.terms = l.terms AS agrees
        FROM channels_listing l JOIN read USING (id) ORDER BY l.id FOR UPDATE OF l
    )
    UPDATE channels_listing AS l SET
        shown = read.shown,
        terms_shown = read.terms,
        shown_at = %(at)s,
        offer_state = CASE WHEN NOT newest THEN l.offer_state WHEN agrees THEN 'agreed' ELSE 'drifting' END,
        agreed_at = CASE WHEN newest AND agrees THEN %(at)s ELSE l.agreed_at END,
        pushed_at = CASE WHEN newest THEN %(at)s ELSE l.pushed_at END,
        refusals = CASE WHEN newest THEN 0 ELSE l.refusals END
    FROM read JOIN locked USING (id)
    WHERE l.id = read.id
    RETURNING l.id, newest AND agrees
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
    UPDATE channels_listing AS l SET shown = read.shown, terms_shown = read.terms, shown_at = %(at)s
    FROM unnest(%(ids)s::bigint[], %(shown)s::numeric[], %(terms)s::jsonb[]) AS read(id, shown, terms)
    WHERE l.id = read.id AND (l.shown_at IS NULL OR l.shown_at < %(at)s)
"""

# One run of a consumer at a time: it locks orders and listings across items, and two would only wait for each other.
ALONE = "SELECT pg_advisory_xact_lock(7265, hashtext(%s))"


@dataclass(frozen=True)
class Read:
    """A listing as it was when it was read: the offer of that moment with its terms, its time, and what the channel
    showed; None when it was not there."""

    pk: int
    offer: Decimal
    terms: dict[str, Any]
    stamp: datetime
    shown: RemoteQuantity | None

    @property
    def agrees(self) -> bool:
        """Whether the channel shows what it was told."""
        return self.shown is not None and (self.shown.quantity, self.shown.terms.kept()) == (self.offer, self.terms)


def set_offers(
    ids: Sequence[int], offers: Sequence[Decimal], terms: Sequence[dict[str, Any]], causes: Sequence[str], at: datetime
) -> None:
    """Write new offers and mark them to be pushed; a listing unlinked meanwhile is left alone."""
    with connection.cursor() as cursor:
        values: dict[str, Any] = {"ids": list(ids), "offers": list(offers), "causes": [c[:120] for c in causes], "at": at}
        values["terms"] = [Jsonb(one) for one in terms]
        cursor.execute(SET_OFFERS, values)


def alone(name: str) -> None:
    """Wait until no other transaction does the work of that name; the lock ends with the transaction."""
    with connection.cursor() as cursor:
        cursor.execute(ALONE, [name])


def settle(rows: Sequence[Read], at: datetime) -> list[int]:
    """Note what a push was read back as; returns the listings that agree now."""
    with connection.cursor() as cursor:
        cursor.execute(SETTLE, {**_columns(rows), **_shown([row.shown for row in rows]), "at": at})
        return [key for key, agreed in cursor.fetchall() if agreed]


def note_shown(shown: Mapping[int, RemoteQuantity | None], at: datetime) -> None:
    """Keep what listings were seen to show, by their id; `at` is when the account was asked."""
    if shown:
        with connection.cursor() as cursor:
            cursor.execute(NOTE_SHOWN, {"ids": list(shown), **_shown(shown.values()), "at": at})


def judge(rows: Sequence[Read]) -> None:
    """Say of each listing that was read whether it agrees."""
    with connection.cursor() as cursor:
        cursor.execute(JUDGE, {**_columns(rows), "agrees": [row.agrees for row in rows]})


def _shown(found: Iterable[RemoteQuantity | None]) -> dict[str, list[Any]]:
    """What channels showed as columns; nothing where a listing was not there."""
    rows = list(found)
    terms = [Jsonb(row.terms.kept() if row else {}) for row in rows]
    return {"shown": [row.quantity if row else None for row in rows], "terms": terms}


def _columns(rows: Sequence[Read]) -> dict[str, list[Any]]:
    return {"ids": [row.pk for row in rows], "offers": [row.offer for row in rows], "stamps": [row.stamp for row in rows]}
