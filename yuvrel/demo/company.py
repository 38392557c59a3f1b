"""Larkmead's people, places, range and terms as rows."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from django.contrib.auth.hashers import make_password
from django.contrib.auth.models import Group
from django.utils import timezone

from yuvrel.books.begin import begin
from yuvrel.books.models import ExchangeRate
from yuvrel.buying.models import PriceBreak, Supplier, SupplierItem
from yuvrel.catalogue.languages import keep_words, put_text
from yuvrel.catalogue.models import Barcode, BundleComponent, Category, Item, Product, TaxClass
from yuvrel.catalogue.retail import keep_prices, work_out
from yuvrel.core.gtin import normal_gtin
from yuvrel.core.money import round_unit_cost
from yuvrel.core.rules import Level, Rung
from yuvrel.people.models import Company, User
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.rules.actions import change

from .range import RATES, SPECS, SUPPLIERS, gtin
from .texts import IN_FRENCH, KEEPS, WORDS_IN_FRENCH, description_of

PASSWORD = "larkmead"  # noqa: S105  (the demo's own, printed at its start)
PEOPLE = (
    (Role.MANAGER, "Hester", "Larkmead"),
    (Role.BUYER, "Ivo", "Marsh"),
    (Role.STOCKKEEPER, "Bram", "Tolland"),
    (Role.BOOKKEEPER, "Nuala", "Corrie"),
    (Role.VIEWER, "Sunniva", "Ashby"),
)
COMPANY = "Larkmead Apiary Supply"
LOCATIONS = (("tannery-yard", "Tannery Yard"), ("mill-lane", "Mill Lane"), ("wagon", "The Wagon"))


def make_people() -> Company:
    """Company, places, accounts of the books, and one sign-in per role; returns the company."""
    company = begin(COMPANY, "EUR", "Europe/Dublin", LOCATIONS, Decimal("23.00"))
    hashed = make_password(PASSWORD)
    for role, first, last in PEOPLE:
        user = User.objects.create(
            username=role.value, first_name=first, last_name=last, password=hashed, email=f"{first.lower()}@larkmead.example"
        )
        user.groups.add(Group.objects.get_or_create(name=role.value)[0])
    return company


def make_suppliers(today: date) -> None:
    """Suppliers and the rates of their currencies, month by month."""
    for spec in SUPPLIERS:
        Supplier.objects.create(
            code=spec.code,
            name=spec.name,
            currency=spec.currency,
            lead_days=spec.lead,
            lead_deviation_days=spec.lead_deviation,
            order_minimum=spec.minimum,
            email=f"orders@{spec.code}.example",
            address={"street": spec.street, "city": spec.city, "country": spec.country},
        )
    for currency, rate in RATES.items():
        for month in range(28):
            wobble = Decimal(((month * 7) % 11) - 5) / 1000 if month else Decimal(0)
            ExchangeRate.objects.create(currency=currency, day=today - timedelta(days=30 * month), rate=rate * (1 + wobble))


def make_range() -> dict[str, Item]:
    """Products, items, barcodes, kits, terms; returns the items by SKU."""
    tax = TaxClass.objects.get()
    categories: dict[str, Category] = {}
    products: dict[str, Product] = {}
    made_in = {spec.code: spec.country for spec in SUPPLIERS}
    items: dict[str, Item] = {}
    for number, spec in enumerate(SPECS, 1):
        category = categories.get(spec.category) or Category.objects.create(name=spec.category)
        categories[spec.category] = category
        key = spec.product if spec.options else spec.sku
        product = products.get(key) or Product.objects.create(
            title=spec.product,
            category=category,
            tax_class=tax,
            option_names=list(spec.options),
            description=description_of(spec.product),
            country=made_in.get(spec.supplier, ""),
            shelf_life_days=KEEPS.get(spec.sku[:3], 0) if spec.expiry else 0,
        )
        products[key] = product
        if product.title in IN_FRENCH:
            title, description = IN_FRENCH[product.title]
            put_text(product, "fr", title, description)
        item = Item.objects.create(
            product=product,
            sku=spec.sku,
            title=spec.title,
            options=spec.options,
            kind=spec.kind,
            expiry_tracked=spec.expiry,
            weight_grams=spec.weight,
        )
        item.price = spec.price
        items[spec.sku] = item
        if spec.kind != "service":
            Barcode.objects.create(item=item, gtin=normal_gtin(gtin(number)))
    keep_prices({item.pk: item.price for item in items.values()})
    for spec in SPECS:
        for part, count in spec.parts:
            BundleComponent.objects.create(bundle=items[spec.sku], component=items[part], quantity=count)
        if spec.less:
            Item.objects.filter(pk=items[spec.sku].pk).update(percent_off_parts=spec.less)
    work_out(items[spec.sku].pk for spec in SPECS if spec.less)
    keep_words(SYSTEM, "fr", WORDS_IN_FRENCH)
    _make_terms(items)
    return items


def _make_terms(items: dict[str, Item]) -> None:
    suppliers = {s.code: s for s in Supplier.objects.all()}
    for spec in SPECS:
        if not spec.supplier:
            continue
        terms = SupplierItem.objects.create(
            supplier=suppliers[spec.supplier],
            item=items[spec.sku],
            code=f"{spec.supplier[:2].upper()}{1000 + items[spec.sku].pk}",
            pack=spec.pack,
            minimum=spec.minimum,
        )
        for packs, factor in ((0, "1"), (5, "0.96"), (12, "0.92")):
            PriceBreak.objects.create(
                supplier_item=terms, from_quantity=packs * spec.pack, price=round_unit_cost(spec.cost * Decimal(factor))
            )
    for sku, cover in (("SUI-VEN-M", 45), ("SUI-VEN-L", 45), ("EXT-HND-4", 20)):
        _replenish(items[sku], cover_days=cover)
    for sku in ("SYR-005", "FON-002", "PAT-POL-1"):
        _replenish(items[sku], cover_days=14, safety="days", safety_days="7")


def _replenish(item: Item, **values: Any) -> None:
    change(SYSTEM, Rung(Level.ITEM, item.title, item.pk), values, timezone.now())
