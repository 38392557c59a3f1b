"""Routes of the shelf and, because an item's page shows its stock and cost, of the range."""

from __future__ import annotations

from typing import Any

from django.db.models import Q
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import File, Form, Router
from ninja.files import UploadedFile

from yuvrel.catalogue.bulk import change_many
from yuvrel.catalogue.models import Item
from yuvrel.catalogue.pictures import of_product
from yuvrel.catalogue.schemas import ItemOut, ItemPage
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.gtin import short_gtin
from yuvrel.intake.schemas import IntakeOut
from yuvrel.people.roles import Ability
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import DayIn, Said

from . import actions, opening, queries
from .models import CostChange, ItemCost, StockBalance
from .schemas import AdjustIn, ItemState, ListedAs, ManyIn, MovePage, OpeningCheck, StockPage

MOST_MANY = 50_000
router = Router(tags=["shelf"])
MOST_BYTES = 8_000_000
MOST_SHOWN = 200


@router.get("/stock", response=StockPage, operation_id="list_stock")
def list_stock(
    request: HttpRequest,
    q: str = "",
    location: int | None = None,
    show: str = "all",
    as_at: DayIn | None = None,
    sort: str = "",
    cursor: str = "",
    limit: int = 200,
) -> Any:
    """Stock by item and location, now or as at the end of a day."""
    actor(request)
    return queries.stock_sheet(q, location, show, cursor, limit, as_at, sort)


@router.get("/moves", response=MovePage, operation_id="list_moves")
def list_moves(
    request: HttpRequest,
    item: int | None = None,
    location: int | None = None,
    q: str = "",
    sort: str = "",
    cursor: str = "",
    limit: int = 100,
) -> Any:
    """Stock moves, newest first."""
    actor(request)
    return queries.moves(item, location, q, cursor, limit, sort)


@router.post("/adjustments", response=Said, operation_id="adjust_stock")
def adjust(request: HttpRequest, body: AdjustIn) -> Any:
    """Put stock right, with a reason."""
    entry = actions.adjust(
        actor(request),
        item_id=body.item_id,
        location_id=body.location_id,
        reason=body.reason,
        change=body.change,
        counted=body.counted,
        note=body.note,
        at=timezone.now(),
    )
    return {
        "said": f"Posted as {entry.document}." if entry else "The count agrees; nothing was posted.",
        "id": entry.pk if entry else None,
    }


@router.get("/opening/template", operation_id="opening_template", response={200: str})
def opening_template(request: HttpRequest) -> HttpResponse:
    """An example file for opening stock."""
    actor(request)
    response = HttpResponse(opening.template(), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = 'attachment; filename="opening-stock.csv"'
    return response


@router.post("/opening/check", response=OpeningCheck, operation_id="check_opening")
def check_opening(request: HttpRequest, file: UploadedFile = File(...)) -> Any:
    """Read a file of opening stock; nothing is taken in."""
    actor(request).need(Ability.OPEN_STOCK)
    checked = opening.check(_read(file))
    shown = [
        {
            "line": line,
            "sku": sku,
            "location": place,
            "quantity": row.quantity,
            "unit_cost": row.unit_cost,
            "value": row.quantity * row.unit_cost,
        }
        for line, sku, place, row in checked.rows[:MOST_SHOWN]
    ]
    return {
        "good": len(checked.rows),
        "bad": len(checked.left_out()),
        "rows": shown,
        "faults": [vars(fault) for fault in checked.faults[:MOST_SHOWN]],
        "value": checked.value,
        "token": checked.token() if checked.rows else "",
    }


@router.post("/opening/left-out", operation_id="opening_left_out", response={200: str})
def opening_left_out(request: HttpRequest, file: UploadedFile = File(...)) -> HttpResponse:
    """The rows of a file that cannot be taken in, each with what is wrong with it: to be put right and sent again."""
    actor(request).need(Ability.OPEN_STOCK)
    response = HttpResponse(opening.check(_read(file)).left_out_csv(), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = 'attachment; filename="left-out.csv"'
    return response


def _read(file: UploadedFile) -> bytes:
    if (file.size or 0) > MOST_BYTES:
        raise BadInputError("The file is larger than 8 MB.", field="file")
    return bytes(file.read())


@router.post("/opening", response=Said, operation_id="take_opening")
def take_opening(request: HttpRequest, token: str = Form(...)) -> Any:
    """Take in the rows of a checked file."""
    who = actor(request)
    who.need(Ability.OPEN_STOCK)
    count = actions.take_opening(who, opening.confirmed(token), timezone.now())
    return {"said": f"{count:,} {'row' if count == 1 else 'rows'} of opening stock imported."}


@router.get("/items", response=ItemPage, operation_id="list_items", tags=["range"])
def list_items(
    request: HttpRequest,
    q: str = "",
    kind: str = "",
    state: ItemState = "active",
    listed: ListedAs = "",
    connection: int | None = None,
    sort: str = "",
    cursor: str = "",
    limit: int = 200,
) -> Any:
    """The range."""
    actor(request)
    return queries.item_sheet(q, kind, cursor, limit, sort, state, listed, connection)


@router.post("/range/items/many", response=IntakeOut, operation_id="change_many_items", tags=["range"])
def change_many_items(request: HttpRequest, body: ManyIn) -> Any:
    """Have one thing about many items changed: those named, or all that a filter finds. It is rehearsed first."""
    who = actor(request)
    rows = Item.objects.filter(pk__in=body.ids) if body.ids else queries.items_found(**body.found.model_dump())
    skus = list(rows.filter(active=True).order_by("sku").values_list("sku", flat=True)[: MOST_MANY + 1])
    if len(skus) > MOST_MANY:
        raise BadInputError(f"More than {MOST_MANY:,} items at once are too many; narrow the filter.", field="found")
    return change_many(who, skus, body.column, body.text, timezone.now(), body.kind, body.beside)


@router.get("/items/{int:item_id}", response=ItemOut, operation_id="get_item", tags=["range"])
def get_item(request: HttpRequest, item_id: int) -> Any:
    """One item with its stock, listings, parts and cost history."""
    actor(request)
    item = Item.objects.select_related("product__category").filter(pk=item_id).first()
    if item is None:
        raise NotFoundError("There is no such item.")
    cost = ItemCost.objects.filter(item=item).first()
    places = StockBalance.objects.filter(item=item).select_related("location").order_by("location__position")
    return {
        "id": item.pk,
        "version": item.version,
        "sku": item.sku,
        "title": item.title,
        "product": item.product.title,
        "product_id": item.product_id,
        "pictures": [one for one in of_product(item.product_id) if one.item_id in (None, item.pk)],
        "active": item.active,
        "kind": item.kind,
        "category": item.product.category.name if item.product.category else "",
        "unit": item.unit,
        "barcodes": [short_gtin(code.gtin) for code in item.barcodes.all()],
        "price": item.price,
        "expiry_tracked": item.expiry_tracked,
        **{name: getattr(item.product, name) for name in ("description", "country", "shelf_life_days")},
        **{name: getattr(item, name) for name in ("weight_grams", "length_mm", "width_mm", "height_mm")},
        "average_cost": cost.last_average if cost else None,
        "last_cost": cost.last_cost if cost else None,
        "value": cost.value if cost else None,
        "places": [
            {
                "location_id": b.location_id,
                "location": b.location.name,
                "on_hand": b.on_hand,
                "committed": b.committed,
                "available": b.on_hand - b.committed,
                "backordered": b.backordered,
                "incoming": b.incoming,
            }
            for b in places
        ],
        "listings": [
            {
                "id": row.pk,
                "connection": row.connection.name,
                "connection_id": row.connection_id,
                "shown": row.shown,
                "external_id": row.external_id,
                "offered": row.offered,
                "state": row.offer_state,
                "live": row.connection.state == "live",
                "price": row.price,
                "price_offered": row.price_offer.price if hasattr(row, "price_offer") else None,
                "price_currency": row.price_offer.currency if hasattr(row, "price_offer") else "",
                "price_state": row.price_offer.state if hasattr(row, "price_offer") else "",
            }
            for row in item.listings.select_related("connection", "price_offer").order_by("connection__name")
        ],
        "components": [
            {"item_id": part.component_id, "sku": part.component.sku, "title": part.component.title, "quantity": part.quantity}
            for part in item.components.select_related("component")
        ],
        "costs": CostChange.objects.filter(Q(item=item)).order_by("-at", "-pk")[:60],
        "layers": queries.layers(cost),
    }
