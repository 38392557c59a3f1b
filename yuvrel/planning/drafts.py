"""From rows of the replenishment sheet to drafts: purchase orders for what is bought, transfers for what is sent."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from decimal import Decimal

from django.db import transaction

from yuvrel.buying import actions as buying
from yuvrel.buying.models import PurchaseOrder
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor
from yuvrel.stock import transfers
from yuvrel.stock.models import Transfer

from .queries import Line, Pair


@transaction.atomic
def draft(
    actor: Actor, wanted: Sequence[tuple[int, int, Decimal]], found: Mapping[Pair, Line], at: datetime
) -> tuple[list[PurchaseOrder], list[Transfer]]:
    """All drafts of some rows, or none: (item, place, units), and the rows as they stand, where they are known.

    One purchase order for each supplier and place, one transfer for each two places, expected when its slowest line is.
    Raises BadInputError, ForbiddenError.
    """
    actor.need(Ability.BUY)
    bought: list[buying.Wanted] = []
    sent: dict[tuple[int, int], list[tuple[transfers.Load, int]]] = defaultdict(list)
    for item, place, units in wanted:
        line = found.get((item, place))
        if line is not None and line.source is not None:
            sent[line.source.pk, place].append((transfers.Load(item, units), line.policy.lead_days))
        else:
            bought.append(buying.Wanted(item, place, units, line.suggestion.working.as_dict() if line else {}))
    orders = buying.draft(actor, bought, at) if bought or not sent else []
    today = company_day(at)
    moves = [
        transfers.draft(actor, source, to, [load for load, _ in loads], today + timedelta(days=max(days for _, days in loads)))
        for (source, to), loads in sorted(sent.items())
    ]
    return orders, moves
