"""What is expected to sell, and where each row of the replenishment sheet stands."""

from typing import ClassVar

from django.db import models

from yuvrel.ownership import owned, owner
from yuvrel.platform.columns import MONEY, QUANTITY


class ForecastRun(models.Model):
    """One pass of the forecast over all that sells: how far it has come, and what it found."""

    class State(models.TextChoices):
        RUNNING = "running"
        DONE = "done"
        STOPPED = "stopped"
        FAILED = "failed"

    company = owner()
    asked_by = models.CharField(max_length=150)
    day = models.DateField(help_text="The first day that is forecast")
    state = models.CharField(max_length=8, choices=State.choices, default=State.RUNNING)
    total = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    stop = models.BooleanField(default=False, help_text="Somebody asked it to stop")
    said = models.CharField(max_length=300, blank=True)
    started_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["ForecastRun"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["company"], condition=models.Q(state="running"), name="forecast_run_alone"),
            models.CheckConstraint(
                condition=models.Q(state="running", ended_at=None)
                | ~models.Q(state="running") & models.Q(ended_at__isnull=False),
                name="forecast_run_ends_once",
            ),
        ]


class ItemForecast(models.Model):
    """What an item is expected to sell at a location; replaced by the next run."""

    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="forecasts")
    location = models.ForeignKey("people.Location", on_delete=models.CASCADE, related_name="forecasts")
    start = models.DateField(help_text="Its first day")
    method = models.CharField(max_length=20)
    why = models.CharField(max_length=10)
    sentence = models.CharField(max_length=400)
    sure = models.FloatField(help_text="0 to 1: the largest weight of a method")
    error = models.FloatField(null=True, help_text="MASE of the chosen method on the item's own past")
    tried = models.JSONField(default=dict, help_text="By method: MASE, bias and weight")
    path = models.JSONField(help_text="Means, deviations and factors by week")
    past = models.JSONField(default=list, help_text="Units of each of the last 52 weeks; null: nothing in stock")
    month = models.DecimalField(**MONEY, help_text="Units expected in the next 30 days")
    last_year = models.DecimalField(**MONEY, null=True, help_text="Units sold in these 30 days a year ago")
    one_offs = models.JSONField(default=list, help_text="Order lines far above the usual, and whether they were set aside")
    at = models.DateTimeField()

    objects: ClassVar[models.Manager["ItemForecast"]] = owned("location__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["item", "location"], name="forecast_once")]
        indexes = [
            models.Index(fields=["-month", "id"], name="forecast_by_units"),
            models.Index(fields=["method", "-month", "id"], name="forecast_by_method"),
        ]


class SetAside(models.Model):
    """What a person decided of an item in an order: left out of its demand, or counted although it looks like a one-off.

    Of the order, not of its line: an order that is changed at its channel has its lines written anew.
    """

    order = models.ForeignKey("sales.SalesOrder", on_delete=models.CASCADE, related_name="set_aside")
    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="set_aside")
    aside = models.BooleanField()
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    objects: ClassVar[models.Manager["SetAside"]] = owned("order__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["order", "item"], name="set_aside_once")]


class StockAlert(models.Model):
    """Fewer were available at a place than the level set there: from when, and until when."""

    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="alerts")
    location = models.ForeignKey("people.Location", on_delete=models.CASCADE, related_name="+")
    below = models.DecimalField(**QUANTITY, help_text="The level as it was set then")
    available = models.DecimalField(**QUANTITY, help_text="What was available then")
    opened_at = models.DateTimeField()
    mailed_at = models.DateTimeField(null=True)
    recovered_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["StockAlert"]] = owned("location__company")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["item", "location"], condition=models.Q(recovered_at=None), name="alert_open_once")
        ]


class PlanRow(models.Model):
    """Where a row stands on the replenishment sheet, and what its head adds up: worked out in the background.

    The figures a person reads are worked out anew for the page that is shown; these are for finding it.
    """

    item = models.ForeignKey("catalogue.Item", on_delete=models.CASCADE, related_name="plan_rows")
    location = models.ForeignKey("people.Location", on_delete=models.CASCADE, related_name="plan_rows")
    supplier = models.ForeignKey("buying.Supplier", on_delete=models.CASCADE, null=True, related_name="plan_rows")
    source = models.ForeignKey("people.Location", on_delete=models.CASCADE, null=True, related_name="+")
    unsupplied = models.BooleanField(default=False)
    group = models.CharField(max_length=200, blank=True, help_text="The supplier's name, or the place that fills it, to sort by")
    runs_out = models.DecimalField(max_digits=9, decimal_places=1, help_text="Days of cover; 99999 when it lasts")
    suggested = models.DecimalField(**QUANTITY)
    amount = models.DecimalField(**MONEY, help_text="Of the suggested order, in base currency")
    late = models.BooleanField(default=False, help_text="Runs out before an order placed today can arrive")

    objects: ClassVar[models.Manager["PlanRow"]] = owned("location__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["item", "location"], name="plan_row_once")]
        indexes = [
            models.Index(fields=["unsupplied", "group", "runs_out", "id"], name="plan_order"),
            models.Index(
                fields=["unsupplied", "group", "runs_out", "id"], name="plan_needed", condition=models.Q(suggested__gt=0)
            ),
        ]


class PlanMark(models.Model):
    """The day that the plan rows look from, and when they were last worked out."""

    company = owner()
    day = models.DateField(null=True)
    at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["PlanMark"]] = owned()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company"], name="plan_mark_once")]
