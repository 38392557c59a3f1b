"""Retail prices: what one of an item costs the customers of the company that is worked for, with tax."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from decimal import Decimal
from typing import Any

from django.db.models import QuerySet
from django.db.models.functions import Coalesce

from yuvrel.core.money import ZERO
from yuvrel.core.pricing import Together, sum_of_parts
from yuvrel.ownership import own_of
from yuvrel.people.queries import company

from .models import BundleComponent, Item, ItemPrice


def priced(rows: QuerySet[Item]) -> Any:
    """Items with their `price`, to be read, filtered and sorted by; 0 where there is none."""
    return rows.annotate(**{"own_price": own_of("own_prices"), "price": Coalesce("own_price__amount", ZERO)})


def keep_prices(prices: Mapping[int, Decimal]) -> None:
    """Write retail prices, by item, 0 takes one away; and those of bundles that cost what these do."""
    while prices:
        _write(prices)
        prices = _together(set(of_parts().filter(components__component__in=prices).values_list("pk", flat=True)))


def work_out(bundles: Iterable[int]) -> None:
    """Write what bundles come to that cost what their parts do, and bundles that hold them."""
    keep_prices(_together(set(bundles)))


def of_parts() -> QuerySet[Item]:
    """Bundles that cost what their parts do."""
    return Item.objects.exclude(percent_off_parts=None)


def made_of_priced(wanted: Iterable[int] | None = None) -> dict[int, Together]:
    """Bundles that cost what their parts do, among the given or all, and those that they hold, with their parts.

    A query for each depth: for items that are no such bundles one, which finds nothing.
    """
    found: dict[int, Together] = {}
    more = wanted if wanted is None else set(wanted)
    while more is None or more:
        rows = BundleComponent.objects.exclude(bundle__percent_off_parts=None).order_by("bundle_id", "component__sku")
        rows = rows if more is None else rows.filter(bundle_id__any_of=more)
        parts: dict[int, list[tuple[int, Decimal, str]]] = defaultdict(list)
        off: dict[int, Decimal] = {}
        names = ("bundle_id", "component_id", "quantity", "component__sku", "bundle__percent_off_parts")
        for bundle, part, each, sku, taken in rows.values_list(*names):
            parts[bundle].append((part, each, sku))
            off[bundle] = taken
        found |= {bundle: Together(tuple(of), off[bundle]) for bundle, of in parts.items()}
        more = set() if more is None else {part for of in parts.values() for part, _, _ in of} - found.keys()
    return found


def _together(bundles: set[int]) -> dict[int, Decimal]:
    """What bundles come to by the retail prices of their parts; 0 where one of them has none."""
    made = {bundle: of for bundle, of in (made_of_priced(bundles).items() if bundles else ()) if bundle in bundles}
    parts = {part for of in made.values() for part, _, _ in of.parts}
    known = dict(ItemPrice.objects.filter(item__in=parts).values_list("item", "amount")) if parts else {}
    currency = company().base_currency if made else ""
    return {
        bundle: sum_of_parts([(known[part], each) for part, each, _ in of.parts], of.percent_off, currency) or ZERO
        if all(part in known for part, _, _ in of.parts)
        else ZERO
        for bundle, of in made.items()
    }


def _write(prices: Mapping[int, Decimal]) -> None:
    ItemPrice.objects.filter(item__in=[item for item, amount in prices.items() if not amount]).delete()
    ItemPrice.objects.bulk_create(
        [ItemPrice(item_id=item, amount=amount) for item, amount in sorted(prices.items()) if amount],
        5000,
        update_conflicts=True,
        unique_fields=["company", "item"],
        update_fields=["amount"],
    )
