"""manage.py startover: drop the demo from this database."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError
from django.db import connection

from yuvrel.demo.company import COMPANY
from yuvrel.people.models import Company


class Command(BaseCommand):
    """For the demo only: the schema goes, and with it every row."""

    requires_system_checks = []
    help = "Drop every table of this database."

    def handle(self, *args: Any, **options: Any) -> None:
        if "people_company" in connection.introspection.table_names():
            real = Company.objects.exclude(name=COMPANY).values_list("name", flat=True).first()
            if real:
                raise CommandError(f"This database holds {real}. Only the demo is dropped by this command.")
        with connection.cursor() as cursor:
            cursor.execute("DROP SCHEMA public CASCADE")
            cursor.execute("CREATE SCHEMA public")
