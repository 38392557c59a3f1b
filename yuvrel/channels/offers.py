"""Offers: worked out from the shelf, pushed, read back. Only the newest quantity of a listing matters."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal

from django.utils import timezone

from yuvrel.buying.models import PurchaseLine, PurchaseOrder
from yuvrel.catalogue.models import BundleComponent, Item
from yuvrel.connectors.base import Can
from yuvrel.connectors.messages import QuantityPush
from yuvrel.connectors.registry import KINDS
from yuvrel.core.availability import Offer, OfferRule, Shelf, offer_for, pool_of
from yuvrel.core.money import ZERO
from yuvrel.people.queries import company_day
from yuvrel.stock.models import StockBalance

from .access import connector_for
from .models import Connection, Listing
from .runs import raise_snag, run_of, settle_snags

BATCH = 100
WITH_QUANTITIES = tuple(kind for kind, c in KINDS.items() if Can.QUANTITIES in c.can)


@dataclass
class Shelves:
    """Balances and kits of a set of items, loaded in a fixed number of queries."""

    balances: dict[int, dict[int, StockBalance]]
    kits: dict[int, list[tuple[int, str, Decimal]]]
    kinds: dict[int, str]
    due: dict[tuple[int, int], list[tuple[date, Decimal]]]

    def of(self, item_id: int, places: Sequence[tuple[int, str]], until: date | None) -> list[Shelf]:
        """The item at the given locations."""
        rows = self.balances.get(item_id, {})
        found = []
        for place, name in places:
            row = rows.get(place)
            due = sum((q for day, q in self.due.get((item_id, place), []) if until and day <= until), ZERO)
            if row is None:
                found.append(Shelf(name, ZERO, incoming_due=due))
            else:
                found.append(Shelf(name, row.on_hand, row.committed, due, row.backordered))
        return found


def load_shelves(item_ids: Iterable[int]) -> Shelves:
    """What offers of these items are worked out from."""
    wanted = set(item_ids)
    kits: dict[int, list[tuple[int, str, Decimal]]] = defaultdict(list)
    for row in BundleComponent.objects.filter(bundle_id__in=wanted).select_related("component").order_by("pk"):
        kits[row.bundle_id].append((row.component_id, row.component.title, row.quantity))
    everything = wanted | {part for parts in kits.values() for part, _, _ in parts}
    balances: dict[int, dict[int, StockBalance]] = defaultdict(dict)
    for balance in StockBalance.objects.filter(item_id__in=everything):
        balances[balance.item_id][balance.location_id] = balance
    due: dict[tuple[int, int], list[tuple[date, Decimal]]] = defaultdict(list)
    open_lines = PurchaseLine.objects.filter(
        item_id__in=everything,
        order__state__in=(PurchaseOrder.State.SENT, PurchaseOrder.State.ACKNOWLEDGED, PurchaseOrder.State.PART_RECEIVED),
    ).values_list("item_id", "order__location_id", "order__expected_on", "quantity", "received")
    for item, place, day, quantity, received in open_lines:
        due[item, place].append((day, quantity - received))
    kinds = dict(Item.objects.filter(pk__in=wanted).values_list("pk", "kind"))
    return Shelves(balances, kits, kinds, due)


def rule_of(connection: Connection) -> OfferRule:
    """The connection's settings as the core's rule."""
    return OfferRule(
        "projected" if connection.basis == "projected" else "available",
        connection.buffer,
        connection.share_percent,
        connection.minimum,
        connection.maximum,
    )


def offer_of(
    listing: Listing, connection: Connection, places: Sequence[tuple[int, str]], shelves: Shelves, today: date
) -> Offer | None:
    """The offer of a linked listing; None for a service, which has no quantity."""
    item_id = listing.item_id
    if item_id is None or shelves.kinds.get(item_id) == Item.Kind.SERVICE:
        return None
    until = today + timedelta(days=connection.projected_days)
    rule = rule_of(connection)
    subject = f"{listing.title} · {connection.name}"
    if shelves.kinds.get(item_id) == Item.Kind.BUNDLE:
        parts = [
            (title, pool_of(shelves.of(part, places, until), rule.basis), each) for part, title, each in shelves.kits[item_id]
        ]
        return offer_for([], rule, subject=subject, parts=parts)
    return offer_for(shelves.of(item_id, places, until), rule, subject=subject)


def places_of(connection: Connection) -> list[tuple[int, str]]:
    """(id, name) of the locations that feed a connection."""
    return [(place.pk, place.name) for place in connection.feeds.all()]


def recompute(causes: dict[int, str]) -> set[int]:
    """Work out the offers of every live listing of these items and of kits that hold them.

    `causes`: item id to the event that touched it. Returns the connections that must push.
    """
    holders = BundleComponent.objects.filter(component_id__in=list(causes)).values_list("bundle_id", "component_id")
    for bundle, component in holders:
        causes.setdefault(bundle, causes[component])
    connections = {
        row.pk: row
        for row in Connection.objects.filter(state=Connection.State.LIVE, kind__in=WITH_QUANTITIES).prefetch_related("feeds")
    }
    listings = list(
        Listing.objects.filter(item_id__in=list(causes), link=Listing.Link.LINKED, connection_id__in=list(connections)).order_by(
            "pk"
        )
    )
    shelves = load_shelves(row.item_id for row in listings if row.item_id)
    now = timezone.now()
    today = company_day(now)
    changed = []
    for row in listings:
        connection = connections[row.connection_id]
        worked = offer_of(row, connection, places_of(connection), shelves, today)
        if worked is None or row.offer_state == Listing.Offer.HELD:
            continue
        row.offered, row.offered_at = worked.quantity, now
        row.offer_state, row.offer_cause = Listing.Offer.PENDING, causes[row.item_id or 0][:120]
        changed.append(row)
    Listing.objects.bulk_update(changed, ["offered", "offered_at", "offer_state", "offer_cause"], batch_size=2000)
    return {row.connection_id for row in changed}


def push(connection: Connection) -> int:
    """Push every pending offer of a connection and read each back. Returns how many were pushed.

    Only one push of a connection runs at a time (the job's lock). A listing that got a newer
    offer meanwhile stays pending and goes with the next batch.
    """
    connector = connector_for(connection)
    pushed = 0
    with run_of(connection, "push") as run:
        while True:
            rows = list(
                Listing.objects.filter(connection=connection, offer_state=Listing.Offer.PENDING, link=Listing.Link.LINKED)
                .exclude(offered=None)
                .order_by("offered_at", "pk")[:BATCH]
            )
            if not rows:
                break
            wanted = {row.external_id: row.offered or ZERO for row in rows}
            results = connector.push_quantities(
                [QuantityPush(external_id=key, quantity=quantity) for key, quantity in wanted.items()]
            )
            now = timezone.now()
            refused = {r.external_id: r.error for r in results if not r.ok}
            found = connector.read_quantities([key for key in wanted if key not in refused])
            for row in rows:
                _settle(row, wanted[row.external_id], found.get(row.external_id), refused.get(row.external_id), now)
            pushed += len(rows)
            run.done = pushed
        run.note(f"{pushed} offers pushed and read back")
    return pushed


def _settle(row: Listing, wanted: Decimal, found: Decimal | None, refusal: str | None, now: datetime) -> None:
    mine = Listing.objects.filter(pk=row.pk, offered=wanted, offer_state=Listing.Offer.PENDING, offered_at=row.offered_at)
    if refusal is not None:
        mine.update(offer_state=Listing.Offer.HELD, pushed_at=now)
        raise_snag(row.connection, "offer", f"{row.title} was refused", refusal, listing=row, field="quantity")
        return
    state = Listing.Offer.AGREED if found == wanted else Listing.Offer.DRIFTING
    Listing.objects.filter(pk=row.pk).update(shown=found, shown_at=now)
    agreed = {"agreed_at": now} if state == Listing.Offer.AGREED else {}
    mine.update(offer_state=state, pushed_at=now, **agreed)
    settle_snags("offer", "pushed again and agreed", listing=row)


def push_again(listing: Listing) -> set[int]:
    """Work the offer out anew and send it, whatever the channel shows now."""
    Listing.objects.filter(pk=listing.pk, offer_state=Listing.Offer.HELD).update(offer_state=Listing.Offer.PENDING)
    return recompute({listing.item_id: "sent again by hand"}) if listing.item_id else set()
