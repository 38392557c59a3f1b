"""One house for everything that needs the whole system running."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from django.db import connections

from tests import clones
from tests.faults.house import House


@pytest.fixture(scope="session")
def house(django_test_environment: None, django_db_blocker: Any, tmp_path_factory: pytest.TempPathFactory) -> Iterator[House]:
    """One house for all bursts; its company grows by each of them.

    The database is set up by hand: a test marked for it would be wrapped in a transaction of its own.
    """
    with django_db_blocker.unblock():
        name = clones.mine("test")
        clones.point_at(clones.fresh(name))
        found = House(tmp_path_factory.mktemp("house"))
        try:
            found.open()
            yield found
        finally:
            found.stop()
            connections.close_all()
            clones.drop(name)
