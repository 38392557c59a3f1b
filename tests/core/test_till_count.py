"""What should lie in a till, and how a difference is booked."""

from __future__ import annotations

from decimal import Decimal as D

from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core import postings
from yuvrel.core.till_count import Counted

MONEY = st.decimals(0, 10_000, places=2)


def test_what_lay_there_and_what_was_taken_should_be_there() -> None:
    one = Counted(opening=D("100.00"), taken=D("49.20"), counted=D("147.20"))
    assert (one.expected, one.difference) == (D("149.20"), D("-2.00"))


@given(counts=st.dictionaries(st.sampled_from(["clearing", "clearing:1190"]), st.tuples(MONEY, MONEY, MONEY), max_size=2))
def test_the_books_balance_whatever_was_counted(counts: dict[str, tuple[D, D, D]]) -> None:
    differences = {role: Counted(*one).difference for role, one in counts.items()}
    lines = postings.till_count(differences)
    assert sum((line.amount for line in lines), D(0)) == 0
    booked = {line.role: line.amount for line in lines if line.role != "cash_difference"}
    assert booked == {role: amount for role, amount in differences.items() if amount}
