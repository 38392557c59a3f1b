"""How soon a listing is sent, where a channel shows it and counts an order late by it."""

from __future__ import annotations

from decimal import Decimal

from yuvrel.connectors.capabilities import Capability
from yuvrel.core.rules import ON_CHANNELS, Setting
from yuvrel.people.roles import Ability
from yuvrel.rules.registry import declare

from .credentials import kind_of
from .models import Connection
from .rules import Ids, Kept, resolved_columns

NAME = "send_days"
declare(
    Setting(
        NAME,
        "Sent within",
        "Days until it leaves: the channel shows them, and counts an order late by them. Not for what it sends itself.",
        "whole",
        None,
        unit="days",
        low=Decimal(0),
        high=Decimal(60),
        limitless=True,
        no_limit="as is usual there",
        levels=ON_CHANNELS,
        group="Quantities shown",
        ability=Ability.CONNECT.value,
        needs=Capability.DISPATCH.value,
        rehearsal="shown",
    )
)


def days_of(connection: Connection, ids: Ids, kept: Kept) -> dict[int, int]:
    """In how many days each listing is sent, of those where something is set."""
    if Capability.DISPATCH not in kind_of(connection).can or not any(kept[NAME].values()):
        return {}
    values, which = resolved_columns(NAME, connection, ids, kept)
    chosen = ((pk, values[at]) for pk, at in zip(ids.listing.tolist(), which.tolist(), strict=True))
    return {pk: int(str(value)) for pk, value in chosen if value is not None}
