"""Fixtures that everything shares."""

from __future__ import annotations

import functools
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from django.db import connections
from hypothesis import settings

from tests import clones, companies, emptied
from yuvrel.connectors.registry import KINDS
from yuvrel.people.models import Location
from yuvrel.platform.memory import look_seldom

from .world import forget_accounts, make_company

# How long an example takes hangs on what else the machine does, so no test judges by it.
settings.register_profile("house", deadline=None)
settings.load_profile("house")
companies.install()
# Whom to trust is read once, not for each client that a test makes: it takes longer than most calls.
httpx._transports.default.create_ssl_context = functools.cache(httpx.create_ssl_context)
# What a test itself asks for waits as long as it takes on a busy machine, instead of five seconds; the product has its own.
for part in ("connect", "read", "write", "pool"):
    setattr(httpx._config.DEFAULT_TIMEOUT_CONFIG, part, 120.0)
emptied.install()


# What goes first: those who want the demo, so that one process seeds it while the other, which begins in the middle, does
# without; then where single tests take longest, so that no process waits at the end for another's last one.
FIRST = (
    "tests.server.test_demo",
    "tests.server.test_routes",
    "tests.server.test_sequences",
    "tests.channels.test_quarantine",
    "tests.server.test_intake",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """In the order of `FIRST`, then the others; what a module shares stays together. In the middle, where the other process
    begins, stands what needs no database: there is none until the first process has made all tables."""
    core = [item for item in items if item.module.__name__.startswith("tests.core.")]
    rest = [item for item in items if not item.module.__name__.startswith("tests.core.")]
    rest.sort(key=lambda item: FIRST.index(name) if (name := item.module.__name__) in FIRST else len(FIRST))
    middle = min(len(items) // 2, len(rest))
    while 0 < middle < len(rest) and rest[middle].module is rest[middle - 1].module:
        middle -= 1
    items[:] = [*rest[:middle], *core, *rest[middle:]]


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
