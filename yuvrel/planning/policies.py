"""A change of how things are replenished tried out: what would be ordered, over everything it reaches."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import date
from decimal import Decimal
from typing import Any

from yuvrel.catalogue.models import Item
from yuvrel.core.money import ZERO
from yuvrel.core.replenish import Suggestion
from yuvrel.core.rules import Level, Rung
from yuvrel.people.queries import company
from yuvrel.people.roles import Ability, Actor
from yuvrel.rules.actions import taken

from . import queries
from .models import PlanRow
from .queries import Line, Pair
from .rules import reached_items, standings

# So many rows are worked out while somebody waits, those that run out first; of more the rest is left out, and said.
MOST_REHEARSED = 1500
MOST_ROWS = 50


def rehearse(actor: Actor, rung: Rung, changes: Mapping[str, Any], pair: Pair | None, today: date) -> dict[str, Any]:
    """What would be ordered now and with the changes, of all that a level reaches, in a fixed number of queries; of
    `pair` with its figures. Raises BadInputError naming the setting that cannot be, ForbiddenError.
    """
    actor.need(Ability.BUY)
    values = taken(rung, changes)
    reached = PlanRow.objects.filter(item__in=Item.objects.filter(reached_items(rung.level, rung.subject)))
    if rung.level in (Level.ITEM_AT_PLACE, Level.PLACE):
        reached = reached.filter(location_id=rung.within if rung.level == Level.ITEM_AT_PLACE else rung.subject)
    soonest = reached.order_by("runs_out", "id").values_list("item_id", "location_id")[:MOST_REHEARSED]
    pairs = set(soonest) | ({pair} if pair else set())
    changed = {name: {rung.key: value} for name, value in values.items()}
    # Where no place fills another yet, the rows of the others are not needed unless one would.
    read = queries.read_rows(today, pairs, rates=False, together="fed_from" in changed)
    then = replace(read, standings=standings(read.standings, read.terms, changed))
    both = zip(read.lines(), then.lines(), strict=True)
    moved = [(line, after) for line, after in both if not (line.fault or after.fault)]
    lines = [line for line, _ in moved]
    base = company().base_currency
    bought = {line.terms.supplier.currency for pair in moved for line in pair if line.terms}
    rates = queries.rates_on(today, bought, base)
    shifts = [_shift(now, then, rates) for now, then in moved]
    differing = [one for one in shifts if one["now"] != one["then"]]
    differing.sort(key=lambda one: (-abs(one["more"]), one["title"]))
    own = next(((now, then) for now, then in moved if (now.item.pk, now.location.pk) == pair), None)
    return {
        "now": figures(own[0].suggestion) if own else None,
        "then": figures(own[1].suggestion) if own else None,
        "reached": reached.count(),
        "rehearsed": len(lines),
        "changing": len(differing),
        "late_now": sum(1 for now, _ in moved if now.suggestion.ribbon.late and now.suggestion.quantity),
        "late_then": sum(1 for _, then in moved if then.suggestion.ribbon.late and then.suggestion.quantity),
        "amount_now": sum((one["amount_now"] for one in shifts), ZERO),
        "amount_then": sum((one["amount_then"] for one in shifts), ZERO),
        "currency": base,
        "rows": differing[:MOST_ROWS],
    }


def _shift(now: Line, then: Line, rates: dict[str, Decimal]) -> dict[str, Any]:
    before, after = (queries.worth(line, rates)[1] if line.terms else ZERO for line in (now, then))
    return {
        "item_id": now.item.pk,
        "location_id": now.location.pk,
        "title": now.item.title,
        "sku": now.item.sku,
        "location": now.location.name,
        "now": now.suggestion.quantity,
        "then": then.suggestion.quantity,
        "amount_now": before,
        "amount_then": after,
        "more": after - before,
    }


def figures(found: Suggestion) -> dict[str, Any]:
    """The figures of a suggestion that a policy moves."""
    return {
        "quantity": found.quantity,
        "demand": found.terms.demand,
        "safety_stock": found.safety_stock,
        "reorder_point": found.reorder_point,
        "cover": found.cover_days,
        "days": found.policy.days,
    }
