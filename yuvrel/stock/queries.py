"""Reading the shelf."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from datetime import date
from decimal import Decimal
from functools import partial
from typing import Any

from django.db.models import Case, Count, DecimalField, Exists, F, Min, OuterRef, Q, QuerySet, Sum, Value, When
from django.db.models.expressions import Combinable
from django.db.models.functions import Coalesce, NullIf, Round

from yuvrel.catalogue.models import Barcode, Item
from yuvrel.catalogue.obstacles import Obstacle, look_for
from yuvrel.catalogue.pictures import first_of
from yuvrel.catalogue.retail import priced
from yuvrel.catalogue.schemas import ItemRow
from yuvrel.core.cost import layers_of
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.gtin import short_gtin
from yuvrel.core.money import ZERO, allocate, round_unit_cost, spoken
from yuvrel.core.working import Step, Working
from yuvrel.documents.registry import Ref
from yuvrel.ownership import company_id, own_of
from yuvrel.people.models import Location
from yuvrel.people.queries import company, end_of_day
from yuvrel.platform.columns import Many
from yuvrel.platform.faults import Beside, Column, beside_of, figure_or, kept_of, rows_by_column, sheet_rows
from yuvrel.platform.paging import in_order, is_asked, page, page_of_values

from .models import CostChange, ItemCost, LotBalance, StockBalance, StockMove
from .schemas import MoveRow, StockRow
from .valuation import state_of, way

# The orders that an index has: there may be millions of moves.
MOVE_SORTS = {"happened": "happened_at", "recorded": "id"}
ITEM_SORTS: dict[str, str | Combinable] = {
    "title": "title",
    "sku": "sku",
    "price": "price",
    "created": "created_at",
    "category": Coalesce("product__category__name", Value("")),
    "cost": Coalesce("own_cost__last_average", Value(ZERO)),
}
# A place's share of an item's value is allotted to the cent when it is shown; for the order its plain part is near enough.
_WORTH = Round(
    Coalesce(F("on_hand") * F("own_cost__value") / NullIf(F("own_cost__quantity"), Value(ZERO)), Value(ZERO)),
    precision=2,
    output_field=DecimalField(),
)
# What lies at a bench for repairs is on hand, and for nobody to have.
_AVAILABLE = Case(When(location__for_sale=True, then=F("on_hand") - F("committed")), default=Value(ZERO))
STOCK_SORTS: dict[str, str | Combinable] = {
    "item": "item__title",
    "place": "location__name",
    "on_hand": "on_hand",
    "committed": "committed",
    "available": _AVAILABLE,
    "backordered": "backordered",
    "incoming": "incoming",
    "value": _WORTH,
}


# What a row of the range is made of, and what of it a row of the sheet says as it is kept.
ITEM = ("sku", "title", "kind", "product__category__name", "price", "own_cost__last_average")
ITEM_AS_KEPT = {
    "id": "pk",
    "average_cost": "own_cost__last_average",
    **{name: name for name in ("sku", "title", "kind", "price")},
}
# What a row of the shelf is made of.
ROW = (
    "item_id",
    "item__sku",
    "item__title",
    "item__product__category__name",
    "location_id",
    "location__name",
    "location__for_sale",
    "on_hand",
    "committed",
    "backordered",
    "incoming",
    "own_cost__value",
)


def find_items(rows: QuerySet[Any], q: str, prefix: str = "", code: str = "") -> QuerySet[Any]:
    """Rows whose item's SKU, title or barcode contains every word of `q`. `code`: where the rows keep a barcode of their
    own, as it was written, the field it is in."""
    for word in q.split()[:6]:
        digits = word.isascii() and word.isdigit() and 8 <= len(word) <= 14
        condition = Q(**{f"{prefix}sku__icontains": word}) | Q(**{f"{prefix}title__icontains": word})
        if code:
            condition |= Q(**{f"{code}__icontains": word})
        elif digits:
            condition |= Q(**{f"{prefix}barcodes__gtin": word.zfill(14)})
        rows = rows.filter(condition)
    return rows


# What rooms above know of items, by which the range can be narrowed: (rows, how they are listed, on which connection).
Narrow = Callable[[QuerySet[Item], str, int | None], QuerySet[Item]]
_narrows: list[Narrow] = []


def narrows(narrow: Narrow) -> Narrow:
    """Make known a way to narrow the range."""
    _narrows.append(narrow)
    return narrow


def items_found(
    q: str = "", kind: str = "", state: str = "active", listed: str = "", connection: int | None = None
) -> QuerySet[Item]:
    """The items that the range sheet shows under its filters."""
    rows = find_items(priced(Item.objects.filter(active=state != "retired")), q)
    if state == "internal":
        rows = rows.filter(internal=True)
    if kind:
        rows = rows.filter(kind=kind)
    for narrow in _narrows if listed else ():
        rows = narrow(rows, listed, connection)
    return rows


def item_sheet(
    q: str,
    kind: str,
    cursor: str,
    limit: int,
    sort: str = "",
    state: str = "active",
    listed: str = "",
    connection: int | None = None,
) -> dict[str, Any]:
    """A page of the range. What is counted is counted for its rows alone: joined to all items, each would be
    counted before the page is cut."""
    rows = items_found(q, kind, state, listed, connection).annotate(own_cost=own_of("costs"))
    rows, order = in_order(rows, sort, ITEM_SORTS, ["title", "id"])
    found, following = page_of_values(rows, order, cursor, limit, ITEM)
    beside = beside_of(ITEM_BESIDE, Many(row.pk for row in found))
    return {
        "rows": rows_by_column(ItemRow, found, lambda some: _item_columns(some) | beside(some), _known_item),
        "next": following,
    }


def _known_item(item: Any) -> dict[str, Any]:
    return {"id": item.pk, "title": item.title, "sku": item.sku, "kind": item.kind}


def _barcodes(ids: Many) -> dict[int, str]:
    """The first barcode of each item that has one, as it is printed."""
    codes = Barcode.objects.filter(item__any_of=ids).order_by("-pk").values_list("item_id", "gtin")
    return {item: short_gtin(gtin) for item, gtin in dict(codes).items()}


def _listings(ids: Many) -> dict[int, int]:
    """How many listings of the company's connections each item has."""
    mine = Item.objects.filter(pk__any_of=ids, listings__connection__company=company_id()).order_by()
    return dict(mine.values_list("pk").annotate(n=Count("listings")))


def _preferred(ids: Many) -> dict[int, str]:
    """The supplier from which each item is bought."""
    mine = Item.objects.filter(pk__any_of=ids, supplier_items__preferred=True).order_by()
    return dict(mine.values_list("pk", "supplier_items__supplier__name"))


def _held(ids: Many) -> dict[int, Decimal]:
    """What of each item lies in all places together."""
    rows = StockBalance.objects.filter(item__any_of=ids).order_by()
    return dict(rows.values_list("item_id").annotate(units=Sum("on_hand")))


ITEM_BESIDE: Beside = {
    "picture": (lambda ids: first_of(ids.ids), None),
    "barcode": (_barcodes, ""),
    "listings": (_listings, 0),
    "supplier": (_preferred, ""),
    "on_hand": (_held, None),
}


def _item_columns(rows: Sequence[Any]) -> dict[str, Column]:
    return {
        **{name: partial(kept_of, rows, kept) for name, kept in ITEM_AS_KEPT.items()},
        "category": lambda: [row.product__category__name or "" for row in rows],
    }


def balances(q: str, location: int | None, show: str) -> QuerySet[StockBalance]:
    """The shelf's rows under a filter; `show` is all, short (something is backordered or below zero) or held."""
    rows = StockBalance.objects.annotate(own_cost=own_of("item__costs"), available=_AVAILABLE)
    rows = find_items(rows.filter(item__kind=Item.Kind.STOCKED), q, "item__")
    if location:
        rows = rows.filter(location_id=location)
    if show == "short":
        rows = rows.filter(Q(backordered__gt=0) | Q(available__lt=0) | Q(on_hand__lt=0))
    if show == "held":
        rows = rows.filter(on_hand__gt=0)
    return rows


def stock_sheet(
    q: str, location: int | None, show: str, cursor: str, limit: int, as_at: date | None = None, sort: str = ""
) -> dict[str, Any]:
    """A page of the shelf, its rows valued, and the totals of all that match; `as_at` the end of a day, from its moves.

    Raises BadInputError where the sheet of a past day is to be sorted: its figures are known only row by row."""
    if as_at:
        if sort:
            raise BadInputError("Stock at a past date can only be sorted by item.", field="sort")
        return _sheet_as_at(q, location, cursor, limit, as_at)
    matching = balances(q, location, show)
    ordered, order = in_order(matching, sort, STOCK_SORTS, ["item__title", "location__position", "id"])
    rows, following = page_of_values(ordered, order, cursor, limit, ROW)
    values = _values_of(rows, whole=not (location or sort) and show == "all")
    expiry = _expiry({row.item_id for row in rows}) if is_asked("expires_on") else {}
    pictures = first_of(row.item_id for row in rows) if is_asked("picture") else {}
    shown = rows_by_column(StockRow, rows, lambda some: _columns(some, values, expiry, pictures), _known)
    return {"rows": shown, "next": following, **({} if cursor or not is_asked("total_value") else _totals(matching))}


def _expiry(item_ids: set[int]) -> dict[tuple[int, int], date]:
    """The day until which the oldest lot of an item at a place keeps."""
    lots = LotBalance.objects.filter(on_hand__gt=0, lot__item_id__any_of=item_ids).values_list("lot__item_id", "location_id")
    return {(item, place): day for item, place, day in lots.annotate(day=Min("lot__expires_on")).order_by()}


def _known(row: Any) -> dict[str, Any]:
    known = {"id": row.pk, "title": f"{row.item__title} · {row.location__name}", "sku": row.item__sku, "item_id": row.item_id}
    return {**known, "location_id": row.location_id, "location": row.location__name}


def _totals(matching: QuerySet[StockBalance]) -> dict[str, Any]:
    """How many rows a filter finds and what they are worth together."""
    worth = F("on_hand") * F("own_cost__value") / F("own_cost__quantity")
    found = matching.order_by().aggregate(
        total_rows=Count("pk"), total_value=Coalesce(Sum(worth, filter=~Q(own_cost__quantity=0)), Value(ZERO))
    )
    return {**found, "total_value": figure_or(lambda: Decimal(found["total_value"]), "The value of all stock")}


def _sheet_as_at(q: str, location: int | None, cursor: str, limit: int, day: date) -> dict[str, Any]:
    """What had happened by the end of a day, whenever it was heard of. Promises of that day are not kept."""
    matching = balances(q, location, "all")
    rows, following = page_of_values(matching, ["item__title", "location__position", "id"], cursor, limit, ROW)
    moved = StockMove.objects.filter(happened_at__lt=end_of_day(day))
    sums = {
        (item, place): (units, value)
        for item, place, units, value in moved.filter(item_id__in={row.item_id for row in rows})
        .values_list("item_id", "location_id")
        .annotate(units=Sum("quantity"), worth=Sum("value"))
        .order_by()
    }
    pairs = matching.values("item_id", "location_id").order_by()
    total = moved.filter(Exists(pairs.filter(item_id=OuterRef("item_id"), location_id=OuterRef("location_id"))))

    pictures = first_of(row.item_id for row in rows) if is_asked("picture") else {}

    def then(some: Sequence[Any]) -> dict[str, Column]:
        held = [(row, *sums.get((row.item_id, row.location_id), (ZERO, ZERO))) for row in some]
        nothing = dict.fromkeys(("committed", "backordered", "incoming"), lambda: [ZERO] * len(held))
        return {
            **_columns(some, {}, {}, pictures),
            **nothing,
            "on_hand": lambda: [units for _, units, _ in held],
            "available": lambda: [units if row.location__for_sale else ZERO for row, units, _ in held],
            "value": lambda: [value for *_, value in held],
        }

    shown = rows_by_column(StockRow, rows, then, _known)
    if cursor:
        return {"rows": shown, "next": following}
    worth = total.aggregate(value=Coalesce(Sum("value"), Value(ZERO)))["value"]
    return {
        "rows": shown,
        "next": following,
        "total_rows": matching.count(),
        "total_value": figure_or(lambda: worth, "The value of all stock"),
    }


# What a row of the sheet says as it is kept.
AS_KEPT = {
    "id": "pk",
    "sku": "item__sku",
    "title": "item__title",
    "location": "location__name",
    **{name: name for name in ("item_id", "location_id", "on_hand", "committed", "backordered", "incoming")},
}


def _columns(
    rows: Sequence[Any],
    values: Mapping[tuple[int, int], Decimal],
    expiry: Mapping[tuple[int, int], date],
    pictures: Mapping[int, int],
) -> dict[str, Column]:
    return {
        **{name: partial(kept_of, rows, kept) for name, kept in AS_KEPT.items()},
        "picture": lambda: [pictures.get(row.item_id) for row in rows],
        "category": lambda: [row.item__product__category__name or "" for row in rows],
        "available": lambda: [row.on_hand - row.committed if row.location__for_sale else ZERO for row in rows],
        "value": lambda: [values.get((row.item_id, row.location_id), ZERO) for row in rows],
        "expires_on": lambda: [expiry.get((row.item_id, row.location_id)) for row in rows],
    }


Places = dict[int, list[tuple[int, Decimal]]]


def _values_of(rows: Sequence[Any], *, whole: bool) -> dict[tuple[int, int], Decimal]:
    """Value of each row. `whole`: the sheet has every place of its items, those of one item beside each other, so that
    only what the page cuts through must be read."""
    if not whole or not is_asked("value"):
        return place_values({row.item_id for row in rows}) if is_asked("value") else {}
    ends = {row.item__title for row in (*rows[:1], *rows[-1:])}
    held: Places = defaultdict(list)
    worth, cut = {}, set()
    for row in rows:
        if row.item__title in ends:
            cut.add(row.item_id)
        else:
            held[row.item_id].append((row.location_id, row.on_hand))
            worth[row.item_id] = row.own_cost__value
    for places in held.values():
        places.sort()
    return _spread(held, worth) | place_values(cut)


def place_values(item_ids: set[int]) -> dict[tuple[int, int], Decimal]:
    """Value of each item at each location: the item's value spread by units, adding up exactly."""
    worth = dict(ItemCost.objects.filter(item_id__any_of=item_ids).values_list("item_id", "value"))
    held: Places = defaultdict(list)
    rows = StockBalance.objects.filter(item_id__any_of=item_ids).order_by("location_id")
    for item, place, units in rows.values_list("item_id", "location_id", "on_hand"):
        held[item].append((place, units))
    return _spread(held, worth)


def _spread(held: Places, worth: Mapping[int, Decimal | None]) -> dict[tuple[int, int], Decimal]:
    found = {}
    for item, places in held.items():
        value = worth.get(item) or ZERO
        weights = [max(ZERO, units) for _, units in places]
        if value < 0:
            weights = [max(ZERO, -units) for _, units in places]
        parts = allocate(abs(value), weights)
        for (place, _), part in zip(places, parts, strict=True):
            found[item, place] = part if value >= 0 else -part
    return found


def moves(item_id: int | None, location: int | None, q: str, cursor: str, limit: int, sort: str = "") -> dict[str, Any]:
    """A page of moves, newest first."""
    rows = StockMove.objects.select_related("item", "location", "lot")
    if item_id:
        rows = rows.filter(item_id=item_id)
    if location:
        rows = rows.filter(location_id=location)
    rows, order = in_order(find_items(rows, q, "item__"), sort, MOVE_SORTS, ["-happened_at", "-id"])
    found, following = page(rows, order, cursor, limit)
    return {"rows": sheet_rows(MoveRow, found, _move, _known_move), "next": following}


def _move(row: StockMove) -> dict[str, Any]:
    fields = ("id", "happened_at", "recorded_at", "item_id", "quantity", "value", "reason", "document", "link", "note")
    return {
        **{name: getattr(row, name) for name in fields},
        "sku": row.item.sku,
        "title": row.item.title,
        "location": row.location.name,
        "lot": row.lot.code if row.lot else "",
    }


def moves_of(ref: Ref) -> tuple[list[MoveRow], int]:
    """What a document moved, in the order in which it did: the first five hundred, and how many there are."""
    rows = StockMove.objects.filter(document_kind=ref.kind, document_id=ref.id)
    shown = rows.select_related("item", "location", "lot").order_by("pk")[:500]
    return sheet_rows(MoveRow, shown, _move, _known_move), rows.count()


def _known_move(row: StockMove) -> dict[str, Any]:
    known = {"id": row.pk, "title": row.item.title, "sku": row.item.sku, "item_id": row.item_id}
    return {**known, "happened_at": row.happened_at, "recorded_at": row.recorded_at, "location": row.location.name}


def _item_at(item_id: int, location_id: int) -> tuple[Item, Location, StockBalance]:
    item = Item.objects.filter(pk=item_id).first()
    place = Location.objects.filter(pk=location_id).first()
    if item is None or place is None:
        raise NotFoundError("There is no such item or location.")
    balance = StockBalance.objects.filter(item=item, location=place).first()
    return item, place, balance or StockBalance.none(item.pk, place.pk)


def on_hand_working(item_id: int, location_id: int) -> Working:
    """On hand as the sum of its moves, by reason, the newest shown."""
    item, place, balance = _item_at(item_id, location_id)
    rows = StockMove.objects.filter(item=item, location=place)
    by_reason = rows.values_list("reason").annotate(units=Sum("quantity")).order_by("reason")
    steps = [Step(reason.capitalize(), units, op="+" if units >= 0 else "") for reason, units in by_reason]
    steps.append(
        Step(
            "On hand",
            balance.on_hand,
            f"{rows.count()} moves",
            kind="result",
            unit=item.unit,
            link=f"/shelf/moves?item={item.pk}&location={place.pk}",
        )
    )
    last = rows.order_by("-happened_at", "-pk").first()
    note = ""
    if last:
        note = f"The last move was {spoken(last.quantity, signed=True)}, {last.reason}, {last.document or 'no document'}."
    return Working("Where does on hand come from?", f"{item.title} · {place.name}", tuple(steps), note)


def available_working(item_id: int, location_id: int) -> Working:
    """Available = on hand - committed; where nothing is for sale, none."""
    item, place, balance = _item_at(item_id, location_id)
    free = balance.on_hand - balance.committed
    kept = () if place.for_sale else (Step("Not for sale", free, "what lies here is for repair", op="-"),)
    steps = (
        Step("On hand", balance.on_hand, link=f"/shelf/moves?item={item.pk}&location={place.pk}"),
        Step("Committed", balance.committed, "reserved for orders and transfers", op="-"),
        *kept,
        Step("Available", free if place.for_sale else ZERO, kind="result", unit=item.unit),
    )
    note = f"{spoken(balance.backordered)} more are backordered." if balance.backordered else ""
    return Working("How many are free?", f"{item.title} · {place.name}", steps, note)


def layers(cost: ItemCost | None) -> list[dict[str, Any]] | None:
    """What is there of an item in the order in which it came; `unit_cost` to six decimals. None where that does not count."""
    if way() != "fifo":
        return None
    return [
        {"came": one.came, "quantity": one.quantity, "unit_cost": round_unit_cost(one.value / one.quantity), "value": one.value}
        for one in (layers_of(state_of(cost)) if cost else ())
    ]


def value_working(item_id: int, location_id: int) -> Working:
    """Value at a location: its share, by units, of the item's value."""
    item, place, balance = _item_at(item_id, location_id)
    cost = ItemCost.objects.filter(item=item).first() or ItemCost(item=item)
    here = place_values({item.pk}).get((item.pk, place.pk), ZERO)
    average = cost.value / cost.quantity if cost.quantity else cost.last_average
    came = layers(cost) or []
    steps = (
        *(
            Step(
                one["came"] or "Before", one["value"], f"{spoken(one['quantity'])} at {one['unit_cost']:.4f}", op="+" if n else ""
            )
            for n, one in enumerate(came)
        ),
        Step(
            "Value of all stock",
            cost.value,
            "first in, first out" if came else "by moving average",
            kind="subtotal" if came else "term",
            link=f"/range/items/{item.pk}",
        ),
        Step("Units in all places", cost.quantity, op="÷"),
        Step("Average cost", average.quantize(Decimal("0.0001")), kind="subtotal"),
        Step("On hand here", balance.on_hand, op="×"),
        Step("Value here", here, "shares add up to the cent", kind="result", unit=company().base_currency),
    )
    return Working("What is it worth?", f"{item.title} · {place.name}", steps)


def cost_working(change_id: int) -> Working:
    """One change of an item's cost as a sum."""
    row = CostChange.objects.select_related("item").filter(pk=change_id).first()
    if row is None:
        raise NotFoundError("There is no such change of cost.")
    units = row.quantity_before + row.quantity
    after = row.value_before + row.value
    steps = (
        Step("Value before", row.value_before, f"{spoken(row.quantity_before)} units at {row.average_before:.4f}"),
        Step(
            row.cause.capitalize(),
            abs(row.value),
            f"{spoken(row.quantity, signed=True)} units, {row.document}",
            op="+" if row.value >= 0 else "-",
            link=row.link,
        ),
        Step("Value after", after, kind="subtotal"),
        Step("Units after", units, op="÷"),
        Step("Average cost", row.average_after, kind="result", unit=company().base_currency),
    )
    note = ""
    if row.true_up:
        note = f"{row.true_up} went to cost of sales, because units were sold before they were here."
    return Working("What does one cost?", row.item.title, steps, note)


def latest_cost_working(item_id: int) -> Working:
    """The newest change of an item's cost."""
    row = CostChange.objects.filter(item_id=item_id).order_by("-at", "-pk").first()
    if row is None:
        raise NotFoundError("This item has no cost yet; it was never received.")
    return cost_working(row.pk)


@look_for
def on_hand_obstacles(item_id: int) -> list[Obstacle]:
    """Where an item lies."""
    rows = StockBalance.objects.filter(item_id=item_id).exclude(on_hand=0).select_related("location", "item")
    return [
        Obstacle(f"{spoken(row.on_hand)} are on hand at {row.location.name}.", f"/shelf/moves?item={item_id}") for row in rows
    ]
