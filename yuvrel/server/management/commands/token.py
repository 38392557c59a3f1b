"""manage.py token: give out a personal API token, shown once."""

from __future__ import annotations

import hashlib
import secrets
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.utils import timezone

from yuvrel.people.models import ApiToken, User


class Command(BaseCommand):
    """The token acts with its owner's role; only its digest is kept."""

    requires_system_checks = []
    help = "Give out or revoke an API token of a person."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("username")
        parser.add_argument("name", help="What the token is for")
        parser.add_argument("--revoke", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        user = User.objects.filter(username=options["username"]).first()
        if user is None:
            raise CommandError(f"There is no person {options['username']!r}.")
        if options["revoke"]:
            count = ApiToken.objects.filter(user=user, name=options["name"], revoked_at=None).update(revoked_at=timezone.now())
            self.stdout.write(f"{count} revoked.")
            return
        token = "yv_" + secrets.token_urlsafe(32)
        ApiToken.objects.create(user=user, name=options["name"], digest=hashlib.sha256(token.encode()).hexdigest())
        self.stdout.write(token)
