"""manage.py begin: open a company of one's own in an empty database, or a further one."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from yuvrel.books.begin import begin
from yuvrel.core.errors import YuvrelError
from yuvrel.core.money import parse_decimal


class Command(BaseCommand):
    """The company, its places and its accounts; people are added with manage.py person."""

    requires_system_checks = []
    help = "Open a company in an empty database."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("company")
        parser.add_argument("--currency", default="EUR")
        parser.add_argument("--zone", default="Europe/Dublin")
        parser.add_argument("--further", action="store_true", help="Beside the companies that there are")
        parser.add_argument("--tax", default="0", help="Per cent of tax that new items carry")
        parser.add_argument(
            "--place",
            action="append",
            default=[],
            metavar="SHORT=NAME",
            help="A place that holds stock; the first is the main one",
        )

    def handle(self, *args: Any, **options: Any) -> None:
        places = []
        for text in options["place"] or ["main=Main warehouse"]:
            code, _, name = text.partition("=")
            places.append((code.strip(), name.strip() or code.strip()))
        try:
            facts = (options["currency"], options["zone"], places, parse_decimal(options["tax"], "tax"))
            begin(options["company"], *facts, further=options["further"])
        except YuvrelError as error:
            raise CommandError(error.detail) from error
        of = f" --company '{options['company']}'" if options["further"] else ""
        self.stdout.write(
            f"{options['company']} is open. Add yourself:\n  python manage.py person NAME --role manager{of}\n"
            "Then start the web server and the worker, sign in, and follow Today, First steps."
        )
