"""What suppliers ask for items, as a sheet."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from yuvrel.catalogue.models import Item
from yuvrel.core import bounds
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import Amount, Column, Judge, Read, Wrong, quantity, said_yes, words, yes_or_no
from yuvrel.core.money import ZERO
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.roles import Ability, Actor

from .models import Supplier, SupplierItem
from .suppliers import Terms, keep_terms

UNITS = Amount(bounds.QUANTITY_PLACES, bounds.MOST_UNITS)
COLUMNS = (
    Column("supplier", "its name", "Varga", words(120), needed=True),
    Column("sku", "ours", "SMK-S-ASH", words(60), needed=True),
    Column("supplier_sku", "what the supplier calls it", "V-1182", words(60), empty=""),
    Column("price", "of one, in the supplier's currency, at any quantity", "12.40", Amount(6, bounds.MOST_PRICE), quantity),
    Column("pack", "units in a pack", "6", UNITS, quantity),
    Column("minimum", "smallest quantity it sells", "12", UNITS, quantity),
    Column("preferred", "yes: suggested first", "yes", yes_or_no, said_yes),
)


def key_of(values: Mapping[str, Any]) -> str:
    """A supplier by its name, and an item by its SKU."""
    return f"{values['supplier'].casefold()} {normal_sku(values['sku'])}"


def _terms() -> Iterator[tuple[str, SupplierItem]]:
    rows = SupplierItem.objects.select_related("supplier", "item").prefetch_related("prices").order_by("supplier__name", "pk")
    for row in rows:
        yield key_of({"supplier": row.supplier.name, "sku": row.item.sku}), row


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """What every supplier asks for every item; no price where it depends on the quantity."""
    names = {column.name: column for column in COLUMNS}
    prices: dict[int, list[Decimal]] = defaultdict(list)
    for terms, price in SupplierItem.objects.exclude(prices=None).values_list("pk", "prices__price"):
        prices[terms].append(price)
    told = ("supplier__name", "item__sku", "code", "pack", "minimum", "preferred")
    for pk, *values in SupplierItem.objects.order_by("supplier__name", "pk").values_list("pk", *told).iterator(5000):
        said = dict(zip(("supplier", "sku", "supplier_sku", "pack", "minimum", "preferred"), values, strict=True))
        texts = {name: names[name].text(value) for name, value in said.items()}
        yield key_of(texts), texts | {"price": quantity(prices[pk][0]) if len(prices[pk]) == 1 else ""}


def judge() -> Judge:
    """The supplier and the item are known, and a price does not take the place of price breaks."""
    suppliers = {name.casefold() for name in Supplier.objects.values_list("name", flat=True)}
    items = {normal_sku(sku) for sku in Item.objects.filter(active=True).values_list("sku", flat=True)}
    broken = {key for key, row in _terms() if len(row.prices.all()) > 1}

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        if values["supplier"].casefold() not in suppliers:
            return "is no supplier's name"
        if normal_sku(values["sku"]) not in items:
            return "sku", "is no item of the range"
        if is_new and "price" not in values:
            return "price", "is needed for a new row"
        if "price" in values and key_of(values) in broken:
            return "price", "stands for price breaks: change them on the supplier's page"
        return ""

    return wrong


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Take rows in; what a row does not say stays as it is."""
    suppliers = {row.name.casefold(): row for row in Supplier.objects.all()}
    wanted = {normal_sku(row.values["sku"]) for row in rows}
    items = {normal_sku(sku): pk for sku, pk in Item.objects.values_list("sku", "pk") if normal_sku(sku) in wanted}
    there = dict(_terms())
    for row in rows:
        values, old = row.values, there.get(row.key)
        prices = [(p.from_quantity, p.price) for p in old.prices.all()] if old else []
        terms = Terms(
            values.get("supplier_sku", old.code if old else ""),
            values.get("pack", old.pack if old else Decimal(1)),
            values.get("minimum", old.minimum if old else ZERO),
            values.get("preferred", old.preferred if old else False),
            [(ZERO, values["price"])] if "price" in values else prices,
        )
        supplier, item = suppliers[values["supplier"].casefold()], items[normal_sku(values["sku"])]
        keep_terms(actor, supplier.pk, item, old.version if old else 0, terms)


declare(
    Kind(
        "supplier_items",
        "What suppliers ask",
        "Their SKUs, prices, packs and minimum quantities",
        COLUMNS,
        Ability.BUY,
        standing,
        apply,
        key_of,
        judge,
    )
)
