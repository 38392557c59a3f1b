"""What can be set about selling past zero and about what the shopper sees, and what a listing is told of it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from typing import Any, cast

import numpy as np
import numpy.typing as npt

from yuvrel.buying.arrivals import arrivals
from yuvrel.catalogue.kits import explode
from yuvrel.connectors.capabilities import Capability
from yuvrel.connectors.messages import SellingTerms
from yuvrel.core.availability import THOUSAND, OfferRule, RuleColumns
from yuvrel.core.money import ZERO, spoken
from yuvrel.core.order_limits import OrderLimits
from yuvrel.core.past_zero import BADGES, Deliveries, PastZero, Sold, Way, left_columns, promised_on
from yuvrel.core.rules import ON_CHANNELS, Ints, Level, Rung, Setting
from yuvrel.people.roles import Ability
from yuvrel.rules.models import SettingValue
from yuvrel.rules.queries import by_level, settled
from yuvrel.rules.registry import declare
from yuvrel.sales.past_zero import Allowance, sold_under
from yuvrel.stock.models import StockBalance

from .credentials import kind_of
from .models import ChannelGroup, Connection, Listing
from .rules import Ids, Kept, Sources, listing_rungs, reached_by, resolved_columns, resolved_sources, scope_of

PAST_ZERO_GROUP, SHOPPER_GROUP = "Selling past zero", "What the shopper sees"
PAST: dict[str, Any] = {"levels": ON_CHANNELS, "group": PAST_ZERO_GROUP, "rehearsal": "shown", "ability": Ability.CONNECT.value}
SHOWN: dict[str, Any] = {"levels": ON_CHANNELS, "group": SHOPPER_GROUP, "rehearsal": "shown", "ability": Ability.CONNECT.value}
WHEN_SOLD: dict[str, Any] = {"only_with": ("selling_past_zero", "backorder", "preorder", "preorder_at_once"), **PAST}

declare(
    Setting(
        "selling_past_zero",
        "Selling past zero",
        "Whether shoppers may order what is not there. Whatever is sold so must be bought or made: mind the limit.",
        "choice",
        "no",
        choices=(
            ("no", "no"),
            ("backorder", "backorders, when none are left"),
            ("preorder", "pre-orders, when none are left"),
            ("preorder_at_once", "pre-orders at once, whatever is there"),
        ),
        **PAST,
    ),
    Setting(
        "past_zero_limit",
        "Limit",
        "So many units in all, shared by everything that inherits this limit; an order beyond it is held.",
        "quantity",
        ZERO,
        unit="units",
        high=Decimal(10**6),
        **WHEN_SOLD,
    ),
    Setting("past_zero_from", "From", "The first day.", "date", None, limitless=True, no_limit="from now on", **WHEN_SOLD),
    Setting("past_zero_until", "Until", "The last day.", "date", None, limitless=True, no_limit="until changed", **WHEN_SOLD),
    Setting(
        "past_zero_text",
        "Text for the shopper",
        "Shown while the next unit would be sold past zero; {date} becomes the promised day.",
        "text",
        "More are on the way and leave about {date}.",
        **WHEN_SOLD,
    ),
    Setting(
        "past_zero_days",
        "Promised in",
        "Days from today that are promised while no delivery on its way has units free.",
        "whole",
        21,
        unit="days",
        high=Decimal(365),
        **WHEN_SOLD,
    ),
    Setting(
        "show_stock",
        "Stock",
        "Whether the shopper sees how many are left.",
        "choice",
        "shown",
        choices=(("shown", "shown"), ("hidden", "not shown")),
        **SHOWN,
    ),
    Setting(
        "low_stock_below",
        "Low stock below",
        "With fewer than this left, the shopper sees a text.",
        "quantity",
        ZERO,
        unit="units",
        **SHOWN,
    ),
    Setting("low_stock_text", "Low stock text", "{count} becomes how many are left.", "text", "Only {count} left", **SHOWN),
    Setting(
        "order_minimum",
        "Minimum per order",
        "Nobody can order fewer than this at once.",
        "quantity",
        None,
        unit="units",
        low=Decimal(1),
        limitless=True,
        **SHOWN,
    ),
    Setting(
        "order_step",
        "In steps of",
        "An order goes up in steps of this many; minimum and maximum are kept in whole steps.",
        "quantity",
        None,
        unit="units",
        low=Decimal(1),
        limitless=True,
        no_limit="any number",
        **SHOWN,
    ),
    Setting(
        "order_maximum",
        "Maximum per order",
        "Nobody can order more than this at once. A group of customers may have limits of its own.",
        "quantity",
        None,
        unit="units",
        low=Decimal(1),
        limitless=True,
        **SHOWN,
    ),
)
PAST_ZERO = ("selling_past_zero", "past_zero_limit", "past_zero_from", "past_zero_until", "past_zero_text", "past_zero_days")
SHOPPER = ("show_stock", "low_stock_below", "low_stock_text", "order_minimum", "order_step", "order_maximum")
NAMES = (*PAST_ZERO, *SHOPPER)
# A level that more than one item may inherit from.
SHARED = frozenset(ON_CHANNELS) - {Level.LISTING, Level.ITEM}


def can_tell(connection: Connection) -> bool:
    """Whether a connection can tell the shopper anything but a number: only there anything is sold past zero."""
    return Capability.TERMS in kind_of(connection).can


def warning(rung: Rung, changed: Mapping[str, Any]) -> str:
    """What selling past zero means for overselling, when a change turns it on at a level; else nothing."""
    way = changed.get("selling_past_zero")
    if not isinstance(way, str) or way == "no":
        return ""
    limit = changed.get("past_zero_limit")
    if not isinstance(limit, Decimal):
        found = settled([rung], ["past_zero_limit"])["past_zero_limit"]
        limit = cast(Decimal, found.value)
    if not limit:
        return "Nothing is sold past zero before a limit is set: it is 0 here."
    said = f"Up to {spoken(limit)} units can be sold that are not there: buy or make them in time."
    return f"{said} All listings that inherit this limit share it; of two orders for its last unit the later one is held."


@dataclass(frozen=True)
class PastZeroColumns:
    """Selling past zero for the listings of one connection: whether it runs for each, whether only the limit is for sale,
    and what is left of it, in thousandths."""

    runs: npt.NDArray[np.bool_]
    at_once: npt.NDArray[np.bool_]
    left: Ints
    ways: list[str]
    limits: Sources

    def on(self, rules: RuleColumns) -> RuleColumns:
        """The rules of offers with it."""
        amounts = (rules.buffer, rules.share, rules.minimum, rules.maximum, rules.step)
        return RuleColumns(*amounts, self.left, self.at_once)


def past_zero_columns(connection: Connection, ids: Ids, kept: Kept, today: date) -> PastZeroColumns | None:
    """Selling past zero for many listings; what was sold is counted once for all of them. None where nothing of it is set."""
    if not any(kept["selling_past_zero"].values()) or not can_tell(connection):
        return None
    ways, way = resolved_columns("selling_past_zero", connection, ids, kept)
    runs = np.array([one != "no" for one in ways], np.bool_)[way]
    for name, holds in (("past_zero_from", lambda day: day <= today), ("past_zero_until", lambda day: today <= day)):
        days, which = resolved_columns(name, connection, ids, kept)
        runs &= np.array([day is None or holds(date.fromisoformat(str(day))) for day in days], np.bool_)[which]
    at_once = np.array([one == "preorder_at_once" for one in ways], np.bool_)[way] & runs
    limits = resolved_sources("past_zero_limit", connection, ids, kept)
    counting = sorted(set(limits.which[runs].tolist()))
    sold = sold_under(limits.scopes[at] for at in counting)
    found = [sold.get(scope, Sold()) for scope in limits.scopes]

    def units(amounts: Iterable[Decimal]) -> Ints:
        return np.array([int(amount * THOUSAND) for amount in amounts], np.int64)[limits.which]

    limit = units(Decimal(str(value)) for value in limits.values)
    left = left_columns(at_once, limit, units(one.all for one in found), units(one.unserved for one in found))
    return PastZeroColumns(runs, at_once, np.where(runs, left, 0), [str(ways[at]) for at in way], limits)


def terms_of(
    connection: Connection, ids: Ids, kept: Kept, past: PastZeroColumns | None, today: date
) -> dict[int, dict[str, Any]]:
    """What is told of each listing beside its quantity, as it is kept; of one that is sold as usual nothing."""
    found: dict[int, dict[str, Any]] = defaultdict(dict)
    if not can_tell(connection):
        return found
    facts: dict[int, dict[str, Any]] = defaultdict(dict)
    groups = _limits_of_groups(connection)
    if groups or any(kept[name][level] for name in SHOPPER for level in kept[name]):
        _shopper(connection, ids, kept, facts, groups)
    if past is not None:
        _past_zero(connection, ids, kept, past, today, facts)
    return {pk: SellingTerms(**one).kept() for pk, one in facts.items()}


def _limits_of_groups(connection: Connection) -> dict[str, OrderLimits]:
    """The limits of the groups of customers that an account knows, by its key; of those alone that have any."""
    names = ("order_minimum", "order_step", "order_maximum")
    rows = ChannelGroup.objects.filter(connection=connection, gone_at=None).exclude(group=None).order_by("key")
    found = {key: OrderLimits(*limits) for key, *limits in rows.values_list("key", *(f"group__{name}" for name in names))}
    return {key: limits for key, limits in found.items() if limits != OrderLimits()}


def _told_limits(limits: OrderLimits, units: int) -> dict[str, Decimal | None]:
    whole = limits.in_packs(units).in_steps()
    return {"least": whole.least, "step": whole.step, "most": whole.most}


def _shopper(
    connection: Connection, ids: Ids, kept: Kept, facts: dict[int, dict[str, Any]], groups: Mapping[str, OrderLimits]
) -> None:
    columns = {name: resolved_columns(name, connection, ids, kept) for name in SHOPPER}
    for at, (pk, units) in enumerate(zip(ids.listing.tolist(), ids.units.tolist(), strict=True)):
        worth = {name: values[which[at]] for name, (values, which) in columns.items()}
        below = Decimal(str(worth["low_stock_below"]))
        limits = OrderLimits(worth["order_minimum"], worth["order_step"], worth["order_maximum"])
        facts[pk] |= {"show_stock": worth["show_stock"] == "shown", **_told_limits(limits, units)}
        if groups:
            facts[pk]["groups"] = {key: _told_limits(limits.for_group(group), units) for key, group in groups.items()}
        if below:
            facts[pk] |= {"low_below": below, "low_text": worth["low_stock_text"]}


def _past_zero(
    connection: Connection, ids: Ids, kept: Kept, past: PastZeroColumns, today: date, facts: dict[int, dict[str, Any]]
) -> None:
    chosen = past.runs & (past.left > 0)
    items, lefts = ids.item[chosen].tolist(), past.left[chosen].tolist()
    if not items:
        return
    texts, which_text = resolved_columns("past_zero_text", connection, ids, kept)
    days, which_day = resolved_columns("past_zero_days", connection, ids, kept)
    coming = Coming.to(connection.fulfils_from_id, items)
    ways = [way for way, running in zip(past.ways, chosen.tolist(), strict=True) if running]
    rows = zip(ids.listing[chosen].tolist(), items, lefts, ways, which_text[chosen], which_day[chosen], strict=True)
    for pk, item, left, way, text, lead in rows:
        day = coming.promise(item, Decimal(1), today, int(cast(int, days[lead])))
        said = str(texts[text]).replace("{date}", f"{day:%-d %b %Y}")
        facts[pk] |= {"past_zero": Decimal(left) / THOUSAND, "badge": BADGES[way], "text": said, "promised_on": day}


def past_zero_in_packs(ids: Ids, shown: Ints, there: Ints, terms: dict[int, dict[str, Any]]) -> None:
    """Of listings that stand for several units, what may be sold past zero is told in whole ones of them; where that is
    none, nothing is told of it. `shown` and `there`: with it and without, in thousandths of the listing."""
    for at in np.flatnonzero(ids.units > 1).tolist():
        pk = int(ids.listing[at])
        if "past_zero" not in terms.get(pk, {}):
            continue
        more = Decimal(int(shown[at] - there[at])) / THOUSAND
        kept = {name: value for name, value in terms[pk].items() if name not in ("past_zero", "badge", "text", "promised_on")}
        terms[pk] = {**terms[pk], "past_zero": f"{more.normalize():f}"} if more else kept


@dataclass(frozen=True)
class Coming:
    """Deliveries on their way to one place and what waits there, by stocked item; kits by their parts."""

    parts: Mapping[int, Sequence[tuple[int, Decimal]]]
    deliveries: Mapping[int, Deliveries]
    owed: Mapping[int, Decimal]

    @classmethod
    def to(cls, place: int | None, items: Iterable[int]) -> Coming:
        """In four queries at most; nothing comes where there is no place."""
        place = place or 0
        parts = explode(set(items))
        stocked = {part for held in parts.values() for part, _ in held}
        deliveries: dict[int, list[tuple[date, Decimal]]] = defaultdict(list)
        for one in arrivals(stocked, [place]):
            deliveries[one.item_id].append((one.day, one.units))
        balances = StockBalance.objects.filter(item_id__in=stocked, location_id=place)
        return cls(parts, deliveries, dict(balances.values_list("item_id", "backordered")))

    def promise(self, item: int, units: Decimal, today: date, lead_days: int) -> date:
        """For when so many more of an item can be promised."""
        return max(
            promised_on(self.deliveries.get(part, ()), self.owed.get(part, ZERO), units * each, today, lead_days)
            for part, each in self.parts[item]
        )


def _is_used() -> bool:
    """Whether anything is sold past zero anywhere: most of the time the one question that has to be asked."""
    return SettingValue.objects.filter(name="selling_past_zero").exclude(value="no").exists()


def sharing(items: Iterable[int], today: date) -> dict[int, set[int]]:
    """The listings, by connection, of other items that share a limit with some items: what is sold of one is no longer
    left for the others. One query where nothing is sold past zero."""
    if not _is_used():
        return {}
    kept = by_level(PAST_ZERO)
    wanted = list(items)
    places: set[tuple[Level, int, int, str]] = set()
    for connection in Connection.objects.filter(state=Connection.State.LIVE).order_by("pk"):
        rows = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED, item_id__in=wanted)
        past = past_zero_columns(connection, Ids.of(rows), kept, today)
        if past is not None:
            places |= {past.limits.places[at] for at in past.limits.which[past.runs].tolist()}
    found: dict[int, set[int]] = defaultdict(set)
    for level, subject, within, kind in places:
        if level in SHARED:
            others = Listing.objects.filter(reached_by(level, subject, within, kind), link=Listing.Link.LINKED)
            for pk, where in others.exclude(item_id__in=wanted).values_list("pk", "connection_id"):
                found[where].add(pk)
    return found


def _rule(worth: Mapping[str, Any]) -> PastZero:
    def day(name: str) -> date | None:
        return date.fromisoformat(worth[name]) if worth[name] else None

    way = cast(Way, worth["selling_past_zero"])
    return PastZero(way, worth["past_zero_limit"], day("past_zero_from"), day("past_zero_until"), worth["past_zero_days"])


def _settled_rule(listing: Listing) -> tuple[PastZero, Rung | None] | None:
    """(how one listing is sold past zero, where its limit is set: None for the default), or nothing."""
    if listing.item_id is None or not can_tell(listing.connection):
        return None
    resolved = settled(listing_rungs(listing), PAST_ZERO)
    rule = _rule({name: one.value for name, one in resolved.items()})
    return (rule, resolved["past_zero_limit"].rung) if rule.way != "no" else None


def _scope(rung: Rung | None) -> str:
    return scope_of(*rung.key) if rung else scope_of(Level.DEFAULT, 0, 0, "")


def allowances(listings: Iterable[Listing]) -> dict[int, Allowance]:
    """What some listings of one connection allow past zero, by listing; those that allow nothing are missing."""
    if not _is_used():
        return {}
    settled_ones = ((listing, _settled_rule(listing)) for listing in listings)
    found = {listing.pk: (listing, *one) for listing, one in settled_ones if one is not None}
    if not found:
        return {}
    one = next(iter(found.values()))[0]
    coming = Coming.to(one.connection.fulfils_from_id, (cast(int, row.item_id) for row, _, _ in found.values()))

    def deliveries(row: Listing) -> dict[int, Deliveries]:
        return {part: coming.deliveries.get(part, ()) for part, _ in coming.parts[cast(int, row.item_id)]}

    return {pk: Allowance(rule, _scope(rung), deliveries(row)) for pk, (row, rule, rung) in found.items()}


def with_past_zero(listing: Listing, rule: OfferRule, today: date) -> OfferRule:
    """The rule of one listing's offer with what may be sold past zero, and the words for its Working."""
    found = _settled_rule(listing) if _is_used() else None
    if found is None or not found[0].runs(today):
        return rule
    past, rung = found
    scope = _scope(rung)
    sold = sold_under([scope])[scope]
    taken = sold.all if past.at_once else sold.unserved
    said = f"{spoken(past.limit)} less {spoken(taken)} {'sold' if past.at_once else 'sold and not yet served'}"
    return replace(
        rule,
        past_zero_left=past.left(sold),
        only_past_zero=past.at_once,
        past_zero_said=said,
        sources=(*rule.sources, ("past_zero_limit", rung.title if rung else "the default")),
    )
