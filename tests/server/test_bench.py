"""The large company of the benches is written past the ORM: it can still be built, and what it holds is sound."""

from __future__ import annotations

import pytest

from bench.company import Size, build
from tests.invariants import assert_invariants
from yuvrel.ownership import for_somebody
from yuvrel.sales.models import OrderLine, SalesOrder


@pytest.mark.django_db(transaction=True)
def test_a_small_one_of_it_is_whole() -> None:
    with for_somebody():
        build(Size(items=20, order_lines=200), "http://127.0.0.1:9")
    assert (SalesOrder.objects.count(), OrderLine.objects.count()) == (100, 200)
    assert_invariants()
