"""Opening stock from a CSV: checked row by row first, taken in as one event once confirmed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from django.core import signing

from yuvrel.apart import SMALL_FILES
from yuvrel.catalogue.models import Item
from yuvrel.core import bounds
from yuvrel.core.errors import BadInputError
from yuvrel.core.gtin import normal_sku
from yuvrel.core.money import ZERO, round_money
from yuvrel.core.sheet_reading import Fault, Table, date_of, decimal_of
from yuvrel.core.sheets import write_table
from yuvrel.people.models import Location

from .actions import OpeningRow
from .models import StockMove

COLUMNS = ("sku", "location", "quantity", "unit_cost")
SALT = "yuvrel.opening"
BOUNDS: dict[str, Callable[[Decimal, str], Decimal]] = {
    "quantity": bounds.check_quantity,
    "unit_cost": lambda value, field: bounds.check_number(value, field, places=bounds.UNIT_COST_PLACES, below=bounds.MOST_PRICE),
}


@dataclass(frozen=True)
class Checked:
    """Rows that can be taken in, faults of the others, the value of the good ones."""

    table: Table
    rows: list[tuple[int, str, str, OpeningRow]]
    faults: list[Fault]
    value: Decimal

    def left_out(self) -> dict[int, str]:
        """By line that cannot be taken in: everything that is wrong with it."""
        found: dict[int, str] = {}
        for fault in self.faults:
            found[fault.line] = f"{found[fault.line]}; {fault}" if fault.line in found else str(fault)
        return found

    def left_out_csv(self) -> str:
        """Those lines as they came, with a column that says why."""
        why = self.left_out()
        rows = zip(self.table.lines, self.table.rows, strict=True)
        columns = [name for name in self.table.columns if name != "why"]
        return write_table([*columns, "why"], [{**row, "why": why[line]} for line, row in rows if line in why])

    def token(self) -> str:
        """The good rows, signed, so that what is confirmed is what was checked."""
        plain = [
            [
                r.item_id,
                r.location_id,
                str(r.quantity),
                str(r.unit_cost),
                r.lot_code,
                r.expires_on.isoformat() if r.expires_on else "",
            ]
            for _, _, _, r in self.rows
        ]
        return signing.dumps(plain, salt=SALT, compress=True)


def template() -> str:
    """A file to start from: the columns, and a row for a few items of the range as examples."""
    place = Location.objects.first()
    code = place.code if place else "main"
    rows = ["sku,location,quantity,unit_cost,lot,expires_on"]
    stocked = Item.objects.filter(active=True, kind=Item.Kind.STOCKED).order_by("expiry_tracked", "pk")
    examples = [(item.sku, item.expiry_tracked) for item in [*stocked[:2], *stocked.filter(expiry_tracked=True)[:1]]]
    for sku, expires in examples or [("YOUR-SKU-1", False), ("YOUR-SKU-2", True)]:
        quoted = f'"{sku}"' if any(c in sku for c in ',"\n') else sku
        rows.append(f"{quoted},{code},25,38.40,{'L2611,2027-05-31' if expires else ','}")
    return "\r\n".join(rows) + "\r\n"


def check(data: bytes) -> Checked:
    """Read a file without taking anything in. Raises BadInputError when it is no table at all."""
    table: Table = SMALL_FILES.call("read_any", data, COLUMNS, name="file")
    items = {normal_sku(item.sku): item for item in Item.objects.filter(active=True)}
    places = {p.code.lower(): p for p in Location.objects.all()}
    places |= {p.name.lower(): p for p in places.values()}
    stocked = set(StockMove.objects.values_list("item_id", "location_id").distinct())
    rows: list[tuple[int, str, str, OpeningRow]] = []
    faults: list[Fault] = []
    seen: set[tuple[int, int, str]] = set()
    for line, row in zip(table.lines, table.rows, strict=True):
        found, problems = _check_row(line, row, items, places)
        if found and (found.item_id, found.location_id) in stocked:
            problems = [Fault(line, "sku", row["sku"], "has moves at this location already; count it instead")]
        elif found and (found.item_id, found.location_id, found.lot_code) in seen:
            problems = [Fault(line, "sku", row["sku"], "stands twice for this location")]
        if problems or found is None:
            faults += problems
            continue
        seen.add((found.item_id, found.location_id, found.lot_code))
        rows.append((line, row["sku"], row["location"], found))
    value = sum((round_money(r.quantity * r.unit_cost) for *_, r in rows), ZERO)
    return Checked(table, rows, faults, value)


def _check_row(
    line: int, row: dict[str, str], items: dict[str, Item], places: dict[str, Location]
) -> tuple[OpeningRow | None, list[Fault]]:
    faults: list[Fault] = []
    item = items.get(normal_sku(row.get("sku", "")))
    place = places.get(row.get("location", "").lower())
    if item is None:
        faults.append(Fault(line, "sku", row.get("sku", ""), "is not a SKU of the range"))
    elif item.kind != Item.Kind.STOCKED:
        faults.append(Fault(line, "sku", item.sku, f"is a {item.kind}; it has no stock of its own"))
    if place is None:
        faults.append(Fault(line, "location", row.get("location", ""), "is not a location"))
    quantity = _number(line, row, "quantity", faults)
    cost = _number(line, row, "unit_cost", faults)
    if quantity is not None and quantity <= 0:
        faults.append(Fault(line, "quantity", row["quantity"], "must be greater than zero"))
    if item and quantity is not None and quantity != quantity.quantize(Decimal(1).scaleb(-item.decimals)):
        faults.append(Fault(line, "quantity", row["quantity"], f"has more than {item.decimals} decimals"))
    if cost is not None and cost < 0:
        faults.append(Fault(line, "unit_cost", row["unit_cost"], "cannot be negative"))
    lot, expires = _lot(line, row, item, faults)
    if faults or item is None or place is None or quantity is None or cost is None:
        return None, faults
    return OpeningRow(item.pk, place.pk, quantity, cost, lot, expires), []


def _number(line: int, row: dict[str, str], column: str, faults: list[Fault]) -> Decimal | None:
    text = row.get(column, "")
    try:
        return BOUNDS[column](decimal_of(text, column), column)
    except BadInputError as error:
        faults.append(Fault(line, column, text, error.detail))
        return None


def _lot(line: int, row: dict[str, str], item: Item | None, faults: list[Fault]) -> tuple[str, date | None]:
    code, text = row.get("lot", ""), row.get("expires_on", "")
    if item is None or not item.expiry_tracked:
        return "", None
    if not code:
        faults.append(Fault(line, "lot", code, "is needed: this item expires"))
    try:
        return bounds.check_text(code, "lot", 40), bounds.check_day(date_of(text, "expires_on"), "expires_on")
    except BadInputError as error:
        faults.append(Fault(line, error.field, code if error.field == "lot" else text, error.detail))
        return "", None


def confirmed(token: str) -> list[OpeningRow]:
    """The rows of a checked file. Raises BadInputError for a token that is old or not ours."""
    try:
        plain = signing.loads(token, salt=SALT, max_age=3600)
    except signing.BadSignature as error:
        raise BadInputError("This check has expired; upload the file again.", field="token") from error
    return [
        OpeningRow(item, place, Decimal(q), Decimal(c), lot, date.fromisoformat(day) if day else None)
        for item, place, q, c, lot, day in plain
    ]


__all__ = ["Checked", "Table", "check", "confirmed", "template"]
