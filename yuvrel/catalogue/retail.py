"""Retail prices: what one of an item costs the customers of the company that is worked for, with tax."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from django.db.models import QuerySet
from django.db.models.functions import Coalesce

from yuvrel.core.money import ZERO
from yuvrel.ownership import own_of

from .models import Item, ItemPrice


def priced(rows: QuerySet[Item]) -> Any:
    """Items with their `price`, to be read, filtered and sorted by; 0 where there is none."""
    return rows.annotate(**{"own_price": own_of("own_prices"), "price": Coalesce("own_price__amount", ZERO)})


def keep_prices(prices: Mapping[int, Decimal]) -> None:
    """Write retail prices, by item; 0 takes one away."""
    ItemPrice.objects.filter(item__in=[item for item, amount in prices.items() if not amount]).delete()
    ItemPrice.objects.bulk_create(
        [ItemPrice(item_id=item, amount=amount) for item, amount in sorted(prices.items()) if amount],
        5000,
        update_conflicts=True,
        unique_fields=["company", "item"],
        update_fields=["amount"],
    )
