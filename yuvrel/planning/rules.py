"""What can be set about how an item is replenished at a place, and how a place inherits it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, cast

import numpy as np
from django.db.models import Q

from yuvrel.buying.models import SupplierItem
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.rungs import above, below, company_rung, item_rungs, parents_of
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.forecast import METHODS
from yuvrel.core.money import ZERO
from yuvrel.core.replenish import Method, Policy, SafetyMethod
from yuvrel.core.rules import OF_PLACES, Ladder, Level, Rung, Setting, Value, resolve_columns
from yuvrel.people.models import Location
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import INHERIT, Key, by_level, given_on, settled
from yuvrel.rules.registry import SETTINGS, Way, add_check, add_choices, add_way, declare

Pair = tuple[int, int]
GROUP = "Replenishment"
PLACED: dict[str, Any] = {"levels": OF_PLACES, "group": GROUP, "rehearsal": "reorder", "ability": Ability.BUY.value}
UNITS: dict[str, Any] = {"type": "quantity", "places": 3, "unit": "units", **PLACED}

declare(
    Setting(
        "lead_days",
        "Lead time",
        "From ordering to having it on the shelf.",
        "whole",
        14,
        levels=(Level.ITEM_AT_PLACE, Level.ITEM, Level.SUPPLIER, Level.COMPANY),
        unit="days",
        high=Decimal(1000),
        group=GROUP,
        rehearsal="reorder",
        ability=Ability.BUY.value,
    ),
    Setting(
        "fed_from",
        "Filled from",
        "Another place of ours that sends what is needed here, by transfer; what is needed here then counts there.",
        "choice",
        "",
        **PLACED,
    ),
    Setting(
        "transfer_days",
        "Transfer time",
        "From sending it there to having it on the shelf here.",
        "whole",
        2,
        unit="days",
        high=Decimal(365),
        **PLACED,
    ),
    Setting(
        "reorder",
        "Reorder",
        "What an order is worked out from.",
        "choice",
        "cover",
        choices=(("cover", "lead time and cover"), ("min_max", "reorder point and maximum")),
        **PLACED,
    ),
    Setting(
        "cover_days",
        "Cover",
        "For how long an order is to last once it has arrived.",
        "whole",
        30,
        unit="days",
        high=Decimal(1000),
        only_with=("reorder", "cover"),
        **PLACED,
    ),
    Setting(
        "safety",
        "Safety stock",
        "What is kept for more demand than expected and for late deliveries.",
        "choice",
        "service",
        choices=(("service", "by service level"), ("days", "days of sales"), ("units", "fixed units")),
        **PLACED,
    ),
    Setting(
        "service_level",
        "Service level",
        "How often there shall be enough until the next delivery.",
        "percent",
        Decimal(95),
        unit="%",
        low=Decimal("0.1"),
        high=Decimal("99.9"),
        places=1,
        only_with=("safety", "service"),
        **PLACED,
    ),
    Setting(
        "safety_days",
        "Safety days",
        "So many days of sales.",
        "quantity",
        Decimal(7),
        unit="days",
        places=1,
        high=Decimal(1000),
        only_with=("safety", "days"),
        **PLACED,
    ),
    Setting("safety_units", "Safety units", "So many units.", default=ZERO, only_with=("safety", "units"), **UNITS),
    Setting(
        "reorder_point",
        "Reorder point",
        "With this much left, counting what is on its way, it is ordered.",
        default=ZERO,
        only_with=("reorder", "min_max"),
        **UNITS,
    ),
    Setting(
        "order_up_to",
        "Order up to",
        "The order fills up to this.",
        default=ZERO,
        only_with=("reorder", "min_max"),
        **UNITS,
    ),
    Setting(
        "alert_below",
        "Alert below",
        "With fewer than this available, buyers are told once, by mail and on Today, until it recovers.",
        default=None,
        limitless=True,
        no_limit="never",
        low=Decimal("0.001"),
        **UNITS,
    ),
    Setting(
        "forecast_method",
        "Forecast method",
        "Automatic weighs the methods by how they did on the item's own past.",
        "choice",
        "auto",
        choices=(("auto", "automatic"), *((name, f"{name}: {method.words}") for name, method in METHODS.items())),
        **PLACED,
    ),
)
BOUGHT = ("", "its supplier, by purchase order")


def _places() -> list[tuple[str, str]]:
    return [BOUGHT, *((place.code, place.name) for place in Location.objects.filter(for_sale=True))]


add_choices("fed_from", _places)
FIGURES = {"service": "service_level", "days": "safety_days", "units": "safety_units"}
NAMES = tuple(name for name, setting in SETTINGS.items() if setting.group == GROUP)


@dataclass(frozen=True)
class Standing:
    """What counts for an item at a place: every value, and the supplier's terms that go with it."""

    values: Mapping[str, Value]
    terms: SupplierItem | None

    @property
    def forecast(self) -> str:
        """The forecasting method, or auto."""
        return str(self.values["forecast_method"])

    @property
    def fed_from(self) -> str:
        """The code of the place that fills this one; empty where it is bought for it."""
        return str(self.values["fed_from"] or "")

    @property
    def policy(self) -> Policy:
        """As the core takes it where it is bought. Raises BadInputError when it cannot be."""
        return self._policy(int(str(self.values["lead_days"])), self.terms)

    @property
    def fed_policy(self) -> Policy:
        """As the core takes it where it comes by transfer: on its way a few days, in any number. Raises BadInputError."""
        return self._policy(int(str(self.values["transfer_days"])), None)

    def _policy(self, lead_days: int, terms: SupplierItem | None) -> Policy:
        worth = self.values
        safety = cast(SafetyMethod, worth["safety"])
        figure = Decimal(str(worth[FIGURES[safety]]))
        point = Decimal(str(worth["reorder_point"]))
        return Policy(
            lead_days=lead_days,
            cover_days=int(str(worth["cover_days"])),
            safety=safety,
            safety_figure=figure / 100 if safety == "service" else figure,
            method=cast(Method, worth["reorder"]),
            reorder_point=point,
            # Set at levels that do not know each other, the maximum may lie below: it is then the point itself.
            order_up_to=max(point, Decimal(str(worth["order_up_to"]))),
            lead_deviation_days=terms.supplier.lead_deviation_days if terms else ZERO,
            minimum=terms.minimum if terms else ZERO,
            pack=terms.pack if terms else Decimal(1),
        )


def standings(
    pairs: Iterable[Pair],
    terms: Mapping[int, SupplierItem],
    changed: Mapping[str, Mapping[Key, Value]] | None = None,
) -> dict[Pair, Standing]:
    """What counts for many items at their places, in three queries; `changed` as a rehearsal would have it."""
    by_place: dict[int, list[int]] = defaultdict(list)
    for item, place in pairs:
        by_place[place].append(item)
    kept = by_level(NAMES, changed)
    everything = {item for items in by_place.values() for item in items}
    facts = {
        pk: (product, category or 0)
        for pk, product, category in Item.objects.filter(pk__in=everything).values_list(
            "pk", "product_id", "product__category_id"
        )
    }
    parents = parents_of()
    found: dict[Pair, Standing] = {}
    for place, listed in by_place.items():
        items = [item for item in listed if item in facts]
        ladder = _ladder(place, items, facts, terms, parents)
        columns = {name: resolve_columns(SETTINGS[name], ladder, _given(kept[name], place, terms)) for name in NAMES}
        for at, item in enumerate(items):
            values = {name: worth[which[at]] for name, (worth, which) in columns.items()}
            found[item, place] = Standing(values, terms.get(item))
    return found


def _ladder(
    place: int,
    items: list[int],
    facts: Mapping[int, tuple[int, int]],
    terms: Mapping[int, SupplierItem],
    parents: Mapping[int, int],
) -> Ladder:
    ids = np.array(items, np.int64)
    products = np.array([facts[item][0] for item in items], np.int64)
    categories = np.array([facts[item][1] for item in items], np.int64)
    suppliers = np.array([terms[item].supplier_id if item in terms else 0 for item in items], np.int64)
    columns = [(Level.ITEM_AT_PLACE, ids), (Level.ITEM, ids), (Level.PRODUCT, products)]
    columns += [(Level.CATEGORY, depth) for depth in above(categories, parents)]
    same = np.ones(len(items), np.int64)
    columns += [(Level.PLACE, same * place), (Level.SUPPLIER, suppliers), (Level.COMPANY, same)]
    return Ladder(tuple(columns), len(items))


def _given(kept: Mapping[Level, Any], place: int, terms: Mapping[int, SupplierItem]) -> dict[Level, Mapping[int, Value]]:
    """What is set for one name, by level and subject, as it stands for one place; a supplier's lead time is his own."""
    given: dict[Level, Mapping[int, Value]] = {
        Level.SUPPLIER: {row.supplier_id: row.supplier.lead_days for row in terms.values()}
    }
    for level, by_subject in kept.items():
        if level == Level.COMPANY:
            values = by_subject.get((0, ""), {})
            given[level] = {1: values[0]} if 0 in values else {}
        else:
            given[level] = by_subject.get((place if level == Level.ITEM_AT_PLACE else 0, ""), {})
    return given


def stocked_rungs(item_id: int, place_id: int) -> list[Rung]:
    """How an item at a place inherits; the lead time also from its preferred supplier. Raises NotFoundError."""
    item = Item.objects.select_related("product__category").filter(pk=item_id, kind=Item.Kind.STOCKED).first()
    place = Location.objects.filter(pk=place_id).first()
    if item is None or place is None:
        raise NotFoundError("That item is not stocked at that location.")
    rungs = [Rung(Level.ITEM_AT_PLACE, f"{item.title} at {place.name}", item.pk, place.pk)]
    rungs += item_rungs(item)[:-1]
    rungs.append(Rung(Level.PLACE, place.name, place.pk))
    terms = SupplierItem.objects.filter(item=item, preferred=True).select_related("supplier").first()
    if terms is not None:
        supplier = terms.supplier
        rungs.append(Rung(Level.SUPPLIER, supplier.name, supplier.pk, given=(("lead_days", supplier.lead_days),)))
    return [*rungs, company_rung()]


add_way(Way("stocked", stocked_rungs, ids=2))


def reached_items(level: Level, subject: int) -> Q:
    """The stocked items that what is set at a level may speak for, at whatever place."""
    match level:
        case Level.ITEM_AT_PLACE | Level.ITEM:
            return Q(pk=subject)
        case Level.PRODUCT:
            return Q(product_id=subject)
        case Level.CATEGORY:
            return Q(product__category_id__in=below(subject))
    return Q()


@add_check
def place_that_fills(rung: Rung, changes: Mapping[str, Value]) -> None:
    """Another place of ours, or none. Raises BadInputError."""
    code = changes.get("fed_from")
    if not isinstance(code, str) or not code:
        return
    if code not in dict(_places()):
        raise BadInputError("There is no such place.", field="fed_from")
    if rung.level == Level.PLACE and Location.objects.filter(pk=rung.subject, code=code).exists():
        raise BadInputError("A place cannot fill itself.", field="fed_from")


@add_check
def maximum_above_the_point(rung: Rung, changes: Mapping[str, Value]) -> None:
    """A maximum is not set below the reorder point that is set at the same level. Raises BadInputError."""
    if not {"reorder_point", "order_up_to"} & changes.keys():
        return
    now = given_on([rung], ("reorder_point", "order_up_to"))
    worth = {
        name: {**now.get(name, {}), rung.key: changes[name]} if name in changes else now.get(name, {})
        for name in ("reorder_point", "order_up_to")
    }
    point, most = (worth[name].get(rung.key, INHERIT) for name in ("reorder_point", "order_up_to"))
    if point is INHERIT or most is INHERIT:
        return
    if Decimal(str(most)) < Decimal(str(point)):
        raise BadInputError("It lies below the reorder point.", field="order_up_to")


def standing_of(item_id: int, place_id: int) -> Standing:
    """What counts for one item at a place. Raises NotFoundError."""
    rungs = stocked_rungs(item_id, place_id)
    terms = SupplierItem.objects.filter(item_id=item_id, preferred=True).select_related("supplier").first()
    return Standing({name: one.value for name, one in settled(rungs, NAMES).items()}, terms)
