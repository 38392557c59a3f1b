"""Random sequences of business events keep the invariants after every single step."""

from __future__ import annotations

from collections import defaultdict
from contextlib import suppress
from datetime import timedelta
from decimal import Decimal as D
from fractions import Fraction

import pytest
from django.db import transaction
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test

from tests.invariants import ExactCost, assert_invariants, assert_told_once
from tests.world import NOW, give, incoming, make_bundle, make_company, make_connection, make_item, make_supplier, order_line
from yuvrel.buying.actions import Arrived, Wanted, draft, receive, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.channels.jobs import relay_now
from yuvrel.core.errors import YuvrelError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import release, ship, take_order, take_till_sale
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import ItemCost, StockBalance, StockMove

UNITS = st.integers(1, 9)
CENTS = st.integers(1, 999)
WHICH = st.integers(0, 5)


class Business(RuleBasedStateMachine):
    """Two items and a kit of both, two shops of which one takes no backorders, a till at another place, a supplier."""

    @initialize()
    def open(self) -> None:
        self.undo = transaction.atomic()
        self.undo.__enter__()
        self.place = make_company()
        self.corner = Location.objects.get(code="mill-lane")
        self.one, self.two = make_item(on_hand=5, cost="2.17"), make_item(on_hand=6, cost="0.33")
        give(self.one, 2, "3.01", self.corner)
        self.kit = make_bundle("KIT", {self.one: 2, self.two: 1})
        self.goods = [self.one, self.two, self.kit]
        for item in (self.one, self.two):
            make_supplier(item)
        self.shops = [make_connection(), make_connection(backorders=False)]
        self.till = make_connection("till", fulfils_from=self.corner)
        make_connection("ledger", accounts={})
        self.till_sales = 0
        self.exact: dict[int, ExactCost] = defaultdict(ExactCost)
        self.seen, self.promises = 0, self._balances()
        self.price: D | None = None
        self._follow({self.one.pk: [D("2.17"), D("3.01")], self.two.pk: [D("0.33")]})

    def teardown(self) -> None:
        if hasattr(self, "undo"):
            transaction.set_rollback(True)
            self.undo.__exit__(None, None, None)

    def _balances(self) -> dict[tuple[int, int], tuple[D, D]]:
        rows = StockBalance.objects.all()
        return {(row.item_id, row.location_id): (row.on_hand, row.committed) for row in rows}

    def _follow(self, prices: dict[int, list[D]] | None = None) -> None:
        """Carry every new move into the exact account of its item."""
        for move in StockMove.objects.filter(pk__gt=self.seen).order_by("pk"):
            self.seen = move.pk
            if move.quantity < 0:
                self.exact[move.item_id].take_out(-move.quantity)
            else:
                price = prices[move.item_id].pop(0) if prices else self.price
                self.exact[move.item_id].take_in(move.quantity, price if move.reason in ("opening", "receipt") else None)

    @rule(shop=st.integers(0, 1), which=WHICH, units=UNITS, cents=CENTS)
    def order(self, shop: int, which: int, units: int, cents: int) -> None:
        take_order(
            SYSTEM,
            incoming(self.shops[shop], order_line(self.goods[which % 3], units, str(D(cents) / 100)), backorders=shop == 0),
            NOW,
        )

    def _pick(self, which: int) -> SalesOrder | None:
        rows = list(SalesOrder.objects.filter(kind="order").order_by("pk"))
        return rows[which % len(rows)] if rows else None

    @rule(which=WHICH, item=WHICH, units=UNITS, cents=CENTS, cancelled=st.booleans(), stale=st.booleans())
    def another_version(self, which: int, item: int, units: int, cents: int, cancelled: bool, stale: bool) -> None:
        """A later version changes the order; one that was overtaken changes nothing."""
        order = self._pick(which)
        if order is None:
            return
        lines = [] if cancelled else [order_line(self.goods[item % 3], units, str(D(cents) / 100))]
        version = order.external_version + (0 if stale else 1)
        facts = {"external_id": order.external_id, "number": order.external_number, "total": D(cents) / 100}
        before = self._balances()
        taken = take_order(SYSTEM, incoming(order.connection, *lines, version=version, cancelled=cancelled, **facts), NOW)
        assert (taken.outcome == "repeated") == stale
        if stale:
            assert self._balances() == before

    @rule(which=WHICH, units=UNITS, everything=st.booleans())
    def ship(self, which: int, units: int, everything: bool) -> None:
        order = self._pick(which)
        if order and order.lines.exists():
            with suppress(YuvrelError):
                ship(SYSTEM, order.pk, at=NOW, quantities=None if everything else {order.lines.first().pk: D(units)})

    @rule(which=WHICH)
    def release(self, which: int) -> None:
        order = self._pick(which)
        if order:
            with suppress(YuvrelError):
                release(SYSTEM, order.pk, NOW)

    @rule(which=WHICH, units=UNITS, cents=CENTS, hours=st.integers(0, 48))
    def ring_up(self, which: int, units: int, cents: int, hours: int) -> None:
        """A sale that happened up to two days ago."""
        line = order_line(self.goods[which % 3], units, str(D(cents) / 100))
        take_till_sale(SYSTEM, incoming(self.till, line, placed_at=NOW - timedelta(hours=hours)))
        self.till_sales += 1

    @rule(which=WHICH, units=UNITS, what=st.sampled_from(["lost", "found", "count"]), corner=st.booleans())
    def adjust(self, which: int, units: int, what: str, corner: bool) -> None:
        amount = {"counted": D(units)} if what == "count" else {"change": D(units) * (-1 if what == "lost" else 1)}
        place = self.corner if corner else self.place
        with suppress(YuvrelError):
            adjust(
                SYSTEM,
                item_id=self.goods[which % 2].pk,
                location_id=place.pk,
                reason=what,
                at=NOW - timedelta(hours=units),
                **amount,
            )

    @rule(which=WHICH, units=UNITS, cents=CENTS)
    def buy(self, which: int, units: int, cents: int) -> None:
        (order,) = draft(SYSTEM, [Wanted(self.goods[which % 2].pk, self.place.pk, D(units))], NOW)
        order.lines.update(price=D(cents) / 100)
        send(SYSTEM, order.pk, 1, NOW)

    @rule(units=UNITS)
    def receive(self, units: int) -> None:
        for order in PurchaseOrder.objects.filter(state__in=("sent", "part-received"))[:1]:
            line = order.lines.get()
            self.price = line.price
            with suppress(YuvrelError):
                receive(SYSTEM, order.pk, [Arrived(line.pk, D(units))], NOW)

    @rule()
    def relay(self) -> None:
        relay_now()

    @invariant()
    def nothing_is_broken(self) -> None:
        if not hasattr(self, "exact"):
            return
        assert_invariants()
        assert_told_once()
        self._follow()
        for item_id, exact in self.exact.items():
            cost = ItemCost.objects.get(item_id=item_id)
            moves = StockMove.objects.filter(item_id=item_id).count()
            assert Fraction(cost.quantity) == exact.units
            assert abs(Fraction(cost.value) - exact.value) <= Fraction(moves, 100), "each move rounds by less than a cent"

    @invariant()
    def no_unit_is_promised_twice(self) -> None:
        """7: what is newly reserved was free, and every till sale is there."""
        if not hasattr(self, "promises"):
            return
        now = self._balances()
        for key, (on_hand, committed) in now.items():
            before = self.promises.get(key, (D(0), D(0)))[1]
            assert committed <= max(before, on_hand), "7: more was reserved than is there"
        self.promises = now
        assert SalesOrder.objects.filter(kind="till").count() == self.till_sales
        assert not Reservation.objects.filter(line__order__state="cancelled", state__in=("open", "backorder")).exists()


@pytest.mark.django_db
def test_any_sequence_keeps_the_invariants() -> None:
    run_state_machine_as_test(
        Business,
        settings=settings(max_examples=25, stateful_step_count=25, deadline=None, suppress_health_check=list(HealthCheck)),
    )
