"""Who calls the API in these tests."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from django.db import connection
from django.test import Client

from tests.world import make_user
from yuvrel.people.models import Location
from yuvrel.people.roles import Role


@pytest.fixture
def manager(company: Location, client: Client) -> Client:
    client.force_login(make_user(Role.MANAGER))
    return client


@pytest.fixture
def no_jobs_left() -> Iterator[None]:
    """The queue's tables are not flushed between tests that commit."""
    yield
    with connection.cursor() as cursor:
        cursor.execute("TRUNCATE procrastinate_jobs, procrastinate_workers CASCADE")
