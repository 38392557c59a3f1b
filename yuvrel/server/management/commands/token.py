"""manage.py token: give out a personal API token, shown once."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.utils import timezone

from yuvrel.core.errors import YuvrelError
from yuvrel.people.models import ApiToken, User
from yuvrel.people.roles import Ability, actor_of
from yuvrel.people.tokens import give_out


class Command(BaseCommand):
    """The token acts with its owner's role; only its digest is kept."""

    requires_system_checks = []
    help = "Give out or revoke an API token of a person."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("username")
        parser.add_argument("name", help="What the token is for")
        parser.add_argument("--days", type=int, default=90, help="How long it is good for, at most a year")
        parser.add_argument("--may", action="append", default=[], help="What it may do beside reading; may be said several times")
        parser.add_argument("--revoke", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        user = User.objects.filter(username=options["username"]).first()
        if user is None:
            raise CommandError(f"There is no person {options['username']!r}.")
        if options["revoke"]:
            count = ApiToken.objects.filter(user=user, name=options["name"], revoked_at=None).update(revoked_at=timezone.now())
            self.stdout.write(f"{count} revoked.")
            return
        known = {ability.value for ability in Ability}
        unknown = [said for said in options["may"] if said not in known]
        if unknown:
            raise CommandError(f"Nothing is called {unknown[0]!r}. A token may: {', '.join(sorted(known))}.")
        try:
            may = [Ability(said) for said in options["may"]]
            _, token = give_out(actor_of(user), options["name"], options["days"], may, timezone.now())
        except YuvrelError as error:
            raise CommandError(error.detail) from error
        self.stdout.write(token)
