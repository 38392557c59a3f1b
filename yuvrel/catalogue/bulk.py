"""One thing about many items changed at once: as a sheet, so that it is rehearsed, stopped and undone like one."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from yuvrel.core.errors import BadInputError
from yuvrel.core.intake import EMPTY, Column
from yuvrel.core.sheets import write_table
from yuvrel.intake.actions import send
from yuvrel.intake.models import Intake
from yuvrel.intake.registry import KINDS, Kind
from yuvrel.people.roles import Actor


def _kind(name: str) -> Kind:
    kind = KINDS.get(name)
    if kind is None or kind.columns[0].name != "sku" or not any(column.many for column in kind.columns):
        raise BadInputError("Nothing about many items is kept there.", field="kind")
    return kind


def change_many(
    actor: Actor, skus: Sequence[str], column: str, text: str, at: datetime, kind: str = "items", beside: str = ""
) -> Intake:
    """Have a column of a sheet of items set to one text for all these items; empty clears it. `beside`: the place or
    the connection for which it counts, where the sheet knows one. Nothing is changed before somebody has seen what
    would be and says so. Raises BadInputError for what no item could have."""
    into = _kind(kind)
    actor.need(into.ability)
    many = {one.name: one for one in into.columns if one.many}
    if column not in many:
        raise BadInputError(f"Choose one of {', '.join(many)}.", field="column")
    if not skus:
        raise BadInputError("Choose at least one item.", field="ids")
    text = _checked(many[column], text)
    named = next((one.name for one in into.columns if one.tells), "") if beside.strip() else ""
    if beside.strip() and not named:
        raise BadInputError("This is the same everywhere.", field="beside")
    told = {named: beside.strip()} if named else {}
    data = write_table(["sku", *told, column], ({"sku": sku, **told, column: text} for sku in skus))
    count = f"{len(skus):,} {'item' if len(skus) == 1 else 'items'}"
    at_or_on = f" ({beside.strip()})" if named else ""
    name = f"{column.replace('_', ' ').capitalize()} of {count}{at_or_on}: {text}"
    return send(actor, kind, name, data.encode(), at)


def _checked(column: Column, text: str) -> str:
    text = text.strip() or EMPTY
    if text == EMPTY and column.empty is None:
        raise BadInputError("Say what it is to be; this cannot be empty.", field="text")
    if text != EMPTY:
        try:
            column.read(text)
        except BadInputError as error:
            raise BadInputError(f"{text[:60]}: {error.detail}", field="text") from error
    return text
