"""Rows written by COPY: what goes wrong is raised as of any other statement, so that everybody knows what it is."""

from __future__ import annotations

from datetime import date

import pytest
from django.db import IntegrityError, OperationalError, connection, transaction

from tests.world import make_company
from yuvrel.books.models import ExchangeRate
from yuvrel.ownership import company_id
from yuvrel.platform.bulk import insert_many

pytestmark = pytest.mark.django_db


def rate(currency: str = "USD") -> ExchangeRate:
    return ExchangeRate(company_id=company_id(), currency=currency, day=date(2027, 3, 14), rate="1.1")


def test_what_a_constraint_refuses_is_an_integrity_error() -> None:
    make_company()
    with pytest.raises(IntegrityError), transaction.atomic():
        insert_many([rate(), rate()])
    insert_many([rate()])
    assert ExchangeRate.objects.count() == 1


@pytest.mark.django_db(transaction=True)
def test_a_database_that_goes_away_is_an_operational_error() -> None:
    """So what concerns one message is not set aside for it: the run ends, and goes on where it stood."""
    make_company()
    with pytest.raises(OperationalError), transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_backend_pid()")
            (process,) = cursor.fetchone()
        other = connection.copy()
        with other.cursor() as cursor:
            cursor.execute("SELECT pg_terminate_backend(%s)", [process])
        other.close()
        insert_many([rate()])
    connection.close()
    assert ExchangeRate.objects.count() == 0
