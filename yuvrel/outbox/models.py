"""What happened here and must reach the outside. Written in the transaction of the event itself."""

from django.db import models


class Event(models.Model):
    """One thing that happened; `subject_id` is the id of the item, list, connection, shipment or document."""

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

    kind = models.CharField(max_length=20, choices=Kind.choices)
    subject_id = models.BigIntegerField()
    cause = models.CharField(max_length=120, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    done_at = models.DateTimeField(null=True)

    class Meta:
        indexes = [
            models.Index(fields=["id"], name="outbox_open", condition=models.Q(done_at=None)),
            models.Index(fields=["kind", "subject_id", "-id"], name="outbox_subject"),
        ]
