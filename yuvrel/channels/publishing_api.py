"""Routes of publishing: what can be listed, what is prepared, and handing it in."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from yuvrel.catalogue.pictures import first_of
from yuvrel.platform.auth import actor
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import page
from yuvrel.platform.wire import Id, Money, Said, SheetRow, words
from yuvrel.stock.queries import find_items

from . import publishing
from .actions import get_connection
from .models import Publication
from .publishing import Draft

router = Router(tags=["connections"])
Text = Annotated[str, Field(max_length=200)]


class AskedOut(Schema):
    """What a category asks of what is listed in it; without values any text will do."""

    name: str
    label: str
    required: bool
    values: list[str]


class CategoryThere(Schema):
    """A category of the channel's own."""

    id: str
    title: str
    attributes: list[AskedOut]


class PublicationRow(SheetRow):
    """An item that is to become a listing: how it will look, and what stands in the way."""

    id: int
    item_id: int
    sku: str
    item: str
    picture: int | None
    state: Annotated[str, words(Publication.State)]
    title: str
    description: str
    category: str
    own_category: str
    attributes: dict[str, str]
    filled: dict[str, str]
    unknown: list[str]
    entry: str
    price: Money | None
    barcode: str
    problems: list[str]
    said: str
    listing: str
    prepared_at: datetime
    ended_at: datetime | None
    version: int


class PublicationPage(Schema):
    """A page of publications, with the categories they may stand in."""

    rows: list[PublicationRow]
    next: str
    counts: dict[str, int]
    categories: list[CategoryThere]
    most_title: int


class CandidateRow(SheetRow):
    """An item that could be listed."""

    id: int
    sku: str
    title: str
    category: str
    picture: int | None


class CandidatePage(Schema):
    """A page of items that could be listed, and how many there are."""

    rows: list[CandidateRow]
    next: str
    total: int


class PrepareIn(Schema):
    """Which items; with `every`, all that the words find."""

    items: list[Id] = Field(default_factory=list, max_length=5000)
    every: bool = False
    q: str = Field("", max_length=100)


class ChosenIn(Schema):
    """Which publications; none stands for all that are prepared."""

    ids: list[Id] = Field(default_factory=list, max_length=5000)


class FillIn(Schema):
    """What is asked for: the category (empty: as the rules say) and its attributes; what is left out stays."""

    version: int
    category: str | None = Field(None, max_length=60)
    attributes: dict[Text, Text] | None = Field(None, max_length=60)


@router.get("/connections/{int:connection_id}/candidates", response=CandidatePage, operation_id="list_candidates")
def candidates(request: HttpRequest, connection_id: int, q: str = "", cursor: str = "", limit: int = 30) -> Any:
    """Items that are neither listed on a connection nor prepared for it."""
    actor(request)
    rows = publishing.candidates(get_connection(connection_id), q).select_related("product__category")
    found, following = page(rows, ["title", "pk"], cursor, limit)
    pictures = first_of([row.pk for row in found])

    def told(row: Any) -> dict[str, Any]:
        category = row.product.category
        facts = {"id": row.pk, "sku": row.sku, "title": row.title, "category": category.name if category else ""}
        return {**facts, "picture": pictures.get(row.pk)}

    shown = sheet_rows(CandidateRow, found, told, lambda row: {"id": row.pk, "sku": row.sku, "title": row.title})
    return {"rows": shown, "next": following, "total": rows.count()}


@router.get("/connections/{int:connection_id}/publications", response=PublicationPage, operation_id="list_publications")
def publications(
    request: HttpRequest, connection_id: int, state: str = "", q: str = "", cursor: str = "", limit: int = 50
) -> Any:
    """What is prepared, under way, refused and listed."""
    actor(request)
    connection = get_connection(connection_id)
    rows = Publication.objects.filter(connection=connection).select_related("item", "listing", "connection")
    if state:
        rows = rows.filter(state=state)
    found, following = page(find_items(rows, q, "item__"), ["id"], cursor, limit)
    categories = publishing.kept_categories(connection)
    drafts = publishing.drafts_of(connection, found, categories)
    pictures = first_of([row.item_id for row in found])
    shown = sheet_rows(
        PublicationRow,
        found,
        lambda row: _told(row, drafts[row.pk], pictures.get(row.item_id)),
        lambda row: {"id": row.pk, "item": row.item.title, "sku": row.item.sku, "state": row.state},
    )
    return {
        "rows": shown,
        "next": following,
        "counts": publishing.counts(connection),
        "categories": [one.model_dump() for one in categories.values()],
        "most_title": publishing.capable_most(connection),
    }


def _told(row: Publication, draft: Draft, picture: int | None) -> dict[str, Any]:
    names = ("id", "item_id", "state", "attributes", "entry", "said", "prepared_at", "ended_at", "version")
    done = row.state in (Publication.State.WAITING, Publication.State.LISTED)
    return {
        **{name: getattr(row, name) for name in names},
        "sku": row.item.sku,
        "item": row.item.title,
        "picture": picture,
        "title": draft.title,
        "description": draft.description,
        "category": draft.category,
        "own_category": row.category,
        "price": draft.price,
        "filled": draft.filled,
        "unknown": [] if done else list(draft.unknown),
        "barcode": draft.barcode,
        "problems": [] if done else list(draft.problems),
        "listing": row.listing.external_id if row.listing else "",
    }


@router.post("/connections/{int:connection_id}/publications", response=Said, operation_id="prepare_listings")
def prepare(request: HttpRequest, connection_id: int, body: PrepareIn) -> Any:
    """Have items prepared for a connection."""
    who = actor(request)
    ids = body.items
    if body.every:
        found = publishing.candidates(get_connection(connection_id), body.q)
        ids = list(found.values_list("pk", flat=True)[: publishing.MOST_AT_ONCE])
    made = publishing.prepare(who, connection_id, ids)
    return {"said": f"{made} prepared.", "id": connection_id}


@router.patch("/publications/{int:publication_id}", response=Said, operation_id="fill_publication")
def fill(request: HttpRequest, publication_id: int, body: FillIn) -> Any:
    """Say what is asked for of a publication."""
    row = publishing.fill(actor(request), publication_id, body.version, category=body.category, attributes=body.attributes)
    return {"said": "Saved.", "id": row.pk}


@router.post("/connections/{int:connection_id}/publish", response=Said, operation_id="publish_listings")
def publish(request: HttpRequest, connection_id: int, body: ChosenIn) -> Any:
    """Hand in what is prepared and complete, in the background; answers with the run."""
    run = publishing.ask_publish(actor(request), connection_id, body.ids or None)
    return {"said": f"Handing in to {run.connection.name}.", "id": run.pk}


@router.post("/connections/{int:connection_id}/publications/forget", response=Said, operation_id="forget_publications")
def forget(request: HttpRequest, connection_id: int, body: ChosenIn) -> Any:
    """Forget what was prepared and not handed in."""
    gone = publishing.take_back(actor(request), connection_id, body.ids)
    return {"said": f"{gone} taken away.", "id": connection_id}
