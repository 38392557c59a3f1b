"""Routes of price lists."""

from __future__ import annotations

from typing import Any, Literal

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Status

from yuvrel.core.price_change import PriceRule
from yuvrel.core.pricing import Rounding
from yuvrel.people.queries import company_day
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

from . import actions, changes, queries
from .schemas import (
    ItemPricesOut,
    NewPriceListIn,
    PriceChangeOut,
    PriceListIn,
    PriceListOut,
    PriceListSheet,
    PricePage,
    PriceRehearsalOut,
    PriceRuleIn,
    TypedPricesIn,
    UndoneOut,
)

router = Router(tags=["prices"])
LIST = "/price-lists/{int:list_id}"


@router.get("/price-lists", response=PriceListSheet, operation_id="list_price_lists")
def lists(request: HttpRequest) -> Any:
    """Every price list."""
    actor(request)
    return queries.sheet(company_day(timezone.now()))


@router.post("/price-lists", response=PriceListOut, operation_id="make_price_list")
def make(request: HttpRequest, body: NewPriceListIn) -> Any:
    """A new list."""
    return queries.list_page(actions.keep_list(actor(request), None, 0, body.facts()).pk)


@router.get(LIST, response=PriceListOut, operation_id="get_price_list")
def get(request: HttpRequest, list_id: int) -> Any:
    """A list with who is given it and how it was changed."""
    actor(request)
    return queries.list_page(list_id)


@router.patch(LIST, response=PriceListOut, operation_id="change_price_list")
def change(request: HttpRequest, list_id: int, body: PriceListIn) -> Any:
    """Change what makes a list."""
    actions.keep_list(actor(request), list_id, body.version, body.facts())
    return queries.list_page(list_id)


@router.delete(LIST, response={204: None}, operation_id="delete_price_list")
def delete(request: HttpRequest, list_id: int, version: int) -> Any:
    """Take a list away."""
    actions.delete_list(actor(request), list_id, version, timezone.now())
    return Status(204, None)


@router.post(f"{LIST}/rehearsal", response=PriceRehearsalOut, operation_id="rehearse_price_list")
def rehearse(request: HttpRequest, list_id: int, body: PriceListIn) -> Any:
    """What other facts of a list would do to prices; nothing is kept."""
    return changes.rehearse_list(actor(request), list_id, body.facts(), timezone.now())


@router.get("/prices", response=PricePage, operation_id="list_prices")
def prices(
    request: HttpRequest,
    list: int | None = None,
    q: str = "",
    category: str = "",
    show: Literal["all", "own", "below", "none"] = "all",
    cursor: str = "",
    limit: int = 50,
    sort: str = "",
) -> Any:
    """Items with their price in a list: the base prices where none is named."""
    actor(request)
    return queries.price_sheet(list, q, category, show, cursor, limit, company_day(timezone.now()), sort)


@router.put(f"{LIST}/prices", response=Said, operation_id="type_prices")
def type_prices(request: HttpRequest, list_id: int, body: TypedPricesIn) -> Any:
    """Type prices in, all or none."""
    typed = [changes.Typed(**one.model_dump()) for one in body.prices]
    made = changes.type_prices(actor(request), list_id, typed, timezone.now())
    return {"said": f"{made.what}." if made else "Nothing was different.", "id": made.pk if made else None}


def _rule(body: PriceRuleIn) -> tuple[changes.Selection, PriceRule]:
    chosen = changes.Selection(body.q, body.category, tuple(body.item_ids))
    return chosen, PriceRule(body.by, body.value, body.ending, Rounding(body.rounding))


@router.post(f"{LIST}/changes/rehearsal", response=PriceRehearsalOut, operation_id="rehearse_prices")
def rehearse_change(request: HttpRequest, list_id: int, body: PriceRuleIn) -> Any:
    """What a rule would do to prices; nothing is kept."""
    return changes.rehearse_rule(actor(request), list_id, *_rule(body), body.starts_on, body.ends_on, timezone.now())


@router.post(f"{LIST}/changes", response=PriceChangeOut, operation_id="change_prices")
def apply(request: HttpRequest, list_id: int, body: PriceRuleIn) -> Any:
    """Change prices by a rule."""
    return changes.apply_rule(actor(request), list_id, *_rule(body), body.starts_on, body.ends_on, timezone.now())


@router.post("/price-changes/{int:change_id}/undo", response=UndoneOut, operation_id="undo_price_change")
def undo(request: HttpRequest, change_id: int) -> Any:
    """Put back what a change replaced."""
    change, kept = changes.undo(actor(request), change_id, timezone.now())
    left = f" {kept} were changed again since and stay as they are." if kept else ""
    return {"said": f"Taken back: {change.what}.{left}", "kept": kept}


@router.get("/items/{int:item_id}/prices", response=ItemPricesOut, operation_id="get_item_prices")
def item(request: HttpRequest, item_id: int) -> Any:
    """An item's price in every list."""
    actor(request)
    return queries.item_prices(item_id, company_day(timezone.now()))
