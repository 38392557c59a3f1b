"""Recording events, and waking the jobs that work on what was committed."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from .models import Event

RELAY = "channels.relay"


def record(kind: Event.Kind, subject_ids: Iterable[int], cause: str = "") -> None:
    """Note that something of `kind` happened to each subject and wake the relay."""
    rows = [Event(kind=kind, subject_id=i, cause=cause[:120]) for i in sorted(set(subject_ids))]
    if rows:
        Event.objects.bulk_create(rows)
        wake(RELAY, "relay")


def wake(task: str, lock: str, **values: int) -> None:
    """Have a job run once this transaction has committed; one that waits already will see what was written.

    Asked for after the commit, so that a job which started before it is not taken for one that
    will see it. Should the process die in between, the pulse finds what was left.
    """
    job = partial(_defer, task, lock, tuple(values.items()))
    asked = [hook for _, hook, *_ in transaction.get_connection().run_on_commit]
    if not any(isinstance(hook, partial) and (hook.func, hook.args) == (job.func, job.args) for hook in asked):
        transaction.on_commit(job)


def _defer(task: str, lock: str, values: tuple[tuple[str, int], ...]) -> None:
    waiting = ProcrastinateJob.objects.filter(status="todo", task_name=task, lock=lock, scheduled_at=None)
    if not waiting.exists():
        app.configure_task(task, lock=lock).defer(**dict(values))
