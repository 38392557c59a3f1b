"""The numbers of documents, one series for each kind in each company."""

from typing import ClassVar

from django.db import models

from yuvrel.ownership import owned


class NumberSeries(models.Model):
    """The last number that a company gave to a kind of document; without gaps, as a document that is not written gives
    its number back."""

    company = models.ForeignKey("people.Company", on_delete=models.PROTECT, related_name="series")
    kind = models.CharField(max_length=20)
    last = models.PositiveBigIntegerField()

    objects: ClassVar[models.Manager["NumberSeries"]] = owned("company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["company", "kind"], name="series_once")]
