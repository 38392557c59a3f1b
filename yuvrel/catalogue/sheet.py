"""The range as a sheet: items with their products, sent in and taken out."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

import iso3166

from yuvrel.core import bounds
from yuvrel.core.errors import BadInputError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.intake import (
    Amount,
    Column,
    Judge,
    Read,
    Whole,
    Wrong,
    as_counted,
    as_pairs,
    barcodes,
    counted,
    listed,
    money,
    one_of,
    pairs,
    quantity,
    said_yes,
    semicolons,
    spaced,
    whole,
    words,
    yes_or_no,
)
from yuvrel.core.kits import flatten
from yuvrel.core.money import ZERO
from yuvrel.core.pricing import HUNDRED, Together
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.roles import Ability, Actor, audit

from .actions import ItemDraft, add_item
from .models import Barcode, BundleComponent, Item, Product, TaxClass
from .products import change, change_items, items_of, put_facts, set_parts
from .retail import of_parts, priced
from .texts import formatted

MOST_MILLIMETRES = Decimal(100_001)
MOST_DAYS = Decimal(7_301)


# A length of at most a hundred metres; days, twenty years at most.
millimetres, shelf_life = Whole(MOST_MILLIMETRES), Whole(MOST_DAYS)


def described(text: str) -> str:
    """A description, plain or formatted, as it is kept."""
    return formatted(words(20_000)(text))


def country(text: str) -> str:
    """A country of ISO 3166-1 by its two letters."""
    found = text.strip().upper()
    if found not in iso3166.countries_by_alpha2:
        raise BadInputError("is no country of ISO 3166: two letters, as IE")
    return found


def percent_off(text: str) -> Decimal:
    """What is taken off the sum of a bundle's parts."""
    return Together((), Amount(2, HUNDRED)(text)).percent_off


def said_percent(value: Decimal | str) -> str:
    """Without superfluous zeros; empty where a bundle has a price of its own."""
    return quantity(value) if isinstance(value, Decimal) else value


COLUMNS = (
    Column("sku", "of the item; case does not matter", "SMK-S-ASH", words(60), needed=True),
    Column("product", "title of its product; a new one is made where there is none", "Smoker", words(160)),
    Column(
        "options", "what sets it apart from its siblings; of a new item only", "Size=S; Wood=ash", pairs, as_pairs, fixed=True
    ),
    Column(
        "kind", "stocked, service or bundle; of a new item only", "stocked", one_of("stocked", "service", "bundle"), fixed=True
    ),
    Column(
        "category",
        "of the product, with all its items; a new name makes a new category",
        "Smokers",
        words(60),
        folded=True,
        empty="",
        many=True,
    ),
    Column("brand", "of the product, with all its items", "Varga", words(60), empty="", many=True),
    Column(
        "tags",
        "of the product, with all its items; with semicolons between",
        "metal; gift",
        listed,
        semicolons,
        empty=[],
        many=True,
    ),
    Column("tax_class", "of the product, with all its items; its name", "Standard", words(40), folded=True, many=True),
    Column(
        "note",
        "of the product, with all its items; for people here, never sent to a channel",
        "fragile",
        words(4000),
        empty="",
        many=True,
    ),
    Column(
        "description",
        "of the product; plain, or with the tags p, br, strong, em, h3, ul, ol, li and a",
        "<p>Burns cool and long.</p>",
        described,
        empty="",
    ),
    Column("country", "of origin, of the product; two letters", "IE", country, folded=True, empty="", many=True),
    Column("shelf_life_days", "how long the product keeps after it arrives", "180", shelf_life, many=True),
    Column("price", "with tax", "32.00", Amount(2, bounds.MOST_PRICE), money, many=True),
    Column(
        "parts",
        "of a bundle, as 2 × JAR; 1 × TOOL: items above it in the file, or in the range",
        "",
        counted,
        as_counted,
        folded=True,
    ),
    Column(
        "off_parts",
        "of a bundle: it costs what its parts do less so many per cent; (empty): the price it has by itself",
        "",
        percent_off,
        said_percent,
        empty="",
        many=True,
    ),
    Column("barcodes", "GTINs with spaces between; the check digit is checked", "4006381333931", barcodes, spaced, empty=[]),
    Column("weight_grams", "", "420", whole, many=True),
    Column("length_mm", "", "310", millimetres, many=True),
    Column("width_mm", "", "200", millimetres, many=True),
    Column("height_mm", "", "150", millimetres, many=True),
    Column("internal", "yes: used here, not sold", "no", yes_or_no, said_yes, many=True),
)
NAMED = {column.name: column for column in COLUMNS}
OF_PRODUCT = ("product", "category", "brand", "tags", "tax_class", "note", "description", "country", "shelf_life_days")
# The same, as a product keeps them.
FACTS = ("title", "category__name", "brand", "tags", "tax_class__name", "note", "description", "country", "shelf_life_days")
SIDES = ("length_mm", "width_mm", "height_mm")
OF_ITEM = ("price", "barcodes", "weight_grams", *SIDES, "internal")


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """Every item in use, by its SKU."""
    codes: dict[int, list[str]] = defaultdict(list)
    for item_id, gtin in Barcode.objects.order_by("gtin").values_list("item_id", "gtin"):
        codes[item_id].append(gtin)
    made = _parts_now()
    rows = priced(Item.objects.filter(active=True)).order_by("product_id", "pk")
    mine = ("pk", "sku", "options", "kind", "price", "percent_off_parts", "weight_grams", *SIDES, "internal")
    theirs = [f"product__{name}" for name in FACTS]
    for found in rows.values_list(*mine, *theirs).iterator(5000):
        item = dict(zip(mine, found, strict=False))
        pk, price, percent = item.pop("pk"), item.pop("price"), item.pop("percent_off_parts")
        values: dict[str, Any] = {
            **item,
            # What costs what its parts do has nothing typed in.
            **({"price": price} if percent is None else {}),
            "parts": [(each, sku) for each, sku, _ in made.get(pk, ())],
            "off_parts": "" if percent is None else percent,
            "barcodes": codes[pk],
        }
        own = {name: NAMED[name].text(value) for name, value in values.items()}
        yield normal_sku(item["sku"]), own | _of_product(found[len(mine) :])


def _parts_now(bundles: Iterable[int] | None = None) -> dict[int, list[tuple[Decimal, str, int]]]:
    """How many of which SKU, and its item, make up each bundle, or these, in the order of the SKUs."""
    found: dict[int, list[tuple[Decimal, str, int]]] = defaultdict(list)
    rows = BundleComponent.objects.all() if bundles is None else BundleComponent.objects.filter(bundle__in=list(bundles))
    for bundle, each, sku, part in rows.values_list("bundle_id", "quantity", "component__sku", "component_id"):
        found[bundle].append((each, sku, part))
    return {bundle: sorted(parts, key=lambda one: one[1].casefold()) for bundle, parts in found.items()}


def _of_product(facts: Sequence[Any]) -> dict[str, str]:
    """What an export says of a product, made of its FACTS."""
    said = {name: fact or "" for name, fact in zip(OF_PRODUCT, facts, strict=True)}
    return said | {"tags": semicolons(said["tags"]), "shelf_life_days": str(facts[-1])}


def judge() -> Judge:
    """What is wrong with a row as a whole: a new item needs a product, a retired one is brought back first, and rows of
    one product say the same of it."""
    rows = list(Item.objects.values_list("sku", "pk", "kind", "product_id", "active"))
    items = {normal_sku(sku): (product, active) for sku, _, _, product, active in rows}
    of_bundles = _bundle_judge({normal_sku(sku): (pk, kind) for sku, pk, kind, _, _ in rows})
    titles = dict(Product.objects.order_by("pk").values_list("title", "pk"))
    told: dict[int | str, dict[str, Any]] = {}
    taxes = {name.casefold() for name in TaxClass.objects.values_list("name", flat=True)}
    follow = {normal_sku(sku) for sku in of_parts().values_list("sku", flat=True)}

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        product, active = items.get(normal_sku(values["sku"]), (0, True))
        if not active:
            return "is retired; bring it back first"
        if is_new and "product" not in values:
            return "product", "is needed for a new item"
        if "tax_class" in values and values["tax_class"].casefold() not in taxes:
            return "tax_class", "is no tax class"
        follows = values.get("off_parts", ZERO if normal_sku(values["sku"]) in follow else "") != ""
        if "price" in values and follows:
            return "price", "is what its parts cost; give the bundle a price of its own first"
        if made_wrong := of_bundles(values, is_new):
            return made_wrong
        before = told.setdefault(titles.get(values["product"], values["product"]) if is_new else product, {})
        for name in OF_PRODUCT:
            if name in values and before.setdefault(name, values[name]) != values[name]:
                return name, "is another than in another row of the same product"
        return ""

    return wrong


def _bundle_judge(there: dict[str, tuple[int, str]]) -> Judge:
    """Only a bundle has parts, and they are items: there (id and kind, by SKU), or further up in the file."""
    made = {bundle: [(part, each) for each, _, part in parts] for bundle, parts in _parts_now().items()}

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        sku = normal_sku(values["sku"])
        # New ones are known by a number of their own, below those that are there.
        item, kind = there.setdefault(sku, (-len(there) - 1, values.get("kind", Item.Kind.STOCKED)))
        named = next((name for name in ("parts", "off_parts") if name in values), "")
        if named and kind != Item.Kind.BUNDLE:
            return named, "is for bundles only"
        if "off_parts" in values and "parts" not in values and item not in made:
            return "off_parts", "needs parts"
        parts = []
        for each, name in values.get("parts", ()):
            part, of_kind = there.get(normal_sku(name), (0, ""))
            if not part:
                return "parts", f"names {name}, which is no item of the range and stands nowhere above"
            if of_kind == Item.Kind.SERVICE:
                return "parts", f"names {name}, which is a service"
            parts.append((part, each))
        if parts:
            before = made.get(item)
            made[item] = parts
            try:
                flatten(made, {item})
            except BadInputError:
                made[item] = before or []
                return "parts", "holds the bundle itself"
        return ""

    return wrong


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Take rows in. Facts of a product go for all its items."""
    actor.need(Ability.EDIT_RANGE)
    told = _add(actor, [row for row in rows if row.outcome == "new"])
    _set_parts(actor, [row for row in rows if {"parts", "off_parts"} & row.changes.keys()])
    there = {normal_sku(item.sku): item for item in items_of(row.values["sku"] for row in rows)}
    changes: dict[int, dict[str, Any]] = {}
    for row in rows:
        if row.outcome != "changed":
            continue
        item = there[row.key]
        own = {name: row.values[name] for name in OF_ITEM if name in row.changes}
        if own:
            changes[item.pk] = {**own, "version": item.version}
        told.setdefault(item.product_id, {}).update({name: row.values[name] for name in OF_PRODUCT if name in row.changes})
    change_items(actor, changes)
    wanted = Product.objects.filter(pk__in=[pk for pk, facts in told.items() if facts])
    known = {pk: facts for pk, *facts in wanted.values_list("pk", *FACTS)}
    for product in wanted:
        before = _of_product(known[product.pk])
        facts = {n: v for n, v in told[product.pk].items() if NAMED[n].differs(v, before[n])}
        if facts:
            change(actor, product.pk, product.version, _as_facts(facts))


def _set_parts(actor: Actor, rows: Sequence[Read]) -> None:
    """Make bundles of what their rows say; what a row does not say stays."""
    if not rows:
        return
    named = {name for row in rows for _, name in row.values.get("parts", ())} | {row.values["sku"] for row in rows}
    items = {normal_sku(item.sku): item for item in items_of(named)}
    made = _parts_now(item.pk for item in items.values())
    for row in rows:
        bundle = items[normal_sku(row.values["sku"])]
        parts = [(items[normal_sku(name)].pk, each) for each, name in row.values.get("parts", ())]
        off = row.values.get("off_parts", bundle.percent_off_parts)
        parts = parts or [(part, each) for each, _, part in made.get(bundle.pk, ())]
        set_parts(actor, bundle.pk, bundle.version, parts, None if off == "" else off)


def _as_facts(columns: Mapping[str, Any]) -> dict[str, Any]:
    """What a sheet says of a product, as a change of it."""
    facts = {("title" if name == "product" else name): value for name, value in columns.items()}
    if "tax_class" in facts:
        facts["tax_class_id"] = TaxClass.objects.get(name__iexact=facts.pop("tax_class")).pk
    return facts


def _add(actor: Actor, rows: Sequence[Read]) -> dict[int, dict[str, Any]]:
    """Make the new items; what their rows say of products that were there already is returned, by product."""
    wanted = {row.values["product"] for row in rows}
    known = {product.title: product for product in Product.objects.filter(title__in=wanted).order_by("pk")}
    told: dict[int, dict[str, Any]] = {product.pk: {} for product in known.values()}
    tax = TaxClass.objects.first()
    for row in rows:
        values = row.values
        facts = _as_facts({name: values[name] for name in OF_PRODUCT if name != "product" and name in values})
        product = known.get(values["product"])
        if product is None:
            product = Product(title=values["product"], tax_class=tax, option_names=list(values.get("options", {})))
            put_facts(product, facts)
            product.save()
            known[product.title] = product
            audit(actor, "make product", "product", product.pk, after={"title": product.title})
        elif product.pk in told:
            told[product.pk].update({name: values[name] for name in OF_PRODUCT if name != "product" and name in values})
        own: dict[str, Any] = {name: values[name] for name in (*OF_ITEM, "options", "kind") if name in values}
        add_item(product, ItemDraft(values["sku"], **own))
    return told


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
