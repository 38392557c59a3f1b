"""Whose a row is: every table says so or is shared, no job forgets it, and a lock holds nothing beside the rows."""

from __future__ import annotations

import pytest
from django.apps import apps
from django.db import connection
from django.test.utils import CaptureQueriesContext
from procrastinate.contrib.django import app

from tests.companies import forget_company
from tests.invariants import owned_models
from tests.world import give, make_item
from yuvrel.ownership import NoCompanyError, company_id, for_somebody, from_now_on, steadily, working_for
from yuvrel.people.jobs import every
from yuvrel.people.models import Company, Location
from yuvrel.people.queries import company as company_in_hand
from yuvrel.stock.models import StockBalance, StockMove

pytestmark = pytest.mark.django_db

# What companies share, and what belongs to people or to the installation.
SHARED = {
    "people": {
        "Company",
        "User",
        "ApiToken",
        "Epoch",
        "OpenSession",
        "SignInTry",
        "SheetView",
        "SheetHabit",
        "AuditRow",
        "IdempotencyKey",
    },
    "catalogue": {
        "Category",
        "TaxClass",
        "Product",
        "Item",
        "Picture",
        "Barcode",
        "FormerCode",
        "BundleComponent",
        "ProductText",
        "Word",
    },
    "buying": {"Supplier", "SupplierItem", "PriceBreak"},
    "stock": {"Lot"},
}
# Of every company at once: jobs whose worker died.
OF_ALL = {"channels.rescue"}


def test_every_table_says_whose_its_rows_are_or_is_shared() -> None:
    ours = [model for model in apps.get_models() if model.__module__.startswith("yuvrel.") and not model._meta.proxy]
    undecided = [
        model.__name__
        for model in ours
        if (model in owned_models()) == (model.__name__ in SHARED.get(model._meta.app_label, set()))
    ]
    assert not undecided
    assert len(ours) > 60


def test_every_job_works_for_a_company() -> None:
    ours = {name: task for name, task in app.tasks.items() if task.func.__module__.startswith("yuvrel.")}
    assert len(ours) > 20
    loose = [name for name, task in ours.items() if task.func.__code__.co_name not in ("for_one", "for_each")]
    assert set(loose) == OF_ALL


def test_a_job_of_the_clock_that_fails_for_one_company_is_done_for_the_others(company: Location) -> None:
    other = Company.objects.create(name="Another", base_currency="PLN")
    done = []

    @every("0 0 31 2 *", "tests.never")
    def work() -> None:
        if company_id() != other.pk:
            raise ZeroDivisionError
        done.append(company_id())

    try:
        with pytest.raises(ZeroDivisionError):
            work.func(0)
        assert done == [other.pk]
        work.func(company=other.pk)
        assert done == [other.pk] * 2, "woken for one it is done for that one"
    finally:
        del app.tasks["tests.never"]
        app.periodic_registry.periodic_tasks.pop(("tests.never", ""))


def test_a_request_knows_its_company_until_it_is_over(company: Location) -> None:
    with for_somebody():
        with pytest.raises(NoCompanyError):
            company_in_hand()
        from_now_on(company.company)
        assert company_in_hand() == company.company
        with working_for(other := Company.objects.create(name="Another", base_currency="PLN")):
            assert company_in_hand() == other
        assert company_in_hand() == company.company
    with for_somebody(), pytest.raises(NoCompanyError):
        company_in_hand()


def test_rows_that_are_read_after_a_request_are_those_of_its_company(company: Location) -> None:
    make_item(on_hand=4)

    def read() -> list[int]:
        return [move.pk for move in StockMove.objects.all()]

    with working_for(company.company):
        rows = steadily(str(key) for key in (key for key in _asked(read)))
        told = [str(key) for key in read()]
    # With another beside it nothing is filled in for who does not say which.
    Company.objects.create(name="Another", base_currency="PLN")
    forget_company()
    assert list(rows) == told != []


def _asked(read: object) -> list[int]:
    yield from read()  # type: ignore[operator,misc]


def test_a_lock_holds_the_rows_and_not_whose_they_are(company: Location) -> None:
    item = make_item(on_hand=4)
    with CaptureQueriesContext(
        connection,
    ) as asked:
        list(StockBalance.objects.select_for_update().filter(item=item))
    (statement,) = [query["sql"] for query in asked if "FOR UPDATE" in query["sql"]]
    assert "people_location" in statement
    assert statement.endswith('FOR UPDATE OF "stock_stockbalance"')
    give(item, 1)
