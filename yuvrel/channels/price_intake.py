"""Prices that were changed at a connection which keeps them, taken into the list it shows."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from yuvrel.connectors.capabilities import PriceChanges
from yuvrel.connectors.messages import RemotePrice, Unreadable
from yuvrel.core import pricing as core
from yuvrel.core.errors import YuvrelError
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Actor
from yuvrel.platform.bulk import update_many
from yuvrel.pricing import loading
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.pricing.models import PriceList
from yuvrel.rules.queries import by_level, settled

from .credentials import connector_as
from .inbound import pages_since
from .models import Connection, Listing
from .price_rules import SET, currency_of, live_connections, owner_of
from .prices import SNAG
from .quarantine import attempt, read_row
from .rules import connection_rungs
from .runs import raise_snag, run_of, settle_snags
from .schedules import feed_of, read_whole

ODD = "price there"


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
    # What is read moves the mark on: nothing is read that could not be taken in.
    if not _is_in_its_currency(connection, list_shown(connection)):
        return 0
    connector = connector_as(connection, PriceChanges)
    feed = feed_of(connection, "prices")
    # What was read before comes again and differs no more.
    taken = seen = 0
    odd: list[Unreadable] = []
    with run_of(connection, "prices taken in") as run:
        for page in pages_since(feed, connector.price_changes, at):
            found = [read_row(connector.read_price, raw) for raw in page.rows]
            odd += [row for row in found if isinstance(row, Unreadable)]
            taken += take(connection, [row for row in found if isinstance(row, RemotePrice)], at)
            seen += len(found)
        run.done = run.total = run.changed = taken
        run.failed, run.unchanged = len(odd), max(0, seen - taken - len(odd))
        read_whole(feed)
        run.note(f"{seen} prices read, {taken} taken in, {len(odd)} cannot be read")
    if odd:
        named = "; ".join(f"{row.external_id or 'one without an id'}: {row.detail}" for row in odd[:5])
        raise_snag(connection, ODD, f"{len(odd)} prices that were changed there cannot be read", named, field=odd[0].field)
    else:
        settle_snags(ODD, "every price could be read", connection=connection)
    return taken


def take(connection: Connection, prices: Sequence[RemotePrice], at: datetime, by: Actor = SYSTEM) -> int:
    """Take prices into the list that a connection shows. Returns how many differed; of a list in another currency none,
    and a snag says so."""
    if not _is_in_its_currency(connection, list_shown(connection)):
        return 0
    by_id = {row.external_id: row for row in prices}
    listings = list(Listing.objects.filter(connection=connection, external_id__in=by_id).select_related("item"))
    for listing in listings:
        listing.price = by_id[listing.external_id].price
    update_many(listings, ["price"])
    # Of one that stands for several units the price of one follows only where it comes out even.
    linked = {
        row.item_id: price / row.units
        for row in listings
        if row.link == Listing.Link.LINKED and row.item_id
        for price in (by_id[row.external_id].price,)
        if price * 100 % row.units == 0
    }
    into = list_shown(connection)
    book = loading.load_book(linked)
    today = company_day(at)
    taxed = str(settled(connection_rungs(connection), ["price_tax"])["price_tax"].value) == "with"
    typed = []
    for item, price in linked.items():
        ours = core.in_other_terms(price, taxed, into.taxed, book.items[item].tax_percent)
        now = book.regular(into.pk, item, today)
        if now is None or now.amount != ours:
            typed.append(Typed(item, ours))
    if not typed:
        return 0
    return _type_in(connection, into, typed, at, by)


def _is_in_its_currency(connection: Connection, into: PriceList) -> bool:
    currency = currency_of(connection, by_level(SET))
    if into.currency == currency:
        settle_snags(SNAG, "its list is in the same currency", connection=connection, field="price_currency")
        return True
    detail = f"{into.name} is in {into.currency}. Give {connection.name} a list in {currency}, or set what its prices are in."
    raise_snag(connection, SNAG, f"The prices of {connection.name} are in {currency}", detail, field="price_currency")
    return False


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
