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


class PlanRow(models.Model):
    """Where a row stands on the replenishment sheet, and what its head adds up: worked out in the background.

    The figures a person reads are worked out anew for the page that is shown; these are for finding it.
    """

    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="plan_rows")
    location = models.ForeignKey("people.Location", on_delete=models.CASCADE, related_name="plan_rows")
    supplier = models.ForeignKey("buying.Supplier", on_delete=models.CASCADE, null=True, related_name="plan_rows")
    unsupplied = models.BooleanField(default=False)
    group = models.CharField(max_length=200, blank=True, help_text="The supplier's name, to sort by")
    runs_out = models.DecimalField(max_digits=9, decimal_places=1, help_text="Days of cover; 99999 when it lasts")
    suggested = models.DecimalField(max_digits=14, decimal_places=3)
    amount = models.DecimalField(max_digits=16, decimal_places=2, help_text="Of the suggested order, in base currency")
    late = models.BooleanField(default=False, help_text="Runs out before an order placed today can arrive")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["item", "location"], name="plan_row_once")]
        indexes = [
            models.Index(fields=["unsupplied", "group", "runs_out", "id"], name="plan_order"),
            models.Index(
                fields=["unsupplied", "group", "runs_out", "id"], name="plan_needed", condition=models.Q(suggested__gt=0)
            ),
        ]


class PlanMark(models.Model):
    """Up to where the plan rows are worked out: the day they look from, and the last event they know."""

    only = models.BooleanField(default=True, unique=True)
    day = models.DateField(null=True)
    event_id = models.BigIntegerField(default=0)
    at = models.DateTimeField(null=True)

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(only=True), name="plan_mark_single")]
