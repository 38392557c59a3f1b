"""manage.py ready: wait until everything answers, do the first exchange, say where to go."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import httpx
from django.core.management.base import BaseCommand, CommandParser
from django.utils import timezone

from yuvrel.agreement.actions import check_all
from yuvrel.channels import prices
from yuvrel.channels.jobs import RELAYS
from yuvrel.channels.models import InboundMessage, Listing
from yuvrel.demo import first_day
from yuvrel.demo.company import PASSWORD, PEOPLE
from yuvrel.events.actions import waiting_for
from yuvrel.ownership import working_for
from yuvrel.people.models import Company


class Command(BaseCommand):
    """Part of script/demo; stays until it is stopped, as the other processes do."""

    requires_system_checks = []
    help = "Say where the demo answers once it does."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--web", required=True)
        parser.add_argument("--standins", required=True)
        parser.add_argument("--first", default="", help="A file that stands until the first exchange is done")

    def handle(self, *args: Any, **options: Any) -> None:
        for address in (f"{options['web']}/readyz", f"{options['standins']}/"):
            self.wait_for(address)
        first = Path(options["first"]) if options["first"] else None
        if first and first.exists():
            with working_for(Company.objects.get()):
                self.begin(options["standins"])
            first.unlink()
        lines = [
            "",
            f"  Yuvrel answers at     {options['web']}",
            f"  The stand-ins are at  {options['standins']}",
            "",
            "  Sign in as any of these, with the password " + PASSWORD + ":",
            *[f"    {role.value:<12} {first} {last}" for role, first, last in PEOPLE],
            "",
            "  Ctrl-C stops everything.",
            "",
        ]
        self.stdout.write("\n".join(lines))
        while True:
            time.sleep(3600)

    def begin(self, standins: str) -> None:
        """The first exchange, and what somebody edits outside."""
        first_day.go_live(timezone.now())
        self.settle()
        first_day.read_listings(timezone.now())
        first_day.edit_at_the_shop(standins)
        first_day.edit_at_the_till(standins)
        check_all()

    def wait_for(self, address: str) -> None:
        """Until it answers, at most a minute."""
        for _ in range(240):
            try:
                if httpx.get(address, timeout=2, trust_env=False).status_code == 200:
                    return
            except httpx.HTTPError:
                pass
            time.sleep(0.25)
        self.stderr.write(f"{address} does not answer; see the lines above.")

    def settle(self) -> None:
        """Until the first exchange has come to rest, at most a minute."""
        quiet = 0
        for _ in range(120):
            busy = (
                any(waiting_for(name).exists() for name in RELAYS)
                or InboundMessage.objects.filter(state="new").exists()
                or Listing.objects.filter(offer_state="pending").exists()
                or prices.are_waiting()
                or not InboundMessage.objects.exists()
            )
            quiet = 0 if busy else quiet + 1
            if quiet >= 4:
                return
            time.sleep(0.5)
