"""manage.py seed: fill an empty database with the Larkmead demo."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from yuvrel.people.models import Company


class Command(BaseCommand):
    """Seeds once; a database that has a company is left alone."""

    requires_system_checks = []
    help = "Fill an empty database with the Larkmead demo and write the stand-ins' set-up file."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--standins", default="http://127.0.0.1:8071")
        parser.add_argument("--setup", default=".data/standins-setup.json")

    def handle(self, *args: Any, **options: Any) -> None:
        if Company.objects.exists():
            self.stdout.write("The database holds a company already; nothing was seeded.")
            return
        from yuvrel.demo.seed import Seeder  # only now: a second start has no use for the whole application

        begun = time.monotonic()
        setup = Seeder(options["standins"]).run()
        Path(options["setup"]).write_text(json.dumps(setup))
        self.stdout.write(f"Larkmead is seeded ({time.monotonic() - begun:.0f} s).")
