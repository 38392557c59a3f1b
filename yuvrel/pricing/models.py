"""Price lists, what is typed into them, and every change of it.

The base list holds the company's own prices: of one, without dates, that is `Item.price`; breaks and dated prices are
entries like those of any other list.
"""

from decimal import Decimal
from typing import ClassVar

from django.db import models
from django.db.models.functions import Lower

from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, QUANTITY, RATE


class PriceList(models.Model):
    """A list and how it comes to prices that are not typed; without a parent a derived one follows the base list."""

    class Method(models.TextChoices):
        TYPED = "typed"
        DERIVED = "derived"
        MARGIN = "margin"
        MARKUP = "markup"

    class Rounding(models.TextChoices):
        UP = "up"
        NEAREST = "nearest"
        DOWN = "down"

    class Basis(models.TextChoices):
        AVERAGE = "average", "moving average cost"
        LAST = "last", "last cost"

    company = owner()
    name = models.CharField(max_length=80)
    base = models.BooleanField(default=False, help_text="The company's own prices; there is one")
    currency = models.CharField(max_length=3)
    taxed = models.BooleanField(default=True)
    method = models.CharField(max_length=8, choices=Method.choices, default=Method.TYPED)
    parent = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="followers")
    percent = models.DecimalField(max_digits=7, decimal_places=2, default=0)
    amount = models.DecimalField(**MONEY, default=0)
    rate = models.DecimalField(**RATE, default=Decimal(1), help_text="Of its currency for one of what it follows")
    ending = models.DecimalField(**MONEY, null=True)
    rounding = models.CharField(max_length=8, choices=Rounding.choices, default=Rounding.UP)
    basis = models.CharField(max_length=8, choices=Basis.choices, default=Basis.AVERAGE)
    starts_on = models.DateField(null=True)
    ends_on = models.DateField(null=True)
    note = models.CharField(max_length=500, blank=True)
    worked_on = models.DateField(null=True, help_text="The day whose dated prices have gone to the channels")
    version = models.PositiveIntegerField(default=1)
    created_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["PriceList"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint("company", Lower("name"), name="price_list_name_once"),
            models.UniqueConstraint(fields=["company"], condition=models.Q(base=True), name="price_list_one_base"),
            models.CheckConstraint(
                condition=models.Q(method="derived", parent__isnull=False) | ~models.Q(method="derived") & models.Q(parent=None),
                name="price_list_derived_has_parent",
            ),
            models.CheckConstraint(condition=~models.Q(parent=models.F("id")), name="price_list_not_its_own_parent"),
            models.CheckConstraint(condition=~models.Q(base=True) | models.Q(method="typed"), name="price_list_base_is_typed"),
            models.CheckConstraint(condition=models.Q(rate__gt=0), name="price_list_rate_positive"),
            models.CheckConstraint(
                condition=models.Q(starts_on=None) | models.Q(ends_on=None) | models.Q(ends_on__gte=models.F("starts_on")),
                name="price_list_ends_after_start",
            ),
        ]

    def __str__(self) -> str:
        return self.name


class PriceChange(models.Model):
    """One change of prices in a list, of one item or of thousands; it can be undone as one."""

    list = models.ForeignKey(PriceList, on_delete=models.CASCADE, related_name="changes")
    what = models.CharField(max_length=200)
    by = models.CharField(max_length=120)
    at = models.DateTimeField()
    starts_on = models.DateField(null=True)
    ends_on = models.DateField(null=True)
    items = models.PositiveIntegerField(default=0)
    undone_at = models.DateTimeField(null=True)
    undone_by = models.CharField(max_length=120, blank=True)

    objects: ClassVar[models.Manager["PriceChange"]] = owned("list__company")

    class Meta:
        indexes = [models.Index(fields=["list", "-id"], name="price_change_newest")]


class PriceChangeLine(models.Model):
    """What one price was and what it became; empty where there was or is none."""

    change = models.ForeignKey(PriceChange, on_delete=models.CASCADE, related_name="lines")
    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="+")
    from_quantity = models.DecimalField(**QUANTITY)
    starts_on = models.DateField(null=True)
    ends_on = models.DateField(null=True)
    before = models.DecimalField(**MONEY, null=True)
    after = models.DecimalField(**MONEY, null=True)
    previous_before = models.DecimalField(**MONEY, null=True)
    previous_after = models.DecimalField(**MONEY, null=True)

    objects: ClassVar[models.Manager["PriceChangeLine"]] = owned("change__list__company")

    class Meta:
        indexes = [models.Index(fields=["item", "-id"], name="price_line_item")]


class PriceEntry(models.Model):
    """A price typed into a list: from a quantity on, between two days that both count."""

    list = models.ForeignKey(PriceList, on_delete=models.CASCADE, related_name="entries")
    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="prices")
    from_quantity = models.DecimalField(**QUANTITY, default=0)
    price = models.DecimalField(**MONEY)
    previous = models.DecimalField(**MONEY, null=True)
    starts_on = models.DateField(null=True)
    ends_on = models.DateField(null=True)

    objects: ClassVar[models.Manager["PriceEntry"]] = owned("list__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["list", "item", "from_quantity", "starts_on", "ends_on"], name="price_entry_once", nulls_distinct=False
            ),
            models.CheckConstraint(condition=models.Q(price__gte=0), name="price_entry_not_negative"),
            models.CheckConstraint(condition=models.Q(from_quantity__gte=0), name="price_entry_quantity_not_negative"),
            models.CheckConstraint(
                condition=models.Q(starts_on=None) | models.Q(ends_on=None) | models.Q(ends_on__gte=models.F("starts_on")),
                name="price_entry_ends_after_start",
            ),
        ]
        indexes = [models.Index(fields=["item", "list"], name="price_entry_item")]


class PlaceList(models.Model):
    """The list that a place sells at."""

    location = models.OneToOneField("people.Location", on_delete=models.CASCADE, related_name="price_list")
    list = models.ForeignKey(PriceList, on_delete=models.PROTECT, related_name="places")

    objects: ClassVar[models.Manager["PlaceList"]] = owned("location__company")
