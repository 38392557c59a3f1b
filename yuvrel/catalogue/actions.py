"""Building the range."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from django.db import IntegrityError, transaction

from yuvrel.core.errors import BadInputError
from yuvrel.core.gtin import normal_gtin
from yuvrel.core.wording import titled
from yuvrel.people.roles import Ability, Actor, audit

from .models import Barcode, Category, Item, Product, TaxClass
from .retail import keep_prices


@dataclass(frozen=True)
class ItemDraft:
    """An item to be: its SKU, what sets it apart from its siblings, its codes."""

    sku: str
    options: dict[str, str] = field(default_factory=dict)
    barcodes: Sequence[str] = ()
    price: Decimal = Decimal(0)
    kind: str = Item.Kind.STOCKED
    decimals: int = 0
    expiry_tracked: bool = False
    weight_grams: int = 0
    length_mm: int = 0
    width_mm: int = 0
    height_mm: int = 0
    internal: bool = False


@transaction.atomic
def add_product(actor: Actor, *, title: str, category: str, drafts: Sequence[ItemDraft]) -> list[Item]:
    """A product with its items. Raises BadInputError for a SKU or barcode in use, or a bad barcode."""
    actor.need(Ability.EDIT_RANGE)
    if not title.strip():
        raise BadInputError("A product needs a title.", field="title")
    group = category_of(category)
    names = list(dict.fromkeys(name for draft in drafts for name in draft.options))
    product = Product.objects.create(title=title.strip(), category=group, option_names=names, tax_class=TaxClass.objects.first())
    items = [add_item(product, draft) for draft in drafts]
    audit(actor, "add product", "product", product.pk, after={"title": title, "items": [i.sku for i in items]})
    return items


def category_of(name: str) -> Category | None:
    """The category of a name, made where there is none yet; None for an empty name."""
    name = name.strip()
    if not name:
        return None
    return Category.objects.filter(name__iexact=name).first() or Category.objects.create(name=name[:60])


def add_item(product: Product, draft: ItemDraft) -> Item:
    """An item of a product. Raises BadInputError for a SKU or barcode in use, or a bad barcode."""
    sku = draft.sku.strip()
    if not sku:
        raise BadInputError("An item needs a SKU.", field="sku")
    gtins = [normal_gtin(code) for code in draft.barcodes]
    taken = Barcode.objects.filter(gtin__in=gtins).select_related("item").first() if gtins else None
    if taken:
        raise BadInputError(f"Barcode {taken.gtin.lstrip('0')} belongs to {taken.item.sku}.", field="barcode")
    try:
        with transaction.atomic():
            item = Item.objects.create(
                product=product,
                sku=sku,
                title=titled(product.title, draft.options.values()),
                options=draft.options,
                kind=draft.kind,
                weight_grams=draft.weight_grams,
                length_mm=draft.length_mm,
                width_mm=draft.width_mm,
                height_mm=draft.height_mm,
                internal=draft.internal,
                decimals=draft.decimals,
                expiry_tracked=draft.expiry_tracked,
            )
    except IntegrityError as error:
        raise BadInputError(f"The SKU {sku} is in use already.", field="sku") from error
    item.price = draft.price
    keep_prices({item.pk: item.price})
    Barcode.objects.bulk_create(Barcode(item=item, gtin=gtin) for gtin in gtins)
    return item
