"""How an order is paid: parts by account, and what an invoice is settled by. Check values from the docstrings."""

from __future__ import annotations

from decimal import Decimal as D

from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.payments import Part, give_back, parted, settle

MONEY = st.decimals(0, 10_000, places=2)


def test_check_values() -> None:
    assert parted(D("50.00"), [Part("cash", D("30.00"))]) == [Part("cash", D("30.00")), Part("clearing", D("20.00"))]
    assert parted(D("50.00"), [Part("cash", D("30.00")), Part("card", D("40.00"))]) == [
        Part("cash", D("30.00")),
        Part("card", D("20.00")),
    ]
    found = settle(D("72.49"), D("20.00"), [D("40.00"), D("30.00")])
    assert (found.prepaid, found.taken, found.owed) == (D("20.00"), (D("40.00"), D("12.49")), D("0.00"))
    assert settle(D("72.49"), D("20.00"), [D("40.00")]).owed == D("12.49")


@given(MONEY, MONEY, st.lists(MONEY, max_size=4))
def test_nothing_is_settled_twice_or_left_out(total: D, prepaid: D, authorised: list[D]) -> None:
    found = settle(total, prepaid, authorised)
    assert found.prepaid + sum(found.taken) + found.owed == total
    assert found.prepaid <= prepaid
    assert all(taken <= left for taken, left in zip(found.taken, authorised, strict=True))
    # Nobody owes while something that is paid or authorised is left.
    assert not found.owed or (found.prepaid, list(found.taken)) == (prepaid, authorised)


@given(MONEY, st.lists(st.tuples(st.sampled_from(["cash", "card", "clearing"]), MONEY), max_size=5))
def test_parts_come_to_the_total(total: D, parts: list[tuple[str, D]]) -> None:
    found = parted(total, [Part(role, amount) for role, amount in parts])
    assert sum((part.amount for part in found), D(0)) == total
    assert len({part.role for part in found}) == len(found)


def test_what_is_given_back_lowers_what_is_owed_first_and_then_goes_the_way_it_was_paid() -> None:
    """Our rule."""
    paid, given = {"clearing:1170": D("20.00")}, {"clearing:1170": D("5.00")}
    assert give_back(D("40.00"), D("10.00"), paid, given) == {
        "receivable": D("10.00"), "clearing:1170": D("15.00"), "clearing": D("15.00"),
    }  # fmt: skip
    assert give_back(D("8.00"), D("10.00"), paid, {}) == {"receivable": D("8.00")}
    assert give_back(D("8.00"), D("-3.00"), paid, {}) == {"clearing:1170": D("8.00")}
    assert give_back(D("0.00"), D("0.00"), paid, {}) == {}
