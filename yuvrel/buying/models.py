"""Suppliers, their prices, purchase orders and what arrived of them."""

from typing import Any, ClassVar

from django.db import models

from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, QUANTITY, RATE, UNIT_COST


class Supplier(models.Model):
    """Who we buy from; companies share their suppliers."""

    code = models.SlugField(max_length=20, unique=True)
    name = models.CharField(max_length=120, unique=True)
    currency = models.CharField(max_length=3, default="EUR")
    lead_days = models.PositiveSmallIntegerField(default=14)
    lead_deviation_days = models.DecimalField(max_digits=5, decimal_places=1, default=0)
    order_minimum = models.DecimalField(**MONEY, default=0)
    email = models.CharField(max_length=160, blank=True)
    address = models.JSONField(default=dict)
    version = models.PositiveIntegerField(default=1)

    @property
    def inbox(self) -> Any:
        """The connection that takes the orders of the company that is worked for, if there is one."""
        found = self._inbox
        return found.connection if found else None

    @property
    def inbox_id(self) -> int | None:
        """Its id."""
        found = self._inbox
        return found.connection_id if found else None

    @property
    def _inbox(self) -> "SupplierInbox | None":
        return next(iter(self.inboxes.all()), None) if self.pk else None


class SupplierInbox(models.Model):
    """The connection through which a company's orders reach a supplier."""

    company = owner()
    supplier = models.ForeignKey(Supplier, on_delete=models.CASCADE, related_name="inboxes")
    connection = models.OneToOneField("channels.Connection", on_delete=models.CASCADE, related_name="inbox_of")

    objects: ClassVar[models.Manager["SupplierInbox"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "supplier"], name="supplier_inbox_once")]


class SupplierItem(models.Model):
    """What a supplier calls an item and how it is sold; the preferred supplier is suggested."""

    supplier = models.ForeignKey(Supplier, on_delete=models.PROTECT, related_name="items")
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="supplier_items")
    code = models.CharField(max_length=60, blank=True)
    preferred = models.BooleanField(default=True)
    pack = models.DecimalField(**QUANTITY, default=1)
    minimum = models.DecimalField(**QUANTITY, default=0)
    version = models.PositiveIntegerField(default=1)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["supplier", "item"], name="supplier_item_once"),
            models.UniqueConstraint(fields=["item"], condition=models.Q(preferred=True), name="one_preferred_supplier"),
            models.CheckConstraint(condition=models.Q(pack__gt=0), name="pack_positive"),
        ]


class PriceBreak(models.Model):
    """The unit price, in the supplier's currency, from a quantity on."""

    supplier_item = models.ForeignKey(SupplierItem, on_delete=models.CASCADE, related_name="prices")
    from_quantity = models.DecimalField(**QUANTITY, default=0)
    price = models.DecimalField(**UNIT_COST)

    class Meta:
        ordering = ["from_quantity"]
        constraints = [
            models.UniqueConstraint(fields=["supplier_item", "from_quantity"], name="price_break_once"),
            models.CheckConstraint(condition=models.Q(price__gte=0), name="price_not_negative"),
        ]


class PurchaseOrder(models.Model):
    """What we ask a supplier for."""

    class State(models.TextChoices):
        DRAFT = "draft"
        SENT = "sent"
        ACKNOWLEDGED = "acknowledged"
        PART_RECEIVED = "part-received"
        RECEIVED = "received"
        CANCELLED = "cancelled"

    # Sent and not all here yet: what is incoming.
    OPEN = (State.SENT, State.ACKNOWLEDGED, State.PART_RECEIVED)

    company = owner()
    number = models.CharField(max_length=30)
    supplier = models.ForeignKey(Supplier, on_delete=models.PROTECT, related_name="orders")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT)
    state = models.CharField(max_length=14, choices=State.choices, default=State.DRAFT)
    currency = models.CharField(max_length=3)
    made_at = models.DateTimeField(auto_now_add=True)
    sent_at = models.DateTimeField(null=True)
    delivered_at = models.DateTimeField(null=True, help_text="When the supplier's inbox took it")
    acknowledged_at = models.DateTimeField(null=True)
    expected_on = models.DateField()
    supplier_reference = models.CharField(max_length=80, blank=True)
    supplier_note = models.CharField(max_length=300, blank=True)
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["PurchaseOrder"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["state", "-id"], name="po_state")]
        constraints = [models.UniqueConstraint(fields=["company", "number"], name="po_number_once")]


class PurchaseLine(models.Model):
    """One item of a purchase order; the price is per unit in the order's currency."""

    order = models.ForeignKey(PurchaseOrder, on_delete=models.CASCADE, related_name="lines")
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="purchase_lines")
    supplier_code = models.CharField(max_length=60, blank=True)
    quantity = models.DecimalField(**QUANTITY)
    price = models.DecimalField(**UNIT_COST)
    received = models.DecimalField(**QUANTITY, default=0)
    confirmed = models.DecimalField(**QUANTITY, null=True, help_text="What the supplier promised")
    working = models.JSONField(default=dict)

    objects: ClassVar[models.Manager["PurchaseLine"]] = owned("order__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["order", "item"], name="purchase_line_once"),
            models.CheckConstraint(condition=models.Q(quantity__gt=0), name="purchase_quantity_positive"),
            models.CheckConstraint(condition=models.Q(received__gte=0), name="received_not_negative"),
        ]


class GoodsReceipt(models.Model):
    """What arrived, at the rate of the day it arrived."""

    company = owner()
    order = models.ForeignKey(PurchaseOrder, on_delete=models.PROTECT, related_name="receipts")
    number = models.CharField(max_length=40)
    received_at = models.DateTimeField()
    rate = models.DecimalField(**RATE)

    objects: ClassVar[models.Manager["GoodsReceipt"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "number"], name="receipt_number_once")]


class GoodsReceiptLine(models.Model):
    """Units that arrived on a line, and their value in base currency."""

    receipt = models.ForeignKey(GoodsReceipt, on_delete=models.PROTECT, related_name="lines")
    line = models.ForeignKey(PurchaseLine, on_delete=models.PROTECT, related_name="receipt_lines")
    lot = models.ForeignKey("stock.Lot", on_delete=models.PROTECT, null=True)
    quantity = models.DecimalField(**QUANTITY)
    value = models.DecimalField(**MONEY)

    objects: ClassVar[models.Manager["GoodsReceiptLine"]] = owned("receipt__company")
