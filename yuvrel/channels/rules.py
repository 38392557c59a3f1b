"""What can be set about what channels show, and how a listing, a connection or an item inherits it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt
from django.db.models import Q, QuerySet

from yuvrel.catalogue.rungs import above, below, category_rungs, company_rung, parents_of
from yuvrel.core.availability import NO_MAXIMUM, THOUSAND, OfferRule, RuleColumns
from yuvrel.core.errors import NotFoundError
from yuvrel.core.rules import (
    OF_CONNECTIONS,
    ON_CHANNELS,
    Ints,
    Ladder,
    Level,
    Rung,
    Setting,
    Value,
    resolve_columns,
    resolve_sources,
)
from yuvrel.people.roles import Ability
from yuvrel.rules.models import SettingChange
from yuvrel.rules.queries import settled
from yuvrel.rules.registry import SETTINGS, Way, add_way, declare

from .credentials import kind_of
from .models import Connection, Listing

GROUP = "Quantities shown"
SHOWN: dict[str, Any] = {"levels": ON_CHANNELS, "group": GROUP, "rehearsal": "shown", "ability": Ability.CONNECT.value}
OF_CONNECTION: dict[str, Any] = {"levels": OF_CONNECTIONS, "group": GROUP, "rehearsal": "shown", "ability": Ability.CONNECT.value}
AMOUNT: dict[str, Any] = {"type": "quantity", "places": 3, "unit": "units"}

declare(
    Setting(
        "basis",
        "Basis",
        "What counts as there: what is free now, or also what suppliers deliver in the next days. A channel that takes its "
        "own open orders off by itself is told what is on hand, less what others have ordered.",
        "choice",
        "available",
        choices=(("available", "available now"), ("projected", "available and incoming"), ("on_hand", "on hand")),
        **OF_CONNECTION,
    ),
    Setting(
        "projected_days",
        "Projected days",
        "How many days ahead a delivery may lie and still count.",
        "whole",
        14,
        unit="days",
        high=Decimal(365),
        only_with=("basis", "projected"),
        **OF_CONNECTION,
    ),
    Setting(
        "flows_out",
        "What goes out",
        "Whether quantities are shown at all: everything, or only what is set to go out at a more specific level.",
        "choice",
        "yes",
        choices=(("yes", "goes out"), ("no", "nothing goes out")),
        **SHOWN,
    ),
    Setting(
        "buffer",
        "Buffer",
        "Units that are never shown, so that the last ones are not sold twice.",
        default=Decimal(0),
        **AMOUNT,
        **SHOWN,
    ),
    Setting(
        "share_percent",
        "Share",
        "How much of what is left is shown, rounded down.",
        "percent",
        Decimal(100),
        unit="%",
        high=Decimal(100),
        places=2,
        **SHOWN,
    ),
    Setting(
        "quantity_step",
        "Quantity step",
        "Only whole multiples of this are shown: 12 for what is sold by the dozen.",
        default=Decimal(1),
        low=Decimal("0.001"),
        **AMOUNT,
        **SHOWN,
    ),
    Setting(
        "minimum_shown", "Show zero below", "With fewer than this left, none are shown.", default=Decimal(0), **AMOUNT, **SHOWN
    ),
    Setting(
        "maximum_shown",
        "Maximum shown",
        "Never more than this are shown, however many there are.",
        default=None,
        limitless=True,
        **AMOUNT,
        **SHOWN,
    ),
)
POOL = ("basis", "projected_days")
FLOW = "flows_out"
RULES = ("buffer", "share_percent", "quantity_step", "minimum_shown", "maximum_shown")
Kept = Mapping[str, Mapping[Level, Any]]


def connection_rungs(connection: Connection) -> list[Rung]:
    """How a connection inherits."""
    kind = Rung(Level.KIND, f"every {kind_of(connection).label.lower()}", kind=connection.kind)
    return [Rung(Level.CONNECTION, connection.name, connection.pk), kind, company_rung()]


def _of_connection(connection_id: int) -> list[Rung]:
    row = Connection.objects.filter(pk=connection_id).first()
    if row is None:
        raise NotFoundError("There is no such connection.")
    return connection_rungs(row)


def listing_rungs(listing: Listing) -> list[Rung]:
    """How a listing inherits; one that is not paired only from its connection."""
    connection = listing.connection
    rungs = [Rung(Level.LISTING, f"{listing.title} · {connection.name}", listing.pk)]
    if listing.item is not None:
        product = listing.item.product
        categories = category_rungs(product.category)
        rungs += [Rung(Level.ITEM, listing.item.title, listing.item.pk), Rung(Level.PRODUCT, product.title, product.pk)]
        rungs += [
            Rung(Level.CATEGORY_ON_CONNECTION, f"{one.title} on {connection.name}", one.subject, connection.pk)
            for one in categories
        ]
        rungs += categories
    return rungs + connection_rungs(connection)


def _of_listing(listing_id: int) -> list[Rung]:
    row = Listing.objects.select_related("connection", "item__product__category").filter(pk=listing_id).first()
    if row is None:
        raise NotFoundError("There is no such listing.")
    return listing_rungs(row)


add_way(Way("connection", _of_connection))
add_way(Way("listing", _of_listing))


def rule_for(listing: Listing) -> tuple[OfferRule, int]:
    """(rule, projected days) of one listing, with where each part of the rule comes from."""
    found = settled(listing_rungs(listing), (*POOL, *RULES))
    worth: dict[str, Any] = {name: one.value for name, one in found.items()}
    rule = OfferRule(
        worth["basis"],
        worth["buffer"],
        worth["share_percent"],
        worth["minimum_shown"],
        worth["maximum_shown"],
        worth["quantity_step"],
        sources=tuple((name, one.rung.title if one.rung else "the default") for name, one in found.items()),
    )
    return rule, worth["projected_days"]


@dataclass(frozen=True)
class Pool:
    """How the pool of a connection is counted; `own`: whose own orders are not taken off, 0 for nobody's."""

    basis: str
    days: int
    own: int = 0


def pool_rule(connection: Connection, kept: Kept) -> Pool:
    """How a connection counts what is there; `kept` as for `rule_columns`."""
    one = _constant(connection)
    worth = [_column(name, one, kept, connection)[0] for name in POOL]
    own = connection.pk if worth[0] == "on_hand" else 0
    return Pool(str(worth[0]), int(worth[1] or 0), own)  # type: ignore[call-overload]


@dataclass(frozen=True)
class Ids:
    """Listings of one connection as columns of ids: 0 where there is none. `units`: how many of its item each stands
    for."""

    listing: Ints
    item: Ints
    product: Ints
    category: Ints
    units: Ints

    @classmethod
    def of(cls, rows: QuerySet[Listing]) -> Ids:
        """Those that a query finds, in the order of their ids."""
        names = ("pk", "item_id", "item__product_id", "item__product__category_id", "units")
        table = [[value or 0 for value in row] for row in rows.order_by("pk").values_list(*names)]
        return cls(*np.array(table, np.int64).reshape(len(table), len(names)).T)

    def only(self, chosen: npt.NDArray[np.bool_]) -> Ids:
        """Those that are chosen."""
        columns = (self.listing, self.item, self.product, self.category, self.units)
        return Ids(*(column[chosen] for column in columns))

    def ladder(self, connection: Connection) -> Ladder:
        """The ids by level, the most specific first."""
        depths = above(self.category, parents_of())
        columns = [(Level.LISTING, self.listing), (Level.ITEM, self.item), (Level.PRODUCT, self.product)]
        columns += [(Level.CATEGORY_ON_CONNECTION, ids) for ids in depths]
        columns += [(Level.CATEGORY, ids) for ids in depths]
        return Ladder((*columns, *_constant(connection, len(self.listing)).columns), len(self.listing))


def _constant(connection: Connection, count: int = 1) -> Ladder:
    """The levels that are the same for all listings of a connection; kinds and companies count as number 1."""
    one = np.ones(count, np.int64)
    return Ladder(((Level.CONNECTION, one * connection.pk), (Level.KIND, one), (Level.COMPANY, one)), count)


def _column(name: str, ladder: Ladder, kept: Kept, connection: Connection) -> list[Value]:
    values, which = _resolved(name, ladder, kept, connection)
    return [values[at] for at in which]


def _resolved(name: str, ladder: Ladder, kept: Kept, connection: Connection) -> tuple[list[Value], Ints]:
    return resolve_columns(SETTINGS[name], ladder, _given(name, kept, connection))


def _given(name: str, kept: Kept, connection: Connection) -> dict[Level, Mapping[int, Value]]:
    """What is set for a name, by level and subject, as it stands for one connection."""
    given: dict[Level, Mapping[int, Value]] = {}
    for level, by_subject in kept[name].items():
        if level in (Level.KIND, Level.COMPANY):
            found = by_subject.get((0, connection.kind if level == Level.KIND else ""), {})
            given[level] = {1: found[0]} if 0 in found else {}
        else:
            given[level] = by_subject.get((connection.pk if level == Level.CATEGORY_ON_CONNECTION else 0, ""), {})
    return given


def connection_value(name: str, connection: Connection, kept: Kept) -> Value:
    """What counts for a connection as a whole."""
    return _column(name, _constant(connection), kept, connection)[0]


@dataclass(frozen=True)
class Sources:
    """One setting for many listings: the different values, the level and subject each is set for, and which of them
    counts for each listing. A scope names such a place in one text."""

    values: list[Value]
    places: list[tuple[Level, int, int, str]]
    which: Ints

    @property
    def scopes(self) -> list[str]:
        """The places, each in one text."""
        return [scope_of(*place) for place in self.places]


def scope_of(level: Level, subject: int, within: int, kind: str) -> str:
    """A place where something is set, in one text."""
    return f"{level.value}|{subject}|{within}|{kind}"


def resolved_sources(name: str, connection: Connection, ids: Ids, kept: Kept) -> Sources:
    """As `resolved_columns`, with where each value is set."""
    given = _given(name, kept, connection)
    values, which, spoke = resolve_sources(SETTINGS[name], ids.ladder(connection), given)
    return Sources(values, [_place(level, subject, connection) for level, subject in spoke], which)


def _place(level: Level, subject: int, connection: Connection) -> tuple[Level, int, int, str]:
    if level in (Level.KIND, Level.COMPANY, Level.DEFAULT):
        return level, 0, 0, connection.kind if level == Level.KIND else ""
    return level, subject, connection.pk if level == Level.CATEGORY_ON_CONNECTION else 0, ""


def resolved_columns(name: str, connection: Connection, ids: Ids, kept: Kept) -> tuple[list[Value], Ints]:
    """(different values, which of them counts for each listing) of one setting."""
    return _resolved(name, ids.ladder(connection), kept, connection)


def flowing(connection: Connection, ids: Ids, kept: Kept) -> npt.NDArray[np.bool_]:
    """Which listings show anything of ours at all."""
    values, which = _resolved(FLOW, ids.ladder(connection), kept, connection)
    return np.array([value == "yes" for value in values], np.bool_)[which]


def rule_columns(connection: Connection, ids: Ids, kept: Kept) -> RuleColumns:
    """The rules of many listings at once; `kept`: what is set, as `by_level` reads it."""
    ladder = ids.ladder(connection)

    def units(name: str, factor: int = THOUSAND) -> Ints:
        values, which = _resolved(name, ladder, kept, connection)
        numbers = [NO_MAXIMUM if value is None else int(Decimal(value) * factor) for value in values]
        return np.array(numbers, np.int64)[which]

    return RuleColumns(
        units("buffer"),
        units("share_percent", 100),
        units("minimum_shown"),
        units("maximum_shown"),
        units("quantity_step"),
        np.zeros(1, np.int64),
        np.zeros(1, np.bool_),
    )


def reaches(change: SettingChange) -> Q:
    """The connections that a change of what can be set for connections speaks for."""
    match Level(change.level):
        case Level.CONNECTION:
            return Q(pk=change.subject)
        case Level.KIND:
            return Q(kind=change.kind)
    return Q()


def reached_by(level: Level, subject: int, within: int, kind: str) -> Q:
    """The listings that what is set at a level may speak for."""
    match level:
        case Level.LISTING:
            return Q(pk=subject)
        case Level.ITEM:
            return Q(item_id=subject)
        case Level.PRODUCT:
            return Q(item__product_id=subject)
        case Level.CATEGORY | Level.CATEGORY_ON_CONNECTION:
            inside = Q(item__product__category_id__in=below(subject))
            return inside & Q(connection_id=within) if level == Level.CATEGORY_ON_CONNECTION else inside
        case Level.CONNECTION:
            return Q(connection_id=subject)
        case Level.KIND:
            return Q(connection__kind=kind)
    return Q()
