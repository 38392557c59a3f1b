"""How each item is replenished."""

from django.db import models


class ItemPolicy(models.Model):
    """Replenishment settings of an item, for one location or (location empty) for all."""

    class Safety(models.TextChoices):
        UNITS = "units"
        DAYS = "days"
        SERVICE = "service"

    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="policies")
    location = models.ForeignKey("people.Location", on_delete=models.CASCADE, null=True)
    lead_days = models.PositiveSmallIntegerField(null=True, help_text="Empty: the supplier's")
    cover_days = models.PositiveSmallIntegerField(default=30)
    safety = models.CharField(max_length=8, choices=Safety.choices, default=Safety.SERVICE)
    safety_figure = models.DecimalField(max_digits=12, decimal_places=3, default="0.95")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["item", "location"], name="policy_once", nulls_distinct=False)]


class Outlook(models.Model):
    """What the replenishment sheet said when it was last worked out whole, for pages that only need the count."""

    day = models.DateField(unique=True)
    late = models.PositiveIntegerField(help_text="Rows that run out before an order placed that day can arrive")
    at = models.DateTimeField()
