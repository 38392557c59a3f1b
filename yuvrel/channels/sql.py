"""All SQL of this app that the ORM does not write, named and commented."""

from __future__ import annotations

from collections.abc import Sequence
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

# One relay at a time: it locks orders and listings across items, and two would only wait for each other.
RELAY_ALONE = "SELECT pg_advisory_xact_lock(7265)"


def set_offers(ids: Sequence[int], offers: Sequence[Decimal], causes: Sequence[str], at: datetime) -> None:
    """Write new offers and mark them to be pushed; a listing unlinked meanwhile is left alone."""
    with connection.cursor() as cursor:
        values: dict[str, Any] = {"ids": list(ids), "offers": list(offers), "causes": [c[:120] for c in causes], "at": at}
        cursor.execute(SET_OFFERS, values)


def relay_alone() -> None:
    """Wait until no other transaction relays; the lock ends with the transaction."""
    with connection.cursor() as cursor:
        cursor.execute(RELAY_ALONE)
