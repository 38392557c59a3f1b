"""Routes of what channels say otherwise than we do: all of it, and what a person chooses."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from yuvrel.catalogue.pictures import first_of
from yuvrel.core.listing_facts import LABELS
from yuvrel.platform.auth import actor
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import page
from yuvrel.platform.wire import Id, Said, SheetRow
from yuvrel.stock.queries import find_items

from . import listing_facts
from .listing_facts import FactRules
from .models import Listing

router = Router(tags=["range"])


class DifferenceOut(Schema):
    """A fact that is one thing here and another there."""

    field: str
    label: str
    ours: str
    theirs: str
    verdict: str


class DifferingRow(SheetRow):
    """A listing that says otherwise than its item."""

    id: int
    version: int
    title: str
    connection: str
    connection_id: int
    item_id: int | None
    sku: str
    item: str
    picture: int | None
    differences: list[DifferenceOut]


class DifferingPage(Schema):
    """A page of listings that say otherwise, and how many there are."""

    rows: list[DifferingRow]
    next: str
    total: int


class ChooseIn(Schema):
    """What is chosen of some facts: what the channel says, or ours; `seen`: what was shown of what it says."""

    version: int
    fields: list[Annotated[str, Field(max_length=30)]] = Field(min_length=1, max_length=20)
    theirs: bool
    seen: dict[str, Annotated[str, Field(max_length=40_000)]] = Field(default_factory=dict, max_length=20)


class ChooseManyIn(Schema):
    """What is chosen of all facts of several listings."""

    ids: list[Id] = Field(min_length=1, max_length=500)
    theirs: bool


@router.get("/differences", response=DifferingPage, operation_id="list_differences")
def differences(request: HttpRequest, connection: int | None = None, q: str = "", cursor: str = "", limit: int = 50) -> Any:
    """Listings that say otherwise than their items."""
    actor(request)
    rows = find_items(listing_facts.says_otherwise(connection), q, "item__")
    found, following = page(rows, ["id"], cursor, limit)
    rules = {row.connection_id: FactRules.of(row.connection) for row in found}
    differ = {
        pk: each
        for key, of in rules.items()
        for pk, each in listing_facts.differing([row for row in found if row.connection_id == key], of).items()
    }
    pictures = first_of([row.item_id for row in found if row.item_id])

    def shown(row: Listing) -> dict[str, Any]:
        item = row.item
        return {
            **{name: getattr(row, name) for name in ("id", "version", "title", "connection_id", "item_id")},
            "connection": row.connection.name,
            "sku": item.sku if item else "",
            "item": item.title if item else "",
            "picture": pictures.get(row.item_id or 0),
            "differences": listing_facts.told(differ.get(row.pk, [])),
        }

    known = {"next": following, "total": rows.count()}
    return {**known, "rows": sheet_rows(DifferingRow, found, shown, lambda row: {"id": row.pk, "title": row.title})}


@router.post("/listings/{int:listing_id}/choose", response=Said, operation_id="choose_for_listing")
def choose(request: HttpRequest, listing_id: int, body: ChooseIn) -> Any:
    """Take over what a channel says of some facts, or keep ours."""
    row = listing_facts.choose(actor(request), listing_id, body.version, body.fields, theirs=body.theirs, seen=body.seen)
    said = "taken over" if body.theirs else "kept as it is here"
    return {"said": f"{', '.join(LABELS[name] for name in body.fields)}: {said}.", "id": row.pk}


@router.post("/differences/choose", response=Said, operation_id="choose_for_listings")
def choose_many(request: HttpRequest, body: ChooseManyIn) -> Any:
    """The same for all that several listings say otherwise."""
    done, failed = listing_facts.choose_many(actor(request), body.ids, theirs=body.theirs)
    said = f"{done} settled." + (f" {failed} could not be: look at them one by one." if failed else "")
    return {"said": said, "id": 0}
