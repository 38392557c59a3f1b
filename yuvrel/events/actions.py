"""Recording events, and waking the jobs that work on what was committed."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import partial

from django.db import transaction
from django.db.models import QuerySet
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from yuvrel.ownership import company_id

from .models import Event


@dataclass(frozen=True)
class Consumer:
    """Who works on events: the topics it hears of, and the job that is woken; without one it looks by itself."""

    name: str
    topics: frozenset[Event.Kind]
    task: str = ""


CONSUMERS: dict[str, Consumer] = {}


def subscribe(consumer: Consumer) -> None:
    """Make a consumer known: from now on each event of its topics has a row for it."""
    CONSUMERS[consumer.name] = consumer


def record(kind: Event.Kind, subject_ids: Iterable[int], cause: str = "") -> None:
    """Note that something of `kind` happened to each subject, for every consumer of the topic, and wake each."""
    subjects = sorted(set(subject_ids))
    if not subjects:
        return
    hearing = [consumer for consumer in CONSUMERS.values() if kind in consumer.topics]
    Event.objects.bulk_create(
        [Event(consumer=one.name, kind=kind, subject_id=i, cause=cause[:120]) for one in hearing for i in subjects]
    )
    for one in hearing:
        if one.task:
            wake_consumer(one.name)


def waiting_for(consumer: str) -> QuerySet[Event]:
    """What a consumer has not worked on yet, the oldest first."""
    return Event.objects.filter(consumer=consumer, done_at=None).order_by("pk")


def have_waiting() -> set[str]:
    """The consumers that have something to work on."""
    return set(Event.objects.filter(done_at=None).order_by().values_list("consumer", flat=True).distinct())


def wake_consumer(name: str) -> None:
    """Have a consumer look at what waits for it of the company that is worked for."""
    wake(CONSUMERS[name].task, f"{name}:{company_id()}")


def wake(task: str, lock: str, **values: int | str) -> None:
    """Have a job run once this transaction has committed, for the company that is worked for; one that waits already
    will see what was written.

    Asked for after the commit, so that a job which started before it is not taken for one that
    will see it. Should the process die in between, the pulse finds what was left.
    """
    job = partial(_defer, task, lock, (*values.items(), ("company", company_id())))
    asked = [hook for _, hook, *_ in transaction.get_connection().run_on_commit]
    if not any(isinstance(hook, partial) and (hook.func, hook.args) == (job.func, job.args) for hook in asked):
        transaction.on_commit(job)


def _defer(task: str, lock: str, values: tuple[tuple[str, int | str], ...]) -> None:
    told = dict(values)
    waiting = ProcrastinateJob.objects.filter(status="todo", task_name=task, lock=lock, scheduled_at=None)
    waiting = waiting.filter(args__company=told["company"])
    if not waiting.exists():
        app.configure_task(task, lock=lock).defer(**told)
