"""Random sequences of business events keep the invariants after every single step."""

from __future__ import annotations

from contextlib import suppress
from decimal import Decimal as D

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.invariants import assert_invariants, exact_value
from tests.world import NOW, incoming, make_company, make_connection, make_item, make_supplier, order_line
from yuvrel.buying.actions import Arrived, Wanted, draft, receive, send
from yuvrel.core.errors import YuvrelError
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import fill_backorders, ship, take_order, take_till_sale
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import ItemCost, StockMove

STEPS = st.lists(
    st.tuples(
        st.sampled_from(["buy", "order", "ship", "till", "lost", "found", "count", "cancel", "fill"]),
        st.integers(1, 9),
        st.integers(1, 999),
    ),
    min_size=1,
    max_size=18,
)


class World:
    """One item, one shop, one till, one supplier."""

    def __init__(self) -> None:
        self.place = make_company()
        self.item = make_item(on_hand=5, cost="2.17")
        make_supplier(self.item)
        self.shop, self.counter = make_connection(), make_connection("till")

    def step(self, what: str, units: int, cents: int) -> None:
        """Do one thing; a refusal must leave everything as it was."""
        with suppress(YuvrelError):
            getattr(self, what)(units, cents)
        assert_invariants()

    def buy(self, units: int, cents: int) -> None:
        (order,) = draft(SYSTEM, [Wanted(self.item.pk, self.place.pk, D(units))], NOW)
        order.lines.update(price=D(cents) / 100)
        send(SYSTEM, order.pk, 1, NOW)
        receive(SYSTEM, order.pk, [Arrived(order.lines.get().pk, D(units))], NOW)

    def order(self, units: int, cents: int) -> None:
        take_order(SYSTEM, incoming(self.shop, order_line(self.item, units, str(D(cents) / 100))), NOW)

    def ship(self, units: int, cents: int) -> None:
        for order in SalesOrder.objects.filter(state__in=("ready", "received", "part-shipped"))[:1]:
            ship(SYSTEM, order.pk, at=NOW, quantities={order.lines.get().pk: D(units)} if cents % 2 else None)

    def lost(self, units: int, cents: int) -> None:
        adjust(SYSTEM, item_id=self.item.pk, location_id=self.place.pk, reason="lost", change=D(-units), at=NOW)

    def found(self, units: int, cents: int) -> None:
        adjust(SYSTEM, item_id=self.item.pk, location_id=self.place.pk, reason="found", change=D(units), at=NOW)

    def count(self, units: int, cents: int) -> None:
        adjust(SYSTEM, item_id=self.item.pk, location_id=self.place.pk, reason="count", counted=D(units), at=NOW)

    def cancel(self, units: int, cents: int) -> None:
        for order in SalesOrder.objects.filter(kind="order").exclude(state="cancelled")[:1]:
            gone = incoming(
                self.shop,
                external_id=order.external_id,
                number=order.external_number,
                version=order.external_version + 1,
                cancelled=True,
                total=order.total,
            )
            take_order(SYSTEM, gone, NOW)

    def fill(self, units: int, cents: int) -> None:
        fill_backorders([self.item.pk])

    def till(self, units: int, cents: int) -> None:
        take_till_sale(SYSTEM, incoming(self.counter, order_line(self.item, units, str(D(cents) / 100))))


@pytest.mark.django_db(transaction=False)
@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(steps=STEPS)
def test_any_sequence_keeps_the_invariants(db: None, steps: list[tuple[str, int, int]]) -> None:
    from django.db import transaction

    class Undo(Exception):
        """Each example starts from nothing."""

    with pytest.raises(Undo), transaction.atomic():
        world = World()
        for what, units, cents in steps:
            world.step(what, units, cents)
        raise Undo


@pytest.mark.django_db
def test_value_against_an_exact_recomputation(company: object) -> None:
    """Sixty receipts and issues: rounding each issue to the cent never adds up to more than a few cents."""
    item = make_item(on_hand=50, cost="1.37")
    make_supplier(item)
    place = item.balances.get().location
    for n in range(60):
        if n % 3 == 0:
            (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(7 + n % 5))], NOW)
            order.lines.update(price=D(90 + 7 * n) / 100)
            send(SYSTEM, order.pk, 1, NOW)
            receive(SYSTEM, order.pk, [Arrived(order.lines.get().pk, D(7 + n % 5))], NOW)
        else:
            adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason="sample", change=D(-(1 + n % 4)), at=NOW)
    moves = [("in" if m.quantity > 0 else "out", abs(m.quantity), m.value) for m in StockMove.objects.order_by("pk")]
    exact = exact_value(moves)
    assert abs(float(exact) - float(ItemCost.objects.get(item=item).value)) < 0.05
    assert_invariants()
