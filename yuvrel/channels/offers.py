"""Offers: worked out from the shelf, pushed, read back. Only the newest quantity of a listing matters."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import partial
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import QuerySet, Sum
from django.utils import timezone

from yuvrel.buying.arrivals import arrivals
from yuvrel.catalogue.kits import holders_of, kits
from yuvrel.catalogue.models import Item
from yuvrel.connectors.capabilities import Capability, Quantities
from yuvrel.connectors.messages import QuantityPush, RemoteQuantity, Submitted
from yuvrel.core.availability import (
    Offer,
    Shelf,
    StockColumns,
    Units,
    bundle_pools,
    in_packs,
    offer_for,
    offer_quantities,
    pool_of,
    pools_of,
    stock_quantities,
)
from yuvrel.core.money import ZERO
from yuvrel.core.rules import Level
from yuvrel.core.standing import Stood
from yuvrel.people.queries import company_day
from yuvrel.rules.models import SettingChange
from yuvrel.rules.queries import by_level
from yuvrel.rules.registry import SETTINGS
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.stock.models import StockBalance

from . import dispatch, places_there, selling, sql, standing, submissions
from .credentials import connector_as, kinds_that
from .models import Connection, Listing, OfferDay, SubmittedLine
from .rules import FLOW, POOL, RULES, Ids, Kept, Pool, flowing, pool_rule, reached_by, rule_columns, rule_for
from .runs import raise_snag, run_of, settle_snags

# Everything that is set and hangs together with what is offered.
SETTING_NAMES = (*POOL, FLOW, *RULES, *selling.NAMES, *standing.NAMES, places_there.NAME, dispatch.NAME)
BATCH = 100
SORT = "quantities"
SHORTEST_PAUSE, LONGEST_PAUSE = 5, 3600


@dataclass
class Shelves:
    """Balances and kits of a set of items, loaded in a fixed number of queries."""

    balances: dict[int, dict[int, StockBalance]]
    kits: dict[int, list[tuple[int, str, Decimal]]]
    kinds: dict[int, str]
    due: dict[tuple[int, int], list[tuple[date, Decimal]]]
    own: dict[tuple[int, int], Decimal] = field(default_factory=dict)

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
                own = self.own.get((item_id, place), ZERO)
                found.append(Shelf(name, row.on_hand, row.committed, due, row.backordered, own))
        return found


def load_shelves(item_ids: Iterable[int], connection: Connection) -> Shelves:
    """What offers of these items on a connection are worked out from."""
    wanted = set(item_ids)
    made = kits(wanted)
    titles = dict(Item.objects.filter(pk__in={part for parts in made.values() for part, _ in parts}).values_list("pk", "title"))
    named = {kit: [(part, titles[part], each) for part, each in parts] for kit, parts in made.items()}
    everything = wanted | titles.keys()
    balances: dict[int, dict[int, StockBalance]] = defaultdict(dict)
    for balance in StockBalance.objects.filter(item_id__in=everything):
        balances[balance.item_id][balance.location_id] = balance
    due: dict[tuple[int, int], list[tuple[date, Decimal]]] = defaultdict(list)
    for one in arrivals(everything):
        due[one.item_id, one.location_id].append((one.day, one.units))
    kinds = dict(Item.objects.filter(pk__in=wanted).values_list("pk", "kind"))
    places = [place for place, _ in places_of(connection)]
    return Shelves(balances, named, kinds, due, _own(list(everything), places, connection.pk))


def offer_of(listing: Listing, places: Sequence[tuple[int, str]], shelves: Shelves, today: date) -> Offer | None:
    """The offer of a linked listing; None for a service, which has no quantity."""
    item_id = listing.item_id
    if item_id is None or shelves.kinds.get(item_id) == Item.Kind.SERVICE:
        return None
    rule, days = rule_for(listing)
    rule = selling.with_past_zero(listing, rule, today)
    until = today + timedelta(days=days)
    subject = f"{listing.title} · {listing.connection.name}"
    if shelves.kinds.get(item_id) == Item.Kind.BUNDLE:
        parts = [
            (title, pool_of(shelves.of(part, places, until), rule.basis), each) for part, title, each in shelves.kits[item_id]
        ]
        return offer_for([], rule, subject=subject, parts=parts)
    return offer_for(shelves.of(item_id, places, until), rule, subject=subject)


@dataclass(frozen=True)
class Wanted:
    """What a listing is to show: how many, and the terms it is sold on where they are not as usual; with how it stands
    there, where it is hidden or ended, or waits to be resumed."""

    quantity: Decimal
    terms: dict[str, Any]
    stood: Stood | None = None


NO_OFFER: dict[str, Any] = {"offered": None, "offered_at": None, "offer_state": Listing.Offer.NONE, "terms": {}}


def places_of(connection: Connection) -> list[tuple[int, str]]:
    """(id, name) of the locations that feed a connection."""
    return [(place.pk, place.name) for place in connection.feeds.all()]


@dataclass(frozen=True)
class _Numbered:
    """Ids as the numbers 0, 1, 2 … of a column."""

    ids: list[int]
    number: dict[int, int]

    @classmethod
    def of(cls, ids: Iterable[int]) -> _Numbered:
        ordered = sorted(set(ids))
        return cls(ordered, {key: n for n, key in enumerate(ordered)})


def _thousandths(values: Iterable[Decimal]) -> Units:
    return np.fromiter((int(value * 1000) for value in values), np.int64)


def _pools(pool: Pool, items: _Numbered, feeds: Sequence[int]) -> Units:
    """The pool of each item at the locations that feed a connection, in thousandths."""
    rows = list(
        StockBalance.objects.filter(item_id__any_of=items.ids, location_id__in=feeds).values_list(
            "item_id", "location_id", "on_hand", "committed", "backordered"
        )
    )
    due: dict[tuple[int, int], Decimal] = {}
    if pool.basis == "projected":
        due = _due(items.ids, feeds, company_day(timezone.now()) + timedelta(days=pool.days))
        held = {(item, place) for item, place, *_ in rows}
        rows += [(item, place, ZERO, ZERO, ZERO) for item, place in due if (item, place) not in held]
    own = _own(items.ids, feeds, pool.own) if pool.own else {}
    columns = StockColumns(
        np.fromiter((items.number[row[0]] for row in rows), np.int64),
        _thousandths(row[2] for row in rows),
        _thousandths(row[3] - own.get((row[0], row[1]), ZERO) for row in rows),
        _thousandths(due.get((row[0], row[1]), ZERO) for row in rows),
        _thousandths(row[4] for row in rows),
    )
    return pools_of(columns, len(items.ids), pool.basis)  # type: ignore[arg-type]


def _own(item_ids: Sequence[int], places: Sequence[int], connection_id: int) -> dict[tuple[int, int], Decimal]:
    """What is reserved of each item at each place for open orders of one connection."""
    rows = Reservation.objects.filter(
        item_id__any_of=item_ids, location_id__in=places, state=Reservation.State.OPEN, line__order__connection=connection_id
    ).exclude(line__order__state=SalesOrder.State.CANCELLED)
    sums = rows.values_list("item_id", "location_id").annotate(units=Sum("quantity")).order_by()
    return {(item, place): units for item, place, units in sums}


def _due(item_ids: Sequence[int], places: Sequence[int], until: date) -> dict[tuple[int, int], Decimal]:
    """What open purchase orders and transfers bring to each place by a day."""
    found: dict[tuple[int, int], Decimal] = defaultdict(Decimal)
    for one in arrivals(item_ids, places, until):
        found[one.item_id, one.location_id] += one.units
    return found


def _pool_of_each(pool: Pool, item_ids: Iterable[int], feeds: Sequence[int]) -> dict[int, int]:
    """The pool of every item that has one, in thousandths, in a fixed number of queries; services have none."""
    kinds = dict(Item.objects.filter(pk__any_of=set(item_ids)).values_list("pk", "kind"))
    bundles = _Numbered.of(pk for pk, kind in kinds.items() if kind == Item.Kind.BUNDLE)
    parts = [(kit, part, each) for kit, of in kits(bundles.ids).items() for part, each in of] if bundles.ids else []
    stocked = _Numbered.of([pk for pk, kind in kinds.items() if kind == Item.Kind.STOCKED] + [part for _, part, _ in parts])
    pools = _pools(pool, stocked, feeds)
    made = bundle_pools(
        pools,
        np.fromiter((bundles.number[b] for b, _, _ in parts), np.int64),
        np.fromiter((stocked.number[c] for _, c, _ in parts), np.int64),
        _thousandths(each for _, _, each in parts),
        len(bundles.ids),
    )
    return dict(zip(stocked.ids, pools.tolist(), strict=True)) | dict(zip(bundles.ids, made.tolist(), strict=True))


def _pool_at(pool: Pool, item_ids: Sequence[int], place: int) -> dict[int, int]:
    """What there is of each item at one place, in thousandths."""
    return _pool_of_each(pool, item_ids, [place])


def pools_for(connection: Connection, listed: Ids, before: Kept, after: Kept) -> dict[int, int] | None:
    """What there is of each item, read once for two sets of rules; None where they count different things."""
    rule = pool_rule(connection, before)
    if rule != pool_rule(connection, after):
        return None
    return _pool_of_each(rule, listed.item.tolist(), [place for place, _ in places_of(connection)])


def offers_of(
    connection: Connection, listed: Ids, feeds: Sequence[int] | None = None, kept: Kept | None = None
) -> dict[int, Decimal]:
    """How many a connection may show of each listing, as `wanted_of`."""
    return {pk: one.quantity for pk, one in wanted_of(connection, listed, feeds, kept).items()}


def wanted_of(
    connection: Connection,
    listed: Ids,
    feeds: Sequence[int] | None = None,
    kept: Kept | None = None,
    pools: dict[int, int] | None = None,
) -> dict[int, Wanted]:
    """What a connection may show of each listing, in a fixed number of queries; services have no offer, nor has what is
    set not to go out.

    `feeds`: the locations to count instead of those that feed it now; `kept`: the rules to go by instead of those set;
    `pools`: what there is of each item, where that has been read (`pools_for`).
    """
    if feeds is None:
        feeds = [place for place, _ in places_of(connection)]
    kept = by_level(SETTING_NAMES) if kept is None else kept
    listed = listed.only(flowing(connection, listed, kept))
    counted = pool_rule(connection, kept)
    pools = _pool_of_each(counted, listed.item.tolist(), feeds) if pools is None else pools
    ids = listed.only(np.array([item in pools for item in listed.item.tolist()], np.bool_))
    pool = np.array([pools[item] for item in ids.item.tolist()], np.int64)
    rules, today = rule_columns(connection, ids, kept), company_day(timezone.now())
    past = selling.past_zero_columns(connection, ids, kept, today)
    shown = offer_quantities(pool, past.on(rules) if past else rules)
    terms = selling.terms_of(connection, ids, kept, past, today)
    shown = in_packs(shown, ids.units)
    if past is not None and (ids.units > 1).any():
        selling.past_zero_in_packs(ids, shown, in_packs(stock_quantities(pool, rules), ids.units), terms)
    quantities = [Decimal(units) / 1000 for units in shown.tolist()]
    held = standing.held_quantities(connection, ids, kept)
    if held:
        quantities = [held.get(pk, quantity) for pk, quantity in zip(ids.listing.tolist(), quantities, strict=True)]
    at_place = partial(_pool_at, counted, ids.item.tolist())
    for pk, parts in places_there.shown_at_places(connection, ids, quantities, kept, feeds, at_place).items():
        terms[pk] = {**terms.get(pk, {}), "places": parts}
    for pk, days in dispatch.days_of(connection, ids, kept).items():
        terms[pk] = {**terms.get(pk, {}), "send_days": days}
    stood = standing.standings_of(connection, ids, kept, quantities)
    for pk, one in stood.items():
        if one.standing != "live":
            terms[pk] = {**terms.get(pk, {}), "state": one.standing}
    usual: dict[str, Any] = {}
    rows = zip(ids.listing.tolist(), quantities, strict=True)
    return {pk: Wanted(quantity, terms.get(pk, usual), stood.get(pk)) for pk, quantity in rows}


def live_connections() -> list[Connection]:
    """Connections that are told quantities now."""
    rows = Connection.objects.filter(state=Connection.State.LIVE, kind__in=kinds_that(Capability.QUANTITIES))
    return list(rows.prefetch_related("feeds").order_by("pk"))


def recompute(causes: dict[int, str]) -> set[int]:
    """Work out the offers of every live listing of these items and of kits that hold them.

    `causes`: item id to the event that touched it. Returns the connections that must push. An offer
    that comes out the same is sent all the same: the channel took its own stock down when it sold.
    """
    for bundle, item in holders_of(causes).items():
        causes.setdefault(bundle, causes[item])
    changed = set()
    for connection in live_connections():
        rows = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED, item_id__any_of=list(causes))
        if _renew(connection, rows, lambda item: causes[item], only_changed=False):
            changed.add(connection.pk)
    return changed | _recompute_sharing(causes)


def _recompute_sharing(causes: Mapping[int, str]) -> set[int]:
    """Work out the offers of other items that share a limit of selling past zero with these."""
    shared = selling.sharing(causes, company_day(timezone.now()))
    changed = set()
    for connection in live_connections() if shared else []:
        rows = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED, pk__in=shared.get(connection.pk, ()))
        if _renew(connection, rows, lambda _: "a limit shared with another item", only_changed=True):
            changed.add(connection.pk)
    return changed


def begin_day(today: date) -> set[int]:
    """On a new day work out what hangs on the day: what is sold past zero from or until then, what is promised, and what
    counts as incoming. Returns the connections that must push; nothing when the day has begun already."""
    mark, _ = OfferDay.objects.get_or_create()
    if mark.day == today:
        return set()
    mark = OfferDay.objects.select_for_update().get(pk=mark.pk)
    if mark.day == today:
        return set()
    first = mark.day is None
    mark.day = today
    mark.save()
    kept = by_level(SETTING_NAMES)
    if first or not (any(kept["selling_past_zero"].values()) or any(kept["basis"].values())):
        return set()
    return recompute_connections({connection.pk: "a new day" for connection in live_connections()})


def recompute_connections(causes: dict[int, str]) -> set[int]:
    """Work out every offer of these connections, whose rules changed. Returns those that must push."""
    changed = set()
    for connection in live_connections():
        if connection.pk in causes:
            rows = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED)
            cause = causes[connection.pk]
            if _renew(connection, rows, lambda _, cause=cause: cause, only_changed=True):  # type: ignore[misc]
                changed.add(connection.pk)
    return changed


def recompute_rules(changes: Iterable[SettingChange]) -> set[int]:
    """Work out the offers that changed settings reach, once for each place where something was set. Returns the
    connections that must push."""
    reached: dict[tuple[str, int, int, str], str] = {}
    for change in changes:
        if change.name in SETTING_NAMES:
            cause = f"{SETTINGS[change.name].label.lower()} of {change.title}"[:120]
            reached[change.level, change.subject, change.within, change.kind] = cause
    changed = set()
    connections = live_connections() if reached else []
    for (level, subject, within, kind), cause in reached.items():
        reach = reached_by(Level(level), subject, within, kind)
        for connection in connections:
            rows = Listing.objects.filter(reach, connection=connection, link=Listing.Link.LINKED)
            if _renew(connection, rows, lambda _, cause=cause: cause, only_changed=True):  # type: ignore[misc]
                changed.add(connection.pk)
    return changed


def _renew(connection: Connection, listings: QuerySet[Listing], cause_of: Callable[[int], str], *, only_changed: bool) -> int:
    """Work the offers out and mark them to be pushed. A held one stays held while nothing about it changes."""
    listings = listings.filter(kept_there=False)
    rows = list(listings.order_by("pk").values_list("pk", "item_id", "offered", "terms", "offer_state"))
    if not rows:
        return 0
    offers = wanted_of(connection, Ids.of(listings))
    silent = [pk for pk, _, offered, *_ in rows if offered is not None and pk not in offers]
    if silent:
        # It goes out no more: what the channel shows is the channel's own from now on.
        Listing.objects.filter(pk__in=silent).update(**NO_OFFER)
        settle_snags("offer", "nothing is shown there any more", listing_id__in=silent)
    settled = (Listing.Offer.AGREED, Listing.Offer.HELD) if only_changed else (Listing.Offer.HELD,)
    moved = [
        (pk, offers[pk].quantity, offers[pk].terms, cause_of(item))
        for pk, item, offered, terms, state in rows
        if pk in offers and not (state in settled and (offered, terms) == (offers[pk].quantity, offers[pk].terms))
    ]
    if moved:
        ids, quantities, terms, why = zip(*moved, strict=True)
        sql.set_offers(ids, quantities, terms, why, timezone.now())
        _note_standing({pk: terms.get("state", "live") for pk, _, _, terms, _ in rows}, {pk: offers[pk] for pk in ids}, moved)
    return len(moved)


def _note_standing(before: Mapping[int, str], now: Mapping[int, Wanted], moved: Sequence[tuple[Any, ...]]) -> None:
    """How listings stand from now on goes into their history; which of them wait to be resumed is kept."""
    changes = {}
    for pk, _, terms, cause in moved:
        stood, state = now[pk].stood, terms.get("state", "live")
        chosen = stood is not None and not stood.rests and stood.standing != "live" and now[pk].quantity > 0
        changes[pk] = before[pk], state, stood.reason if stood and chosen else f"{stood.reason if stood else 'for sale'}: {cause}"
    standing.note_changes(changes, timezone.now())
    rests = {pk: one.stood.rests for pk, one in now.items() if one.stood is not None}
    for value in (True, False):
        which = [pk for pk, rest in rests.items() if rest is value]
        if which:
            Listing.objects.filter(pk__in=which).exclude(rests=value).update(rests=value)


def push(connection: Connection) -> int:
    """Push every pending offer of a connection and read each back; of an account that works on batches later they are
    handed in, and read back when it says what came of them. Returns how many were pushed or handed in.

    Only one push of a connection runs at a time (the job's lock). A listing that got a newer
    offer meanwhile stays pending and goes with the next batch.
    """
    connector = connector_as(connection, Quantities)
    pushed = handed = 0
    with run_of(connection, "push") as run:
        while True:
            rows = list(
                Listing.objects.filter(connection=connection, offer_state=Listing.Offer.PENDING, link=Listing.Link.LINKED)
                .exclude(offered=None)
                .exclude(pk__in=submissions.under_way(connection, SORT))
                .order_by("offered_at", "pk")[: connector.most_pushed]
            )
            if not rows:
                break
            wanted = {
                row.external_id: QuantityPush(external_id=row.external_id, quantity=row.offered or ZERO, terms=row.terms)
                for row in rows
            }
            answer = connector.push_quantities(list(wanted.values()))
            if isinstance(answer, Submitted):
                submissions.remember(connection, SORT, answer, [_handed(row) for row in rows])
                run.step(done=len(rows), total=len(rows))
                handed += len(rows)
                continue
            refused = {r.external_id: r.error for r in answer if not r.ok}
            found = connector.read_shown([key for key in wanted if key not in refused])
            _settle(rows, found, refused, timezone.now())
            pushed += len(rows)
            run.step(done=len(rows), total=len(rows), changed=len(rows) - len(refused), failed=len(refused))
        run.note(f"{handed} offers handed in" if handed else f"{pushed} offers pushed and read back")
    return pushed + handed


def _handed(row: Listing) -> submissions.Handed:
    wanted = {"quantity": str(row.offered), "terms": row.terms}
    return submissions.Handed(row.pk, wanted, row.offered_at or timezone.now())


def _settle_batch(connection: Connection, lines: Sequence[SubmittedLine], refused: Mapping[int, str]) -> None:
    """What came of a batch: what was taken is read back, a part at a time, as it is after a push."""
    connector = connector_as(connection, Quantities)
    for begin in range(0, len(lines), BATCH):
        rows = []
        for line in lines[begin : begin + BATCH]:
            if (row := line.listing) is None:
                continue
            row.offered, row.terms, row.offered_at = Decimal(line.wanted["quantity"]), line.wanted["terms"], line.stamp
            rows.append(row)
        found = connector.read_shown([row.external_id for row in rows if row.pk not in refused])
        _settle(rows, found, {row.external_id: refused[row.pk] for row in rows if row.pk in refused}, timezone.now())


submissions.SETTLERS[SORT] = _settle_batch


@transaction.atomic
def _settle(rows: Sequence[Listing], found: Mapping[str, RemoteQuantity], refused: Mapping[str, str], now: datetime) -> None:
    """Note for a batch what the channel shows, in a fixed number of queries."""
    read = [
        sql.Read(row.pk, row.offered or ZERO, row.terms, row.offered_at or now, found.get(row.external_id))
        for row in rows
        if row.external_id not in refused
    ]
    agreed = sql.settle(read, now)
    settle_snags("offer", "pushed again and agreed", listing_id__in=agreed)
    for row in rows:
        if row.external_id in refused:
            _hold(row, refused[row.external_id], now)


def _hold(listing: Listing, refusal: str, now: datetime) -> None:
    """A refused offer is tried again by itself, after growing pauses; the snag stands until it is taken."""
    newest = Listing.objects.filter(
        pk=listing.pk, offer_state=Listing.Offer.PENDING, offered=listing.offered, offered_at=listing.offered_at
    )
    pause = min(LONGEST_PAUSE, SHORTEST_PAUSE * 2**listing.refusals)
    held = newest.update(
        offer_state=Listing.Offer.HELD,
        pushed_at=now,
        retry_at=now + timedelta(seconds=pause),
        refusals=min(20, listing.refusals + 1),
    )
    if held:
        raise_snag(listing.connection, "offer", f"{listing.title} was refused", refusal, listing=listing, field="quantity")


def retry_held(now: datetime) -> None:
    """Held offers whose pause is over go out again."""
    Listing.objects.filter(offer_state=Listing.Offer.HELD, retry_at__lte=now).update(offer_state=Listing.Offer.PENDING)


def push_again(listing: Listing) -> set[int]:
    """Work the offer out anew and send it, whatever the channel shows now."""
    Listing.objects.filter(pk=listing.pk, offer_state=Listing.Offer.HELD).update(offer_state=Listing.Offer.PENDING)
    return recompute({listing.item_id: "sent again by hand"}) if listing.item_id else set()
