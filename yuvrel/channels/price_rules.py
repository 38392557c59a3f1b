"""What can be set about prices that channels show, who speaks for a connection, and what it is to show of many listings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import numpy as np
from django.utils import timezone

from yuvrel.connectors.capabilities import Capability
from yuvrel.core import pricing as core
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.money import minor_unit, spoken
from yuvrel.core.price_columns import (
    NONE,
    Ints,
    costs_by_list,
    exponent_of,
    first_that_speaks,
    floor_units,
    in_terms,
    under_floor,
)
from yuvrel.core.rules import OF_CONNECTIONS, Rung, Setting, Value
from yuvrel.core.working import Step, Working
from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import Ability
from yuvrel.pricing import loading
from yuvrel.pricing.floor import FLOOR
from yuvrel.pricing.models import PlaceList
from yuvrel.pricing.queries import Seller, add_holders, add_sellers, margin_steps
from yuvrel.rules.queries import by_level, settled
from yuvrel.rules.registry import add_check, declare
from yuvrel.sales.rules import order_rules_of

from .credentials import kind_of, kinds_that
from .models import ChannelGroup, Connection, Listing
from .rules import Ids, Kept, connection_rungs, connection_value, listing_rungs, resolved_columns

CONNECTION: dict[str, Any] = {"levels": OF_CONNECTIONS, "group": "Prices", "rehearsal": "shown", "ability": Ability.CONNECT.value}

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
        "price_currency",
        "Prices in",
        "The currency its prices are in: only lists in it speak. Empty: the company's.",
        "text",
        "",
        most=3,
        nothing="the company's",
        only_with=("price_owner", "here", "there"),
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
PRICE_RULES = ("price_owner", "price_currency", "price_tax", "price_before")
HELD = "held_price"
SET = (*PRICE_RULES, FLOOR.name, HELD)


@add_check
def _check_currency(rung: Rung, found: Mapping[str, Value]) -> None:
    code = found.get("price_currency")
    if isinstance(code, str) and code:
        try:
            minor_unit(code)
        except BadInputError as error:
            raise BadInputError(error.detail, field="price_currency") from error


def currency_of(connection: Connection, kept: Kept) -> str:
    """The currency that a connection shows its prices in."""
    return str(connection_value("price_currency", connection, kept) or company().base_currency)


def _given_to() -> dict[int, list[str]]:
    found: dict[int, list[str]] = {}
    rows = Connection.objects.exclude(price_list=None).order_by("kind", "name")
    for key, name in rows.values_list("price_list_id", "name"):
        found.setdefault(key, []).append(name)
    groups = ChannelGroup.objects.exclude(price_list=None).order_by("connection__name", "title")
    for key, title, name in groups.values_list("price_list_id", "title", "connection__name"):
        found.setdefault(key, []).append(f"{title} at {name}")
    return found


add_holders(_given_to)


def _sellers() -> list[Seller]:
    """Live connections that keep a part of what customers pay."""
    rows = list(Connection.objects.filter(state=Connection.State.LIVE, kind__in=kinds_that(Capability.PRICES)).order_by("name"))
    rules, kept = order_rules_of(rows), by_level(["price_currency"])
    return [
        Seller(row.name, tuple(one.list for one in speakers_of(row)), currency_of(row, kept), rules[row.pk].fee_percent)
        for row in rows
        if rules[row.pk].fee_percent
    ]


add_sellers(_sellers)


def speakers_of(connection: Connection) -> list[core.Speaker]:
    """The lists that speak for a connection, the most special first: its own, that of its place, the company's."""
    found = []
    if connection.price_list_id:
        found.append(core.Speaker(connection.name, connection.price_list_id))
    place = PlaceList.objects.filter(location=connection.fulfils_from).select_related("location").first()
    if place is not None:
        found.append(core.Speaker(place.location.name, place.list_id))
    return [*found, core.Speaker(company().name, loading.base_list().pk)]


def group_speakers(group: ChannelGroup) -> list[core.Speaker]:
    """The lists that speak for a group of an account's customers: its own, and that of the group it is here. What they
    say nothing of, the group sees as everybody does."""
    found = []
    if group.price_list_id:
        found.append(core.Speaker(f"{group.title} at {group.connection.name}", group.price_list_id))
    if group.group and group.group.price_list_id:
        found.append(core.Speaker(f"group {group.group.name}", group.group.price_list_id))
    return found


def groups_of(connection: Connection) -> list[ChannelGroup]:
    """The groups of customers that a connection can show prices of their own, as far as they are known here."""
    rows = ChannelGroup.objects.filter(connection=connection, gone_at=None).select_related("connection", "group")
    return list(rows.order_by("pk"))


def owner_of(connection: Connection) -> str:
    """Where the prices of a connection are kept: here, there or apart."""
    return str(settled(connection_rungs(connection), ["price_owner"])["price_owner"].value)


def live_connections() -> list[Connection]:
    """Connections whose prices are looked at now."""
    return list(Connection.objects.filter(state=Connection.State.LIVE, kind__in=kinds_that(Capability.PRICES)).order_by("pk"))


@dataclass(frozen=True)
class Offered:
    """The prices of many listings, in minor units of `currency`: NONE where no list speaks; `held`: those that lie
    below their floor."""

    currency: str
    listings: list[int]
    price: Ints
    previous: Ints
    list: Ints
    held: Any

    @property
    def of_one(self) -> int:
        """Minor units of one of the currency."""
        return int(10 ** exponent_of(self.currency))


@dataclass(frozen=True)
class Worked:
    """Prices of many items in the lists that speak for some connections: worked out once for all of them."""

    columns: loading.Columns
    lists: loading.Lists
    prices: dict[int, Ints]
    before: dict[int, Ints]


def work_out(connections: Sequence[Connection], item_ids: Iterable[int], also: Iterable[int] = ()) -> Worked:
    """The prices of items in every list that speaks for one of the connections, and in some others, in a fixed number of
    queries."""
    lists = loading.all_lists()
    speaking = set(also) | {speaker.list for one in connections for speaker in speakers_of(one)}
    speaking |= {speaker.list for one in connections for group in groups_of(one) for speaker in group_speakers(group)}
    needed = {one.key: one for key in speaking for one in core.followed(lists, key)}
    columns = loading.load_columns(sorted(set(item_ids)), needed, company_day(timezone.now()))
    prices = columns.prices(needed.values())
    return Worked(columns, needed, prices, columns.previous(needed.values(), prices))


def prices_of(
    connection: Connection, ids: Ids, kept: Kept, worked: Worked | None = None, group: ChannelGroup | None = None
) -> Offered:
    """What a connection is to show of each listing, to everybody or to a group of customers, in a fixed number of
    queries."""
    worked = work_out([connection], ids.item.tolist()) if worked is None else worked
    columns, lists, tax = worked.columns, worked.lists, worked.columns.items.tax
    currency = currency_of(connection, kept)
    speakers = speakers_of(connection) if group is None else group_speakers(group)
    order = [s.list for s in speakers if lists[s.list].currency == currency]
    taxed = connection_value("price_tax", connection, kept) == "with"
    shown = {key: in_terms(worked.prices[key], lists[key].taxed, taxed, tax) for key in order}
    price, whose = first_that_speaks(shown, order, len(columns.ids))
    previous = np.full(len(columns.ids), NONE, np.int64)
    if group is None and connection_value("price_before", connection, kept) == "shown":
        for key in order:
            previous = np.where(whose == key, in_terms(worked.before[key], lists[key].taxed, taxed, tax), previous)
    previous = np.where(previous > price, previous, NONE)
    # From items to listings: several may show the same one.
    at = np.searchsorted(np.array(columns.ids, np.int64), ids.item)
    price, previous = (np.where(column == NONE, NONE, column * ids.units) for column in (price[at], previous[at]))
    if group is None and any(kept[HELD].values()):
        by_hand, where = resolved_columns(HELD, connection, ids, kept)
        minor = 10 ** exponent_of(currency)
        cents = np.array([NONE if value is None else int(Decimal(value) * minor) for value in by_hand], np.int64)[where]
        price = np.where(cents == NONE, price, cents)
        previous = np.where(previous > price, previous, NONE)
    values, which = resolved_columns(FLOOR.name, connection, ids, kept)
    floors = floor_units([None if value is None else Decimal(value) for value in values])[which]
    costs = costs_by_list(lists, order, whose, columns.items.average, currency, columns.base_currency)[at]
    held = under_floor(in_terms(price, taxed, False, tax[at]), costs * ids.units, floors, currency)
    return Offered(currency, ids.listing.tolist(), price, previous, whose[at], held)


def compare(connection: Connection, ids: Ids, before: Kept, after: Kept) -> tuple[int, int]:
    """(listings that would show another price or none, listings that would newly be held) by other rules."""
    if Capability.PRICES not in kind_of(connection).can or not len(ids.listing):
        return 0, 0
    worked = work_out([connection], ids.item.tolist())

    def shown(kept: Kept) -> Offered:
        found = prices_of(connection, ids, kept, worked)
        if connection_value("price_owner", connection, kept) == "here":
            return found
        nothing = np.full_like(found.price, NONE)
        return replace(found, price=nothing, previous=nothing, held=np.zeros_like(found.held))

    now, then = shown(before), shown(after)
    differs = (now.price != then.price) | (now.previous != then.previous)
    return int(differs.sum()), int((then.held & ~now.held).sum())


def price_offer_working(listing_id: int, group_id: int = 0) -> Working:
    """How the price of a listing came about, for everybody or for a group of customers: which list speaks, its sum, the
    floor. Raises NotFoundError."""
    row = Listing.objects.select_related("connection", "item__product__category").filter(pk=listing_id).first()
    if row is None or row.item is None:
        raise NotFoundError("There is no such linked listing.")
    connection = row.connection
    book = loading.load_book([row.item.pk])
    rules = settled(listing_rungs(row), SET)
    today, currency = company_day(timezone.now()), str(rules["price_currency"].value or book.base_currency)
    group = next((one for one in groups_of(connection) if one.pk == group_id), None)
    if group_id and group is None:
        raise NotFoundError("There is no such group of customers there.")
    speakers = speakers_of(connection) if group is None else group_speakers(group)
    asked = core.asked_price(book, speakers, row.item.pk, today, currency=currency)
    more: tuple[Step, ...] = ()
    by_hand = None if group or rules[HELD].value is None else Decimal(str(rules[HELD].value))
    facts, taxed = book.items[row.item.pk], rules["price_tax"].value == "with"
    if asked.price is None and by_hand is not None:
        more = (Step("Held by hand", by_hand, "no list gives one", kind="result"),)
    if asked.price is not None:
        shown = core.in_other_terms(asked.price.amount, asked.price.list.taxed, taxed, facts.tax_percent, currency)
        of_one = asked.price
        if taxed != asked.price.list.taxed:
            more = (Step(f"Shown {'with' if taxed else 'without'} tax", shown, kind="fact"),)
        if row.units > 1:
            more += (Step("Units it stands for", Decimal(row.units), op="×"), Step("Shown", shown * row.units, kind="result"))
        if by_hand is not None:
            more += (Step("Held by hand", by_hand, "shown whatever the lists say", kind="result"),)
            # What is left of one is by what is shown, not by what the list says.
            ours = core.in_other_terms(by_hand / row.units, taxed, asked.price.list.taxed, facts.tax_percent, currency)
            of_one = replace(asked.price, amount=ours)
        more += margin_steps(of_one, book, row.item.pk)
        floor = rules[FLOOR.name]
        if floor.value is not None:
            said = f"{spoken(Decimal(floor.value))} %"
            more += (Step("Margin floor", said, floor.rung.title if floor.rung else "the default", kind="fact"),)
    seen_by = f"{connection.name}, {group.title}" if group else connection.name
    return asked.working(f"{row.title} · {seen_by}", more)
