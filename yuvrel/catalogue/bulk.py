"""One thing about many items changed at once: as a sheet, so that it is rehearsed, stopped and undone like one."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from yuvrel.core.errors import BadInputError
from yuvrel.core.intake import EMPTY
from yuvrel.core.sheets import write_table
from yuvrel.intake.actions import send
from yuvrel.intake.models import Intake
from yuvrel.people.roles import Ability, Actor

from .sheet import COLUMNS, NAMED

MANY = tuple(column.name for column in COLUMNS if column.many)


def change_many(actor: Actor, skus: Sequence[str], column: str, text: str, at: datetime) -> Intake:
    """Have a column of the item sheet set to one text for all these items; empty clears it. Nothing is changed before
    somebody has seen what would be and says so. Raises BadInputError for what no item could have."""
    actor.need(Ability.EDIT_RANGE)
    if column not in MANY:
        raise BadInputError(f"Choose one of {', '.join(MANY)}.", field="column")
    if not skus:
        raise BadInputError("Choose at least one item.", field="ids")
    text = text.strip() or EMPTY
    if text == EMPTY and NAMED[column].empty is None:
        raise BadInputError("Say what it is to be; this cannot be empty.", field="text")
    if text != EMPTY:
        try:
            NAMED[column].read(text)
        except BadInputError as error:
            raise BadInputError(f"{text[:60]} {error.detail}", field="text") from error
    data = write_table(["sku", column], ({"sku": sku, column: text} for sku in skus))
    count = f"{len(skus):,} {'item' if len(skus) == 1 else 'items'}"
    return send(actor, "items", f"{column.replace('_', ' ').capitalize()} of {count}: {text}", data.encode(), at)
