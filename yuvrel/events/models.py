"""What happened here and must reach the outside. Written in the transaction of the event itself."""

from typing import ClassVar

from django.db import models

from yuvrel.ownership import company_id, owned


class Event(models.Model):
    """One thing that happened, for one consumer: each has rows of its own and so keeps its own place, and what commits
    late is found whatever its number; `subject_id` is the id of the item, list, connection, group, order, shipment or
    document."""

    class Kind(models.TextChoices):
        AVAILABILITY = "availability"
        RULES = "rules"
        SHIPMENT = "shipment"
        LEDGER = "ledger"
        PURCHASE_ORDER = "purchase_order"
        FAULT = "fault"
        SETTING = "setting"
        PRICE = "price"
        PRICE_LIST = "price_list"
        COST = "cost"
        CUSTOMER_GROUP = "customer_group"
        ORDER = "order"
        TEXT = "text"
        DEMAND = "demand"
        CUSTOMER = "customer"
        REFUND = "refund"

    company_id = models.BigIntegerField(default=company_id, help_text="Companies stand above events: a number, no more")
    consumer = models.CharField(max_length=20)
    kind = models.CharField(max_length=20, choices=Kind.choices)
    subject_id = models.BigIntegerField()
    cause = models.CharField(max_length=120, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    done_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["Event"]] = owned("company_id")

    class Meta:
        indexes = [
            models.Index(fields=["consumer", "id"], name="outbox_open", condition=models.Q(done_at=None)),
            models.Index(fields=["kind", "subject_id", "-id"], name="outbox_subject"),
        ]
