"""manage.py agree: do shelf and books agree, and with --all the outside as well?"""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from yuvrel.agreement.actions import check_all, check_shelf, check_value
from yuvrel.agreement.models import Check, Drift
from yuvrel.ownership import working_for
from yuvrel.people.models import Company


class Command(BaseCommand):
    """For scripts: says what was compared, and ends with 1 when something does not agree."""

    help = "Check agreement; ends with 1 when something drifts."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--all", action="store_true", help="ask the channels and the ledger too")
        parser.add_argument(
            "--whole", action="store_true", help="ends with 1 only where the data itself is broken, not where stock is below zero"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        stand = 0
        for company in Company.objects.order_by("pk"):
            with working_for(company):
                stand += self.compare(everything=options["all"], whole=options["whole"])
        if stand:
            raise CommandError(f"{stand} drifts stand.")

    def compare(self, *, everything: bool, whole: bool) -> int:
        """The books of the company that is worked for; returns how many drifts stand."""
        codes = ["A4", "A5"]
        if everything:
            check_all()
            codes = list(Check.objects.values_list("code", flat=True).distinct())
        else:
            check_shelf()
            check_value()
        for row in Check.objects.filter(code__in=codes).select_related("connection").order_by("code"):
            where = f" {row.connection.name}" if row.connection else ""
            self.stdout.write(f"{row.code}{where}: {row.left} and {row.right}, {row.compared} compared, {row.differing} differ")
        drifts = Drift.objects.filter(healed_at=None, code__in=codes)
        for drift in drifts[:20]:
            self.stdout.write(f"  {drift.code} {drift.title}: expected {drift.expected}, found {drift.found}")
        # Sold before it was received: the shelf says so, and nothing is missing.
        return drifts.exclude(key__startswith="below zero:").count() if whole else drifts.count()
