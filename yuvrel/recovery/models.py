"""A restore, and what was found at the other ends that the backup does not know."""

from typing import ClassVar

from django.db import models

from yuvrel.ownership import owned, owner


class Recovery(models.Model):
    """A restore, as one company lives through it: nothing goes out until somebody agrees."""

    company = owner()
    epoch = models.ForeignKey("people.Epoch", on_delete=models.PROTECT, related_name="+")
    asked_at = models.DateTimeField(null=True, help_text="When all other ends had been asked")
    asking = models.BooleanField(default=False)
    said = models.JSONField(default=list, help_text="What each connection answered: [name, what]")
    silent = models.JSONField(default=list, help_text="Connections that could not be asked")
    ended_at = models.DateTimeField(null=True)
    ended_by = models.CharField(max_length=120, blank=True)

    objects: ClassVar[models.Manager["Recovery"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "epoch"], name="recovery_once")]


class FoundThere(models.Model):
    """Something of ours that another end holds and that is not here."""

    class Kind(models.TextChoices):
        PARCEL = "shipment"
        PURCHASE = "purchase order"
        DOCUMENT = "ledger document"

    class State(models.TextChoices):
        OPEN = "open"
        TAKEN = "taken in"
        UNDONE = "undone there"
        LEFT = "left as it is"

    recovery = models.ForeignKey(Recovery, on_delete=models.CASCADE, related_name="found")
    connection = models.ForeignKey("channels.Connection", on_delete=models.PROTECT, related_name="+")
    kind = models.CharField(max_length=16, choices=Kind.choices)
    key = models.CharField(max_length=160)
    title = models.CharField(max_length=200)
    said = models.CharField(max_length=400, blank=True)
    body = models.JSONField()
    state = models.CharField(max_length=13, choices=State.choices, default=State.OPEN)
    fault = models.CharField(max_length=400, blank=True, help_text="Why it could not be taken in")
    why = models.CharField(max_length=200, blank=True)
    settled_at = models.DateTimeField(null=True)
    settled_by = models.CharField(max_length=120, blank=True)

    objects: ClassVar[models.Manager["FoundThere"]] = owned("recovery__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["recovery", "connection", "kind", "key"], name="found_once")]
