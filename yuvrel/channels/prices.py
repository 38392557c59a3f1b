"""Prices that channels show: worked out from the lists, held below their floor, pushed, read back, or taken in from there."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from yuvrel.connectors.base import Capability, pages
from yuvrel.connectors.messages import PricePush, RemotePrice, Unreadable
from yuvrel.connectors.registry import KINDS
from yuvrel.core import pricing as core
from yuvrel.core.errors import NotFoundError, YuvrelError
from yuvrel.core.money import spoken
from yuvrel.core.price_columns import COST_UNITS, NONE, Ints, first_that_speaks, scaled
from yuvrel.core.rules import OF_CONNECTIONS, Level, Setting
from yuvrel.core.working import Step, Working
from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import SYSTEM, Ability, Actor
from yuvrel.pricing import loading
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.pricing.floor import FLOOR
from yuvrel.pricing.models import PlaceList, PriceList
from yuvrel.pricing.queries import add_holders, margin_steps
from yuvrel.rules.models import SettingChange
from yuvrel.rules.queries import by_level, settled
from yuvrel.rules.registry import SETTINGS, declare

from .credentials import connector_for
from .inbound import OVERLAP, later
from .models import Connection, Listing, PriceOffer
from .quarantine import attempt, read_row
from .rules import Ids, Kept, connection_rungs, connection_value, listing_rungs, reached_by, resolved_columns
from .runs import raise_snag, run_of, settle_snags

BATCH = 100
SHORTEST_PAUSE, LONGEST_PAUSE = 5, 3600
WITH_PRICES = tuple(kind for kind, c in KINDS.items() if Capability.PRICES in c.can)
SNAG, ODD = "price", "price there"
CONNECTION: dict[str, Any] = {"levels": OF_CONNECTIONS, "group": "Prices", "ability": Ability.CONNECT.value}

declare(
    Setting(
        "price_owner",
        "Prices are kept",
        "Here: ours are shown there, and what is changed there is a drift. There: a change there is taken into the list. "
        "Apart: neither looks at the other.",
        "choice",
        "apart",
        choices=(("here", "here and shown there"), ("there", "there and taken in here"), ("apart", "apart")),
        **CONNECTION,
    ),
    Setting(
        "price_tax",
        "Prices shown",
        "Whether its prices hold the tax.",
        "choice",
        "with",
        choices=(("with", "with tax"), ("without", "without tax")),
        only_with=("price_owner", "here"),
        **CONNECTION,
    ),
    Setting(
        "price_before",
        "Price before",
        "A higher price that stood before may be shown beside the one that counts.",
        "choice",
        "shown",
        choices=(("shown", "shown beside it"), ("hidden", "not shown")),
        only_with=("price_owner", "here"),
        **CONNECTION,
    ),
)
PRICE_RULES = ("price_owner", "price_tax", "price_before")
SET = (*PRICE_RULES, FLOOR.name)


def _given_to() -> dict[int, list[str]]:
    found: dict[int, list[str]] = {}
    rows = Connection.objects.exclude(price_list=None).order_by("kind", "name")
    for key, name in rows.values_list("price_list_id", "name"):
        found.setdefault(key, []).append(name)
    return found


add_holders(_given_to)


def speakers_of(connection: Connection) -> list[core.Speaker]:
    """The lists that speak for a connection, the most special first: its own, that of its place, the company's."""
    found = []
    if connection.price_list_id:
        found.append(core.Speaker(connection.name, connection.price_list_id))
    place = PlaceList.objects.filter(location=connection.fulfils_from).select_related("location").first()
    if place is not None:
        found.append(core.Speaker(place.location.name, place.list_id))
    return [*found, core.Speaker(company().name, loading.base_list().pk)]


def owner_of(connection: Connection) -> str:
    """Where the prices of a connection are kept: here, there or apart."""
    return str(settled(connection_rungs(connection), ["price_owner"])["price_owner"].value)


def live_connections() -> list[Connection]:
    """Connections whose prices are looked at now."""
    return list(Connection.objects.filter(state=Connection.State.LIVE, kind__in=WITH_PRICES).order_by("pk"))


@dataclass(frozen=True)
class Offered:
    """The prices of many listings, in minor units of the company's currency: NONE where no list speaks; `held`: those
    that lie below their floor."""

    listings: list[int]
    price: Ints
    previous: Ints
    list: Ints
    held: Any


def prices_of(connection: Connection, ids: Ids, kept: Kept) -> Offered:
    """What a connection is to show of each listing, in a fixed number of queries."""
    lists = loading.all_lists()
    currency = company().base_currency
    order = [s.list for s in speakers_of(connection) if lists[s.list].currency == currency]
    needed = _with_parents(order, lists)
    items = sorted(set(ids.item.tolist()))
    columns = loading.load_columns(items, lists, company_day(timezone.now()))
    prices = columns.prices(needed)
    before = columns.previous(needed, prices)
    taxed = connection_value("price_tax", connection, kept) == "with"
    tax = columns.items.tax
    shown = {key: _in_terms(prices[key], lists[key].taxed, taxed, tax) for key in order}
    shown_before = {key: _in_terms(before[key], lists[key].taxed, taxed, tax) for key in order}
    price, whose = first_that_speaks(shown, order, len(columns.ids))
    previous = np.full(len(columns.ids), NONE, np.int64)
    if connection_value("price_before", connection, kept) == "shown":
        for key in order:
            previous = np.where(whose == key, shown_before[key], previous)
    previous = np.where(previous > price, previous, NONE)
    # From items to listings: several may show the same one.
    at = np.searchsorted(np.array(columns.ids, np.int64), ids.item)
    net = scaled(np.maximum(price, 0), 10_000, 10_000 + tax) if taxed else np.maximum(price, 0)
    values, which = resolved_columns(FLOOR.name, connection, ids, kept)
    floors = np.array([0 if value is None else int(Decimal(value) * 100) for value in values], np.int64)[which]
    is_set = np.array([value is not None for value in values], np.bool_)[which]
    cost = columns.items.average[at]
    left = net[at] * (COST_UNITS // 100) - cost
    held = is_set & (cost > 0) & (left * 10_000 < floors * (net[at] * (COST_UNITS // 100)))
    return Offered(ids.listing.tolist(), price[at], previous[at], whose[at], held & (price[at] != NONE))


def compare(connection: Connection, ids: Ids, before: Kept, after: Kept) -> tuple[int, int]:
    """(listings that would show another price or none, listings that would newly be held) by other rules."""
    if connection.kind not in WITH_PRICES or not len(ids.listing):
        return 0, 0
    both = []
    for kept in (before, after):
        found = prices_of(connection, ids, kept)
        shown = found.price if connection_value("price_owner", connection, kept) == "here" else np.full_like(found.price, NONE)
        both.append((shown, found.previous, found.held & (shown != NONE)))
    (now, now_before, now_held), (then, then_before, then_held) = both
    differs = (now != then) | ((now != NONE) & (now_before != then_before))
    return int(differs.sum()), int((then_held & ~now_held).sum())


def _with_parents(keys: Iterable[int], lists: loading.Lists) -> list[core.PriceList]:
    found: dict[int, core.PriceList] = {}
    for key in keys:
        at: core.PriceList | None = lists[key]
        while at is not None and at.key not in found:
            found[at.key] = at
            at = lists.get(at.parent) if at.method == core.Method.DERIVED else None
    return list(found.values())


def _in_terms(prices: Ints, taxed: bool, wanted: bool, tax: Ints) -> Ints:
    """Prices with tax or without, as the channel shows them."""
    if taxed == wanted:
        return prices
    there = np.maximum(prices, 0)
    other = scaled(there, 10_000 + tax, 10_000) if wanted else scaled(there, 10_000, 10_000 + tax)
    return np.where(prices == NONE, NONE, other)


def recompute_items(causes: dict[int, str]) -> set[int]:
    """Work out the prices of every listing of these items; `causes`: item to what touched it. Returns the connections
    that must push."""
    wanted = list(causes)
    return _renew_all(lambda rows: rows.filter(item_id__in=wanted), lambda item: causes[item])


def recompute_lists(causes: dict[int, str]) -> set[int]:
    """Work out every price, after something about whole lists changed."""
    cause = next(iter(causes.values()))
    return _renew_all(lambda rows: rows, lambda item: cause)


def recompute_connections(causes: dict[int, str]) -> set[int]:
    """Work out every price of these connections."""
    return _renew_all(lambda rows: rows, lambda item: "the connection's rules", set(causes))


def recompute_rules(changes: Iterable[SettingChange]) -> set[int]:
    """Work out the prices that changed settings reach."""
    changed: set[int] = set()
    for change in changes:
        if change.name in SET:
            cause = f"{SETTINGS[change.name].label.lower()} of {change.title}"[:120]
            reach = reached_by(Level(change.level), change.subject, change.within, change.kind)
            changed |= _renew_all(lambda rows, reach=reach: rows.filter(reach), lambda item, cause=cause: cause)  # type: ignore[misc]
    return changed


def follows_cost() -> bool:
    """Whether any list works prices out from cost, so that they move when goods do."""
    return PriceList.objects.filter(method__in=(PriceList.Method.MARGIN, PriceList.Method.MARKUP)).exists()


def _renew_all(
    chosen: Callable[[QuerySet[Listing]], QuerySet[Listing]], cause_of: Callable[[int], str], only: set[int] | None = None
) -> set[int]:
    kept = by_level(SET)
    changed = set()
    for connection in live_connections():
        if only is not None and connection.pk not in only:
            continue
        listings = chosen(Listing.objects.filter(connection=connection, link=Listing.Link.LINKED))
        if connection_value("price_owner", connection, kept) != "here":
            PriceOffer.objects.filter(listing__in=listings).delete()
            settle_snags(SNAG, "prices are not kept here", listing__in=listings)
        elif renew(connection, listings, cause_of, kept):
            changed.add(connection.pk)
    return changed


def renew(
    connection: Connection, listings: QuerySet[Listing], cause_of: Callable[[int], str], kept: Kept, *, again: bool = False
) -> int:
    """Work prices out; those that differ from what was offered, or `again` all, are to be pushed. Those below their
    floor are held with a Snag. Returns how many are to be pushed."""
    ids = Ids.of(listings)
    if not len(ids.listing):
        return 0
    found = prices_of(connection, ids, kept)
    names = ("listing_id", "price", "previous", "state", "retry_at")
    old = {row[0]: row[1:] for row in PriceOffer.objects.filter(listing_id__in=found.listings).values_list(*names)}
    now = timezone.now()
    written: list[PriceOffer] = []
    silent: list[int] = []
    below: list[int] = []
    above: list[int] = []
    table = zip(
        found.listings,
        ids.item.tolist(),
        found.price.tolist(),
        found.previous.tolist(),
        found.list.tolist(),
        found.held,
        strict=True,
    )
    for listing, item, cents, before, whose, held in table:
        if cents == NONE:
            silent.append(listing)
            continue
        price, previous = Decimal(cents) / 100, None if before == NONE else Decimal(before) / 100
        state = PriceOffer.State.HELD if held else PriceOffer.State.PENDING
        if not again and _stays(old.get(listing), price, previous, held=held):
            continue
        (below if held else above).append(listing)
        written.append(
            PriceOffer(
                listing_id=listing,
                price=price,
                previous=previous,
                list_id=whose,
                state=state,
                cause=cause_of(item)[:120],
                offered_at=now,
                retry_at=None,
            )
        )
    _write(written, silent)
    _tell_floors(connection, below, above + silent)
    return sum(1 for row in written if row.state == PriceOffer.State.PENDING)


def offers_now(connection: Connection, at: datetime) -> list[PriceOffer]:
    """What a connection would be shown, as offers that agree already: for what starts out so. Nothing is written."""
    linked = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED).order_by("pk")
    found = prices_of(connection, Ids.of(linked), by_level(SET))
    cents = zip(linked, found.price.tolist(), found.previous.tolist(), found.list.tolist(), strict=True)
    return [
        PriceOffer(
            listing=listing,
            price=Decimal(price) / 100,
            previous=None if before == NONE else Decimal(before) / 100,
            previous_shown=None if before == NONE else Decimal(before) / 100,
            list_id=whose,
            state=PriceOffer.State.AGREED,
            cause="opening",
            offered_at=at,
            agreed_at=at,
        )
        for listing, price, before, whose in cents
        if price != NONE
    ]


def _stays(known: Any, price: Decimal, previous: Decimal | None, *, held: bool) -> bool:
    """Whether an offer is as it was: a refused one stays refused, one that was below its floor goes out when it is no
    longer; that one has no time at which it is tried again."""
    if known is None or known[:2] != (price, previous):
        return False
    state, retry_at = known[2:]
    was_below = state == PriceOffer.State.HELD and retry_at is None
    return was_below == held


@transaction.atomic
def _write(rows: Sequence[PriceOffer], silent: Sequence[int]) -> None:
    fields = ["price", "previous", "list", "state", "cause", "offered_at", "retry_at"]
    PriceOffer.objects.filter(listing_id__in=silent).delete()
    PriceOffer.objects.bulk_create(rows, 2000, update_conflicts=True, unique_fields=["listing"], update_fields=fields)


def _tell_floors(connection: Connection, below: Sequence[int], above: Sequence[int]) -> None:
    settle_snags(SNAG, "the price is not below its floor", listing_id__in=above, field="margin_floor")
    for listing in Listing.objects.filter(pk__in=below).select_related("item", "price_offer"):
        price = f"{listing.price_offer.price:.2f}"
        said = f"{price} leaves less than the margin floor, so it is not shown. Raise the price, or lower the floor."
        raise_snag(connection, SNAG, f"{listing.title} is below its margin floor", said, listing=listing, field="margin_floor")


def push(connection: Connection) -> int:
    """Push every pending price of a connection and read each back. Returns how many were pushed."""
    connector = connector_for(connection)
    pushed = 0
    with run_of(connection, "prices") as run:
        while True:
            rows = list(
                PriceOffer.objects.filter(
                    listing__connection=connection, listing__link=Listing.Link.LINKED, state=PriceOffer.State.PENDING
                )
                .select_related("listing")
                .order_by("offered_at", "pk")[:BATCH]
            )
            if not rows:
                break
            wanted = [PricePush(external_id=row.listing.external_id, price=row.price, previous=row.previous) for row in rows]
            refused = {r.external_id: r.error for r in connector.push_prices(wanted) if not r.ok}
            found = connector.read_prices([one.external_id for one in wanted if one.external_id not in refused])
            _settle(connection, rows, found, refused, timezone.now())
            pushed += len(rows)
            run.done = pushed
        run.note(f"{pushed} prices pushed and read back")
    return pushed


@transaction.atomic
def _settle(
    connection: Connection, rows: Sequence[PriceOffer], found: dict[str, RemotePrice], refused: dict[str, str], now: datetime
) -> None:
    """Note what the channel shows; a price that moved on meanwhile stays pending."""
    stamps = {row.pk: row.offered_at for row in rows}
    current = PriceOffer.objects.select_for_update(of=("self",)).filter(pk__in=stamps).select_related("listing").order_by("pk")
    agreed, changed, told = [], [], []
    for row in current:
        key = row.listing.external_id
        newest = row.state == PriceOffer.State.PENDING and row.offered_at == stamps[row.pk]
        if key in refused:
            if newest:
                _hold(connection, row, refused[key], now)
            continue
        there = found.get(key)
        row.previous_shown = there.previous if there else None
        row.listing.price = there.price if there else None
        told.append(row.listing)
        if newest:
            agrees = there is not None and shows(row, there)
            row.state = PriceOffer.State.AGREED if agrees else PriceOffer.State.DRIFTING
            row.pushed_at, row.refusals, row.retry_at = now, 0, None
            if agrees:
                row.agreed_at = now
                agreed.append(row.listing_id)
        changed.append(row)
    fields = ["previous_shown", "state", "pushed_at", "refusals", "retry_at", "agreed_at"]
    PriceOffer.objects.bulk_update(changed, fields)
    Listing.objects.bulk_update(told, ["price"])
    settle_snags(SNAG, "pushed again and agreed", listing_id__in=agreed)


def shows(offer: PriceOffer, there: RemotePrice) -> bool:
    """Whether a channel shows what is offered; a kind that knows no price before shows none."""
    return there.price == offer.price and (there.previous is None or there.previous == offer.previous)


def _hold(connection: Connection, row: PriceOffer, refusal: str, now: datetime) -> None:
    pause = min(LONGEST_PAUSE, SHORTEST_PAUSE * 2**row.refusals)
    row.state, row.pushed_at, row.refusals = PriceOffer.State.HELD, now, min(20, row.refusals + 1)
    row.retry_at = now + timedelta(seconds=pause)
    row.save(update_fields=["state", "pushed_at", "refusals", "retry_at"])
    raise_snag(connection, SNAG, f"The price of {row.listing.title} was refused", refusal, listing=row.listing, field="price")


def retry_held(now: datetime) -> None:
    """Refused prices whose pause is over go out again."""
    PriceOffer.objects.filter(state=PriceOffer.State.HELD, retry_at__lte=now).update(state=PriceOffer.State.PENDING)


def waiting() -> set[int]:
    """Connections that have prices to push."""
    rows = PriceOffer.objects.filter(state=PriceOffer.State.PENDING, listing__link=Listing.Link.LINKED)
    return set(rows.values_list("listing__connection_id", flat=True))


def push_again(listing: Listing) -> set[int]:
    """Work the price out anew and send it, whatever the channel shows now."""
    rows = Listing.objects.filter(pk=listing.pk, link=Listing.Link.LINKED)
    kept = by_level(SET)
    if connection_value("price_owner", listing.connection, kept) != "here":
        return set()
    sent = renew(listing.connection, rows, lambda item: "sent again by hand", kept, again=True)
    return {listing.connection_id} if sent else set()


def unlinked(listing_ids: Iterable[int]) -> None:
    """Nothing is shown any more for listings that stand for no item."""
    PriceOffer.objects.filter(listing_id__in=list(listing_ids)).delete()
    settle_snags(SNAG, "it is not linked any more", listing_id__in=list(listing_ids))


def list_shown(connection: Connection) -> PriceList:
    """The list that a connection's prices are typed into: its own, or the company's."""
    return connection.price_list or loading.base_list()


def keeper_before(connection: Connection) -> Connection | None:
    """Another live connection, the older one, that keeps the prices of the same list: only one can."""
    mine = list_shown(connection).pk
    for other in live_connections():
        if other.pk < connection.pk and owner_of(other) == "there" and list_shown(other).pk == mine:
            return other
    return None


def take_changes(connection: Connection, at: datetime) -> int:
    """Take prices that were changed at a connection which keeps them into the list it shows. Returns how many differed.

    Each is read by itself: one that cannot be read becomes a snag, the others go on.
    """
    other = keeper_before(connection)
    if other is not None:
        detail = f"{other.name} keeps the prices of {list_shown(connection).name} already. Give one of them a list of its own."
        raise_snag(connection, SNAG, f"{connection.name} cannot keep these prices", detail, field="price_owner")
        return 0
    settle_snags(SNAG, "nobody else keeps these prices", connection=connection, field="price_owner")
    connector = connector_for(connection)
    mark = connection.prices_asked_at
    start = parse_datetime(mark) if mark else None
    # The account's clock may be off, as for orders; what was read before comes again and differs no more.
    asked = (start - OVERLAP).isoformat() if start else ""
    taken = seen = 0
    odd: list[Unreadable] = []
    with run_of(connection, "prices taken in") as run:
        for page in pages(lambda cursor: connector.price_changes(asked, cursor)):
            found = [read_row(connector.read_price, raw) for raw in page.rows]
            odd += [row for row in found if isinstance(row, Unreadable)]
            taken += take(connection, [row for row in found if isinstance(row, RemotePrice)], at)
            seen += len(found)
            for raw in page.rows:
                mark = later(mark, raw.at, at)
            Connection.objects.filter(pk=connection.pk).update(prices_asked_at=mark)
        run.done = run.total = taken
        run.note(f"{seen} prices read, {taken} taken in, {len(odd)} cannot be read")
    if odd:
        named = "; ".join(f"{row.external_id or 'one without an id'}: {row.detail}" for row in odd[:5])
        raise_snag(connection, ODD, f"{len(odd)} prices that were changed there cannot be read", named, field=odd[0].field)
    else:
        settle_snags(ODD, "every price could be read", connection=connection)
    return taken


def said(price: Decimal, previous: Decimal | None) -> str:
    """A price as a person reads it, with the one before."""
    return f"{price:.2f}" if previous is None else f"{price:.2f} before {previous:.2f}"


def take(connection: Connection, prices: Sequence[RemotePrice], at: datetime, by: Actor = SYSTEM) -> int:
    """Take prices into the list that a connection shows. Returns how many differed."""
    by_id = {row.external_id: row for row in prices}
    listings = list(Listing.objects.filter(connection=connection, external_id__in=by_id).select_related("item"))
    for listing in listings:
        listing.price = by_id[listing.external_id].price
    Listing.objects.bulk_update(listings, ["price"])
    linked = {row.item_id: by_id[row.external_id].price for row in listings if row.link == Listing.Link.LINKED and row.item_id}
    into = list_shown(connection)
    book = loading.load_book(linked)
    today = company_day(at)
    taxed = str(settled(connection_rungs(connection), ["price_tax"])["price_tax"].value) == "with"
    typed = []
    for item, price in linked.items():
        ours = _tax_as(price, taxed, into, book.items[item])
        now = book.regular(into.pk, item, today)
        if now is None or now.amount != ours:
            typed.append(Typed(item, ours))
    if not typed:
        return 0
    return _type_in(connection, into, typed, at, by)


def _type_in(connection: Connection, into: PriceList, typed: Sequence[Typed], at: datetime, by: Actor) -> int:
    """Type prices in together; should that go wrong, each by itself, and the one that fails becomes a snag."""
    what = f"changed at {connection.name}"
    try:
        attempt(lambda: type_prices(by, into.pk, typed, at, what), f"prices of {connection.name}")
    except YuvrelError as error:
        if len(typed) > 1:
            return sum(_type_in(connection, into, [one], at, by) for one in typed)
        listing = Listing.objects.filter(connection=connection, item_id=typed[0].item_id).first()
        title = f"The price of {listing.title if listing else 'an item'} could not be taken in"
        raise_snag(connection, SNAG, title, error.detail, listing=listing, field=error.field)
        return 0
    return len(typed)


def _tax_as(price: Decimal, taxed: bool, into: PriceList, facts: core.ItemFacts) -> Decimal:
    if taxed == into.taxed:
        return price
    return core.put_tax(price, facts.tax_percent) if into.taxed else core.take_tax(price, facts.tax_percent)


def price_offer_working(listing_id: int) -> Working:
    """How the price of a listing came about: which list speaks, its sum, the floor. Raises NotFoundError."""
    row = Listing.objects.select_related("connection", "item__product__category").filter(pk=listing_id).first()
    if row is None or row.item is None:
        raise NotFoundError("There is no such linked listing.")
    connection = row.connection
    book = loading.load_book([row.item.pk])
    today, currency = company_day(timezone.now()), company().base_currency
    asked = core.asked_price(book, speakers_of(connection), row.item.pk, today, currency=currency)
    rules = settled(listing_rungs(row), SET)
    more: tuple[Step, ...] = ()
    if asked.price is not None:
        facts, taxed = book.items[row.item.pk], rules["price_tax"].value == "with"
        if taxed != asked.price.list.taxed:
            change = core.put_tax if taxed else core.take_tax
            more = (
                Step(
                    "Shown with tax" if taxed else "Shown without tax", change(asked.price.amount, facts.tax_percent), kind="fact"
                ),
            )
        more += margin_steps(asked.price, facts)
        floor = rules[FLOOR.name]
        if floor.value is not None:
            said = f"{spoken(Decimal(floor.value))} %"
            more += (Step("Margin floor", said, floor.rung.title if floor.rung else "the default", kind="fact"),)
    return asked.working(f"{row.title} · {connection.name}", more)
