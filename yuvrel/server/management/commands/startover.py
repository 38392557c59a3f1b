"""manage.py startover: drop everything in this database."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand
from django.db import connection


class Command(BaseCommand):
    """For the demo only: the schema goes, and with it every row."""

    requires_system_checks = []
    help = "Drop every table of this database."

    def handle(self, *args: Any, **options: Any) -> None:
        with connection.cursor() as cursor:
            cursor.execute("DROP SCHEMA public CASCADE")
            cursor.execute("CREATE SCHEMA public")
