"""How a company says what its goods cost when they leave."""

from __future__ import annotations

from yuvrel.catalogue.rungs import company_rung
from yuvrel.core.cost import VALUATIONS, CostState, Valuation, from_kept
from yuvrel.core.rules import Level, Setting
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import settled
from yuvrel.rules.registry import Way, add_way, declare

from .models import ItemCost

NAME = "valuation"
declare(
    Setting(
        NAME,
        "Goods leave at",
        "How units that leave are valued: all at the average, or each at what it came in at, the oldest first. It counts "
        "for what moves from now on; what is there counts as having come in together, and nothing is posted anew.",
        "choice",
        "average",
        choices=(("average", "the moving average"), ("fifo", "first in, first out")),
        levels=(Level.COMPANY,),
        group="Cost of goods",
        ability=Ability.KEEP_BOOKS.value,
    )
)
add_way(Way("company", lambda _: [company_rung()]))


def state_of(row: ItemCost) -> CostState:
    """What is held of an item and what it is worth, as the core takes it."""
    return CostState(row.quantity, row.value, row.last_average, from_kept(row.layers))


def way() -> str:
    """average or fifo."""
    return str(settled([company_rung()], [NAME])[NAME].value)


def valuation() -> Valuation:
    """How the company that is worked for values what leaves."""
    return VALUATIONS[way()]
