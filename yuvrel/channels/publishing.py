"""From items to listings: prepared, checked, filled in, handed in, and what came of each."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import Count, QuerySet
from django.utils import timezone

from yuvrel.apart import rendered
from yuvrel.catalogue.models import Barcode, Item
from yuvrel.connectors.base import capable
from yuvrel.connectors.capabilities import Capability, Publishing
from yuvrel.connectors.messages import NewListing, PushResult, RemoteCategory, Submitted
from yuvrel.core.content import FACTS, Filled, missing, plain
from yuvrel.core.content import fill as fill_in
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, StaleError
from yuvrel.core.gtin import short_gtin
from yuvrel.core.money import minor_unit
from yuvrel.core.price_columns import NONE
from yuvrel.core.rules import OF_CONNECTIONS, ON_CHANNELS, Setting, meanings
from yuvrel.events.actions import record, wake
from yuvrel.events.models import Event
from yuvrel.people.epochs import keys_of
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import update_many
from yuvrel.rules.models import SettingValue
from yuvrel.rules.queries import by_level, settled
from yuvrel.rules.registry import declare
from yuvrel.stock.queries import find_items

from . import price_rules, submissions
from .actions import get_connection
from .credentials import connector_for, kind_of
from .language import wording_of
from .models import Connection, Listing, Publication, Run, SubmittedLine
from .rules import Ids, connection_rungs, resolved_columns
from .runs import RunLog, begin, run_of

CONTENT: dict[str, Any] = {
    "levels": ON_CHANNELS,
    "group": "Content",
    "ability": Ability.CONNECT.value,
    "needs": Capability.PUBLISHING.value,
}
NAMED = "It may name " + ", ".join(FACTS) + "."
declare(
    Setting("title_there", "Title there", f"A template. {NAMED}", "template", "{{ title }}", **CONTENT),
    Setting("description_there", "Description there", f"A template. {NAMED}", "template", "{{ description }}", **CONTENT),
    Setting(
        "category_there",
        "Category there",
        "In which of the channel's own categories new listings stand, by its id.",
        "text",
        "",
        most=60,
        **CONTENT,
    ),
    Setting(
        "attributes_there",
        "Attributes there",
        "What is filled in of what the channel's categories ask: for each a template, as {{ brand }} or {{ options.Size }}. "
        "What is typed in for an item goes before it.",
        "map",
        "{}",
        words="attributes_there",
        templates=True,
        no_limit="nothing is filled in",
        most=300,
        **{**CONTENT, "levels": OF_CONNECTIONS},
    ),
    Setting(
        "values_there",
        "Values there",
        "What the channel calls a value of ours, where it allows only its own.",
        "map",
        "{}",
        words="values_there",
        no_limit="as it is here",
        **{**CONTENT, "levels": OF_CONNECTIONS},
    ),
)
NAMES = ("title_there", "description_there", "category_there")
SORT = "offers"
MOST_AT_ONCE = 5000
State = Publication.State


def names_price() -> bool:
    """Whether any title or description says what an item costs, and so is another when that is."""
    said = SettingValue.objects.filter(name__in=("title_there", "description_there")).values_list("value", flat=True)
    return any("price" in str(template) for template in said)


@dataclass(frozen=True)
class Draft:
    """How an item would look as a listing, and what still stands in the way. `filled`: attributes by rule, `unknown`: values
    among them that the channel does not allow, `attributes`: with what was typed in before them."""

    title: str
    description: str
    category: str
    price: Decimal | None
    barcode: str
    problems: tuple[str, ...]
    filled: dict[str, str] = field(default_factory=dict)
    unknown: tuple[str, ...] = ()
    attributes: dict[str, str] = field(default_factory=dict)


def read_categories(connection: Connection) -> dict[str, RemoteCategory]:
    """Ask the channel for its categories and keep them. Raises ConnectorError."""
    found = capable(connector_for(connection), Publishing).categories()
    Connection.objects.filter(pk=connection.pk).update(categories=[one.model_dump() for one in found])
    return {one.id: one for one in found}


def kept_categories(connection: Connection) -> dict[str, RemoteCategory]:
    """The channel's categories as they were last read: when it was tested, and with every handing in."""
    return {one["id"]: RemoteCategory.model_validate(one) for one in connection.categories}


def candidates(connection: Connection, q: str = "") -> QuerySet[Item]:
    """Items that are sold and neither listed on a connection nor about to be."""
    rows = Item.objects.filter(active=True, internal=False).exclude(kind=Item.Kind.SERVICE)
    rows = rows.exclude(pk__in=connection.listings.exclude(item=None).values("item"))  # type: ignore[attr-defined]
    rows = rows.exclude(pk__in=connection.publications.values("item"))  # type: ignore[attr-defined]
    return find_items(rows, q).order_by("title", "pk")


@transaction.atomic
def prepare(actor: Actor, connection_id: int, item_ids: Sequence[int]) -> int:
    """Have items prepared for a connection; those listed there already are left out. Returns how many are new."""
    connection = _may(actor, connection_id)
    if len(item_ids) > MOST_AT_ONCE:
        raise BadInputError(f"Prepare at most {MOST_AT_ONCE:,} items at once.", field="items")
    wanted = list(candidates(connection).filter(pk__in=item_ids).values_list("pk", flat=True))
    before = connection.publications.count()  # type: ignore[attr-defined]
    rows = [Publication(connection=connection, item_id=pk, by=actor.name) for pk in wanted]
    Publication.objects.bulk_create(rows, 2000, ignore_conflicts=True)
    made = connection.publications.count() - before  # type: ignore[attr-defined]
    audit(actor, "prepare listings", "connection", connection.pk, after={"items": made})
    return int(made)


def _may(actor: Actor, connection_id: int) -> Connection:
    actor.need(Ability.PAIR)
    connection = get_connection(connection_id)
    if Capability.PUBLISHING not in kind_of(connection).can:
        raise RefusedError("On this kind of connection no listings can be made.", field="kind")
    return connection


def drafts_of(connection: Connection, rows: Sequence[Publication], categories: Mapping[str, RemoteCategory]) -> dict[int, Draft]:
    """How publications would look, in a fixed number of queries."""
    items = {item.pk: item for item in _items([row.item_id for row in rows])}
    values = _values(connection, _ids([items[row.item_id] for row in rows]))
    prices = _prices(connection, list(items.values()))
    codes = _codes(items)
    most, by_rule = capable_most(connection), Filling.of(connection)
    words = wording_of(connection, (item.product_id for item in items.values()))
    found = {}
    for row, (title_there, description_there, category_there) in zip(rows, values, strict=True):
        item = items[row.item_id]
        facts, problems = words.say(item.product_id, _facts(item, codes.get(item.pk, ""), prices.get(item.pk)))
        title = _said(title_there, facts, "title_there", problems)
        description = _said(description_there, facts, "description_there", problems)
        category = row.category or category_there
        filled = by_rule.fill(categories.get(category), facts)
        attributes = {**filled.values, **row.attributes}
        lacks = _lacks(row, title, most, category, categories, prices.get(item.pk), attributes)
        found[row.pk] = Draft(
            title,
            description,
            category,
            prices.get(item.pk),
            codes.get(item.pk, ""),
            (*problems, *filled.wrong, *lacks),
            filled.values,
            tuple(filled.unknown),
            attributes,
        )
    return found


@dataclass(frozen=True)
class Filling:
    """What a connection's rules fill attributes with."""

    templates: dict[str, str]
    values: dict[str, str]

    @classmethod
    def of(cls, connection: Connection) -> Filling:
        """As its rules say now."""
        given = settled(connection_rungs(connection), ["attributes_there", "values_there"])
        return cls(meanings(given["attributes_there"].value), meanings(given["values_there"].value))

    def fill(self, category: RemoteCategory | None, facts: Mapping[str, Any]) -> Filled:
        """What it fills in of what a category asks."""
        asked = category.attributes if category else []
        return fill_in([(one.name, one.values) for one in asked], self.templates, self.values, facts, rendered)


def capable_most(connection: Connection) -> int:
    """The most characters of a title there."""
    kind = kind_of(connection)
    return kind.most_title if issubclass(kind, Publishing) else 0


def _said(template: str, facts: Mapping[str, Any], name: str, problems: list[str]) -> str:
    try:
        return rendered(template, facts, name)
    except BadInputError as error:
        problems.append(f"{'Title' if name == 'title_there' else 'Description'}: {error.detail}")
        return ""


def _lacks(
    row: Publication,
    title: str,
    most: int,
    category: str,
    categories: Mapping[str, RemoteCategory],
    price: Decimal | None,
    attributes: Mapping[str, str],
) -> list[str]:
    found = []
    if not title:
        found.append("It has no title.")
    elif len(title) > most:
        found.append(f"The title has {len(title)} characters; at most {most} are taken there.")
    if price is None:
        found.append("No list has a price for it.")
    if not category:
        found.append("Choose a category.")
    elif categories and category not in categories:
        found.append(f"There is no category {category} there.")
    elif category in categories and not row.entry:
        asked = categories[category].attributes
        labels = {one.name: one.label for one in asked}
        lacking = missing([one.name for one in asked if one.required], attributes)
        if lacking:
            found.append(f"It lacks {', '.join(labels[name] for name in lacking)}.")
        given = [(one, attributes.get(one.name)) for one in asked if one.values]
        wrong = [f"{one.label} {said}" for one, said in given if said and said not in one.values]
        if wrong:
            found.append(f"{', '.join(wrong)}: not a value that is allowed there.")
    return found


def _items(ids: Collection[int]) -> QuerySet[Item]:
    return Item.objects.filter(pk__in=set(ids)).select_related("product__category")


def content_of(connection: Connection, listings: QuerySet[Listing]) -> dict[int, tuple[str, str, list[str]]]:
    """(title, description, what stands in the way) of paired listings, as the content rules say now."""
    ids = Ids.of(listings.exclude(item=None))
    items = {item.pk: item for item in _items(ids.item.tolist())}
    prices, codes = _prices(connection, list(items.values())), _codes(items)
    words = wording_of(connection, (item.product_id for item in items.values()))
    found = {}
    for pk, key, (title_there, description_there, _) in zip(
        ids.listing.tolist(), ids.item.tolist(), _values(connection, ids), strict=True
    ):
        facts, problems = words.say(items[key].product_id, _facts(items[key], codes.get(key, ""), prices.get(key)))
        title = _said(title_there, facts, "title_there", problems)
        found[pk] = title, _said(description_there, facts, "description_there", problems), problems
    return found


def _values(connection: Connection, ids: Ids) -> list[tuple[str, str, str]]:
    """The content rules of each listing, or of each item as if it had one, as columns."""
    kept = by_level(NAMES)
    columns = []
    for name in NAMES:
        values, which = resolved_columns(name, connection, ids, kept)
        columns.append([str(values[at]) for at in which])
    return list(zip(*columns, strict=True)) if len(ids.item) else []


def _ids(items: Sequence[Item]) -> Ids:
    """Items as if each had a listing."""
    rows = [(0, item.pk, item.product_id, item.product.category_id or 0, 1) for item in items]
    return Ids(*np.array(rows, np.int64).reshape(len(rows), 5).T)


def _prices(connection: Connection, items: Sequence[Item]) -> dict[int, Decimal]:
    """What a connection would show for each item that a list has a price for and that is not below its floor."""
    if not items:
        return {}
    offered = price_rules.prices_of(connection, _ids(items), by_level(price_rules.SET))
    unit = minor_unit(offered.currency)
    rows = zip(items, offered.price.tolist(), offered.held.tolist(), strict=True)
    return {item.pk: price * unit for item, price, held in rows if price != NONE and not held}


def _codes(items: Iterable[int]) -> dict[int, str]:
    found: dict[int, str] = {}
    for item, gtin in Barcode.objects.filter(item_id__in=list(items)).order_by("-pk").values_list("item_id", "gtin"):
        found[item] = short_gtin(gtin)
    return found


def _facts(item: Item, barcode: str, price: Decimal | None) -> dict[str, Any]:
    product = item.product
    return {
        "title": item.title,
        "product": product.title,
        "sku": item.sku,
        "barcode": barcode,
        "brand": product.brand,
        "category": product.category.name if product.category else "",
        "description": plain(product.description),
        "formatted_description": product.description,
        "country": product.country,
        "options": item.options,
        "tags": product.tags,
        "weight_grams": item.weight_grams,
        "length_mm": item.length_mm,
        "width_mm": item.width_mm,
        "height_mm": item.height_mm,
        "price": price if price is not None else Decimal(0),
    }


def fill(
    actor: Actor, publication_id: int, version: int, *, category: str | None, attributes: dict[str, str] | None
) -> Publication:
    """Say what is asked for of a publication. Raises StaleError, RefusedError once it is under way or listed."""
    with transaction.atomic():
        row = Publication.objects.select_for_update().select_related("connection").filter(pk=publication_id).first()
        if row is None:
            raise NotFoundError("Nothing like that is prepared.")
        _may(actor, row.connection_id)
        if row.version != version:
            raise StaleError
        if row.state in (State.WAITING, State.LISTED):
            raise RefusedError(f"It is {row.state}; nothing about it can be changed now.", field="state")
        if category is not None:
            row.category = category
        if attributes is not None:
            row.attributes = {name: text.strip() for name, text in attributes.items() if text.strip()}
        row.version += 1
        row.save()
        return row


@transaction.atomic
def take_back(actor: Actor, connection_id: int, ids: Sequence[int]) -> int:
    """Forget what was prepared and neither handed in nor listed. Returns how many."""
    connection = _may(actor, connection_id)
    rows = connection.publications.filter(pk__in=ids, state__in=(State.PREPARED, State.REFUSED))  # type: ignore[attr-defined]
    return int(rows.delete()[1].get("channels.Publication", 0))


def ask_publish(actor: Actor, connection_id: int, ids: Sequence[int] | None) -> Run:
    """A run that hands in what is prepared (all of it where nothing is chosen); a job carries it out."""
    connection = _may(actor, connection_id)
    if connection.state != Connection.State.LIVE:
        raise RefusedError(f"A connection that is {connection.state} lists nothing.", field="state")
    with transaction.atomic():
        run = begin(connection, "publish", actor.name)
        rows = _ready(connection, ids)
        if not rows.exists():
            raise RefusedError("Nothing is prepared.", field="items")
        chosen = list(rows.values_list("pk", flat=True))
        Run.objects.filter(pk=run.pk).update(total=len(chosen))
        audit(actor, "publish", "connection", connection.pk, after={"items": len(chosen)})
        wake("channels.publish", f"publish:{connection.pk}", run_id=run.pk, ids=",".join(map(str, chosen)))
    return run


def _ready(connection: Connection, ids: Sequence[int] | None) -> QuerySet[Publication]:
    rows = connection.publications.filter(state__in=(State.PREPARED, State.REFUSED))  # type: ignore[attr-defined]
    return rows.filter(pk__in=ids) if ids else rows


def publish(run: Run, ids: Sequence[int]) -> int:
    """Hand in what is complete of these; of the rest each says what it lacks. What the channel's own catalogue knows by
    barcode is attached to it. Returns how many were handed in."""
    connection = run.connection
    connector = capable(connector_for(connection), Publishing)
    handed = 0
    with run_of(connection, "publish", run) as log:
        log.total = 0
        categories = read_categories(connection)
        for begin_at in range(0, len(ids), connector.most_published):
            rows = list(_ready(connection, ids[begin_at : begin_at + connector.most_published]).order_by("pk"))
            handed += _hand_in(connection, connector, rows, categories, log)
        log.note(f"{handed} of {len(ids)} handed in; the others lack something")
    return handed


def _hand_in(
    connection: Connection,
    connector: Publishing,
    rows: Sequence[Publication],
    categories: Mapping[str, RemoteCategory],
    log: RunLog,
) -> int:
    codes = _codes([row.item_id for row in rows])
    entries = connector.find_entries(list(codes.values())) if codes else {}
    for row in rows:
        row.entry = entries.get(codes.get(row.item_id, ""), "")
    drafts = drafts_of(connection, rows, categories)
    whole = [row for row in rows if not drafts[row.pk].problems]
    lacking = [row for row in rows if drafts[row.pk].problems]
    for row in lacking:
        row.said = " ".join(drafts[row.pk].problems)[:300]
    update_many(lacking, ["said", "entry"])
    skus = {item.pk: item.sku for item in _items([row.item_id for row in whole])}
    keyed = keys_of("channels_publication")
    told = [_new_listing(row, drafts[row.pk], skus[row.item_id], keyed(f"p{row.pk}", row.pk)) for row in whole]
    log.step(done=len(rows), total=len(rows), failed=len(lacking))
    if not told:
        return 0
    answer = connector.publish(told)
    now = timezone.now()
    for row in whole:
        row.state, row.said, row.handed_in_at, row.version = State.WAITING, "", now, row.version + 1
    with transaction.atomic():
        update_many(whole, ["state", "said", "handed_in_at", "entry", "version"])
        wanted = {row.key: row for row in told}
        lines = [submissions.Handed(None, _wanted(wanted[f"p{row.pk}"]), now, row.pk) for row in whole]
        if isinstance(answer, Submitted):
            submissions.remember(connection, SORT, answer, lines)
    if not isinstance(answer, Submitted):
        _settle(connection, whole, answer)
    return len(whole)


def _wanted(row: NewListing) -> dict[str, Any]:
    return {
        "title": row.title,
        "price": str(row.price),
        "category": row.category,
        "barcode": row.barcode,
        "attributes": row.attributes,
    }


def _new_listing(row: Publication, draft: Draft, sku: str, key: str) -> NewListing:
    return NewListing(
        key=key,
        sku=sku,
        barcode=draft.barcode,
        title=draft.title,
        description=draft.description,
        category=draft.category,
        attributes=draft.attributes,
        price=draft.price or Decimal(0),
        entry=row.entry,
    )


def _settle(connection: Connection, rows: Sequence[Publication], results: Sequence[PushResult]) -> None:
    """What an account said at once."""
    by_key = {row.pk: row for row in rows}
    said = {result.external_id: result for result in results}
    made = {pk: said[f"p{pk}"].made for pk in by_key if f"p{pk}" in said and said[f"p{pk}"].ok}
    refused = {pk: said[f"p{pk}"].error if f"p{pk}" in said else submissions.UNSAID for pk in by_key if pk not in made}
    _end(connection, list(rows), made, refused, {})


def _settle_batch(connection: Connection, lines: Sequence[SubmittedLine], refused: Mapping[int, str]) -> None:
    rows = [line.publication for line in lines if line.publication is not None]
    made = {line.publication_id: line.made for line in lines if line.publication_id and line.taken}
    wanted = {line.publication_id: line.wanted for line in lines if line.publication_id}
    _end(connection, rows, made, refused, wanted)


submissions.SETTLERS[SORT] = _settle_batch


@transaction.atomic
def _end(
    connection: Connection,
    rows: Sequence[Publication],
    made: Mapping[int, str],
    refused: Mapping[int, str],
    wanted: Mapping[int, Mapping[str, Any]],
) -> None:
    """Listings come of what was taken, linked to their items; of the rest it is said why not."""
    now = timezone.now()
    items = {item.pk: item for item in _items([row.item_id for row in rows])}
    listings = {
        row.pk: _listing(connection, made[row.pk], items[row.item_id], wanted.get(row.pk, {})) for row in rows if made.get(row.pk)
    }
    facts = ["sku", "barcode", "title", "product_title", "category", "price", "link", "item", "link_reason"]
    once = ["connection", "external_id"]
    # A reading of the listings may have come across one before what came of its batch was asked for.
    Listing.objects.bulk_create(listings.values(), 2000, update_conflicts=True, unique_fields=once, update_fields=facts)
    for row in rows:
        row.ended_at, row.version = now, row.version + 1
        row.listing = listings.get(row.pk)
        row.state = State.LISTED if row.listing else State.REFUSED
        row.said = "" if row.listing else (refused.get(row.pk) or submissions.UNSAID)[:300]
    update_many(rows, ["state", "said", "listing", "ended_at", "version"])
    linked = [listing.item_id for listing in listings.values() if listing.item_id]
    for kind in (Event.Kind.AVAILABILITY, Event.Kind.PRICE):
        record(kind, linked, f"listed on {connection.name}")


def _listing(connection: Connection, key: str, item: Item, told: Mapping[str, Any]) -> Listing:
    return Listing(
        connection=connection,
        external_id=key,
        sku=item.sku,
        barcode=told.get("barcode", ""),
        title=told.get("title") or item.title,
        product_title=item.product.title,
        category=told.get("category", ""),
        price=told.get("price"),
        link=Listing.Link.LINKED,
        item=item,
        link_reason="published from here",
    )


def lacking(connections: Iterable[Connection]) -> list[int]:
    """Items that are prepared or were refused there and still lack something: an attribute, a category, a price, a text."""
    found = []
    for connection in connections:
        rows = list(Publication.objects.filter(connection=connection, state__in=(State.PREPARED, State.REFUSED)).order_by("pk"))
        drafts = drafts_of(connection, rows, kept_categories(connection)) if rows else {}
        found += [row.item_id for row in rows if drafts[row.pk].problems]
    return found


def counts(connection: Connection) -> dict[str, int]:
    """How many publications stand where."""
    return dict(connection.publications.values_list("state").annotate(n=Count("pk")).order_by())  # type: ignore[attr-defined]
