"""The range: products, the items that are counted, their codes and kits."""

from decimal import Decimal
from typing import Any, ClassVar

from django.db import models
from django.db.models.functions import Lower, Trim

from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, PERCENT, QUANTITY


class Category(models.Model):
    """What kind of goods: for filters, margins and budgets."""

    name = models.CharField(max_length=60)
    parent = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="children")

    class Meta:
        constraints = [
            models.UniqueConstraint(Lower("name"), name="category_name_once"),
            models.CheckConstraint(condition=~models.Q(parent=models.F("id")), name="category_not_in_itself"),
        ]
        verbose_name_plural = "categories"


class TaxClass(models.Model):
    """A rate of sales tax, in per cent."""

    name = models.CharField(max_length=40, unique=True)
    percent = models.DecimalField(**PERCENT)


class Product(models.Model):
    """What is described and shown; its items are what is stocked."""

    title = models.CharField(max_length=200)
    description = models.TextField(blank=True, help_text="Formatted: the few tags of texts.TAGS, nothing else")
    category = models.ForeignKey(Category, on_delete=models.PROTECT, null=True)
    tax_class = models.ForeignKey(TaxClass, on_delete=models.PROTECT, null=True)
    option_names = models.JSONField(default=list)
    brand = models.CharField(max_length=60, blank=True)
    tags = models.JSONField(default=list)
    note = models.TextField(blank=True, help_text="For people here; never sent to a channel")
    country = models.CharField(max_length=2, blank=True, help_text="Of origin, by ISO 3166-1")
    shelf_life_days = models.PositiveSmallIntegerField(
        default=0, help_text="For how long it keeps after it arrives; 0: not known, or for good"
    )
    version = models.PositiveIntegerField(default=1)
    created_at = models.DateTimeField(auto_now_add=True)


class ProductText(models.Model):
    """What a product is called and described by in another language."""

    product = models.ForeignKey(Product, on_delete=models.CASCADE, related_name="texts")
    language = models.CharField(max_length=8, help_text="As the web writes it: de, pt-br")
    title = models.CharField(max_length=200)
    description = models.TextField(blank=True, help_text="Formatted: the few tags of texts.TAGS, nothing else")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["product", "language"], name="product_text_once")]


class Word(models.Model):
    """How a word that recurs (a size, a colour, a category, a tag) is said in another language."""

    language = models.CharField(max_length=8)
    key = models.CharField(max_length=60, help_text="The word as core.wording.folded compares it")
    word = models.CharField(max_length=60, help_text="Ours")
    said = models.CharField(max_length=60)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["language", "key"], name="word_said_once")]


class Item(models.Model):
    """What is stocked and counted, one per SKU."""

    class Kind(models.TextChoices):
        STOCKED = "stocked"
        SERVICE = "service"
        BUNDLE = "bundle"

    product = models.ForeignKey(Product, on_delete=models.PROTECT, related_name="items")
    sku = models.CharField(max_length=60)
    title = models.CharField(max_length=200, help_text="Product title with its options")
    options = models.JSONField(default=dict)
    kind = models.CharField(max_length=10, choices=Kind.choices, default=Kind.STOCKED)
    unit = models.CharField(max_length=12, default="pc")
    decimals = models.PositiveSmallIntegerField(default=0)
    expiry_tracked = models.BooleanField(default=False)
    active = models.BooleanField(default=True)
    internal = models.BooleanField(default=False, help_text="Used here, not sold: packing, samples")
    weight_grams = models.PositiveIntegerField(default=0)
    length_mm = models.PositiveIntegerField(default=0)
    width_mm = models.PositiveIntegerField(default=0)
    height_mm = models.PositiveIntegerField(default=0)
    percent_off_parts = models.DecimalField(
        max_digits=4,
        decimal_places=2,
        null=True,
        help_text="A bundle that costs what its parts do, less so many per cent; empty: it has a price of its own",
    )
    version = models.PositiveIntegerField(default=1)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(Lower(Trim("sku")), name="item_sku_once"),
            models.CheckConstraint(condition=~models.Q(sku=""), name="item_sku_given"),
            models.CheckConstraint(condition=models.Q(decimals__lte=3), name="item_decimals_0_to_3"),
            models.CheckConstraint(
                condition=models.Q(percent_off_parts=None) | models.Q(kind="bundle", percent_off_parts__gte=0),
                name="only_a_bundle_has_parts_to_price",
            ),
        ]
        indexes = [models.Index(fields=["title"], name="item_title")]

    @property
    def price(self) -> Decimal:
        """Its retail price with tax at the company that is worked for, 0 where there is none: as the query brought it
        along (`retail.priced`), else asked for."""
        if "_price" not in self.__dict__:
            return next((row.amount for row in self.own_prices.all()), Decimal(0))
        return self.__dict__["_price"]

    @price.setter
    def price(self, amount: Decimal) -> None:
        self.__dict__["_price"] = amount

    def refresh_from_db(self, *args: Any, **options: Any) -> None:
        """Reads it anew, its price too."""
        self.__dict__.pop("_price", None)
        super().refresh_from_db(*args, **options)


class ItemPrice(models.Model):
    """What one of an item costs the customers of a company, with tax: companies share items, and no prices. It is what
    the company's base list says of one, without dates; of a bundle that costs what its parts do it is worked out anew
    whenever one of them changes."""

    company = owner()
    item = models.ForeignKey(Item, on_delete=models.CASCADE, related_name="own_prices")
    amount = models.DecimalField(**MONEY)

    objects: ClassVar[models.Manager["ItemPrice"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["company", "item"], name="item_price_once"),
            models.CheckConstraint(condition=models.Q(amount__gt=0), name="item_price_is_one"),
        ]


class Picture(models.Model):
    """What a product, or one of its items, looks like: made anew from what was sent, as WebP."""

    product = models.ForeignKey(Product, on_delete=models.CASCADE, related_name="pictures")
    item = models.ForeignKey(Item, on_delete=models.CASCADE, null=True, related_name="pictures", help_text="Empty: all of them")
    position = models.PositiveSmallIntegerField(default=0)
    alt = models.CharField(max_length=200, help_text="What it shows, for who cannot see it")
    full = models.BinaryField()
    thumb = models.BinaryField()
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    digest = models.CharField(max_length=64)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["product", "digest"], name="picture_once"),
            models.CheckConstraint(condition=~models.Q(alt=""), name="picture_described"),
        ]
        indexes = [models.Index(fields=["product", "position", "id"], name="picture_order")]


class Barcode(models.Model):
    """A GTIN of an item, kept at fourteen digits so that all lengths compare."""

    item = models.ForeignKey(Item, on_delete=models.CASCADE, related_name="barcodes")
    gtin = models.CharField(max_length=14, unique=True)

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(gtin__regex=r"^\d{14}$"), name="barcode_14_digits")]


class FormerCode(models.Model):
    """A SKU or barcode that an item had: what channels and customers still call it goes on matching."""

    class Kind(models.TextChoices):
        SKU = "sku", "SKU"
        GTIN = "gtin", "barcode"

    item = models.ForeignKey(Item, on_delete=models.CASCADE, related_name="former_codes")
    kind = models.CharField(max_length=4, choices=Kind.choices)
    code = models.CharField(max_length=60, help_text="A SKU as it is compared, or fourteen digits")
    since = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["item", "kind", "code"], name="former_code_once")]
        indexes = [models.Index(fields=["kind", "code"], name="former_code")]


class BundleComponent(models.Model):
    """How many of an item go into a bundle."""

    bundle = models.ForeignKey(Item, on_delete=models.CASCADE, related_name="components")
    component = models.ForeignKey(Item, on_delete=models.PROTECT, related_name="used_in")
    quantity = models.DecimalField(**QUANTITY)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["bundle", "component"], name="component_once"),
            models.CheckConstraint(condition=models.Q(quantity__gt=0), name="component_quantity_positive"),
            models.CheckConstraint(condition=~models.Q(bundle=models.F("component")), name="bundle_not_in_itself"),
        ]
