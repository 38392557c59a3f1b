"""Jobs whose worker died are taken up again, each of them, whatever else waits."""

from __future__ import annotations

import pytest
from asgiref.sync import async_to_sync
from django.db import connection
from procrastinate.contrib.django.models import ProcrastinateJob

from yuvrel.channels.jobs import STALLED, rescue

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("no_jobs_left")]


def worker(seconds_ago: float) -> int:
    """A worker that gave its last sign of life so long ago."""
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now() - %s * interval '1 second') RETURNING id",
            [seconds_ago],
        )
        return int(cursor.fetchone()[0])


def job(task: str, status: str, *, lock: str | None = None, queueing: str | None = None, by: int | None = None) -> int:
    """A job as the queue holds it."""
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO procrastinate_jobs (queue_name, task_name, status, lock, queueing_lock, worker_id)"
            " VALUES ('default', %s, %s, %s, %s, %s) RETURNING id",
            [task, status, lock, queueing, by],
        )
        return int(cursor.fetchone()[0])


def test_every_job_of_a_dead_worker_is_taken_up_though_a_periodic_one_waits_already() -> None:
    dead, alive = worker(STALLED * 10), worker(0)
    both = {"lock": "planning.refresh", "queueing": "planning.refresh"}
    stuck = job("planning.refresh", "doing", **both, by=dead)
    next_one = job("planning.refresh", "todo", **both)
    pulse = job("channels.pulse", "doing", queueing="pulse", by=dead)
    delivery = job("channels.deliver", "doing", lock="deliver:4", by=dead)
    running = job("channels.relay", "doing", lock="relay", by=alive)
    async_to_sync(rescue.func)(timestamp=0)
    states = dict(ProcrastinateJob.objects.values_list("pk", "status"))
    # What holds the lock is given up, so that the one which waits for it can begin.
    assert states == {stuck: "aborted", next_one: "todo", pulse: "todo", delivery: "todo", running: "doing"}
    async_to_sync(rescue.func)(timestamp=1)
    assert dict(ProcrastinateJob.objects.values_list("pk", "status")) == states
