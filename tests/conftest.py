"""Fixtures that everything shares."""

from __future__ import annotations

import pytest

from yuvrel.people.models import Location

from .world import make_company


@pytest.fixture
def company(db: None) -> Location:
    """A company in an empty database; the main place."""
    return make_company()


@pytest.fixture(autouse=True)
def _quick_passwords(settings: object) -> None:
    """Argon2 is slow on purpose; tests sign in often."""
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]  # type: ignore[attr-defined]
