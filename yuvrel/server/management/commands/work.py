"""Run the background worker, and start it again when the database went away."""

from __future__ import annotations

import logging
import time
from argparse import ArgumentParser
from typing import Any

from django.core.management.base import BaseCommand
from django.db import close_old_connections
from procrastinate.contrib.django import app
from procrastinate.exceptions import ConnectorException
from psycopg import OperationalError
from psycopg_pool import PoolTimeout

from yuvrel.channels.jobs import HEARTBEAT, STALLED

log = logging.getLogger("yuvrel.worker")
PAUSE = 2.0


class Command(BaseCommand):
    """`manage.py work`."""

    help = "Run the background worker until it is told to stop"

    def add_arguments(self, parser: ArgumentParser) -> None:
        """How many jobs at once."""
        parser.add_argument("--concurrency", type=int, default=4)

    def handle(self, *args: Any, **options: Any) -> None:
        """Ends when asked to; a lost database is waited for."""
        while True:
            try:
                with app.replace_connector(app.connector.get_worker_connector()):  # type: ignore[attr-defined]
                    app.run_worker(
                        concurrency=options["concurrency"],
                        update_heartbeat_interval=HEARTBEAT,
                        stalled_worker_timeout=STALLED,
                        delete_jobs="successful",
                        shutdown_graceful_timeout=10,
                    )
                return
            except (ConnectorException, OperationalError, PoolTimeout) as error:
                log.error("the database went away; trying again", extra={"error": str(error)[:200], "pause": PAUSE})
                close_old_connections()
                time.sleep(PAUSE)
