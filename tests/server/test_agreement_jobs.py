"""Agreement as jobs: accounts are read side by side, and whoever asked sees when it is done."""

from __future__ import annotations

from typing import Any

import pytest
from django.test import Client
from procrastinate.contrib.django.models import ProcrastinateJob

from tests.world import make_connection, make_user
from yuvrel.agreement import jobs
from yuvrel.people.models import Location
from yuvrel.people.roles import Role


@pytest.fixture
def asked(company: Location, client: Client, django_capture_on_commit_callbacks: Any) -> Client:
    client.force_login(make_user(Role.MANAGER))
    with django_capture_on_commit_callbacks(execute=True):
        assert client.post("/api/v1/agreement/check").status_code == 200
    return client


def waiting() -> list[tuple[str, str]]:
    return list(
        ProcrastinateJob.objects.filter(status="todo", task_name__startswith="agreement.check").values_list("task_name", "lock")
    )


@pytest.mark.django_db
def test_asking_queues_one_check_and_the_sheet_says_that_it_runs(asked: Client, django_capture_on_commit_callbacks: Any) -> None:
    assert waiting() == [("agreement.check", "agreement.check")]
    assert asked.get("/api/v1/agreement").json()["checking"] is True
    with django_capture_on_commit_callbacks(execute=True):
        assert asked.post("/api/v1/agreement/check").status_code == 200
    assert len(waiting()) == 1, "a second wish while the first waits is the same wish"
    ProcrastinateJob.objects.all()._raw_delete("default")
    assert asked.get("/api/v1/agreement").json()["checking"] is False


@pytest.mark.django_db
def test_each_live_account_is_checked_by_a_job_of_its_own(company: Location, django_capture_on_commit_callbacks: Any) -> None:
    live = [make_connection(name=name, state="live") for name in ("one", "two")]
    make_connection(name="off", state="paused")
    with django_capture_on_commit_callbacks(execute=True):
        jobs.check()
    assert sorted(waiting()) == sorted(("agreement.check_connection", f"agreement:{row.pk}") for row in live)
