"""What was compared, when, and what did not agree."""

from typing import ClassVar

from django.db import models

from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import QUANTITY


class Check(models.Model):
    """The newest outcome of one comparison: two totals on the beam."""

    company = owner()
    code = models.CharField(max_length=2)
    connection = models.ForeignKey("channels.Connection", on_delete=models.CASCADE, null=True)
    at = models.DateTimeField()
    left = models.DecimalField(**QUANTITY, help_text="Units, or money where money is compared")
    right = models.DecimalField(**QUANTITY)
    compared = models.PositiveIntegerField()
    differing = models.PositiveIntegerField()

    objects: ClassVar[models.Manager["Check"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "code", "connection"], name="check_once", nulls_distinct=False)]


class Drift(models.Model):
    """Two books differ on one thing: what was expected, what was found, since when."""

    company = owner()
    code = models.CharField(max_length=2)
    key = models.CharField(max_length=120)
    connection = models.ForeignKey("channels.Connection", on_delete=models.CASCADE, null=True)
    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, null=True)
    listing = models.ForeignKey("channels.Listing", on_delete=models.CASCADE, null=True)
    order = models.ForeignKey("sales.SalesOrder", on_delete=models.CASCADE, null=True)
    title = models.CharField(max_length=200)
    expected = models.CharField(max_length=80)
    found = models.CharField(max_length=80)
    cause = models.CharField(max_length=200, blank=True)
    since = models.DateTimeField()
    seen_at = models.DateTimeField()
    healed_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["Drift"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["company", "code", "key"], condition=models.Q(healed_at=None), name="drift_open_once")
        ]
        indexes = [models.Index(fields=["healed_at", "-since"], name="drift_open")]
