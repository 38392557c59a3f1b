"""Products and their items made and changed by hand."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

import iso3166
from django.db import IntegrityError, transaction
from django.db.models import ProtectedError, QuerySet, RestrictedError
from django.db.models.functions import Lower, Trim

from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.core.gtin import normal_gtin, normal_sku, short_gtin
from yuvrel.core.kits import flatten
from yuvrel.core.options import combinations, sku_of
from yuvrel.core.pricing import Together
from yuvrel.core.wording import titled
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import AuditRow
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import update_many
from yuvrel.platform.shared import for_each_company, record_for_all

from .actions import ItemDraft, add_item, category_of
from .models import Barcode, BundleComponent, FormerCode, Item, Product, TaxClass
from .obstacles import obstacles
from .retail import keep_prices, priced, work_out
from .texts import formatted

PRODUCT_FACTS = ("title", "description", "brand", "tags", "note", "country", "shelf_life_days")
ITEM_FACTS = ("price", "weight_grams", "length_mm", "width_mm", "height_mm", "internal", "unit")


@dataclass(frozen=True)
class Combination:
    """One item that options make. `state`: new, there (this product has it) or clash (the SKU is another's)."""

    options: dict[str, str]
    sku: str
    state: str
    item_id: int | None = None


def preview(product_id: int | None, options: Sequence[tuple[str, Sequence[str]]], pattern: str) -> list[Combination]:
    """What the options and the SKU pattern would make: which are new, which are there, which clash."""
    made = [(combination, sku_of(pattern, combination)) for combination in combinations(options)]
    own: dict[frozenset[tuple[str, str]], Item] = {}
    if product_id is not None:
        for item in _product(product_id).items.all():
            own[_folded(item.options)] = item
    taken = {normal_sku(item.sku): item.pk for item in items_of(sku for _, sku in made)}
    found, given = [], set()
    for combination, sku in made:
        there = own.get(_folded(combination))
        folded = normal_sku(sku)
        if there is not None:
            found.append(Combination(combination, there.sku, "there", there.pk))
        else:
            clash = folded in taken or folded in given or not folded
            found.append(Combination(combination, sku, "clash" if clash else "new", taken.get(folded)))
        given.add(folded)
    return found


def items_of(skus: Iterable[str]) -> QuerySet[Item]:
    """Items with these SKUs, retired ones too."""
    return priced(Item.objects.all()).annotate(folded=Lower(Trim("sku"))).filter(folded__in=[sku.strip().lower() for sku in skus])


def _folded(options: Mapping[str, str]) -> frozenset[tuple[str, str]]:
    return frozenset((name.casefold(), value.casefold()) for name, value in options.items())


def _product(product_id: int) -> Product:
    row = Product.objects.select_related("category", "tax_class").filter(pk=product_id).first()
    if row is None:
        raise NotFoundError("There is no such product.")
    return row


@dataclass(frozen=True)
class ProductDraft:
    """A product to be. `kind`: stocked, service or bundle, for all its items."""

    facts: dict[str, Any]
    kind: str = Item.Kind.STOCKED
    options: Sequence[tuple[str, Sequence[str]]] = field(default_factory=tuple)
    pattern: str = ""
    price: Decimal = Decimal(0)
    expiry_tracked: bool = False
    decimals: int = 0


@transaction.atomic
def make(actor: Actor, draft: ProductDraft) -> Product:
    """A product with an item for each combination of its options. Raises BadInputError naming what cannot be."""
    actor.need(Ability.EDIT_RANGE)
    if draft.kind == Item.Kind.BUNDLE and draft.options:
        raise BadInputError("A bundle has no options; make one for each set of parts.", field="options")
    product = Product(option_names=[name.strip() for name, _ in draft.options], tax_class=TaxClass.objects.first())
    put_facts(product, draft.facts)
    product.save()
    _add(product, draft)
    audit(actor, "make product", "product", product.pk, after={"title": product.title})
    return product


@transaction.atomic
def add_combinations(actor: Actor, product_id: int, version: int, draft: ProductDraft) -> Product:
    """Items for the combinations that are missing; those that are there stay as they are."""
    actor.need(Ability.EDIT_RANGE)
    product = locked_product(product_id, version)
    before = product.items.count()
    names = [name.strip() for name, _ in draft.options]
    if before and {name.casefold() for name in names} != {name.casefold() for name in product.option_names}:
        said = ", ".join(product.option_names) or "none"
        raise BadInputError(f"The options of a product with items stay: {said}.", field="options")
    first = product.items.order_by("pk").first()
    if first is not None:
        draft = replace(draft, kind=first.kind, decimals=first.decimals, expiry_tracked=first.expiry_tracked)
    _add(product, draft)
    product.version += 1
    product.save()
    audit(actor, "add items", "product", product.pk, after={"items": product.items.count() - before})
    return product


def _add(product: Product, draft: ProductDraft) -> None:
    pattern = draft.pattern.strip()
    if not pattern:
        raise BadInputError("Give the items a SKU.", field="pattern")
    rows = preview(product.pk, draft.options, pattern)
    clash = next((row for row in rows if row.state == "clash"), None)
    if clash is not None:
        raise BadInputError(f"The SKU {clash.sku or '(empty)'} is in use already.", field="pattern")
    for row in rows:
        if row.state == "new":
            add_item(
                product,
                ItemDraft(
                    row.sku,
                    row.options,
                    price=draft.price,
                    kind=draft.kind,
                    decimals=draft.decimals,
                    expiry_tracked=draft.expiry_tracked,
                ),
            )


def locked_product(product_id: int, version: int) -> Product:
    """A product, locked. Raises NotFoundError, and StaleError when somebody changed it since that version."""
    row = Product.objects.select_for_update().filter(pk=product_id).first()
    if row is None:
        raise NotFoundError("There is no such product.")
    if row.version != version:
        raise StaleError("Somebody changed this product since you opened it.")
    return row


def put_facts(product: Product, facts: Mapping[str, Any]) -> None:
    """Set what describes a product, without saving it. Raises BadInputError naming what cannot be."""
    if not str(facts.get("title", product.title)).strip():
        raise BadInputError("A product needs a title.", field="title")
    for name in PRODUCT_FACTS:
        if name in facts:
            value = facts[name]
            setattr(product, name, value.strip() if isinstance(value, str) else value)
    if "description" in facts:
        product.description = formatted(product.description)
    product.country = product.country.upper()
    if product.country and product.country not in iso3166.countries_by_alpha2:
        raise BadInputError(f"{product.country} is no country of ISO 3166: two letters, as IE.", field="country")
    product.tags = list(dict.fromkeys(tag.strip() for tag in product.tags if tag.strip()))
    if "category" in facts:
        product.category = category_of(facts["category"])
    if "tax_class_id" in facts:
        tax = TaxClass.objects.filter(pk=facts["tax_class_id"]).first()
        if tax is None:
            raise BadInputError("There is no such tax class.", field="tax_class_id")
        product.tax_class = tax


@transaction.atomic
def change(actor: Actor, product_id: int, version: int, facts: Mapping[str, Any]) -> Product:
    """Change what a product is called and described by; its items are called after it.

    Raises StaleError when somebody changed it since, BadInputError naming what cannot be.
    """
    actor.need(Ability.EDIT_RANGE)
    product = locked_product(product_id, version)
    was = _told(product)
    put_facts(product, facts)
    product.version += 1
    product.save()
    items = list(product.items.all())
    for item in items:
        item.title = title_of(product, item)
    Item.objects.bulk_update(items, ["title"])
    now = _told(product)
    _leave(actor, "product", product.pk, was, now)
    ids = [item.pk for item in items]
    # What a template may say of it; tax and our own notes are no part of that.
    if any(was[name] != now[name] for name in now.keys() - {"tax class", "note", "shelf_life_days"}):
        record_for_all([Event.Kind.TEXT], ids, f"{product.title} was changed")
    if was["tax class"] != now["tax class"]:
        record_for_all([Event.Kind.PRICE], ids, f"the tax of {product.title} was changed")
    if was["shelf_life_days"] != now["shelf_life_days"]:
        record_for_all([Event.Kind.AVAILABILITY], ids, f"how long {product.title} keeps was changed")
    if was["category"] != now["category"]:
        # What is set for a category counts for what lies in it.
        cause = f"{product.title} is in {now['category'] or 'no category'} now"
        record_for_all([Event.Kind.AVAILABILITY, Event.Kind.PRICE], ids, cause)
    return product


def title_of(product: Product, item: Item) -> str:
    """The product's title with the item's options."""
    return titled(product.title, item.options.values())


def _told(product: Product) -> dict[str, str]:
    told = {name: str(getattr(product, name)) for name in PRODUCT_FACTS}
    category, tax = product.category, product.tax_class
    return {**told, "category": category.name if category else "", "tax class": tax.name if tax else ""}


def _item_told(item: Item) -> dict[str, str]:
    told = {name: str(getattr(item, name)) for name in ("sku", *ITEM_FACTS)}
    codes = sorted(short_gtin(code.gtin) for code in item.barcodes.all())
    return {**told, "barcodes": ", ".join(codes)}


def _leave(actor: Actor, subject: str, subject_id: int, was: dict[str, str], now: dict[str, str]) -> None:
    """The trace of a change: only what differs."""
    differs = [name for name in now if was[name] != now[name]]
    if differs:
        before, after = {name: was[name] for name in differs}, {name: now[name] for name in differs}
        audit(actor, f"change {subject}", subject, subject_id, before, after)


@transaction.atomic
def change_items(actor: Actor, changes: Mapping[int, Mapping[str, Any]]) -> list[Item]:
    """Change several items at once: all, or none of them. Each change holds the version that was seen.

    Raises StaleError, NotFoundError, and BadInputError whose field is `items.<id>.<fact>`.
    """
    actor.need(Ability.EDIT_RANGE)
    found = priced(Item.objects.select_for_update(of=("self",)).filter(pk__in=list(changes)).order_by("pk"))
    rows = {row.pk: row for row in found}
    repriced: dict[int, Decimal] = {}
    renamed: list[int] = []
    for item_id, facts in changes.items():
        item = rows.get(item_id)
        if item is None:
            raise NotFoundError("There is no such item.")
        if facts.get("version") != item.version:
            raise StaleError(f"Somebody changed {item.title} since you opened it.")
        was = _item_told(item)
        try:
            _put_item(item, facts)
        except BadInputError as error:
            raise BadInputError(error.detail, field=f"items.{item_id}.{error.field}") from error
        now = _item_told(item)
        _leave(actor, "item", item.pk, was, now)
        if was["price"] != now["price"]:
            _need_own_price(item, f"items.{item_id}.price")
            repriced[item.pk] = item.price
        if any(was[name] != now[name] for name in now if name != "price"):
            renamed.append(item.pk)
    keep_prices(repriced)
    record(Event.Kind.PRICE, repriced, "the base price was changed")
    record_for_all([Event.Kind.TEXT], renamed, "the item was changed")
    return list(rows.values())


def _need_own_price(item: Item, field: str) -> None:
    if item.percent_off_parts is not None:
        raise BadInputError(f"{item.sku} costs what its parts do; give it a price of its own there first.", field=field)


def _put_item(item: Item, facts: Mapping[str, Any]) -> None:
    for name in ITEM_FACTS:
        if name in facts:
            setattr(item, name, facts[name])
    had = item.sku
    if "sku" in facts:
        item.sku = facts["sku"].strip()
        if not item.sku:
            raise BadInputError("An item needs a SKU.", field="sku")
    item.version += 1
    try:
        with transaction.atomic():
            item.save()
    except IntegrityError as error:
        raise BadInputError(f"The SKU {item.sku} is in use already.", field="sku") from error
    if normal_sku(had) != normal_sku(item.sku):
        _leave_behind(item, FormerCode.Kind.SKU, [normal_sku(had)])
    if "barcodes" in facts:
        _put_barcodes(item, facts["barcodes"])


def _leave_behind(item: Item, kind: FormerCode.Kind, codes: Sequence[str]) -> None:
    """What an item was called goes on matching it, until something else is called so."""
    FormerCode.objects.bulk_create([FormerCode(item=item, kind=kind, code=code) for code in codes], ignore_conflicts=True)


@transaction.atomic
def set_prices(actor: Actor, prices: Mapping[int, Decimal]) -> None:
    """Set the base prices of many items at once; the caller says elsewhere why. What stays the same is no change."""
    rows = priced(Item.objects.select_for_update(of=("self",)).filter(pk__in=list(prices)).order_by("pk"))
    moved, traces = [], []
    for item in rows:
        if item.price == prices[item.pk]:
            continue
        _need_own_price(item, "price")
        facts = {"user_id": actor.user_id, "actor": actor.name, "action": "change item", "subject": "item", "subject_id": item.pk}
        traces.append(AuditRow(**facts, before={"price": str(item.price)}, after={"price": str(prices[item.pk])}))
        item.price = prices[item.pk]
        item.version += 1
        moved.append(item)
    update_many(moved, ["version"])
    keep_prices({item.pk: item.price for item in moved})
    AuditRow.objects.bulk_create(traces, 2000)


def _put_barcodes(item: Item, codes: Sequence[str]) -> None:
    wanted = {normal_gtin(code) for code in codes if code.strip()}
    other = Barcode.objects.filter(gtin__in=wanted).exclude(item=item).select_related("item").first()
    if other is not None:
        raise BadInputError(f"Barcode {other.gtin.lstrip('0')} belongs to {other.item.sku}.", field="barcodes")
    gone = item.barcodes.exclude(gtin__in=wanted)
    _leave_behind(item, FormerCode.Kind.GTIN, list(gone.values_list("gtin", flat=True)))
    gone.delete()
    known = set(item.barcodes.values_list("gtin", flat=True))
    Barcode.objects.bulk_create(Barcode(item=item, gtin=gtin) for gtin in sorted(wanted - known))


@transaction.atomic
def set_parts(
    actor: Actor, item_id: int, version: int, parts: Sequence[tuple[int, Decimal]], percent_off: Decimal | None = None
) -> Item:
    """What a bundle is made of, from now on; what is ordered already stays as it was reserved. With `percent_off` it costs
    what its parts do less so many per cent, without it has a price of its own: at first the one that it has.

    Raises BadInputError for a part that is there twice, is a service, or holds the bundle itself.
    """
    actor.need(Ability.EDIT_RANGE)
    item = _locked_item(item_id, version)
    if item.kind != Item.Kind.BUNDLE:
        raise RefusedError("Only a bundle has parts.", field="kind")
    if not parts:
        raise BadInputError("A bundle needs at least one part.", field="parts")
    ids = [part for part, _ in parts]
    if len(set(ids)) != len(ids):
        raise BadInputError("A part is there twice; give it a higher quantity instead.", field="parts")
    known = {row.pk: row for row in Item.objects.filter(pk__in=ids)}
    if set(ids) != known.keys() or any(row.kind == Item.Kind.SERVICE for row in known.values()):
        raise BadInputError("A part must be an item that is stocked, or a bundle.", field="parts")
    if any(each <= 0 for _, each in parts):
        raise BadInputError("The quantity of a part must be greater than zero.", field="parts")
    others: dict[int, list[tuple[int, Decimal]]] = {}
    rows = BundleComponent.objects.exclude(bundle=item).values_list("bundle_id", "component_id", "quantity")
    for bundle, part, each in rows:
        others.setdefault(bundle, []).append((part, each))
    # What is wrong now was not wrong before: only what this one holds can hold it.
    flatten(others | {item.pk: list(parts)}, {item.pk})
    if percent_off is not None:
        Together((), percent_off)
    was = _parts_told(item)
    item.components.all().delete()
    BundleComponent.objects.bulk_create(BundleComponent(bundle=item, component_id=p, quantity=each) for p, each in parts)
    item.percent_off_parts = percent_off
    item.version += 1
    item.save()
    now = _parts_told(item)
    _leave(actor, "item", item.pk, was, now)
    if was != now:
        for_each_company(lambda: work_out([item.pk]))
        record_for_all([Event.Kind.AVAILABILITY, Event.Kind.PRICE], [item.pk], f"{item.title} is made of other parts")
    return item


def _parts_told(item: Item) -> dict[str, str]:
    off = item.percent_off_parts
    return {
        "parts": ", ".join(f"{row.quantity.normalize():f} × {row.component.sku}" for row in _parts(item)),
        "off the sum of its parts": "" if off is None else f"{off.normalize():f} %",
    }


def _parts(item: Item) -> Sequence[BundleComponent]:
    return list(item.components.select_related("component").order_by("component__sku"))


def _locked_item(item_id: int, version: int) -> Item:
    item = Item.objects.select_for_update().filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    if item.version != version:
        raise StaleError(f"Somebody changed {item.title} since you opened it.")
    return item


@transaction.atomic
def retire(actor: Actor, item_id: int, version: int) -> Item:
    """Take an item out of use; it can be brought back. Raises RefusedError saying what stands in the way."""
    actor.need(Ability.EDIT_RANGE)
    item = _locked_item(item_id, version)
    found = obstacles(item_id)
    if found:
        raise RefusedError(" ".join(one.said for one in found), field="item")
    return _set_active(actor, item, active=False)


@transaction.atomic
def bring_back(actor: Actor, item_id: int, version: int) -> Item:
    """Use a retired item again."""
    actor.need(Ability.EDIT_RANGE)
    return _set_active(actor, _locked_item(item_id, version), active=True)


def _set_active(actor: Actor, item: Item, *, active: bool) -> Item:
    if item.active != active:
        item.active = active
        item.version += 1
        item.save()
        audit(actor, "bring item back" if active else "retire item", "item", item.pk)
        record_for_all([Event.Kind.AVAILABILITY], [item.pk], f"{item.title} is {'back' if active else 'retired'}")
    return item


@transaction.atomic
def delete(actor: Actor, item_id: int, version: int) -> None:
    """Delete an item that was never used. Raises RefusedError for any other: retire that."""
    actor.need(Ability.EDIT_RANGE)
    item = _locked_item(item_id, version)
    product = item.product
    sku = item.sku
    try:
        with transaction.atomic():
            item.delete()
    except (ProtectedError, RestrictedError, IntegrityError) as error:
        raise RefusedError("It was used: it stands in moves, orders or lists. Retire it instead.", field="item") from error
    audit(actor, "delete item", "item", item_id, before={"sku": sku})
    if not product.items.exists():
        product.delete()


@transaction.atomic
def duplicate(actor: Actor, product_id: int, title: str, pattern: str) -> Product:
    """A product like another, with its options under SKUs of a new pattern; no stock, barcodes or listings."""
    actor.need(Ability.EDIT_RANGE)
    row = _product(product_id)
    items = list(row.items.order_by("pk"))
    facts = {name: getattr(row, name) for name in PRODUCT_FACTS} | {"title": title}
    first = items[0] if items else None
    values: dict[str, dict[str, None]] = {name: {} for name in row.option_names}
    for item in items:
        for name, value in item.options.items():
            values.setdefault(name, {})[value] = None
    draft = ProductDraft(
        facts={**facts, "category": row.category.name if row.category else "", "tax_class_id": row.tax_class_id or 0},
        kind=first.kind if first else Item.Kind.STOCKED,
        options=[(name, list(of)) for name, of in values.items() if of],
        pattern=pattern,
        price=first.price if first else Decimal(0),
        expiry_tracked=first.expiry_tracked if first else False,
        decimals=first.decimals if first else 0,
    )
    twin = make(actor, draft)
    if first is not None and first.kind == Item.Kind.BUNDLE:
        bundle = twin.items.get()
        parts = [(row.component_id, row.quantity) for row in _parts(first)]
        if parts:
            set_parts(actor, bundle.pk, bundle.version, parts, first.percent_off_parts)
    return twin
