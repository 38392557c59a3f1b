"""manage.py person: let somebody sign in, give them another role, or shut them out."""

from __future__ import annotations

import getpass
import sys
from typing import Any

from django.contrib.auth.models import Group
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.core.validators import validate_email
from django.db import transaction
from django.utils import timezone

from yuvrel.people.models import Company, User
from yuvrel.people.roles import SYSTEM, Role, audit

ROLES = [role.value for role in Role if role is not Role.SYSTEM]


class Command(BaseCommand):
    """A person has one role. The password is asked for, or read from standard input; it is never an argument."""

    requires_system_checks = []
    help = "Add or change a person who signs in."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("username")
        parser.add_argument("--role", choices=ROLES)
        parser.add_argument("--company", default="", help="Which company they work for; the first where nothing is said")
        parser.add_argument("--name", default="", help="First and last name")
        parser.add_argument("--mail", default="", help="Where mail reaches them: alerts, and what they asked for")
        parser.add_argument("--password", action="store_true", help="Give a new password")
        door = parser.add_mutually_exclusive_group()
        door.add_argument("--shut-out", action="store_true", help="May not sign in any more; what they did stays")
        door.add_argument("--let-in", action="store_true", help="May sign in again after having been shut out")

    @transaction.atomic
    def handle(self, *args: Any, **options: Any) -> None:
        user = User.objects.filter(username=options["username"]).first()
        new = user is None
        user = user or User(username=options["username"])
        if new and not options["role"]:
            raise CommandError(f"Say which role: --role {', '.join(ROLES)}.")
        if options["name"]:
            user.first_name, _, user.last_name = options["name"].partition(" ")
        if options["company"]:
            user.company = Company.objects.filter(name=options["company"]).first()
            if user.company is None:
                raise CommandError(f"There is no company called {options['company']}.")
        if options["mail"]:
            try:
                validate_email(options["mail"])
            except ValidationError as error:
                raise CommandError(f"{options['mail']} is no mail address.") from error
            user.email = options["mail"]
        if new or options["password"]:
            user.set_password(self.asked(user))
        # Another role or password is no way back in for somebody who was shut out.
        user.is_active = (user.is_active or options["let_in"]) and not options["shut_out"]
        user.save()
        if options["role"]:
            user.groups.set([Group.objects.get_or_create(name=options["role"])[0]])
        if options["shut_out"]:
            user.tokens.filter(revoked_at=None).update(revoked_at=timezone.now())
        after = {"role": options["role"] or "", "active": user.is_active}
        audit(SYSTEM, "add person" if new else "change person", "person", user.pk, after=after)
        self.stdout.write(f"{user.username} {'may sign in' if user.is_active else 'is shut out'}.")

    def asked(self, user: User) -> str:
        """The new password, checked."""
        if sys.stdin.isatty():
            password = getpass.getpass("Password: ")
            if password != getpass.getpass("Once more: "):
                raise CommandError("The two differ; nothing was changed.")
        else:
            password = sys.stdin.readline().rstrip("\n")
        try:
            validate_password(password, user)
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from error
        return password
