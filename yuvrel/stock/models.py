"""The shelf: moves that are never edited, the balances they add up to, and what the stock cost."""

from decimal import Decimal
from typing import ClassVar

import pgtrigger
from django.db import models

from yuvrel.core.cost import VALUATIONS, Valuation
from yuvrel.documents.columns import FromDocument
from yuvrel.documents.registry import Ref
from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, QUANTITY, UNIT_COST

PROJECT_MOVES = """
    INSERT INTO stock_stockbalance (item_id, location_id, on_hand, committed, backordered, incoming)
        SELECT item_id, location_id, sum(quantity), 0, 0, 0 FROM new_moves
        GROUP BY item_id, location_id ORDER BY item_id, location_id
    ON CONFLICT (item_id, location_id) DO UPDATE
        SET on_hand = stock_stockbalance.on_hand + excluded.on_hand;
    INSERT INTO stock_lotbalance (lot_id, location_id, on_hand)
        SELECT lot_id, location_id, sum(quantity) FROM new_moves WHERE lot_id IS NOT NULL
        GROUP BY lot_id, location_id ORDER BY lot_id, location_id
    ON CONFLICT (lot_id, location_id) DO UPDATE
        SET on_hand = stock_lotbalance.on_hand + excluded.on_hand;
    RETURN NULL;
"""

HOLD = """
    IF TG_OP <> 'INSERT' THEN
        UPDATE stock_stockbalance SET committed = committed - OLD.quantity
        WHERE item_id = OLD.item_id AND location_id = OLD.location_id;
    END IF;
    IF TG_OP <> 'DELETE' THEN
        UPDATE stock_stockbalance SET committed = committed + NEW.quantity
        WHERE item_id = NEW.item_id AND location_id = NEW.location_id;
        IF (TG_OP = 'INSERT' OR NEW.quantity > OLD.quantity)
           AND NOT EXISTS (SELECT 1 FROM stock_stockbalance WHERE item_id = NEW.item_id
                           AND location_id = NEW.location_id AND committed <= on_hand) THEN
            RAISE EXCEPTION 'more is reserved than is on hand' USING ERRCODE = 'check_violation';
        END IF;
    END IF;
    RETURN NULL;
"""


class Lot(models.Model):
    """Units of an item that expire together."""

    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="lots")
    code = models.CharField(max_length=40)
    expires_on = models.DateField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["item", "code"], name="lot_once")]


class StockMove(FromDocument):
    """Units that came (+) or went (-), with the value they carried. Never updated, never deleted."""

    class Reason(models.TextChoices):
        OPENING = "opening"
        RECEIPT = "receipt"
        SHIPMENT = "shipment"
        TILL_SALE = "till sale"
        RETURN = "return"
        DAMAGED = "damaged"
        LOST = "lost"
        FOUND = "found"
        COUNT = "count"
        EXPIRED = "expired"
        SAMPLE = "sample"
        TRANSFER = "transfer"

    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="moves")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT)
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, null=True)
    quantity = models.DecimalField(**QUANTITY)
    value = models.DecimalField(**MONEY, help_text="Value into (+) or out of (-) inventory, base currency")
    reason = models.CharField(max_length=10, choices=Reason.choices)
    note = models.CharField(max_length=200, blank=True)
    happened_at = models.DateTimeField()
    recorded_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["StockMove"]] = owned("location__company")

    class Meta:
        constraints = [models.CheckConstraint(condition=~models.Q(quantity=0), name="move_not_empty")]
        indexes = [
            models.Index(fields=["item", "location", "happened_at"], name="move_item_place_time"),
            models.Index(fields=["-happened_at", "-id"], name="move_time"),
            models.Index(fields=["document_kind", "document_id"], name="move_document"),
        ]
        triggers = [
            pgtrigger.Protect(name="move_append_only", operation=pgtrigger.Update | pgtrigger.Delete),
            pgtrigger.Trigger(
                name="move_projects",
                level=pgtrigger.Statement,
                when=pgtrigger.After,
                operation=pgtrigger.Insert,
                referencing=pgtrigger.Referencing(new="new_moves"),
                func=PROJECT_MOVES,
            ),
        ]


class StockDocument(models.Model):
    """Stock put right by somebody: by a change, by counting, or by what was there when the books opened."""

    class Kind(models.TextChoices):
        ADJUSTMENT = "adjustment"
        COUNT = "count"
        OPENING = "opening"

    company = owner()
    kind = models.CharField(max_length=10, choices=Kind.choices)
    number = models.CharField(max_length=30)
    reason = models.CharField(max_length=10, blank=True)
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT, null=True)
    note = models.CharField(max_length=200, blank=True)
    by = models.CharField(max_length=120)
    happened_at = models.DateTimeField()
    recorded_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["StockDocument"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["kind", "-id"], name="stock_document_kind")]
        constraints = [models.UniqueConstraint(fields=["company", "number"], name="stock_document_number_once")]
        triggers = [pgtrigger.Protect(name="stock_document_append_only", operation=pgtrigger.Update | pgtrigger.Delete)]

    @property
    def ref(self) -> Ref:
        """How it is referred to."""
        return Ref(self.kind, self.pk)


class StockCount(models.Model):
    """What somebody counted, whether it agreed or not. A sale that happened before it and is heard of
    afterwards was seen by the count already."""

    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="counts")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT)
    counted = models.DecimalField(**QUANTITY)
    expected = models.DecimalField(**QUANTITY, help_text="What the books said at that moment")
    document = models.ForeignKey(StockDocument, on_delete=models.PROTECT, related_name="counts")
    counted_at = models.DateTimeField()
    recorded_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["StockCount"]] = owned("location__company")

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(counted__gte=0), name="counted_not_negative")]
        indexes = [models.Index(fields=["item", "location", "counted_at"], name="count_item_place_time")]
        triggers = [pgtrigger.Protect(name="count_append_only", operation=pgtrigger.Update | pgtrigger.Delete)]


class Transfer(models.Model):
    """Goods sent from one place of ours to another."""

    class State(models.TextChoices):
        DRAFT = "draft"
        SENT = "sent"
        PART_RECEIVED = "part-received"
        RECEIVED = "received"
        CANCELLED = "cancelled"

    # Sent and not settled yet: what is incoming.
    OPEN = (State.SENT, State.PART_RECEIVED)

    company = owner()
    number = models.CharField(max_length=30)
    source = models.ForeignKey("people.Location", on_delete=models.PROTECT, related_name="transfers_out")
    destination = models.ForeignKey("people.Location", on_delete=models.PROTECT, related_name="transfers_in")
    state = models.CharField(max_length=14, choices=State.choices, default=State.DRAFT)
    note = models.CharField(max_length=200, blank=True)
    expected_on = models.DateField()
    made_at = models.DateTimeField(auto_now_add=True)
    sent_at = models.DateTimeField(null=True)
    version = models.PositiveIntegerField(default=1)

    objects: ClassVar[models.Manager["Transfer"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["state", "-id"], name="transfer_state")]
        constraints = [
            models.UniqueConstraint(fields=["company", "number"], name="transfer_number_once"),
            models.CheckConstraint(condition=~models.Q(source=models.F("destination")), name="transfer_between_two"),
        ]

    @property
    def ref(self) -> Ref:
        """How it is referred to."""
        return Ref("transfer", self.pk)


class TransferLine(models.Model):
    """One item of a transfer: what was sent, what of it arrived, what was brought back or given up."""

    transfer = models.ForeignKey(Transfer, on_delete=models.CASCADE, related_name="lines")
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="transfer_lines")
    quantity = models.DecimalField(**QUANTITY)
    received = models.DecimalField(**QUANTITY, default=0)
    returned = models.DecimalField(**QUANTITY, default=0, help_text="Brought back to where it left")
    lost = models.DecimalField(**QUANTITY, default=0, help_text="Will not arrive")

    objects: ClassVar[models.Manager["TransferLine"]] = owned("transfer__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["transfer", "item"], name="transfer_line_once"),
            models.CheckConstraint(
                condition=models.Q(quantity__gt=0, received__gte=0, returned__gte=0, lost__gte=0), name="transfer_line_positive"
            ),
            models.CheckConstraint(
                condition=models.Q(quantity__gte=models.F("received") + models.F("returned") + models.F("lost")),
                name="transfer_line_not_more_than_sent",
            ),
        ]

    @property
    def left(self) -> Decimal:
        """What is on the way of it, once it is sent."""
        return self.quantity - self.received - self.returned - self.lost


class TransferPart(models.Model):
    """Units of a line in one lot that left, arrived, came back or were lost, with the value they carried into or out of
    Goods in transit; never edited."""

    class Kind(models.TextChoices):
        SENT = "sent"
        RECEIVED = "received"
        RETURNED = "returned"
        LOST = "lost"

    line = models.ForeignKey(TransferLine, on_delete=models.PROTECT, related_name="parts")
    kind = models.CharField(max_length=8, choices=Kind.choices)
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, null=True)
    quantity = models.DecimalField(**QUANTITY)
    value = models.DecimalField(**MONEY)
    at = models.DateTimeField()

    objects: ClassVar[models.Manager["TransferPart"]] = owned("line__transfer__company")

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(quantity__gt=0, value__gte=0), name="transfer_part_positive")]
        triggers = [pgtrigger.Protect(name="transfer_part_append_only", operation=pgtrigger.Update | pgtrigger.Delete)]


class StockBalance(models.Model):
    """What an item has at a location. on_hand follows the moves and committed the reservations, of orders and of other
    documents, both by trigger; incoming follows the open purchase orders and transfers."""

    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="balances")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT, related_name="balances")
    on_hand = models.DecimalField(**QUANTITY, default=0)
    committed = models.DecimalField(**QUANTITY, default=0)
    backordered = models.DecimalField(**QUANTITY, default=0)
    incoming = models.DecimalField(**QUANTITY, default=0)

    objects: ClassVar[models.Manager["StockBalance"]] = owned("location__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["item", "location"], name="balance_once"),
            models.CheckConstraint(
                condition=models.Q(committed__gte=0, backordered__gte=0, incoming__gte=0),
                name="balance_promises_not_negative",
            ),
        ]

    @classmethod
    def none(cls, item_id: int, location_id: int) -> "StockBalance":
        """What an item has at a place where it never was."""
        zeros = dict.fromkeys(("on_hand", "committed", "backordered", "incoming"), Decimal(0))
        return cls(item_id=item_id, location_id=location_id, **zeros)


class DocumentReservation(FromDocument):
    """Units of an item that a document holds at a place. An order's reservations say more, and are kept with orders."""

    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT)
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT)
    quantity = models.DecimalField(**QUANTITY)
    made_at = models.DateTimeField(auto_now_add=True)

    objects: ClassVar[models.Manager["DocumentReservation"]] = owned("location__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["document_kind", "document_id", "item", "location"], name="document_reservation_once"
            ),
            models.CheckConstraint(condition=models.Q(quantity__gt=0), name="document_reservation_positive"),
            models.CheckConstraint(
                condition=models.Q(document_id__isnull=False) & ~models.Q(document_kind=""),
                name="document_reservation_for_a_document",
            ),
        ]
        indexes = [models.Index(fields=["item", "location"], name="document_reservation_of_item")]
        triggers = [
            pgtrigger.Trigger(
                name="document_reservation_commits",
                when=pgtrigger.After,
                operation=pgtrigger.Insert | pgtrigger.Update | pgtrigger.Delete,
                func=HOLD,
            )
        ]


class LotBalance(models.Model):
    """What of a lot lies at a location."""

    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="balances")
    location = models.ForeignKey("people.Location", on_delete=models.PROTECT)
    on_hand = models.DecimalField(**QUANTITY, default=0)

    objects: ClassVar[models.Manager["LotBalance"]] = owned("location__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["lot", "location"], name="lot_balance_once")]


class ItemCost(models.Model):
    """What an item is worth over all locations: quantity, value, last average, and how its units came in where that
    counts. `valuation` is set by who locks it, as the company's rule says."""

    valuation: Valuation = VALUATIONS["average"]

    company = owner()
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="costs")
    quantity = models.DecimalField(**QUANTITY, default=0)
    value = models.DecimalField(**MONEY, default=0)
    last_average = models.DecimalField(**UNIT_COST, default=0)
    last_cost = models.DecimalField(**UNIT_COST, default=0)
    layers = models.JSONField(default=list, help_text="First in, first out: as core.cost.as_kept writes them")

    objects: ClassVar[models.Manager["ItemCost"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["company", "item"], name="cost_once"),
            models.CheckConstraint(condition=~models.Q(quantity=0) | models.Q(value=0), name="cost_no_value_without_units"),
        ]


class CostChange(FromDocument):
    """The cost history: each change of an item's average with its cause."""

    company = owner()
    item = models.ForeignKey("catalogue.Item", on_delete=models.PROTECT, related_name="cost_changes")
    at = models.DateTimeField()
    cause = models.CharField(max_length=60)
    quantity = models.DecimalField(**QUANTITY, help_text="Units that came or went")
    value = models.DecimalField(**MONEY, help_text="Their value")
    true_up = models.DecimalField(**MONEY, default=0)
    quantity_before = models.DecimalField(**QUANTITY)
    value_before = models.DecimalField(**MONEY)
    average_before = models.DecimalField(**UNIT_COST)
    average_after = models.DecimalField(**UNIT_COST)

    objects: ClassVar[models.Manager["CostChange"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["item", "-at", "-id"], name="cost_change_item")]
        triggers = [pgtrigger.Protect(name="cost_append_only", operation=pgtrigger.Update | pgtrigger.Delete)]
