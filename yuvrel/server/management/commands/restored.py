"""manage.py restored: say that this database was brought back from a backup, or that another server took over."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand
from django.utils import timezone

from yuvrel.recovery.actions import begin


class Command(BaseCommand):
    """script/restore and script/standby call it; nothing goes out afterwards until somebody agrees."""

    requires_system_checks = []
    help = "Begin a new epoch after a restore: ids and numbers move on, and nothing is sent until somebody agrees."

    def handle(self, *args: Any, **options: Any) -> None:
        epoch = begin(timezone.now())
        until = f"{epoch.data_until:%d %b %Y, %H:%M:%S} UTC" if epoch.data_until else "its beginning"
        self.stdout.write(f"Epoch {epoch.number}. The data reaches to {until}.")
        self.stdout.write("Nothing goes out until a manager has looked under After a restore, on Today, and agrees.")
