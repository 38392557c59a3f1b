"""Run the background worker, and start it again when the database went away."""

from __future__ import annotations

import asyncio
import logging
import signal
from argparse import ArgumentParser
from collections.abc import Callable
from typing import Any

from django.core.management.base import BaseCommand
from django.db import close_old_connections
from procrastinate.contrib.django import app
from procrastinate.exceptions import ConnectorException
from psycopg import OperationalError
from psycopg_pool import PoolTimeout

from yuvrel.channels.jobs import HEARTBEAT, STALLED
from yuvrel.platform.faults import record_faults
from yuvrel.platform.memory import look_seldom
from yuvrel.server.logs import trace_job

log = logging.getLogger("yuvrel.worker")
PAUSE = 2.0
# Most jobs wait for an account, which allows only so many calls a second: eight keep two cores busy.
JOBS_AT_ONCE = 8


def keep_faults(call_next: Callable[[], Any], context: Any, worker: Any) -> Any:
    """Rows that a job could not work out become snags once it is over."""
    outcome = call_next()
    record_faults()
    return outcome


class Command(BaseCommand):
    """`manage.py work`."""

    help = "Run the background worker until it is told to stop"

    def add_arguments(self, parser: ArgumentParser) -> None:
        """How many jobs at once."""
        parser.add_argument("--concurrency", type=int, default=JOBS_AT_ONCE)

    def handle(self, *args: Any, **options: Any) -> None:
        """Ends when told to; a worker that ends by itself lost its database, which is waited for."""
        look_seldom()
        asyncio.run(self._run(options["concurrency"]))

    async def _run(self, concurrency: int) -> None:
        told = asyncio.Event()
        loop = asyncio.get_running_loop()
        for name in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(name, told.set)
        while not told.is_set():
            worker = asyncio.create_task(self._work(concurrency))
            stop = asyncio.create_task(told.wait())
            await asyncio.wait({worker, stop}, return_when=asyncio.FIRST_COMPLETED)
            stop.cancel()
            if told.is_set():
                worker.cancel()
            try:
                await worker
            except asyncio.CancelledError:
                return
            except (ConnectorException, OperationalError, PoolTimeout) as error:
                log.error("the worker lost the database: %s", str(error).strip()[:200])
            if not told.is_set():
                log.error("the worker ended; it starts again in %s s", PAUSE)
                close_old_connections()
                await asyncio.sleep(PAUSE)

    async def _work(self, concurrency: int) -> None:
        with app.replace_connector(app.connector.get_worker_connector()):  # type: ignore[attr-defined]
            async with app.open_async():
                await app.run_worker_async(
                    concurrency=concurrency,
                    update_heartbeat_interval=HEARTBEAT,
                    stalled_worker_timeout=STALLED,
                    delete_jobs="successful",
                    task_middleware=[trace_job, keep_faults],
                    shutdown_graceful_timeout=10,
                    install_signal_handlers=False,
                )
