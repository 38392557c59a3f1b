"""What is to come of a purchase order: worked by hand, no source."""

from decimal import Decimal as D

from yuvrel.core.purchases import PurchasedLine, purchase


def test_lines_are_rounded_each_by_itself_and_the_parts_add_up() -> None:
    """Twice 3 at 0.335 are 1.01 each; one that came is 0.34; the 1.68 left are 0.42 at 4 for one."""
    lines = [PurchasedLine("Queen clip", D(3), D(1), D("0.335")), PurchasedLine("Bee brush", D(3), D(0), D("0.335"))]
    found = purchase(lines, "PO-1", "PLN", "EUR", D(4))
    assert (found.ordered, found.received, found.to_come, found.in_base) == (D("2.02"), D("0.34"), D("1.68"), D("0.42"))
    assert found.working.result == D("0.42")
    assert purchase(lines, "PO-1", "PLN", "EUR", None).in_base is None
    own = purchase(lines, "PO-1", "EUR", "EUR", D(1))
    assert (own.in_base, own.working.result) == (D("1.68"), D("1.68"))


def test_what_has_come_whole_leaves_nothing() -> None:
    found = purchase([PurchasedLine("Smoker", D(5), D(5), D("9.99"))], "PO-1", "EUR", "EUR", D(1))
    assert (found.received, found.to_come) == (D("49.95"), D(0))
