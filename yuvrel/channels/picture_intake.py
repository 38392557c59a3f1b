"""Pictures that an account shows of its goods: taken in for products that have none of their own."""

from __future__ import annotations

from django.db.models import Exists, OuterRef

from yuvrel.catalogue.models import Picture
from yuvrel.catalogue.pictures import add
from yuvrel.connectors.base import capable
from yuvrel.connectors.capabilities import Capability, Pictures
from yuvrel.connectors.http import ConnectorError
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.rules import Setting
from yuvrel.events.actions import wake
from yuvrel.people.roles import SYSTEM
from yuvrel.platform.bulk import update_many
from yuvrel.rules.queries import settled
from yuvrel.rules.registry import declare

from .credentials import connector_for, kind_of
from .listing_facts import OWN
from .models import Connection, Listing, Run
from .rules import connection_rungs
from .runs import RunLog, begin, run_of

KIND = "pictures"
declare(
    Setting(
        "pictures_in",
        "Pictures",
        "Whether pictures come along. A product that has some keeps them as they are.",
        "choice",
        "empty",
        choices=(("empty", "products without pictures get them"), ("no", "left there")),
        **{**OWN, "needs": Capability.PICTURES.value},
    )
)


def lacking(connection: Connection) -> list[Listing]:
    """One listing of each product that has no picture and whose listing shows some that were not tried yet."""
    if Capability.PICTURES not in kind_of(connection).can:
        return []
    if settled(connection_rungs(connection), ["pictures_in"])["pictures_in"].value != "empty":
        return []
    rows = Listing.objects.filter(connection=connection, link=Listing.Link.LINKED, told__has_key=KIND).order_by("pk")
    rows = rows.exclude(Exists(Picture.objects.filter(product=OuterRef("item__product")))).select_related("item")
    found: dict[int, Listing] = {}
    for row in rows:
        if row.item is not None and row.settled.get(KIND) != row.told[KIND]:
            found.setdefault(row.item.product_id, row)
    return list(found.values())


def ask_pictures(connection: Connection) -> None:
    """Have pictures taken in by a job, where any are lacking; one that is under way is left alone."""
    if lacking(connection):
        try:
            run = begin(connection, KIND, SYSTEM.name)
        except RefusedError:
            return
        wake("channels.pictures", f"pictures:{connection.pk}", run_id=run.pk)


def take_pictures(run: Run) -> None:
    """Fetch what is lacking, product by product. What is no picture is said; it is tried again when it changes there."""
    connection = run.connection
    connector = capable(connector_for(connection), Pictures)
    with run_of(connection, KIND, run) as log:
        rows = lacking(connection)
        log.total = sum(len(row.told[KIND]) for row in rows)
        for row in rows:
            _take(connector, row, log)
        log.note(f"{log.taken} pictures taken in, {log.failed} could not be")


def _take(connector: Pictures, row: Listing, log: RunLog) -> None:
    """All of a product's pictures are fetched before the first is kept: were some kept and the rest not, it would have
    pictures, and the rest would never come."""
    fetched: list[tuple[bytes, str]] = []
    for one in row.told[KIND]:
        try:
            fetched.append((connector.picture(one["key"]), one.get("alt", "")))
        except ConnectorError as error:
            if error.passing or error.whole_connection:
                raise
            log.note(f"{row.sku or row.title}: {error}")
    taken = 0
    for data, alt in fetched:
        try:
            add(SYSTEM, row.item.product_id if row.item else 0, data, alt)
            taken += 1
        except (BadInputError, RefusedError) as error:
            log.note(f"{row.sku or row.title}: {error.detail}")
    _settle(row)
    shown = len(row.told[KIND])
    log.step(done=shown, taken=taken, failed=shown - taken)


def _settle(row: Listing) -> None:
    """Of all variants of the product that show the same, these were tried."""
    product = row.item.product_id if row.item else 0
    tried = list(Listing.objects.filter(connection=row.connection_id, item__product=product, told__has_key=KIND))
    for one in tried:
        if one.told[KIND] == row.told[KIND]:
            one.settled = {**one.settled, KIND: one.told[KIND]}
    update_many(tried, ["settled"])
