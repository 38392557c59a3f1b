"""Random sequences of business events keep the invariants after every single step."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable
from datetime import date, timedelta
from decimal import Decimal as D
from fractions import Fraction
from functools import partial
from typing import Any

import pytest
from django.db import transaction
from django.db.models import F
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test

from tests.depth import drawn
from tests.invariants import ExactCost, ExactFirstIn, assert_invariants, assert_told_once
from tests.world import NOW, give, incoming, make_bundle, make_company, make_connection, make_item, make_supplier, order_line
from yuvrel.books.actions import set_period
from yuvrel.books.models import Period
from yuvrel.buying.actions import Answer, Arrived, Wanted, acknowledge, cancel, draft, receive, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.rungs import company_rung
from yuvrel.channels.jobs import relay_now
from yuvrel.core.credits import Wanted as Credited
from yuvrel.core.errors import YuvrelError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM
from yuvrel.rules.actions import change
from yuvrel.sales import returns
from yuvrel.sales.actions import cancel as cancel_order
from yuvrel.sales.actions import release, ship, take_order, take_till_sale
from yuvrel.sales.credits import credit
from yuvrel.sales.documents import TO_LEAVE
from yuvrel.sales.incoming import IncomingLine
from yuvrel.sales.models import OrderLine, Reservation, Return, ReturnPart, SalesOrder
from yuvrel.stock import transfers
from yuvrel.stock.actions import OpeningRow, adjust, take_opening
from yuvrel.stock.models import ItemCost, StockBalance, StockMove, Transfer

UNITS = st.integers(1, 9)
CENTS = st.integers(1, 999)
WHICH = st.integers(0, 5)
# How often each event came about, over all sequences: one that is always refused would try nothing.
SUCCEEDED: Counter[str] = Counter()
OFTEN = drawn(2, 1)
FATES = ("restock", "repair", "write_off")


def attempt(what: str, event: Callable[[], Any]) -> None:
    """Count an event that came about; one that is refused changes nothing, which the invariants see."""
    try:
        event()
    except YuvrelError:
        return
    SUCCEEDED[what] += 1


class Business(RuleBasedStateMachine):
    """Two items, one that expires, and a kit of the first two; two shops of which one takes no backorders, a till at
    another place, suppliers of which one asks for another currency; a month that may be closed."""

    way = "average"
    exactly: Callable[[], ExactCost] = ExactCost

    @initialize()
    def open(self) -> None:
        self.undo = transaction.atomic()
        self.undo.__enter__()
        self.place = make_company()
        change(SYSTEM, company_rung(), {"valuation": self.way}, NOW)
        self.corner = Location.objects.get(code="mill-lane")
        self.one, self.two = make_item(on_hand=5, cost="2.17"), make_item(on_hand=6, cost="0.33")
        give(self.one, 5, "3.01", self.corner)
        self.kit = make_bundle("KIT", {self.one: 2, self.two: 1})
        self.fresh = make_item(expiry_tracked=True)
        self.goods = [self.one, self.two, self.kit, self.fresh]
        self.bought = [self.one, self.two, self.fresh]
        make_supplier(self.one)
        make_supplier(self.two, currency="PLN")  # at 4.0 for one of base
        make_supplier(self.fresh)
        self.shops = [make_connection(), make_connection(backorders="held")]
        self.till = make_connection("till", fulfils_from=self.corner)
        make_connection("ledger")
        self.till_sales = self.closed_for = 0
        self.exact: dict[int, ExactCost] = defaultdict(self.exactly)
        self.seen = self.seen_part = 0
        self.promises = self._balances()
        self.price: D | Fraction | None = None
        self._begin()
        self._follow({self.one.pk: [D("2.17"), D("3.01")], self.two.pk: [D("0.33")]})
        # Each outcome of a transfer once, whatever is drawn.
        for how, item in (("arrive", self.two), ("lost", self.two), ("back", self.one)):
            self._settle(Transfer.objects.get(lines__item=item), 1, how)
            self._follow()
        for then in ("is released", "leaves"):
            load = transfers.Load(self.two.pk, D(1))
            row = transfers.draft(SYSTEM, self.place.pk, self.corner.pk, [load], NOW.date())
            self._reserve(row, then)
        self._settle(Transfer.objects.get(state="sent"), 1, "arrive")
        self._follow()
        # Of two returns one comes, and one does not.
        for back, comes in zip(Return.objects.order_by("pk"), (True, False), strict=True):
            self._settle_return(back, 1, comes)
            self._follow()
        for fate in FATES:
            self._bring_back(OrderLine.objects.get(order__kind="till"), D(1), fate)
            self._follow()
        # What would come about too seldom if it were left to chance alone.
        self._bring_back(OrderLine.objects.get(order__kind="till"), D(1), "restock", later=True)
        self._change(SalesOrder.objects.filter(kind="order").order_by("pk")[0], [], stale=True)
        order = SalesOrder.objects.filter(kind="order").order_by("pk")[0]
        self._change(order, [order_line(self.one, 2)], stale=False)
        self._open(self.two, self.corner, 1, D("0.33"))
        self._follow({self.two.pk: [D("0.33")]})
        self._receive(PurchaseOrder.objects.filter(lines__item=self.one).order_by("pk")[0], 2)
        self._follow()
        for seldom in (
            *(partial(self.adjust, which=1, units=1, what=what, corner=False) for what in ("found", "lost", "count")),
            partial(self.order, shop=0, which=1, units=1, cents=150),
            partial(self.ship, which=0, units=1, everything=True, too_many=False),
            partial(self.credit, which=0, units=1, cents=50, fee=False),
            partial(self.supplier_answers, which=0, accepted=True),
            partial(self.supplier_answers, which=1, accepted=False),
            partial(self.give_up_buying, which=1),
            partial(self.buy, which=1, units=3, cents=60),
            lambda: self._receive(PurchaseOrder.objects.filter(lines__item=self.two).order_by("-pk")[0], 2),
            partial(self.cancel_here, which=-1),
            partial(self.close_the_month, steps=0),
            self._reopen,
        ):
            seldom()
            self._follow()

    def _begin(self) -> None:
        """Something of everything is under way, so that every event has something to happen to."""
        for shop, units in zip([*self.shops, self.shops[0]], (2, 40, 3), strict=True):
            take_order(SYSTEM, incoming(shop, order_line(self.one, units), backorders=shop == self.shops[0]), NOW)
        for item in (*self.bought, *self.bought):
            (order,) = draft(SYSTEM, [Wanted(item.pk, self.place.pk, D(12))], NOW)
            send(SYSTEM, order.pk, 1, NOW)
        for item, units, source, to in ((self.one, 2, self.corner, self.place), (self.two, 5, self.place, self.corner)):
            row = transfers.draft(SYSTEM, source.pk, to.pk, [transfers.Load(item.pk, D(units))], NOW.date())
            attempt("send over", partial(transfers.send, SYSTEM, row.pk, row.version, NOW))
        sold = take_till_sale(SYSTEM, incoming(self.till, order_line(self.one, 5), placed_at=NOW)).order
        self.till_sales += 1
        SUCCEEDED["till sale"] += 1
        for _ in range(2):
            returns.announce(SYSTEM, sold.pk, [returns.Coming(sold.lines.get().pk, D(1))], NOW)

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
            elif move.reason == "return":
                # Units come back at what they left at, in the order in which they were looked at.
                part = ReturnPart.objects.filter(pk__gt=self.seen_part).exclude(kind="written off").order_by("pk")[0]
                self.seen_part = part.pk
                assert (part.item_id, part.quantity) == (move.item_id, move.quantity)
                self.exact[move.item_id].take_in(move.quantity, Fraction(part.value) / Fraction(part.quantity))
            else:
                price = prices[move.item_id].pop(0) if prices else self.price
                self.exact[move.item_id].take_in(
                    move.quantity, price if move.reason in ("opening", "receipt", "transfer") else None
                )

    @rule(shop=st.integers(0, 1), which=WHICH, units=UNITS, cents=CENTS)
    def order(self, shop: int, which: int, units: int, cents: int) -> None:
        line = order_line(self.goods[which % 4], units, str(D(cents) / 100))
        attempt("order", lambda: take_order(SYSTEM, incoming(self.shops[shop], line, backorders=shop == 0), NOW))

    def _pick(self, which: int, **having: Any) -> SalesOrder | None:
        rows = list(SalesOrder.objects.filter(kind="order", **having).order_by("pk"))
        return rows[which % len(rows)] if rows else None

    @rule(which=WHICH, item=WHICH, units=UNITS, cents=CENTS, cancelled=st.booleans(), stale=st.booleans())
    def another_version(self, which: int, item: int, units: int, cents: int, cancelled: bool, stale: bool) -> None:
        """A later version changes the order; one that was overtaken changes nothing."""
        order = self._pick(which)
        if order is not None:
            self._change(
                order, [] if cancelled else [order_line(self.goods[item % 4], units, str(D(cents) / 100))], stale, cancelled
            )

    def _change(self, order: SalesOrder, lines: list[IncomingLine], stale: bool, cancelled: bool = False) -> None:
        version = order.external_version + (0 if stale else 1)
        total = sum((line.amount for line in lines), D(0))
        facts = {"external_id": order.external_id, "number": order.external_number, "total": total}
        before = self._balances()
        newer = incoming(order.connection, *lines, version=version, cancelled=cancelled, **facts)
        try:
            taken = take_order(SYSTEM, newer, NOW)
        except YuvrelError:
            assert Period.objects.filter(closed_at__isnull=False).exists()
            return
        assert (taken.outcome == "repeated") == stale
        SUCCEEDED["stale" if stale else "change"] += 1
        if stale:
            assert self._balances() == before

    @rule(which=WHICH, units=UNITS, everything=st.booleans(), too_many=st.sampled_from([False, False, True]))
    def ship(self, which: int, units: int, everything: bool, too_many: bool) -> None:
        order = self._pick(which, state__in=("ready", "part-shipped", "received"))
        if order is None:
            return
        line = order.lines.order_by("pk")[0]
        left = line.quantity - line.shipped
        wanted = None if everything else {line.pk: left + units if too_many else min(left, D(units))}
        attempt("ship", lambda: ship(SYSTEM, order.pk, at=NOW, quantities=wanted))

    @rule(which=WHICH)
    def release(self, which: int) -> None:
        order = self._pick(which, state="held")
        if order:
            attempt("release", lambda: release(SYSTEM, order.pk, NOW))

    @rule(which=WHICH, units=UNITS, cents=CENTS, hours=st.integers(0, 48))
    def ring_up(self, which: int, units: int, cents: int, hours: int) -> None:
        """A sale that happened up to two days ago."""
        line = order_line(self.goods[which % 4], units, str(D(cents) / 100))
        take_till_sale(SYSTEM, incoming(self.till, line, placed_at=NOW - timedelta(hours=hours)))
        self.till_sales += 1
        SUCCEEDED["till sale"] += 1

    @rule(which=WHICH, units=UNITS, what=st.sampled_from(["lost", "found", "count"]), corner=st.booleans())
    def adjust(self, which: int, units: int, what: str, corner: bool) -> None:
        place, item = self.corner if corner else self.place, self.bought[which % 3]
        attempt(f"adjust {what}", lambda: self._adjust(item, place, what, units))

    def _adjust(self, item: Item, place: Location, what: str, units: int) -> None:
        amount = {"counted": D(units)} if what == "count" else {"change": D(units) * (-1 if what == "lost" else 1)}
        at = NOW - timedelta(hours=units)
        adjust(SYSTEM, item_id=item.pk, location_id=place.pk, reason=what, at=at, **amount)

    @rule(which=WHICH, units=UNITS, cents=CENTS)
    def buy(self, which: int, units: int, cents: int) -> None:
        (order,) = draft(SYSTEM, [Wanted(self.bought[which % 3].pk, self.place.pk, D(units))], NOW)
        order.lines.update(price=D(cents) / 100)
        send(SYSTEM, order.pk, 1, NOW)
        SUCCEEDED["buy"] += 1

    def _bought(self, which: int) -> PurchaseOrder | None:
        rows = list(PurchaseOrder.objects.filter(state__in=PurchaseOrder.OPEN).order_by("pk"))
        return rows[which % len(rows)] if rows else None

    @rule(which=WHICH, accepted=st.booleans())
    def supplier_answers(self, which: int, accepted: bool) -> None:
        order = self._bought(which)
        if order:
            said = Answer("R", accepted)
            outcome = acknowledge(SYSTEM, order.number, said, NOW)
            SUCCEEDED["accept" if outcome == "accepted" else "refuse" if outcome == "refused" else "answer again"] += 1

    @rule(which=WHICH)
    def give_up_buying(self, which: int) -> None:
        order = self._bought(which)
        if order:
            attempt("cancel purchase", lambda: cancel(SYSTEM, order.pk, order.version))

    @rule(which=WHICH, units=UNITS)
    def receive(self, which: int, units: int) -> None:
        order = self._bought(which)
        if order:
            self._receive(order, units)

    def _receive(self, order: PurchaseOrder, units: int) -> None:
        line = order.lines.get()
        self.price = line.price / (4 if order.currency == "PLN" else 1)
        lot = {"lot_code": f"L{units % 3}", "expires_on": date(2027, 6, units)} if line.item == self.fresh else {}
        left = line.quantity - line.received
        arrived = Arrived(line.pk, D(units) if units == 9 else min(D(units), left), **lot)
        attempt(f"receive {order.currency}", lambda: receive(SYSTEM, order.pk, [arrived], NOW))

    @rule(which=WHICH, units=UNITS, cents=CENTS, corner=st.booleans())
    def open_stock(self, which: int, units: int, cents: int, corner: bool) -> None:
        """Opening stock may also be taken in later, when something moved already."""
        self.price = D(cents) / 100
        self._open(self.bought[which % 3], self.corner if corner else self.place, units, self.price)

    def _open(self, item: Item, place: Location, units: int, price: D) -> None:
        lot = {"lot_code": "OPEN", "expires_on": date(2027, 5, 1)} if item == self.fresh else {}
        rows = [OpeningRow(item.pk, place.pk, D(units), price, **lot)]
        attempt("open stock", lambda: take_opening(SYSTEM, rows, NOW))

    @rule(which=WHICH)
    def cancel_here(self, which: int) -> None:
        """Given up here, whatever has left of it; later versions of it change nothing."""
        rows = list(SalesOrder.objects.filter(kind="order", state__in=TO_LEAVE).order_by("pk"))
        if rows:
            attempt("cancel order", partial(cancel_order, SYSTEM, rows[which % len(rows)].pk, "not wanted", NOW))

    @rule(which=WHICH, units=UNITS, back=st.booleans())
    def send_over(self, which: int, units: int, back: bool) -> None:
        source, to = (self.corner, self.place) if back else (self.place, self.corner)
        item = self.bought[which % 3]
        here = StockBalance.objects.filter(item=item, location=source).first()
        free = here.on_hand - here.committed if here else D(0)
        load = transfers.Load(item.pk, min(D(units), free) if free > 0 else D(units))

        def leave() -> None:
            with transaction.atomic():
                row = transfers.draft(SYSTEM, source.pk, to.pk, [load], NOW.date())
                transfers.send(SYSTEM, row.pk, row.version, NOW)

        attempt("send over", leave)

    @rule(which=WHICH, units=UNITS, then=st.sampled_from(["stays", "leaves", "is released"]))
    def set_by(self, which: int, units: int, then: str) -> None:
        """Goods are reserved for a transfer, which leaves with them, or later, or never."""
        item = self.bought[which % 3]
        row = transfers.draft(SYSTEM, self.place.pk, self.corner.pk, [transfers.Load(item.pk, D(units))], NOW.date())
        self._reserve(row, then)

    def _reserve(self, row: Transfer, then: str) -> None:
        attempt("reserve", partial(transfers.reserve, SYSTEM, row.pk, row.version))
        row.refresh_from_db()
        if then == "leaves":
            attempt("send reserved", partial(transfers.send, SYSTEM, row.pk, row.version, NOW))
        elif then == "is released":
            attempt("release goods", partial(transfers.release, SYSTEM, row.pk, row.version))

    @rule(which=WHICH, units=UNITS, how=st.sampled_from(["lost", "arrive", "back", "lost"]))
    def settle(self, which: int, units: int, how: str) -> None:
        """What arrives, or is brought back, comes in at what it left at; what is lost never comes."""
        rows = list(Transfer.objects.filter(state__in=Transfer.OPEN).order_by("pk"))
        if not rows:
            return
        self._settle(rows[which % len(rows)], units, how)

    def _settle(self, row: Transfer, units: int, how: str) -> None:
        line = row.lines.get()
        self.price = Fraction(sum(part.value for part in line.parts.filter(kind="sent"))) / Fraction(line.quantity)
        some = {line.pk: D(units) if units == 9 else min(D(units), line.left)}
        events: dict[str, Callable[[], Any]] = {
            "arrive": lambda: transfers.receive(SYSTEM, row.pk, some, NOW),
            "lost": lambda: transfers.give_up(SYSTEM, row.pk, row.version, some, "lost", NOW),
            "back": lambda: transfers.cancel(SYSTEM, row.pk, row.version, NOW),
        }
        attempt(how, events[how])

    @rule(which=WHICH, units=UNITS, fate=st.sampled_from(FATES), later=st.booleans())
    def bring_back(self, which: int, units: int, fate: str, later: bool) -> None:
        """Goods that left are expected, and come at once or later."""
        lines = OrderLine.objects.filter(shipped__gt=F("returned"), item__isnull=False).order_by("pk")
        line = lines[which % len(lines)] if lines else None
        if line is None:
            return
        self._bring_back(line, min(D(units), line.shipped - line.returned), fate, later)

    def _bring_back(self, line: OrderLine, units: D, fate: str, later: bool = False) -> None:
        def come() -> None:
            with transaction.atomic():
                back = returns.announce(SYSTEM, line.order_id, [returns.Coming(line.pk, units)], NOW)
                if not later:
                    returns.inspect(SYSTEM, back.pk, {back.lines.get().pk: returns.Found(**{fate: units})}, NOW)

        attempt("expect" if later else fate, come)

    @rule(which=WHICH, units=UNITS, comes=st.booleans())
    def settle_return(self, which: int, units: int, comes: bool) -> None:
        rows = list(Return.objects.filter(state__in=Return.OPEN).order_by("pk"))
        if not rows:
            return
        self._settle_return(rows[which % len(rows)], units, comes)

    def _settle_return(self, back: Return, units: int, comes: bool) -> None:
        line = back.lines.get()
        found = {line.pk: returns.Found(restock=D(units) if units == 9 else min(D(units), line.left))}
        come = partial(returns.inspect, SYSTEM, back.pk, found, NOW)
        stay_away = partial(returns.close, SYSTEM, back.pk, back.version)
        attempt("come" if comes else "not come", come if comes else stay_away)

    @rule(which=WHICH, units=UNITS, cents=CENTS, fee=st.booleans())
    def credit(self, which: int, units: int, cents: int, fee: bool) -> None:
        lines = OrderLine.objects.filter(shipped__gt=F("credited")).order_by("pk")
        line = lines[which % len(lines)] if lines else None
        if line is None:
            return
        wanted = Credited(min(D(units), line.shipped - line.credited)) if cents % 3 else Credited(gross=D(cents) / 100)
        attempt("credit", lambda: credit(SYSTEM, line.order_id, {line.pk: wanted}, NOW, fee=D(cents % 2) / 100 if fee else D(0)))

    @rule(steps=st.integers(1, 3))
    def close_the_month(self, steps: int) -> None:
        """For a few steps everything dated into it is refused, and a till sale goes into the next."""
        set_period(SYSTEM, NOW.date().replace(day=1), closed=True, at=NOW)
        self.closed_for = steps
        SUCCEEDED["close"] += 1

    def _reopen(self) -> None:
        self.closed_for -= 1
        if self.closed_for < 0 and Period.objects.filter(closed_at__isnull=False).exists():
            set_period(SYSTEM, NOW.date().replace(day=1), closed=False, at=NOW)
            SUCCEEDED["reopen"] += 1

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
        self._reopen()
        for item_id, exact in self.exact.items():
            cost = ItemCost.objects.get(item_id=item_id)
            SUCCEEDED["several layers"] += len(cost.layers) > 1
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


class FirstIn(Business):
    """The same, where what came first leaves first."""

    way = "fifo"
    exactly = ExactFirstIn


def _run(business: type[Business], sequences: int) -> None:
    """So many sequences, the same each time; counts what came about in them."""
    SUCCEEDED.clear()
    form = settings(
        max_examples=sequences,
        stateful_step_count=drawn(30, 60),
        derandomize=True,
        database=None,
        suppress_health_check=list(HealthCheck),
    )
    run_state_machine_as_test(business, settings=form)


@pytest.mark.django_db
def test_any_sequence_keeps_the_invariants_first_in_first_out() -> None:
    _run(FirstIn, drawn(8, 2))
    assert SUCCEEDED["several layers"] > drawn(50, 10)
    assert SUCCEEDED["ship"] and SUCCEEDED["till sale"] and SUCCEEDED["receive EUR"]


@pytest.mark.django_db
def test_any_sequence_keeps_the_invariants() -> None:
    expected = {"ship", "release", "adjust lost", "adjust found", "adjust count", "buy", "accept", "refuse", "cancel purchase"}
    expected |= {"cancel order", "reserve", "send reserved", "release goods"}
    expected |= {"receive EUR", "receive PLN", "open stock", "close", "reopen", "order", "till sale", "change"}
    expected |= {"send over", "arrive", "lost", "back", "expect", "restock", "repair", "write_off", "come", "not come", "credit"}
    _run(Business, drawn(26, 4))
    assert expected <= set(SUCCEEDED), expected - set(SUCCEEDED)
    assert min(SUCCEEDED[what] for what in expected) >= OFTEN, SUCCEEDED
