"""Whether listings are for sale, hidden or ended there, and what of one is held by hand: the rules, what follows from them
for many listings at once, and the history of one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from decimal import Decimal
from typing import Any, cast

from django.db import transaction

from yuvrel.connectors.capabilities import Capability
from yuvrel.core.errors import NotFoundError, RefusedError
from yuvrel.core.rules import ON_CHANNELS, Level, Rung, Setting
from yuvrel.core.standing import AtZero, Standing, Stood, standing_of
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.roles import SYSTEM, Ability, Actor, audit
from yuvrel.rules.actions import change
from yuvrel.rules.queries import INHERIT, settled
from yuvrel.rules.registry import declare

from .credentials import kind_of
from .models import Connection, Listing, ListingNote
from .rules import Ids, Kept, listing_rungs, resolved_columns

GROUP, HELD_GROUP = "Shown or hidden", "Held by hand"
OWN: dict[str, Any] = {"group": GROUP, "rehearsal": "shown", "ability": Ability.PAIR.value, "needs": Capability.STATES.value}
BY_HAND: dict[str, Any] = {"levels": (Level.LISTING,), "group": HELD_GROUP, "rehearsal": "shown", "limitless": True}
declare(
    Setting(
        "listing_state",
        "Stands there as",
        "For sale, hidden from shoppers, or ended: whatever is on the shelf.",
        "choice",
        "live",
        choices=(("live", "for sale"), ("hidden", "hidden"), ("ended", "ended")),
        levels=ON_CHANNELS,
        **OWN,
    ),
    Setting(
        "at_zero",
        "When nothing is left",
        "What becomes of a listing that would show none, what is sold past zero counted.",
        "choice",
        "stay",
        choices=(("stay", "it stays, as sold out"), ("hide", "it is hidden"), ("end", "it is ended")),
        levels=ON_CHANNELS,
        **OWN,
    ),
    Setting(
        "relist",
        "When stock is back",
        "Whether a listing that was hidden or ended at zero is for sale again by itself.",
        "choice",
        "yes",
        choices=(("yes", "for sale again by itself"), ("no", "it waits to be resumed by hand")),
        levels=ON_CHANNELS,
        only_with=("at_zero", "hide", "end"),
        **OWN,
    ),
    Setting(
        "held_quantity",
        "Quantity",
        "Shown whatever is on the shelf. More than is there may be sold twice.",
        "quantity",
        None,
        places=3,
        unit="units",
        no_limit="as worked out",
        ability=Ability.CONNECT.value,
        **BY_HAND,
    ),
    Setting(
        "held_price",
        "Price",
        "Shown whatever the lists say, in the channel's own terms. The margin floor still guards it.",
        "quantity",
        None,
        places=2,
        low=Decimal("0.01"),
        no_limit="as the lists say",
        ability=Ability.PRICE.value,
        **BY_HAND,
    ),
)
STANDING = ("listing_state", "at_zero", "relist")
NAMES = (*STANDING, "held_quantity")
SAID: dict[Standing, str] = {"live": "for sale", "hidden": "hidden", "ended": "ended"}


def can_stand(connection: Connection) -> bool:
    """Whether listings of a connection can be hidden or ended."""
    return Capability.STATES in kind_of(connection).can


def held_quantities(connection: Connection, ids: Ids, kept: Kept) -> dict[int, Decimal]:
    """Quantities that are held by hand, by listing."""
    if not any(kept["held_quantity"].values()):
        return {}
    values, which = resolved_columns("held_quantity", connection, ids, kept)
    chosen = ((pk, values[at]) for pk, at in zip(ids.listing.tolist(), which.tolist(), strict=True))
    return {pk: Decimal(value) for pk, value in chosen if value is not None}


def standings_of(connection: Connection, ids: Ids, kept: Kept, shown: Sequence[Decimal]) -> dict[int, Stood]:
    """How each listing is to stand there; only those hidden or ended, or waiting to be resumed."""
    if not can_stand(connection) or not any(kept[name][level] for name in STANDING for level in kept[name]):
        return {}
    columns = {name: resolved_columns(name, connection, ids, kept) for name in STANDING}
    rested = set(Listing.objects.filter(connection=connection, rests=True).values_list("pk", flat=True))
    found = {}
    for at, (pk, quantity) in enumerate(zip(ids.listing.tolist(), shown, strict=True)):
        worth = {name: values[which[at]] for name, (values, which) in columns.items()}
        chosen, at_zero = cast(Standing, worth["listing_state"]), cast(AtZero, worth["at_zero"])
        stood = standing_of(chosen, at_zero, quantity, relists=worth["relist"] == "yes", rested=pk in rested)
        if stood.standing != "live" or pk in rested:
            found[pk] = stood
    return found


def note_changes(changes: Mapping[int, tuple[str, str, str]], at: datetime) -> None:
    """Write into the history of listings how they stand from now on; by listing (before, now, why)."""
    notes = [
        ListingNote(listing_id=pk, at=at, by=SYSTEM.name, what=f"{SAID[now]} there", why=why[:200])  # type: ignore[index]
        for pk, (before, now, why) in changes.items()
        if before != now
    ]
    ListingNote.objects.bulk_create(notes, 2000)


@transaction.atomic
def stand(actor: Actor, listing_id: int, wanted: Standing, at: datetime) -> Listing:
    """Have one listing hidden, ended, or for sale again; the offers follow by the change of its rule.

    Raises NotFoundError, RefusedError where nothing is offered or the kind of account knows no such states.
    """
    actor.need(Ability.PAIR)
    row = Listing.objects.select_for_update(of=("self",)).select_related("connection", "item").filter(pk=listing_id).first()
    if row is None:
        raise NotFoundError("There is no such listing.")
    if row.item is None:
        raise RefusedError("It is not paired with an item, so nothing of ours stands there.", field="link")
    if not can_stand(row.connection):
        raise RefusedError(f"On a {kind_of(row.connection).label.lower()} nothing can be hidden or ended.", field="kind")
    rungs = listing_rungs(row)
    above = settled(rungs[1:], ["listing_state"])["listing_state"].value
    rung = Rung(Level.LISTING, rungs[0].title, row.pk)
    change(actor, rung, {"listing_state": INHERIT if above == wanted else wanted}, at)
    if wanted == "live" and row.rests:
        Listing.objects.filter(pk=row.pk).update(rests=False)
        ListingNote.objects.create(listing=row, at=at, by=actor.name, what="resumed", why="by hand")
        record(Event.Kind.AVAILABILITY, [row.item.pk], f"{row.title} resumed by hand")
    audit(actor, "stand listing", "listing", row.pk, after={"state": wanted})
    return row
