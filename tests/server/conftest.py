"""Who calls the API in these tests."""

from __future__ import annotations

import pytest
from django.test import Client

from tests.world import make_user
from yuvrel.people.models import Location
from yuvrel.people.roles import Role


@pytest.fixture
def manager(company: Location, client: Client) -> Client:
    client.force_login(make_user(Role.MANAGER))
    return client
