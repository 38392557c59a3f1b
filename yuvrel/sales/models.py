"""Orders of all channels, what is reserved for them, and how they were shipped and invoiced."""

from decimal import Decimal
from typing import ClassVar

import pgtrigger
from django.db import models
from django.db.models.functions import Lower

from yuvrel.documents.registry import Ref
from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, PERCENT, QUANTITY, RATE

COMMIT = """
    IF TG_OP <> 'INSERT' THEN
        UPDATE stock_stockbalance SET
            committed = committed - CASE OLD.state WHEN 'open' THEN OLD.quantity ELSE 0 END,
            backordered = backordered - CASE OLD.state WHEN 'backorder' THEN OLD.quantity ELSE 0 END
        WHERE item_id = OLD.item_id AND location_id = OLD.location_id;
    END IF;
    IF TG_OP <> 'DELETE' THEN
        INSERT INTO stock_stockbalance (item_id, location_id, on_hand, committed, backordered, incoming)
        VALUES (NEW.item_id, NEW.location_id, 0, 0, 0, 0) ON CONFLICT (item_id, location_id) DO NOTHING;
        UPDATE stock_stockbalance SET
            committed = committed + CASE NEW.state WHEN 'open' THEN NEW.quantity ELSE 0 END,
            backordered = backordered + CASE NEW.state WHEN 'backorder' THEN NEW.quantity ELSE 0 END
        WHERE item_id = NEW.item_id AND location_id = NEW.location_id;
        IF NEW.state = 'open' AND (TG_OP = 'INSERT' OR OLD.state <> 'open' OR NEW.quantity > OLD.quantity)
           AND EXISTS (SELECT 1 FROM stock_stockbalance WHERE item_id = NEW.item_id
                       AND location_id = NEW.location_id AND committed > on_hand) THEN
            RAISE EXCEPTION 'reserved more than is on hand' USING ERRCODE = 'check_violation';
        END IF;
    END IF;
    RETURN NULL;
"""


class CustomerGroup(models.Model):
    """Customers that are treated alike: trade, members, staff."""

    company = owner()
    name = models.CharField(max_length=80)
    price_list = models.ForeignKey("pricing.PriceList", on_delete=models.PROTECT, null=True, related_name="groups")
    order_minimum = models.DecimalField(**QUANTITY, null=True, help_text="Units of an order line; none: as for everybody")
    order_step = models.DecimalField(**QUANTITY, null=True)
    order_maximum = models.DecimalField(**QUANTITY, null=True)
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["CustomerGroup"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint("company", Lower("name"), name="customer_group_name_once"),
            models.CheckConstraint(
                condition=(models.Q(order_minimum=None) | models.Q(order_minimum__gt=0))
                & (models.Q(order_step=None) | models.Q(order_step__gt=0))
                & (models.Q(order_maximum=None) | models.Q(order_maximum__gt=0)),
                name="customer_group_limits_positive",
            ),
        ]

    def __str__(self) -> str:
        return self.name


class Customer(models.Model):
    """Who buys; a trade customer buys on account. The customer's own price list speaks before the group's."""

    company = owner()
    name = models.CharField(max_length=160)
    email = models.CharField(max_length=160, blank=True)
    address = models.JSONField(default=dict)
    on_account = models.BooleanField(default=False)
    external_key = models.CharField(max_length=120, null=True)
    group = models.ForeignKey(CustomerGroup, on_delete=models.PROTECT, null=True, related_name="customers")
    price_list = models.ForeignKey("pricing.PriceList", on_delete=models.PROTECT, null=True, related_name="customers")
    payment_days = models.PositiveSmallIntegerField(null=True, help_text="Terms of their own; none: the connection's")
    note = models.CharField(max_length=500, blank=True)
    by_hand = models.JSONField(default=list, help_text="What a person wrote: no later order writes over it")
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["Customer"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["name", "id"], name="customer_name")]
        constraints = [models.UniqueConstraint(fields=["company", "external_key"], name="customer_key_once")]

    def __str__(self) -> str:
        return self.name


class SalesOrder(models.Model):
    """One order or till sale as the channel states it, once."""

    class Kind(models.TextChoices):
        ORDER = "order"
        TILL = "till"
        SENT = "sent", "sent by the channel"

    class State(models.TextChoices):
        RECEIVED = "received"
        HELD = "held"
        READY = "ready"
        PART_SHIPPED = "part-shipped"
        SHIPPED = "shipped"
        CLOSED = "closed"
        CANCELLED = "cancelled"

    company = owner()
    connection = models.ForeignKey("channels.Connection", on_delete=models.PROTECT, related_name="orders")
    kind = models.CharField(max_length=6, choices=Kind.choices, default=Kind.ORDER)
    external_id = models.CharField(max_length=80)
    external_number = models.CharField(max_length=60)
    external_version = models.BigIntegerField(default=0)
    number = models.CharField(max_length=80, help_text="With the connection's prefix")
    state = models.CharField(max_length=12, choices=State.choices, default=State.RECEIVED)
    held_because = models.CharField(max_length=300, blank=True)
    stopped_because = models.CharField(
        max_length=300, blank=True, help_text="Why somebody held it; later versions do not end that"
    )
    cancelled_because = models.CharField(max_length=300, blank=True, help_text="Why it was cancelled here")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT)
    customer = models.ForeignKey(Customer, on_delete=models.PROTECT, null=True, related_name="orders")
    ship_to = models.JSONField(default=dict)
    currency = models.CharField(max_length=3, default="EUR", help_text="Of its amounts: the company's, once a rate is known")
    total = models.DecimalField(**MONEY, help_text="With tax; in another currency at the rate of its day")
    stated_currency = models.CharField(max_length=3, blank=True, help_text="The channel's, where it is another")
    stated_total = models.DecimalField(**MONEY, null=True, help_text="As the channel states it, in that currency")
    rate = models.DecimalField(**RATE, default=1, help_text="Of that currency for one of the company's")
    net = models.DecimalField(**MONEY, default=0, help_text="What its lines come to without tax, kept for sums over time")
    paid = models.BooleanField(default=True)
    shipping_method = models.CharField(max_length=80, blank=True, help_text="In the channel's own words")
    placed_at = models.DateTimeField()
    send_by = models.DateField(null=True, help_text="The day until which it has to leave: as the channel or a rule says")
    penalty = models.DecimalField(**MONEY, default=0, help_text="What the channel charges for it being late or cancelled")
    received_at = models.DateTimeField(auto_now_add=True)
    history = models.BooleanField(default=False, help_text="Taken in as history: closed before the books opened")

    objects: ClassVar[models.Manager["SalesOrder"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["connection", "external_id"], name="order_once_per_connection"),
            models.UniqueConstraint(fields=["company", "number"], name="order_number_once"),
            models.CheckConstraint(
                condition=models.Q(stated_currency="", stated_total=None, rate=1)
                | (~models.Q(stated_currency="") & models.Q(stated_total__isnull=False, rate__gt=0)),
                name="order_stated_whole",
            ),
        ]
        indexes = [
            models.Index(fields=["state", "-placed_at", "-id"], name="order_state_time"),
            models.Index(fields=["-placed_at", "-id"], name="order_time"),
            models.Index(fields=["total", "id"], name="order_total"),
            models.Index(fields=["send_by", "id"], name="order_send_by", condition=models.Q(send_by__isnull=False)),
            models.Index(fields=["placed_at"], include=["net"], name="order_revenue", condition=~models.Q(state="cancelled")),
        ]

    @property
    def told_total(self) -> Decimal:
        """Its total as the channel states it."""
        return self.total if self.stated_total is None else self.stated_total


class OrderLine(models.Model):
    """Goods, a service, shipping, a discount (negative) or a surcharge."""

    class Kind(models.TextChoices):
        ITEM = "item"
        SERVICE = "service"
        SHIPPING = "shipping"
        DISCOUNT = "discount"
        SURCHARGE = "surcharge"

    order = models.ForeignKey(SalesOrder, on_delete=models.PROTECT, related_name="lines")
    kind = models.CharField(max_length=10, choices=Kind.choices)
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, null=True, related_name="order_lines")
    external_id = models.CharField(max_length=80, blank=True)
    sku = models.CharField(max_length=60, blank=True)
    title = models.CharField(max_length=200)
    quantity = models.DecimalField(**QUANTITY, default=1)
    units = models.PositiveIntegerField(default=1, help_text="Of the item for one that the channel counts")
    net = models.DecimalField(**MONEY)
    tax = models.DecimalField(**MONEY)
    tax_percent = models.DecimalField(**PERCENT, default=0)
    shipped = models.DecimalField(**QUANTITY, default=0)
    invoiced_net = models.DecimalField(**MONEY, default=0)
    invoiced_tax = models.DecimalField(**MONEY, default=0)
    invoiced = models.DecimalField(**QUANTITY, default=0)
    returned = models.DecimalField(**QUANTITY, default=0, help_text="On returns that were not cancelled")
    credited = models.DecimalField(**QUANTITY, default=0)
    credited_net = models.DecimalField(**MONEY, default=0)
    credited_tax = models.DecimalField(**MONEY, default=0)
    past_zero = models.DecimalField(**QUANTITY, default=0, help_text="Of the quantity: sold under a limit of selling past zero")
    past_zero_scope = models.CharField(max_length=80, blank=True, help_text="The level where that limit is set")
    promised_on = models.DateField(null=True, help_text="The day for which what is past zero was promised")

    objects: ClassVar[models.Manager["OrderLine"]] = owned("order__company")

    class Meta:
        indexes = [
            models.Index(fields=["past_zero_scope"], name="line_past_zero", condition=~models.Q(past_zero_scope="")),
        ]
        constraints = [
            models.CheckConstraint(
                condition=models.Q(past_zero__gte=0, past_zero__lte=models.F("quantity")), name="line_past_zero_within"
            ),
            models.CheckConstraint(condition=models.Q(quantity__gt=0), name="line_quantity_positive"),
            models.CheckConstraint(
                condition=models.Q(shipped__gte=0, shipped__lte=models.F("quantity")), name="line_not_overshipped"
            ),
            models.CheckConstraint(
                condition=models.Q(returned__gte=0, returned__lte=models.F("shipped")), name="line_not_overreturned"
            ),
            models.CheckConstraint(
                condition=models.Q(credited__gte=0, credited__lte=models.F("invoiced")), name="line_not_overcredited"
            ),
        ]

    def told(self, quantity: Decimal, net: Decimal, tax: Decimal) -> dict[str, str]:
        """So much of it as a document for the ledger says it."""
        amounts = {"quantity": quantity, "net": net, "tax": tax, "tax_percent": self.tax_percent}
        return {"title": self.title, "sku": self.sku, **{name: str(value) for name, value in amounts.items()}}


class Reservation(models.Model):
    """Units of an item held for an order line (open), owed to it (backorder), or done with."""

    class State(models.TextChoices):
        OPEN = "open"
        BACKORDER = "backorder"
        USED = "used"
        RELEASED = "released"

    line = models.ForeignKey(OrderLine, on_delete=models.PROTECT, related_name="reservations")
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT)
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT)
    quantity = models.DecimalField(**QUANTITY)
    per_unit = models.DecimalField(**QUANTITY, default=1, help_text="Units per unit of the line, for kits")
    state = models.CharField(max_length=10, choices=State.choices)
    made_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["Reservation"]] = owned("location__company")

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(quantity__gt=0), name="reservation_positive")]
        indexes = [
            models.Index(
                fields=["item", "location", "id"],
                name="reservation_waiting",
                condition=models.Q(state__in=["open", "backorder"]),
            )
        ]
        triggers = [
            pgtrigger.Trigger(
                name="reservation_commits",
                when=pgtrigger.After,
                operation=pgtrigger.Insert | pgtrigger.Update | pgtrigger.Delete,
                func=COMMIT,
            )
        ]

    def move(self, units: Decimal, state: str) -> None:
        """Give `units` of it, at most all, another state; where some stay, they move to a row of their own."""
        if units == self.quantity:
            self.state = state
            self.save()
            return
        self.quantity -= units
        self.save()
        Reservation.objects.create(
            line_id=self.line_id,
            item_id=self.item_id,
            location_id=self.location_id,
            quantity=units,
            per_unit=self.per_unit,
            state=state,
        )


class Payment(models.Model):
    """How a part of an order is paid, as the channel states it; `taken`: what shipments took of an authorised one."""

    class State(models.TextChoices):
        PAID = "paid"
        AUTHORISED = "authorised"

    order = models.ForeignKey(SalesOrder, on_delete=models.PROTECT, related_name="payments")
    external_id = models.CharField(max_length=80, help_text="The channel's own, or its place among the payments")
    method = models.CharField(max_length=60)
    role = models.CharField(max_length=30, help_text="Of the clearing account that it settles through")
    amount = models.DecimalField(**MONEY)
    stated = models.DecimalField(**MONEY, null=True, help_text="As the channel states it, where that is another currency")
    state = models.CharField(max_length=10, choices=State.choices)
    taken = models.DecimalField(**MONEY, default=0)

    objects: ClassVar[models.Manager["Payment"]] = owned("order__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["order", "external_id"], name="payment_once"),
            models.CheckConstraint(condition=models.Q(amount__gte=0), name="payment_not_negative"),
            models.CheckConstraint(condition=models.Q(taken__gte=0), name="payment_taken_not_negative"),
        ]


class Shipment(models.Model):
    """A parcel, or a till sale handed over."""

    company = owner()
    order = models.ForeignKey(SalesOrder, on_delete=models.PROTECT, related_name="shipments")
    number = models.CharField(max_length=80)
    carrier = models.CharField(max_length=60, blank=True)
    tracking = models.CharField(max_length=80, blank=True)
    shipped_at = models.DateTimeField()
    told_channel_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["Shipment"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "number"], name="shipment_number_once")]


class ShipmentLine(models.Model):
    """What of an order line left in a shipment, what it cost, what it earned net of tax."""

    shipment = models.ForeignKey(Shipment, on_delete=models.PROTECT, related_name="lines")
    order_line = models.ForeignKey(OrderLine, on_delete=models.PROTECT, related_name="shipment_lines")
    quantity = models.DecimalField(**QUANTITY)
    cost = models.DecimalField(**MONEY)

    objects: ClassVar[models.Manager["ShipmentLine"]] = owned("shipment__company")


class ShipmentPart(models.Model):
    """What of a kit left in a shipment, component by component: what comes back is valued by it."""

    line = models.ForeignKey(ShipmentLine, on_delete=models.PROTECT, related_name="parts")
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT)
    quantity = models.DecimalField(**QUANTITY)
    cost = models.DecimalField(**MONEY)

    objects: ClassVar[models.Manager["ShipmentPart"]] = owned("line__shipment__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["line", "item"], name="shipment_part_once")]


class Capture(models.Model):
    """What a shipment took of an authorised payment; the channel is told once."""

    payment = models.ForeignKey(Payment, on_delete=models.PROTECT, related_name="captures")
    shipment = models.ForeignKey(Shipment, on_delete=models.PROTECT, related_name="captures")
    amount = models.DecimalField(**MONEY)
    stated = models.DecimalField(**MONEY, null=True, help_text="In the channel's currency, where that is another")
    told_channel_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["Capture"]] = owned("shipment__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["payment", "shipment"], name="capture_once"),
            models.CheckConstraint(condition=models.Q(amount__gt=0), name="capture_positive"),
        ]


class Invoice(models.Model):
    """The claim for one shipment; its total is the sum of its rounded lines."""

    company = owner()
    shipment = models.OneToOneField(Shipment, on_delete=models.PROTECT, related_name="invoice")
    number = models.CharField(max_length=80)
    issued_on = models.DateField()
    due_on = models.DateField(null=True, help_text="None: paid at once")
    net = models.DecimalField(**MONEY)
    tax = models.DecimalField(**MONEY)
    total = models.DecimalField(**MONEY)

    objects: ClassVar[models.Manager["Invoice"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "number"], name="invoice_number_once")]


class Return(models.Model):
    """Goods of an order that come back, or are to."""

    class State(models.TextChoices):
        EXPECTED = "expected"
        PART_RECEIVED = "part-received"
        RECEIVED = "received"
        CANCELLED = "cancelled"

    OPEN = ("expected", "part-received")

    company = owner()
    number = models.CharField(max_length=40)
    order = models.ForeignKey(SalesOrder, on_delete=models.PROTECT, related_name="returns")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT, help_text="Where it comes back to")
    state = models.CharField(max_length=14, choices=State.choices, default=State.EXPECTED)
    made_at = models.DateTimeField()
    note = models.CharField(max_length=300, blank=True)
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["Return"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "number"], name="return_number_once")]
        indexes = [models.Index(fields=["state", "-id"], name="return_state")]

    @property
    def ref(self) -> Ref:
        """How it is referred to."""
        return Ref("return", self.pk)


class ReturnLine(models.Model):
    """So many of an order line, why they come back, and what became of them, in units of the line."""

    class Reason(models.TextChoices):
        UNWANTED = "unwanted"
        UNFIT = "does not fit"
        FAULTY = "faulty"
        DAMAGED = "damaged on the way"
        WRONG = "wrong item"
        LATE = "came too late"
        OTHER = "other"

    back = models.ForeignKey(Return, on_delete=models.PROTECT, related_name="lines")
    order_line = models.ForeignKey(OrderLine, on_delete=models.PROTECT, related_name="return_lines")
    quantity = models.DecimalField(**QUANTITY)
    reason = models.CharField(max_length=20, choices=Reason.choices, default=Reason.OTHER)
    restocked = models.DecimalField(**QUANTITY, default=0)
    repair = models.DecimalField(**QUANTITY, default=0)
    written_off = models.DecimalField(**QUANTITY, default=0)

    objects: ClassVar[models.Manager["ReturnLine"]] = owned("back__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["back", "order_line"], name="return_line_once"),
            models.CheckConstraint(
                condition=models.Q(quantity__gte=0, restocked__gte=0, repair__gte=0, written_off__gte=0),
                name="return_line_not_negative",
            ),
            models.CheckConstraint(
                condition=models.Q(quantity__gte=models.F("restocked") + models.F("repair") + models.F("written_off")),
                name="return_line_within",
            ),
        ]

    @property
    def left(self) -> Decimal:
        """Units that are still to come."""
        return self.quantity - self.restocked - self.repair - self.written_off


class ReturnPart(models.Model):
    """Units of an item that were looked at when they came back: where they went, and at which value."""

    class Kind(models.TextChoices):
        RESTOCKED = "restocked", "back in stock"
        REPAIR = "repair"
        WRITTEN_OFF = "written off"

    line = models.ForeignKey(ReturnLine, on_delete=models.PROTECT, related_name="parts")
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT)
    kind = models.CharField(max_length=11, choices=Kind.choices)
    quantity = models.DecimalField(**QUANTITY)
    value = models.DecimalField(**MONEY)
    at = models.DateTimeField()

    objects: ClassVar[models.Manager["ReturnPart"]] = owned("line__back__company")

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(quantity__gt=0), name="return_part_positive")]
        triggers = [pgtrigger.Protect(name="return_part_append_only", operation=pgtrigger.Update | pgtrigger.Delete)]


class CreditNote(models.Model):
    """What is given back of a sale; its total is the sum of its rounded lines, less the fee."""

    company = owner()
    number = models.CharField(max_length=40)
    order = models.ForeignKey(SalesOrder, on_delete=models.PROTECT, related_name="credits")
    back = models.ForeignKey(Return, on_delete=models.PROTECT, null=True, related_name="credits")
    external_id = models.CharField(max_length=80, blank=True, help_text="The channel's own refund")
    issued_on = models.DateField()
    issued_at = models.DateTimeField()
    net = models.DecimalField(**MONEY)
    tax = models.DecimalField(**MONEY)
    fee = models.DecimalField(**MONEY, default=0, help_text="Kept for taking the goods back, with tax")
    total = models.DecimalField(**MONEY)
    refunded = models.DecimalField(**MONEY, help_text="Of the total: goes back to who paid; the rest was still owed")
    stated = models.DecimalField(**MONEY, null=True, help_text="What goes back, in the channel's currency where that is another")
    method = models.CharField(max_length=60, blank=True, help_text="How it was paid back, as the channel says")
    note = models.CharField(max_length=300, blank=True)
    tell_channel = models.BooleanField(default=False, help_text="The channel pays it back")
    told_channel_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["CreditNote"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["company", "number"], name="credit_number_once"),
            models.UniqueConstraint(
                fields=["order", "external_id"], name="credit_once_per_refund", condition=~models.Q(external_id="")
            ),
            models.CheckConstraint(condition=models.Q(fee__gte=0, total__gte=0), name="credit_not_negative"),
            models.CheckConstraint(
                condition=models.Q(refunded__gte=0, refunded__lte=models.F("total")), name="credit_refunded_within"
            ),
            models.CheckConstraint(condition=models.Q(total=models.F("net") + models.F("tax")), name="credit_adds_up"),
        ]


class CreditLine(models.Model):
    """What of an order line is given back; no units where the price alone is lowered."""

    note = models.ForeignKey(CreditNote, on_delete=models.PROTECT, related_name="lines")
    order_line = models.ForeignKey(OrderLine, on_delete=models.PROTECT, related_name="credit_lines")
    quantity = models.DecimalField(**QUANTITY)
    net = models.DecimalField(**MONEY)
    tax = models.DecimalField(**MONEY)

    objects: ClassVar[models.Manager["CreditLine"]] = owned("note__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["note", "order_line"], name="credit_line_once")]

    @property
    def gross(self) -> Decimal:
        """With tax."""
        return self.net + self.tax


class PastSale(models.Model):
    """What was sold of an item at a place on a day before orders came in here: it counts as demand, and as nothing else."""

    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="past_sales")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT, related_name="past_sales")
    day = models.DateField()
    units = models.DecimalField(**QUANTITY)

    objects: ClassVar[models.Manager["PastSale"]] = owned("location__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["item", "location", "day"], name="past_sale_once"),
            models.CheckConstraint(condition=models.Q(units__gte=0), name="past_sale_not_negative"),
        ]
        indexes = [models.Index(fields=["location", "item", "day"], name="past_sale_place")]


class TillCount(models.Model):
    """A till that was closed and counted: what should have been there since the close before, and what was."""

    company = owner()
    connection = models.ForeignKey("channels.Connection", on_delete=models.PROTECT, related_name="till_counts")
    external_id = models.CharField(max_length=80)
    number = models.CharField(max_length=80)
    closed_at = models.DateTimeField()
    since = models.DateTimeField(help_text="The close before, or when the till was tied in")

    objects: ClassVar[models.Manager["TillCount"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["connection", "external_id"], name="till_count_once")]
        indexes = [models.Index(fields=["connection", "-closed_at"], name="till_count_newest")]

    def __str__(self) -> str:
        return self.number


class TillCountLine(models.Model):
    """One way to pay at one close; `posted`: what was counted beyond (or below) what should have been there, as it is
    booked."""

    count = models.ForeignKey(TillCount, on_delete=models.CASCADE, related_name="lines")
    method = models.CharField(max_length=40)
    role = models.CharField(max_length=30, help_text="Of the clearing account that it settles through")
    opening = models.DecimalField(**MONEY, default=0)
    counted = models.DecimalField(**MONEY)
    posted = models.DecimalField(**MONEY, default=0)

    objects: ClassVar[models.Manager["TillCountLine"]] = owned("count__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["count", "method"], name="till_count_line_once"),
            models.CheckConstraint(condition=models.Q(counted__gte=0) & models.Q(opening__gte=0), name="till_count_not_negative"),
        ]

    @property
    def taken(self) -> Decimal:
        """What our sales of it came to when the difference was booked last."""
        return self.counted - self.opening - self.posted
