"""Listings: taken in from a channel, paired with items, turned into items, ignored."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from django.db import transaction

from yuvrel.catalogue.actions import add_product
from yuvrel.catalogue.models import Barcode, FormerCode, Item
from yuvrel.connectors.base import pages
from yuvrel.connectors.capabilities import Listings
from yuvrel.connectors.messages import Raw, RemoteListing, Unreadable
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError, YuvrelError
from yuvrel.core.pairing import ItemFacts, ListingFacts, PairingIndex, Verdict
from yuvrel.events.actions import record, wake
from yuvrel.events.models import Event
from yuvrel.people.roles import SYSTEM, Ability, Actor, audit
from yuvrel.platform.bulk import update_many

from . import listing_facts, picture_intake
from .actions import get_connection
from .credentials import connector_as
from .listing_facts import FactRules
from .models import Connection, Listing, Run
from .offers import NO_OFFER
from .prices import unlinked
from .quarantine import read_row
from .runs import begin, raise_snag, run_of, settle_snags
from .schedules import feed_of, read_whole


def pairing_index() -> PairingIndex:
    """All active items, prepared for pairing, in three queries."""
    codes: dict[int, list[str]] = defaultdict(list)
    for item_id, gtin in Barcode.objects.values_list("item_id", "gtin"):
        codes[item_id].append(gtin)
    former: dict[tuple[int, str], list[str]] = defaultdict(list)
    for item_id, kind, code in FormerCode.objects.order_by("pk").values_list("item_id", "kind", "code"):
        former[item_id, kind].append(code)
    rows = Item.objects.filter(active=True).order_by("pk").values_list("pk", "sku", "title")
    kinds = FormerCode.Kind
    return PairingIndex(
        [
            ItemFacts(
                pk,
                sku,
                tuple(codes[pk]),
                title,
                former_skus=tuple(former.get((pk, kinds.SKU), ())),
                former_gtins=tuple(former.get((pk, kinds.GTIN), ())),
            )
            for pk, sku, title in rows
        ]
    )


def facts_of(listing: Listing) -> ListingFacts:
    """What pairing looks at."""
    return ListingFacts(listing.sku, listing.barcode, listing.title)


def ask_listings(actor: Actor, connection_id: int, *, create: bool) -> Run:
    """A run that reads all listings of a connection, which a job carries out. Raises RefusedError, ForbiddenError."""
    connection = _may_read(actor, connection_id, create=create)
    run = begin(connection, "listings", actor.name)
    values = {"run_id": run.pk, "create": int(create), "user_id": actor.user_id or 0}
    wake("channels.listings", f"listings:{connection.pk}", role=actor.role.value, by=actor.name, **values)
    return run


def _may_read(actor: Actor, connection_id: int, *, create: bool) -> Connection:
    actor.need(Ability.PAIR)
    if create:
        actor.need(Ability.EDIT_RANGE)
    connection = get_connection(connection_id)
    if connection.state not in (Connection.State.TESTED, Connection.State.LIVE):
        raise RefusedError("Test the connection first.", field="state")
    return connection


def take_listings(actor: Actor, connection_id: int, at: datetime, *, create: bool, begun: Run | None = None) -> Run:
    """Read all listings of a connection; pair the exact ones; with `create`, make items of the rest.

    Without `create` (matching only) what does not match exactly stays in the pairing bench. `begun`: the run to go on with.
    """
    connection = _may_read(actor, connection_id, create=create)
    unread: list[Unreadable] = []
    connector, feed = connector_as(connection, Listings), feed_of(connection, "listings")
    with run_of(connection, "listings", begun) as run:
        for page in pages(connector.listings):
            found = [read_row(connector.read_listing, raw) for raw in page.rows]
            sound = [row for row in found if isinstance(row, RemoteListing)]
            new, changed = _keep(connection, sound, at)
            odd = [row for row in found if isinstance(row, Unreadable)]
            unread += odd
            same = len(sound) - new - changed
            run.step(done=len(sound), total=len(sound), taken=new, changed=changed, unchanged=same, failed=len(odd))
        counts = _pair_all(actor, connection)
        rules = listing_facts.FactRules.of(connection)
        listing_facts.note_words(connection, Listing.objects.filter(connection=connection), rules.fields)
        if create:
            counts["made into items"] = _make_all(actor, connection, rules)
        counts["taken over"], counts["otherwise than here"] = listing_facts.compare(SYSTEM, connection)
        _report_unread(connection, unread)
        if unread:
            counts["that cannot be read"] = len(unread)
        run.note(", ".join(f"{number} {what}" for what, number in counts.items()))
        read_whole(feed)
    picture_intake.ask_pictures(connection)
    return run


@transaction.atomic
def hear(connection: Connection, connector: Listings, rows: Sequence[Raw], at: datetime) -> None:
    """Take in what a channel says of some listings by itself: what it says otherwise than we do is marked as after a whole
    reading, new ones are paired by a job. Of an account whose listings were never read nothing is taken in."""
    if not connection.listings.exists():  # type: ignore[attr-defined]
        return
    found = [read_row(connector.read_listing, raw) for raw in rows]
    sound = [row for row in found if isinstance(row, RemoteListing)]
    odd = [row for row in found if isinstance(row, Unreadable)]
    if odd:
        _report_unread(connection, odd)
    new, changed = _keep(connection, sound, at, told=True)
    if changed:
        heard = Listing.objects.filter(connection=connection, external_id__in=[row.external_id for row in sound])
        listing_facts.compare(SYSTEM, connection, list(heard.values_list("pk", flat=True)))
    if new:
        wake("channels.pair_new", f"pair:{connection.pk}", connection_id=connection.pk)


def pair_new(connection: Connection) -> None:
    """Pair what a channel told of by itself, and remember its words."""
    _pair_all(SYSTEM, connection)
    rules = listing_facts.FactRules.of(connection)
    listing_facts.note_words(connection, Listing.objects.filter(connection=connection), rules.fields)
    picture_intake.ask_pictures(connection)


def _report_unread(connection: Connection, unread: list[Unreadable]) -> None:
    """One snag names the listings that cannot be read; the next reading without any closes it."""
    if not unread:
        settle_snags("listings", "every listing could be read", connection=connection)
        return
    named = "; ".join(f"{row.number or row.external_id or 'one without id'}: {row.detail}" for row in unread[:5])
    raise_snag(connection, "listings", f"{len(unread)} listings cannot be read", named, field=unread[0].field)


@transaction.atomic
def _keep(connection: Connection, rows: Iterable[RemoteListing], at: datetime, *, told: bool = False) -> tuple[int, int]:
    """Write what a page, or an account by itself (`told`), says of each listing, known ones and new ones, in a few
    statements; the last word counts. Returns how many are new and how many changed."""
    said = {row.external_id: row for row in rows}
    known = list(Listing.objects.select_for_update().filter(connection=connection, external_id__in=said).order_by("pk"))
    late = {listing.external_id for listing in known if _is_overtaken(listing, said[listing.external_id], at, told=told)}
    known = [listing for listing in known if listing.external_id not in late]
    said = {key: row for key, row in said.items() if key not in late}
    kept = {listing.pk: listing.kept_there for listing in known}
    changed = 0
    for listing in known:
        facts = _facts(said.pop(listing.external_id), at)
        changed += any(getattr(listing, name) != facts[name] for name in FACTS if name not in MOMENTS)
        for name, value in facts.items():
            setattr(listing, name, value)
    update_many(known, FACTS)
    _follow_store([listing for listing in known if listing.kept_there != kept[listing.pk]])
    new = [Listing(connection=connection, external_id=key, **_facts(row, at)) for key, row in said.items()]
    Listing.objects.bulk_create(new, ignore_conflicts=True)
    return len(new), changed


def _is_overtaken(listing: Listing, row: RemoteListing, at: datetime, *, told: bool) -> bool:
    """Whether a later word is here already: messages come twice and in any order, and one may come while a page that was
    read before it is still under way. A whole reading counts in any other case, as the channel's clock may be put back."""
    if row.said_at is None or listing.said_at is None:
        return False
    if told:
        return row.said_at <= listing.said_at
    return listing.shown_at is not None and listing.shown_at > at and row.said_at < listing.said_at


def _follow_store(moved: Iterable[Listing]) -> None:
    """Of what a channel now keeps in a store of its own no quantity is offered any more; what it no longer keeps there
    is offered again."""
    there = [listing.pk for listing in moved if listing.kept_there]
    Listing.objects.filter(pk__in=there).update(**NO_OFFER)
    back = {listing.item_id for listing in moved if not listing.kept_there and listing.item_id}
    record(Event.Kind.AVAILABILITY, back, "kept here again")


# The most units that one of a listing can stand for.
MOST_UNITS = 10_000
FACTS = (
    "group_id",
    "sku",
    "barcode",
    "title",
    "product_title",
    "options",
    "category",
    "price",
    "service",
    "kept_there",
    "told",
    "shown",
    "said_at",
    "shown_at",
)
# When it was said and heard: no difference of what it says.
MOMENTS = ("said_at", "shown_at")


def _facts(row: RemoteListing, at: datetime) -> dict[str, Any]:
    return {
        "group_id": row.group_id,
        "sku": row.sku.strip(),
        "barcode": row.barcode.strip(),
        "title": row.title,
        "product_title": row.product_title,
        "options": row.options,
        "category": row.category,
        "price": row.price,
        "service": row.service,
        "kept_there": row.kept_there,
        "told": row.told(),
        "shown": row.quantity,
        "said_at": row.said_at,
        "shown_at": at,
    }


@transaction.atomic
def _pair_all(actor: Actor, connection: Connection) -> dict[str, int]:
    index = pairing_index()
    counts = {"paired": 0, "left to pair": 0, "clashing": 0}
    waiting = list(Listing.objects.select_for_update().filter(connection=connection, link=Listing.Link.UNLINKED).order_by("pk"))
    skus = Counter(listing.sku.casefold() for listing in waiting)
    linked, left = [], []
    for listing in waiting:
        verdict = index.verdict(facts_of(listing), most=0)
        twice = bool(listing.sku) and skus[listing.sku.casefold()] > 1
        if verdict.linked and not twice:
            listing.link, listing.item_id, listing.link_reason = Listing.Link.LINKED, verdict.linked, verdict.reason[:120]
            listing.version += 1
            linked.append(listing)
            counts["paired"] += 1
            continue
        reason = "Two listings carry this SKU." if twice else verdict.clash
        if listing.link_reason != reason:
            listing.link_reason = reason
            left.append(listing)
        counts["clashing" if verdict.clash or twice else "left to pair"] += 1
    update_many(linked, ["link", "item", "link_reason", "version"])
    update_many(left, ["link_reason"])
    for kind in (Event.Kind.AVAILABILITY, Event.Kind.PRICE):
        record(kind, [listing.item_id for listing in linked if listing.item_id], f"{connection.name} paired")
    audit(actor, "pair listings", "connection", connection.pk, after=counts)
    return counts


def _link(listing: Listing, item_id: int, reason: str) -> None:
    listing.link, listing.item_id, listing.link_reason = Listing.Link.LINKED, item_id, reason[:120]
    listing.version += 1
    listing.save()
    for kind in (Event.Kind.AVAILABILITY, Event.Kind.PRICE):
        record(kind, [item_id], f"{listing.sku or listing.title} linked")


@transaction.atomic
def _make_all(actor: Actor, connection: Connection, rules: FactRules) -> int:
    """Products and items from the listings nobody matches; a clash is left for a person, and what the rules leave out."""
    groups: dict[str, list[Listing]] = defaultdict(list)
    rows = Listing.objects.select_for_update().filter(connection=connection, link=Listing.Link.UNLINKED, link_reason="")
    left = []
    for row in rows.order_by("pk"):
        row.link_reason = listing_facts.why_not(row, rules)[:120]
        if row.link_reason:
            left.append(row)
        else:
            groups[row.group_id or row.external_id].append(row)
    update_many(left, ["link_reason"])
    made = 0
    for listings in groups.values():
        made += _make_product(actor, listings, rules)
    return made


def _make_product(actor: Actor, listings: list[Listing], rules: FactRules) -> int:
    """A product of what a channel says of some listings together; what cannot be is said beside each. Returns its items."""
    try:
        with transaction.atomic():
            return len(_made(actor, listings, rules))
    except YuvrelError as error:
        for listing in listings:
            listing.link_reason = error.detail[:120]
        update_many(listings, ["link_reason"])
        return 0


def _made(actor: Actor, listings: list[Listing], rules: FactRules) -> list[Item]:
    first = listings[0]
    drafts = [listing_facts.draft_of(listing, rules) for listing in listings]
    category = rules.category(first.category) or ""
    items = add_product(actor, title=first.product_title or first.title, category=category, drafts=drafts)
    listing_facts.describe(dict(zip(items, listings, strict=True)), rules)
    for listing, item in zip(listings, items, strict=True):
        _link(listing, item.pk, "made from this listing")
    return items


def _locked(listing_id: int, version: int | None) -> Listing:
    listing = Listing.objects.select_for_update().filter(pk=listing_id).first()
    if listing is None:
        raise NotFoundError("There is no such listing.")
    if version is not None and listing.version != version:
        raise StaleError
    return listing


@transaction.atomic
def link(actor: Actor, listing_id: int, item_id: int, version: int | None = None, units: int = 1) -> Listing:
    """A person says which item a listing is, and of how many units of it one stands for."""
    actor.need(Ability.PAIR)
    listing = _locked(listing_id, version)
    if not 1 <= units <= MOST_UNITS:
        raise BadInputError(f"A listing stands for 1 to {MOST_UNITS:,} units.", field="units")
    if not Item.objects.filter(pk=item_id, active=True).exists():
        raise BadInputError("There is no active item like that.", field="item")
    before = {"link": listing.link, "item": listing.item_id, "units": listing.units}
    listing.units = units
    _link(listing, item_id, f"linked by {actor.name}")
    if before["item"] != item_id:
        listing_facts.look_again(listing)
    audit(actor, "link listing", "listing", listing.pk, before, {"item": item_id, "units": units})
    return listing


@transaction.atomic
def ignore(actor: Actor, listing_id: int, version: int | None = None) -> Listing:
    """Nothing is pushed to this listing."""
    return _unlink(actor, listing_id, Listing.Link.IGNORED, version)


@transaction.atomic
def unlink(actor: Actor, listing_id: int, version: int | None = None) -> Listing:
    """Back to the pairing bench."""
    return _unlink(actor, listing_id, Listing.Link.UNLINKED, version)


def _unlink(actor: Actor, listing_id: int, state: str, version: int | None) -> Listing:
    actor.need(Ability.PAIR)
    listing = _locked(listing_id, version)
    before = {"link": listing.link, "item": listing.item_id}
    listing.link, listing.item, listing.link_reason, listing.units = state, None, "", 1
    listing.offered = listing.offered_at = None
    listing.offer_state = Listing.Offer.NONE
    listing.settled, listing.says_otherwise = {}, False
    listing.version += 1
    listing.save()
    unlinked([listing.pk])
    audit(actor, f"{state} listing", "listing", listing.pk, before)
    return listing


@transaction.atomic
def make_item(actor: Actor, listing_id: int, version: int | None = None) -> Listing:
    """A new item from one listing."""
    actor.need(Ability.EDIT_RANGE)
    listing = _locked(listing_id, version)
    if listing.link == Listing.Link.LINKED:
        raise RefusedError("This listing is linked already.", field="link")
    rules = listing_facts.FactRules.of(listing.connection)
    if not listing_facts.sku_of(listing, rules):
        raise RefusedError(
            "A listing without SKU cannot become an item; link it to one, or set a pattern in the connection's rules.",
            field="sku",
        )
    _made(actor, [listing], rules)
    return listing


def verdict_for(listing: Listing, index: PairingIndex) -> Verdict:
    """What the bench shows beside a listing."""
    return index.verdict(facts_of(listing))
