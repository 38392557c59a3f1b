"""Fixtures that everything shares."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from django.db import connections
from hypothesis import settings

from tests import clones, companies
from yuvrel.connectors.registry import KINDS
from yuvrel.people.models import Location
from yuvrel.platform.memory import look_seldom

from .world import forget_accounts, make_company

# How long an example takes hangs on what else the machine does, so no test judges by it.
settings.register_profile("house", deadline=None)
settings.load_profile("house")
companies.install()


# Where single tests take longest: they go first, so that no process waits at the end for another's last one.
LONGEST = ("tests.server.test_sequences", "tests.server.test_demo", "tests.channels.test_quarantine", "tests.server.test_intake")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The longest first; what a module shares stays together."""
    items.sort(key=lambda item: item.module.__name__ not in LONGEST)


def pytest_collection_finish() -> None:
    """As the product's own processes do; it took a tenth of the time."""
    look_seldom()


@pytest.fixture(scope="session")
def django_db_setup(django_test_environment: None, django_db_blocker: Any) -> Iterator[None]:
    """A database for this process, cloned from the migrated template."""
    name = clones.mine("test")
    with django_db_blocker.unblock():
        clones.point_at(clones.fresh(name))
    yield
    with django_db_blocker.unblock():
        connections.close_all()
        clones.drop(name)


@pytest.fixture(scope="module")
def larkmead(django_db_setup: None, django_db_blocker: Any) -> Iterator[dict[str, dict[str, Any]]]:
    """The demo's database for the tests of a module; what its stand-ins begin with."""
    name = clones.mine("larkmead")
    with django_db_blocker.unblock():
        setup = clones.larkmead(name)
        clones.point_at(name)
    forget_accounts()
    yield setup
    forget_accounts()
    with django_db_blocker.unblock():
        clones.point_at(clones.mine("test"))
        clones.drop(name)


@pytest.fixture
def company(db: None) -> Location:
    """A company in an empty database; the main place."""
    return make_company()


@pytest.fixture(autouse=True)
def _forget_company() -> None:
    companies.forget_company()


@pytest.fixture(autouse=True)
def _quick_passwords(settings: object) -> None:
    """Argon2 is slow on purpose; tests sign in often."""
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]  # type: ignore[attr-defined]


@pytest.fixture(autouse=True)
def _quick_calls(monkeypatch: pytest.MonkeyPatch) -> None:
    """Accounts are called so many times a second and no more; what a test waits for so it does not look at."""
    for kind in KINDS.values():
        monkeypatch.setattr(kind, "calls_per_second", 10_000.0)
