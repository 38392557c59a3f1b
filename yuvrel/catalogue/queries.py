"""Reading products as they can be changed."""

from __future__ import annotations

from typing import Any

import iso3166
from django.db.models import Q

from yuvrel.core.errors import NotFoundError
from yuvrel.core.gtin import short_gtin
from yuvrel.ownership import company_id
from yuvrel.people.models import AuditRow

from .languages import LANGUAGES
from .models import Category, Item, Product, TaxClass
from .pictures import of_product
from .products import PRODUCT_FACTS
from .retail import priced

MOST_TRACES = 60
PRODUCT = ("id", "version", *PRODUCT_FACTS, "tax_class_id", "option_names")
ITEM = (
    "id",
    "version",
    "sku",
    "title",
    "options",
    "kind",
    "unit",
    "price",
    "weight_grams",
    "length_mm",
    "width_mm",
    "height_mm",
    "internal",
    "active",
    "percent_off_parts",
)


def product_page(product_id: int) -> dict[str, Any]:
    """A product with its items and who changed what. Raises NotFoundError."""
    row = Product.objects.select_related("category").filter(pk=product_id).first()
    if row is None:
        raise NotFoundError("There is no such product.")
    items = list(priced(row.items.prefetch_related("barcodes", "components__component").order_by("pk")))
    return {
        **{name: getattr(row, name) for name in PRODUCT},
        "category": row.category.name if row.category else "",
        "items": [_item(item) for item in items],
        "texts": list(row.texts.order_by("language")),  # type: ignore[attr-defined]
        "pictures": list(of_product(row.pk)),
        "history": history(row.pk, [item.pk for item in items]),
    }


def _item(item: Item) -> dict[str, Any]:
    return {
        **{name: getattr(item, name) for name in ITEM},
        "barcodes": sorted(short_gtin(code.gtin) for code in item.barcodes.all()),
        "components": [
            {"item_id": part.component_id, "sku": part.component.sku, "title": part.component.title, "quantity": part.quantity}
            for part in sorted(item.components.all(), key=lambda part: part.component.title)
        ],
    }


def history(product_id: int, item_ids: list[int]) -> list[AuditRow]:
    """Changes of a product and its items, newest first; of what another company did without its prices."""
    about = Q(subject="product", subject_id=product_id) | Q(subject="item", subject_id__in=item_ids)
    rows = []
    for row in AuditRow.objects.filter(about).order_by("-pk")[: MOST_TRACES * 3]:
        if row.company_id not in (None, company_id()) and "price" in row.after:
            row.before.pop("price", None)
            row.after.pop("price")
            # What was nothing but another company's price is none of ours.
            if not row.after:
                continue
        rows.append(row)
    return rows[:MOST_TRACES]


def choices() -> dict[str, Any]:
    """Categories and tax classes."""
    return {
        "categories": list(Category.objects.order_by("name").values_list("name", flat=True)),
        "tax_classes": list(TaxClass.objects.order_by("pk")),
        "languages": [{"code": code, "name": name} for code, name in LANGUAGES.items()],
        "countries": sorted(iso3166.countries_by_alpha2),
    }
