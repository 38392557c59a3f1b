"""How an order is paid: which account each part settles through, and what a shipment takes of it.

Revenue is posted when goods are handed over (IFRS 15, paragraphs 31 and 38): what was paid before is a prepayment until
then (paragraph 106), what is only authorised is taken with the shipment.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from .money import ZERO
from .postings import Role


@dataclass(frozen=True)
class Part:
    """A part of what a customer pays: the role of the account it settles through, and how much."""

    role: str
    amount: Decimal


def parted(total: Decimal, parts: Sequence[Part], rest: str = Role.CLEARING) -> list[Part]:
    """`total` by account, in the order of the parts; what they leave open settles through `rest`, and no part takes more
    than is left.

    Check: 50.00 of which 30.00 in cash → cash 30.00, the rest 20.00; of which 30.00 and 40.00 → 30.00 and 20.00.
    """
    found: dict[str, Decimal] = {}
    left = total
    for part in (*parts, Part(rest, left)):
        taken = min(part.amount, left)
        if taken:
            found[part.role] = found.get(part.role, ZERO) + taken
        left -= taken
    return [Part(role, amount) for role, amount in found.items() if amount]


def give_back(total: Decimal, owed: Decimal, paid: Mapping[str, Decimal], given: Mapping[str, Decimal]) -> dict[str, Decimal]:
    """How a credit of `total` is settled, by account: first what the customer still owes, the rest through the accounts by
    which it was paid, each for no more than it took (`paid`) and has not given back yet (`given`); what they leave open
    goes through the first clearing account.

    Check: 40.00 of which 10.00 are owed, paid 20.00 in cash of which 5.00 were given back → 10.00, 15.00, 15.00.
    """
    off = min(max(owed, ZERO), total)
    found = {Role.RECEIVABLE.value: off} if off else {}
    parts = [Part(role, max(amount - given.get(role, ZERO), ZERO)) for role, amount in paid.items()]
    return found | {part.role: part.amount for part in parted(total - off, parts)}


@dataclass(frozen=True)
class Settled:
    """What an invoice is settled by: prepaid, then what was taken of each authorised payment, then what is owed."""

    prepaid: Decimal
    taken: tuple[Decimal, ...]
    owed: Decimal


def settle(total: Decimal, prepaid: Decimal, authorised: Sequence[Decimal]) -> Settled:
    """An invoice against what was paid before, then the authorised payments in their order, then the customer's account.

    `authorised`: what is left of each. Check: 72.49 with 20.00 prepaid and 40.00 and 30.00 authorised → 20.00, then 40.00
    and 12.49, nothing owed; with 40.00 alone → 12.49 owed. An invoice of nothing or less settles nothing.
    """
    left = max(total, ZERO)
    before = min(left, max(prepaid, ZERO))
    left -= before
    taken = []
    for one in authorised:
        part = min(left, max(one, ZERO))
        taken.append(part)
        left -= part
    return Settled(before, tuple(taken), left + min(total, ZERO))
