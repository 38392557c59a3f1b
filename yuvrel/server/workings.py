"""One door to every Working: a kind and a key."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.utils import timezone

from yuvrel.agreement import queries as agreement
from yuvrel.books import queries as books
from yuvrel.buying import arrivals
from yuvrel.buying import queries as buying
from yuvrel.channels import price_rules
from yuvrel.channels import queries as channels
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.planning import outlooks
from yuvrel.planning import queries as planning
from yuvrel.pricing import queries as pricing
from yuvrel.rules import queries as rules
from yuvrel.sales import customers, return_queries, till_counts
from yuvrel.sales import queries as sales
from yuvrel.stock import queries as stock


def _ids(key: str, count: int) -> list[int]:
    parts = key.split("-")
    if len(parts) != count or not all(p.isdigit() and len(p) < 19 for p in parts):
        raise BadInputError(f"This Working is named by {count} number{'s' if count > 1 else ''}.", field="key")
    return [int(p) for p in parts]


def _pair(key: str) -> tuple[int, int]:
    item, place = _ids(key, 2)
    return item, place


def _setting(key: str) -> tuple[str, str, str]:
    """way.ids.name, as listing.12.buffer."""
    parts = key.split(".")
    if len(parts) != 3:
        raise BadInputError("This Working is named by way.ids.name.", field="key")
    return parts[0], parts[1], parts[2]


def _place(key: str) -> tuple[int, int]:
    """The item and the place of a key. Raises NotFoundError where the place is none of this company's."""
    item, place = _ids(key, 2)
    if not Location.objects.filter(pk=place).exists():
        raise NotFoundError("There is no such place.", field="key")
    return item, place


def _today() -> Any:
    return company_day(timezone.now())


WORKINGS: dict[str, Callable[[str], Any]] = {
    "on-hand": lambda key: stock.on_hand_working(*_place(key)),
    "available": lambda key: stock.available_working(*_place(key)),
    "value": lambda key: stock.value_working(*_place(key)),
    "cost": lambda key: stock.latest_cost_working(*_ids(key, 1)),
    "cost-change": lambda key: stock.cost_working(*_ids(key, 1)),
    "till-count": lambda key: till_counts.count_working(*_ids(key, 1)),
    "committed": lambda key: sales.committed_working(*_place(key)),
    "incoming": lambda key: arrivals.incoming_working(*_place(key)),
    "offer": lambda key: channels.offer_working(_ids(key, 1)[0], _today()),
    "pairing": lambda key: channels.pairing_working(*_ids(key, 1)),
    "profit": lambda key: sales.profit_working(*_ids(key, 1)),
    "credit": lambda key: return_queries.credit_working(*_ids(key, 1)),
    "order-total": lambda key: sales.total_working(*_ids(key, 1)),
    "suggestion": lambda key: planning.one_line(*_place(key), _today()).suggestion.working,
    "velocity": lambda key: planning.velocity_of(*_place(key), _today()),
    "month": lambda key: outlooks.month_of(*_place(key)),
    "demand": lambda key: planning.demand_of(*_place(key), _today()),
    "purchase-line": lambda key: buying.line_working(*_ids(key, 1)),
    "purchase-order": lambda key: buying.order_working(*_ids(key, 1)),
    "account": books.account_working,
    "entry": lambda key: books.entry_working(*_ids(key, 1)),
    "drift": lambda key: agreement.drift_working(*_ids(key, 1)),
    "booked": lambda key: agreement.booked_working(*_ids(key, 1)),
    "price": lambda key: pricing.price_working(*_pair(key), _today()),
    "price-offer": lambda key: price_rules.price_offer_working(*_ids(key, 1)),
    "group-price": lambda key: price_rules.price_offer_working(*_ids(key, 2)),
    "asked": lambda key: customers.asked_working(*_pair(key), _today()),
    "setting": lambda key: rules.setting_working(*_setting(key)),
}


def working(kind: str, key: str) -> dict[str, Any]:
    """The Working as the wire shows it. Raises NotFoundError for a kind nobody knows."""
    if kind not in WORKINGS:
        raise NotFoundError(f"There is no Working of kind {kind!r}.", field="kind")
    found = WORKINGS[kind](key)
    return found if isinstance(found, dict) else found.as_dict()
