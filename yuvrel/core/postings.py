"""Which accounts an event touches (perpetual inventory). Amounts are in base currency;
a positive amount is a debit, a negative one a credit; every set of lines adds up to zero.

Revenue is posted when goods are handed over (IFRS 15, paragraphs 31 and 38), the cost of the
goods in the same period (IAS 2, paragraph 34).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from enum import StrEnum

from .credits import Credit
from .errors import RefusedError, UnbalancedError
from .money import ZERO


class Role(StrEnum):
    """What an account is for; a connection to an outside ledger maps each role to one account."""

    INVENTORY = "inventory"
    RECEIVED_NOT_BILLED = "received_not_billed"
    PAYABLE = "payable"
    RECEIVABLE = "receivable"
    CLEARING = "clearing"
    PREPAYMENTS = "prepayments"
    BANK = "bank"
    INPUT_TAX = "input_tax"
    OUTPUT_TAX = "output_tax"
    SALES = "sales"
    SHIPPING_INCOME = "shipping_income"
    SURCHARGE_INCOME = "surcharge_income"
    DISCOUNTS = "discounts"
    COST_OF_SALES = "cost_of_sales"
    PRICE_DIFFERENCE = "price_difference"
    EXCHANGE_DIFFERENCE = "exchange_difference"
    SHRINKAGE = "shrinkage"
    DAMAGE = "damage"
    WRITE_OFF = "write_off"
    CASH_DIFFERENCE = "cash_difference"
    OPENING = "opening"
    SALES_RETURNS = "sales_returns"
    IN_TRANSIT = "in_transit"
    FOUND = "found"


REASON_ROLES: Mapping[str, Role] = {
    "damaged": Role.DAMAGE,
    "lost": Role.SHRINKAGE,
    "found": Role.SHRINKAGE,
    "count": Role.SHRINKAGE,
    "expired": Role.WRITE_OFF,
    "sample": Role.WRITE_OFF,
    "opening": Role.OPENING,
}


# Clearing accounts beside the first: the role is this and the account's code.
FURTHER_CLEARING = "clearing:"


@dataclass(frozen=True)
class Line:
    """One side of an entry: a debit when `amount` is positive. `role`: a Role, or that of a further clearing account."""

    role: str
    amount: Decimal
    item_id: int | None = None
    memo: str = ""


def balanced(lines: Iterable[Line]) -> tuple[Line, ...]:
    """The lines without empty ones. Raises UnbalancedError when they do not add up to zero."""
    kept = tuple(line for line in lines if line.amount)
    total = sum((line.amount for line in kept), ZERO)
    if total:
        raise UnbalancedError(f"The entry is out of balance by {total}.")
    return kept


def receipt(values: Iterable[tuple[int, Decimal, Decimal]]) -> tuple[Line, ...]:
    """Goods receipt: Inventory against Goods received not billed; the true-up to Cost of sales.

    `values`: (item, value added to inventory after the true-up, true-up).
    """
    lines: list[Line] = []
    for item_id, moved, true_up in values:
        lines.append(Line(Role.INVENTORY, moved, item_id))
        lines.append(Line(Role.COST_OF_SALES, true_up, item_id, "below-zero true-up"))
        lines.append(Line(Role.RECEIVED_NOT_BILLED, -(moved + true_up), item_id))
    return balanced(lines)


def cost_of_shipment(costs: Iterable[tuple[int, Decimal]]) -> tuple[Line, ...]:
    """Cost of sales against Inventory. `costs`: (item, cost, positive when goods leave)."""
    lines: list[Line] = []
    for item_id, cost in costs:
        lines.append(Line(Role.COST_OF_SALES, cost, item_id))
        lines.append(Line(Role.INVENTORY, -cost, item_id))
    return balanced(lines)


@dataclass(frozen=True)
class Revenue:
    """What one invoice earns, net of tax; `discount` is positive and reduces the total."""

    sales: Decimal = ZERO
    shipping: Decimal = ZERO
    surcharge: Decimal = ZERO
    discount: Decimal = ZERO
    tax: Decimal = ZERO

    @property
    def total(self) -> Decimal:
        """What the customer owes for it."""
        return self.sales + self.shipping + self.surcharge - self.discount + self.tax


def is_clearing(role: str) -> bool:
    """Whether an account holds what channels and payment services owe us."""
    return role == Role.CLEARING or role.startswith(FURTHER_CLEARING)


def their_account(accounts: Mapping[str, str], role: str) -> str:
    """Which account of an outside ledger a role of ours is; a further clearing account that is not mapped counts to the
    first, stock of documents found after a restore to the stock. Empty when there is none."""
    instead = Role.CLEARING if is_clearing(role) else Role.INVENTORY if role == Role.FOUND else role
    return accounts.get(role) or accounts.get(instead, "")


def invoice(revenue: Revenue, against: Mapping[str, Decimal]) -> tuple[Line, ...]:
    """Shipment and invoice, or a till sale: income and output tax against who owes or paid it.

    `against`: amounts by role, which come to the total. Raises RefusedError for a role that settles no invoice and
    UnbalancedError for amounts that come to something else.
    """
    for role in against:
        if role not in (Role.PREPAYMENTS, Role.RECEIVABLE) and not is_clearing(role):
            raise RefusedError(f"An invoice cannot be settled against {role}.", field="against")
    return balanced(
        [
            *(Line(role, amount) for role, amount in against.items()),
            Line(Role.DISCOUNTS, revenue.discount),
            Line(Role.SALES, -revenue.sales),
            Line(Role.SHIPPING_INCOME, -revenue.shipping),
            Line(Role.SURCHARGE_INCOME, -revenue.surcharge),
            Line(Role.OUTPUT_TAX, -revenue.tax),
        ]
    )


def credit_note(credit: Credit, against: Mapping[str, Decimal]) -> tuple[Line, ...]:
    """A credit note: what was earned and its output tax go back to who paid or owes it; a fee that is kept is income.

    `against`: amounts by role, which come to the total. Raises RefusedError for a role that settles no credit and
    UnbalancedError for amounts that come to something else.
    """
    for role in against:
        if role != Role.RECEIVABLE and not is_clearing(role):
            raise RefusedError(f"A credit cannot be settled against {role}.", field="against")
    return balanced(
        [
            Line(Role.SALES_RETURNS, credit.goods),
            Line(Role.SHIPPING_INCOME, credit.shipping),
            Line(Role.SURCHARGE_INCOME, credit.surcharge - credit.fee),
            Line(Role.OUTPUT_TAX, credit.tax),
            *(Line(role, -amount) for role, amount in against.items()),
        ]
    )


def goods_back(values: Iterable[tuple[int, Decimal, Decimal]], lost: Iterable[tuple[int, Decimal]] = ()) -> tuple[Line, ...]:
    """Goods that came back at the cost at which they left: Inventory, or Written off, against Cost of sales.

    `values`: (item, value added to inventory after the true-up, true-up); `lost`: (item, value that is written off).
    """
    lines: list[Line] = []
    for item_id, moved, true_up in values:
        lines.append(Line(Role.INVENTORY, moved, item_id))
        lines.append(Line(Role.COST_OF_SALES, true_up, item_id, "below-zero true-up"))
        lines.append(Line(Role.COST_OF_SALES, -(moved + true_up), item_id))
    for item_id, value in lost:
        lines.append(Line(Role.WRITE_OFF, value, item_id))
        lines.append(Line(Role.COST_OF_SALES, -value, item_id))
    return balanced(lines)


def prepayment(amounts: Mapping[str, Decimal]) -> tuple[Line, ...]:
    """An order paid before it is shipped: the clearing accounts it was paid through against Customer prepayments."""
    return balanced(
        [*(Line(role, amount) for role, amount in amounts.items()), Line(Role.PREPAYMENTS, -sum(amounts.values(), ZERO))]
    )


def _account_of(reason: str) -> Role:
    """The account that stands against a change of stock. Raises RefusedError for an unknown reason."""
    try:
        return REASON_ROLES[reason]
    except KeyError as error:
        known = ", ".join(sorted(REASON_ROLES))
        raise RefusedError(f"Reason must be one of {known}.", field="reason") from error


def adjustment(reason: str, values: Iterable[tuple[int, Decimal, Decimal]]) -> tuple[Line, ...]:
    """Stock put right by hand: Inventory against the account of the reason.

    `values`: (item, value moved into inventory, true-up). Raises RefusedError for an unknown reason.
    """
    other = _account_of(reason)
    lines: list[Line] = []
    for item_id, moved, true_up in values:
        lines.append(Line(Role.INVENTORY, moved, item_id))
        lines.append(Line(Role.COST_OF_SALES, true_up, item_id, "below-zero true-up"))
        lines.append(Line(other, -(moved + true_up), item_id))
    return balanced(lines)


def sent_off(values: Iterable[tuple[int, Decimal]]) -> tuple[Line, ...]:
    """Goods leave for another place of ours: Goods in transit against Inventory. `values`: (item, value that left)."""
    lines: list[Line] = []
    for item_id, value in values:
        lines.append(Line(Role.IN_TRANSIT, value, item_id))
        lines.append(Line(Role.INVENTORY, -value, item_id))
    return balanced(lines)


def arrived(values: Iterable[tuple[int, Decimal, Decimal]]) -> tuple[Line, ...]:
    """Goods on the way are here, or back: Inventory against Goods in transit; the true-up to Cost of sales.

    `values`: (item, value added to inventory after the true-up, true-up).
    """
    lines: list[Line] = []
    for item_id, moved, true_up in values:
        lines.append(Line(Role.INVENTORY, moved, item_id))
        lines.append(Line(Role.COST_OF_SALES, true_up, item_id, "below-zero true-up"))
        lines.append(Line(Role.IN_TRANSIT, -(moved + true_up), item_id))
    return balanced(lines)


def lost_on_the_way(reason: str, values: Iterable[tuple[int, Decimal]]) -> tuple[Line, ...]:
    """Goods on the way that will not arrive: the account of the reason against Goods in transit.

    `values`: (item, value that is lost). Raises RefusedError for an unknown reason.
    """
    other = _account_of(reason)
    lines: list[Line] = []
    for item_id, value in values:
        lines.append(Line(other, value, item_id))
        lines.append(Line(Role.IN_TRANSIT, -value, item_id))
    return balanced(lines)


def opening(values: Iterable[tuple[int, Decimal, Decimal]]) -> tuple[Line, ...]:
    """Opening stock: Inventory, a line for each item, against one line of opening equity.

    `values`: (item, value moved into inventory, true-up), any number for an item.
    """
    inventory: dict[int, Decimal] = {}
    trued = total = ZERO
    for item_id, moved, true_up in values:
        inventory[item_id] = inventory.get(item_id, ZERO) + moved
        trued += true_up
        total += moved + true_up
    lines = [Line(Role.INVENTORY, moved, item_id) for item_id, moved in inventory.items()]
    return balanced([*lines, Line(Role.COST_OF_SALES, trued, memo="below-zero true-up"), Line(REASON_ROLES["opening"], -total)])


def bill(received: Decimal, billed: Decimal, tax: Decimal, exchange: Decimal = ZERO) -> tuple[Line, ...]:
    """Supplier bill against what was received, in base currency.

    `received`: value posted at receipt; `billed`: net amount of the bill; `exchange`: the part
    of the difference that comes from the rate alone. The rest is price difference.
    """
    difference = billed - received - exchange
    return balanced(
        [
            Line(Role.RECEIVED_NOT_BILLED, received),
            Line(Role.PRICE_DIFFERENCE, difference),
            Line(Role.EXCHANGE_DIFFERENCE, exchange),
            Line(Role.INPUT_TAX, tax),
            Line(Role.PAYABLE, -(billed + tax)),
        ]
    )


def till_count(differences: Mapping[str, Decimal]) -> tuple[Line, ...]:
    """What was counted at a till beside what should be there, by clearing account: more than that is a debit of the
    account, less a credit; the other side is the cash difference."""
    lines = [Line(role, amount, memo="counted" if amount > 0 else "missing") for role, amount in differences.items()]
    return balanced([*lines, Line(Role.CASH_DIFFERENCE, -sum(differences.values(), ZERO))])
