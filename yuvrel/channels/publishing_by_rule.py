"""New listings that are prepared, and handed in, by themselves where a rule says so."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np

from yuvrel.core.errors import RefusedError
from yuvrel.core.rules import Setting
from yuvrel.people.roles import SYSTEM
from yuvrel.rules.queries import by_level
from yuvrel.rules.registry import declare

from . import publishing
from .models import Connection, Publication, Run
from .rules import Ids, Kept, resolved_columns

NAME = "publish_when"
HAND, PREPARE, PUBLISH = "hand", "prepare", "publish"
declare(
    Setting(
        NAME,
        "New listings",
        "Items that are not listed there yet. What lacks something waits among what is prepared; what was refused, for a person.",
        "choice",
        HAND,
        choices=((HAND, "are made by hand"), (PREPARE, "are prepared by themselves"), (PUBLISH, "are handed in by themselves")),
        **publishing.CONTENT,
    )
)
# Of what is prepared, so many of the newest are looked at each time.
MOST = 2000


def carry_out(connection: Connection) -> Run | None:
    """Prepare what a rule lets be prepared, and ask for what lacks nothing to be handed in. Returns the run, None where there
    is nothing to hand in, or it is being done already."""
    kept = by_level([NAME])
    if not any(kept[NAME].values()):
        return None
    rows = publishing.candidates(connection).values_list("pk", "product_id", "product__category_id")
    chosen = [pk for pk, rule in _rules(connection, kept, rows).items() if rule != HAND][: publishing.MOST_AT_ONCE]
    if chosen:
        publishing.prepare(SYSTEM, connection.pk, chosen)
    waiting = connection.publications.filter(state=Publication.State.PREPARED).order_by("-pk")  # type: ignore[attr-defined]
    found = list(waiting.select_related("item__product")[:MOST])
    facts = [(row.item_id, row.item.product_id, row.item.product.category_id) for row in found]
    rules = _rules(connection, kept, facts)
    found = [row for row in found if rules[row.item_id] == PUBLISH]
    drafts = publishing.drafts_of(connection, found, publishing.kept_categories(connection))
    whole = [row.pk for row in found if not drafts[row.pk].problems]
    if not whole:
        return None
    try:
        return publishing.ask_publish(SYSTEM, connection.pk, whole)
    except RefusedError:
        # Somebody is handing in already.
        return None


def _rules(connection: Connection, kept: Kept, rows: Iterable[tuple[int, int, int | None]]) -> Mapping[int, str]:
    """What the rule says of items, by id."""
    columns = [(0, item, product, category or 0, 1) for item, product, category in rows]
    ids = Ids(*np.array(columns, np.int64).reshape(len(columns), 5).T)
    values, which = resolved_columns(NAME, connection, ids, kept)
    return {item: str(values[at]) for item, at in zip(ids.item.tolist(), which.tolist(), strict=True)}
