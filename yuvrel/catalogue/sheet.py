"""The range as a sheet: items with their products, sent in and taken out."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from django.db.models.functions import Lower, Trim

from yuvrel.core import bounds
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import (
    Column,
    Read,
    amount,
    as_pairs,
    barcodes,
    listed,
    money,
    one_of,
    pairs,
    said_yes,
    semicolons,
    spaced,
    whole,
    words,
    yes_or_no,
)
from yuvrel.intake.registry import Judge, Kind, declare
from yuvrel.people.roles import Ability, Actor, audit

from .actions import ItemDraft, add_item
from .models import Barcode, Item, Product, TaxClass
from .products import change, change_items, put_facts

COLUMNS = (
    Column("sku", "of the item; case does not matter", "SMK-S-ASH", words(60), needed=True),
    Column("product", "title of its product; a new one is made where there is none", "Smoker", words(160)),
    Column("options", "what sets it apart from its siblings", "Size=S; Wood=ash", pairs, as_pairs),
    Column("kind", "stocked, service or bundle; of a new item only", "stocked", one_of("stocked", "service", "bundle")),
    Column("category", "a new name makes a new category", "Smokers", words(60)),
    Column("brand", "", "Varga", words(60)),
    Column("tags", "with semicolons between", "metal; gift", listed, semicolons),
    Column("price", "with tax", "32.00", amount(2, bounds.MOST_PRICE), money),
    Column("barcodes", "GTINs with spaces between; the check digit is checked", "4006381333931", barcodes, spaced),
    Column("weight_grams", "", "420", whole),
    Column("internal", "yes: used here, not sold", "no", yes_or_no, said_yes),
)
OF_PRODUCT = ("product", "category", "brand", "tags")
OF_ITEM = ("price", "barcodes", "weight_grams", "internal")
FIXED = ("options", "kind")


def standing(keys: Sequence[str] | None) -> Iterator[tuple[str, dict[str, str]]]:
    """Every item in use, by its SKU."""
    codes: dict[int, list[str]] = defaultdict(list)
    for item_id, gtin in Barcode.objects.order_by("gtin").values_list("item_id", "gtin"):
        codes[item_id].append(gtin)
    names = {column.name: column for column in COLUMNS}
    rows = Item.objects.filter(active=True).select_related("product__category").order_by("product_id", "pk")
    for item in rows.iterator(2000):
        product = item.product
        values: dict[str, Any] = {
            "sku": item.sku,
            "product": product.title,
            "options": item.options,
            "kind": item.kind,
            "category": product.category.name if product.category else "",
            "brand": product.brand,
            "tags": product.tags,
            "price": item.price,
            "barcodes": codes[item.pk],
            "weight_grams": item.weight_grams,
            "internal": item.internal,
        }
        yield normal_sku(item.sku), {name: names[name].text(value) for name, value in values.items()}


def judge() -> Judge:
    """What is wrong with a row as a whole: a new item needs a product, and rows of one product say the same of it."""
    products = {normal_sku(sku): pk for sku, pk in Item.objects.filter(active=True).values_list("sku", "product_id")}
    told: dict[int | str, dict[str, Any]] = {}

    def wrong(values: Mapping[str, Any], is_new: bool) -> str:
        if is_new and "product" not in values:
            return "is new and needs a product"
        product = values["product"] if is_new else products[normal_sku(values["sku"])]
        before = told.setdefault(product, {})
        for name in OF_PRODUCT:
            if name in values and before.setdefault(name, values[name]) != values[name]:
                return f"has another {name} than another row of the same product"
        return ""

    return wrong


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Take rows in. Facts of a product go for all its items."""
    actor.need(Ability.EDIT_RANGE)
    there = {normal_sku(item.sku): item for item in _items(rows)}
    _add(actor, [row for row in rows if row.outcome == "new"])
    changed = [row for row in rows if row.outcome == "changed" and row.key in there]
    facts = {}
    for row in changed:
        own = {name: row.values[name] for name in OF_ITEM if name in row.changes}
        if own:
            facts[there[row.key].pk] = {**own, "version": there[row.key].version}
    if facts:
        change_items(actor, facts)
    by_product: dict[int, dict[str, Any]] = {}
    for row in changed:
        told = {("title" if n == "product" else n): row.values[n] for n in OF_PRODUCT if n in row.changes}
        if told:
            by_product.setdefault(there[row.key].product_id, {}).update(told)
    for product in Product.objects.filter(pk__in=by_product):
        change(actor, product.pk, product.version, by_product[product.pk])


def _items(rows: Sequence[Read]) -> list[Item]:
    skus = [row.values["sku"].strip().lower() for row in rows]
    return list(Item.objects.annotate(folded=Lower(Trim("sku"))).filter(folded__in=skus))


def _add(actor: Actor, rows: Sequence[Read]) -> None:
    known = {product.title: product for product in Product.objects.filter(title__in={row.values["product"] for row in rows})}
    tax = TaxClass.objects.first()
    for row in rows:
        values = row.values
        product = known.get(values["product"])
        if product is None:
            product = Product(title=values["product"], tax_class=tax, option_names=list(values.get("options", {})))
            put_facts(product, {name: values[name] for name in ("category", "brand", "tags") if name in values})
            product.save()
            known[product.title] = product
            audit(actor, "make product", "product", product.pk, after={"title": product.title})
        draft = ItemDraft(
            values["sku"],
            values.get("options", {}),
            values.get("barcodes", ()),
            values.get("price", 0),
            service=values.get("kind") == Item.Kind.SERVICE,
            bundle=values.get("kind") == Item.Kind.BUNDLE,
            weight_grams=values.get("weight_grams", 0),
            internal=values.get("internal", False),
        )
        add_item(product, draft)


declare(
    Kind(
        "items",
        "Products and items",
        "Titles, options, prices, barcodes and weights of the range",
        COLUMNS,
        Ability.EDIT_RANGE,
        standing,
        apply,
        judge=judge,
    )
)
