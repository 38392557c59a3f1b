"""manage.py begin: open a company of one's own in an empty database."""

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
            begin(options["company"], options["currency"], options["zone"], places, parse_decimal(options["tax"], "tax"))
        except YuvrelError as error:
            raise CommandError(error.detail) from error
        self.stdout.write(
            f"{options['company']} is open. Add yourself:\n  python manage.py person NAME --role manager\n"
            "Then start the web server and the worker, sign in, and follow Today, First steps."
        )
