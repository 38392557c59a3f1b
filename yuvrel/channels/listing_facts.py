"""What a channel says of its goods: which of it becomes part of an item, and where it says otherwise than we do."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from decimal import Decimal
from functools import partial
from typing import Any

from django.db import transaction
from django.db.models import QuerySet

from yuvrel.catalogue.actions import ItemDraft
from yuvrel.catalogue.languages import MOST_TITLE, keep_text, put_text, wording
from yuvrel.catalogue.models import Category, Item, TaxClass
from yuvrel.catalogue.products import change, change_items, put_facts
from yuvrel.catalogue.retail import priced
from yuvrel.catalogue.texts import formatted
from yuvrel.connectors.capabilities import Capability
from yuvrel.connectors.messages import RemoteListing
from yuvrel.core.errors import BadInputError, NotFoundError, StaleError, YuvrelError
from yuvrel.core.listing_facts import (
    FIELDS,
    LABELS,
    OF_ITEM,
    Difference,
    Told,
    differences,
    facts,
    is_chosen,
    joined,
    same,
    sku_for,
    spoken,
    taken,
    word,
)
from yuvrel.core.rules import MOST_WORD, MOST_WORDS, OF_CONNECTIONS, Rung, Setting, Value, meanings
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import update_many
from yuvrel.rules.queries import settled
from yuvrel.rules.registry import add_check, add_choices, declare

from .credentials import kind_of
from .language import NAME as LANGUAGE
from .models import Connection, HeardWord, Listing
from .quarantine import in_one
from .rules import connection_rungs

NOT_IMPORTED = "-"
RATE = re.compile(r"\d{1,2}(\.\d{1,2})?")
OWN: dict[str, Any] = {
    "group": "Listings",
    "ability": Ability.CONNECT.value,
    "needs": Capability.LISTINGS.value,
    "levels": OF_CONNECTIONS,
}
declare(
    Setting(
        "content_in",
        "When a listing says otherwise",
        "What becomes of what a channel says of an item otherwise than we do. What was edited here is never written over.",
        "choice",
        "show",
        choices=(
            ("show", "it is shown, and a person chooses"),
            ("fill", "what is empty here is filled in"),
            ("follow", "what was changed there is taken over"),
        ),
        **OWN,
    ),
    Setting(
        "attributes_in",
        "What attributes are here",
        "What each attribute of the channel's listings becomes part of.",
        "map",
        "{}",
        choices=FIELDS,
        words="attributes",
        no_limit="left there",
        **OWN,
    ),
    Setting(
        "values_in",
        "What values are called here",
        "How a value of such an attribute is called here, where it is not called the same.",
        "map",
        "{}",
        words="attribute_values",
        no_limit="as it is there",
        **OWN,
    ),
    Setting(
        "categories_in",
        "Categories",
        "In which of ours the items of each of the channel's categories come, or that none are made of them.",
        "map",
        "{}",
        words="categories",
        no_limit="of the same name",
        **OWN,
    ),
    Setting(
        "taxes_in",
        "Taxes",
        "Which of our tax classes the items of listings have that are taxed so there.",
        "map",
        "{}",
        words="taxes",
        no_limit="of the same name or rate",
        **OWN,
    ),
    Setting(
        "sku_in",
        "SKU of a listing without one",
        "A pattern with {id}, {title}, {options} or {category}, as WEB-{id}. Without one it waits in the pairing bench.",
        "text",
        "",
        most=60,
        nothing="it waits",
        **OWN,
    ),
    Setting(
        "drafts_in",
        "Listings that are drafts there",
        "Whether items are made of what the channel does not show yet.",
        "choice",
        "wait",
        choices=(("wait", "wait until they are shown"), ("create", "become items too")),
        **OWN,
    ),
    Setting(
        "only_in",
        "Items of these listings alone",
        "SKUs or numbers there, apart by commas; SMK-* stands for all that begin so. The others are paired as ever.",
        "text",
        "",
        most=500,
        nothing="of all",
        **OWN,
    ),
)
NAMES = (LANGUAGE, "content_in", "attributes_in", "values_in", "categories_in", "taxes_in", "sku_in", "drafts_in", "only_in")
CHUNK = 500


def _category_choices() -> list[tuple[str, str]]:
    names = Category.objects.order_by("name").values_list("name", flat=True)
    return [(NOT_IMPORTED, "no items are made of it"), *((name, name) for name in names)]


def tax_choices() -> list[tuple[str, str]]:
    """Names of our tax classes, and how they are said with their rates."""
    return [(one.name, f"{one.name}, {one.percent.normalize():f} %") for one in TaxClass.objects.order_by("pk")]


add_choices("categories_in", _category_choices)
add_choices("taxes_in", tax_choices)


@add_check
def _check_taxes(_: Rung, values: Mapping[str, Value]) -> None:
    """What taxes mean is a tax class that there is."""
    given = meanings(values["taxes_in"]) if isinstance(values.get("taxes_in"), str) else {}
    unknown = sorted(set(given.values()) - set(TaxClass.objects.values_list("name", flat=True))) if given else []
    if unknown:
        raise BadInputError(f"There is no tax class {', '.join(unknown)}.", field="taxes_in")


def _check_sku(_: Rung, values: Mapping[str, Value]) -> None:
    """A pattern gives every listing a SKU of its own."""
    pattern = str(values.get("sku_in") or "").lower()
    if pattern and not any(place in pattern for place in ("{id}", "{title}")):
        raise BadInputError("The pattern needs {id} or {title}, or several items get one SKU.", field="sku_in")


add_check(_check_sku)


@dataclass(frozen=True)
class FactRules:
    """What a connection's rules say of what comes in with listings."""

    take: str
    fields: dict[str, str]
    values: dict[str, str]
    categories: dict[str, str]
    taxes: dict[str, str]
    sku: str
    drafts: bool
    only: str
    # In which titles and descriptions are told; empty: ours.
    language: str
    # Texts that we tell the channel ourselves come back as we told them.
    ours: frozenset[str]

    @classmethod
    def of(cls, connection: Connection) -> FactRules:
        """As they say now."""
        given = {name: found.value for name, found in settled(connection_rungs(connection), NAMES).items()}
        return cls(
            take=str(given["content_in"]),
            fields=meanings(given["attributes_in"]),
            values=meanings(given["values_in"]),
            categories=meanings(given["categories_in"]),
            taxes=meanings(given["taxes_in"]),
            sku=str(given["sku_in"]),
            drafts=given["drafts_in"] == "create",
            only=str(given["only_in"]),
            language=str(given[LANGUAGE]),
            ours=frozenset({"title", "description"} if Capability.TEXTS in kind_of(connection).can else ()),
        )

    def tax_class(self, theirs: str) -> TaxClass | None:
        """Our tax class: the one that is set for it, else the one of that name or rate; None where there is none."""
        meant = self.taxes.get(theirs, theirs)
        named = TaxClass.objects.filter(name__iexact=meant).first() if meant else None
        if named is not None or not RATE.fullmatch(meant):
            return named
        return TaxClass.objects.filter(percent=Decimal(meant)).order_by("pk").first()

    def category(self, theirs: str) -> str | None:
        """The name of our category, None where no items are made."""
        meant = self.categories.get(theirs, theirs)
        return None if meant == NOT_IMPORTED else meant


def facts_of(listing: Listing, rules: FactRules) -> tuple[dict[str, Any], list[str]]:
    """What the channel says of a listing as facts of its product and item, and what could not be read of it."""
    told = listing.told
    said = Told(
        listing.product_title or listing.title,
        formatted(told.get("description", "")),
        told.get("brand", ""),
        told.get("weight_grams", 0),
        tuple(told.get("tags", ())),
        told.get("attributes", {}),
    )
    return facts(said, rules.fields, rules.values)


def why_not(listing: Listing | RemoteListing, rules: FactRules) -> str:
    """Why no item is made by itself of a listing, as it is kept or as it is told; empty when one is."""
    if not is_chosen(rules.only, (listing.sku, listing.external_id)):
        return "It is not among those chosen by rule."
    if rules.category(listing.category) is None:
        return f"No items are made of its category {listing.category}."
    state = listing.state if isinstance(listing, RemoteListing) else listing.told.get("state")
    if state == "draft" and not rules.drafts:
        return "It is a draft there."
    return "" if sku_of(listing, rules) else "It has no SKU."


def sku_of(listing: Listing | RemoteListing, rules: FactRules) -> str:
    """Its SKU, or the one that the pattern gives it."""
    parts = {
        "id": listing.external_id,
        "title": listing.product_title or listing.title,
        "options": "-".join(map(str, listing.options.values())),
        "category": listing.category,
    }
    return listing.sku or sku_for(rules.sku, parts)


def draft_of(listing: Listing, rules: FactRules) -> ItemDraft:
    """The item that becomes of a listing."""
    said, _ = facts_of(listing, rules)
    return ItemDraft(
        sku=sku_of(listing, rules),
        options=listing.options,
        barcodes=(listing.barcode,) if listing.barcode else (),
        price=listing.price or ItemDraft.price,
        kind=Item.Kind.SERVICE if listing.service else Item.Kind.STOCKED,
        **{name: said[name] for name in OF_ITEM if name in said},
    )


def describe(items: Mapping[Item, Listing], rules: FactRules) -> None:
    """Give the product of new items what the channel says of it and its tax, the first word counting, and settle both
    sides."""
    said = {item.pk: facts_of(listing, rules)[0] for item, listing in items.items()}
    product = next(iter(items)).product
    of_product: dict[str, Any] = {}
    for one in said.values():
        of_product = {**{name: value for name, value in one.items() if name not in OF_ITEM}, **of_product}
    title = of_product.pop("title", product.title)
    if rules.language:
        # Until somebody says it in ours the product is called as it is there; described it is in that language alone.
        put_text(product, rules.language, title[:MOST_TITLE], of_product.pop("description", ""))
    put_facts(product, of_product)
    taxed = (rules.tax_class(listing.told.get("tax", "")) for listing in items.values())
    product.tax_class = next((one for one in taxed if one is not None), product.tax_class)
    product.save()
    for item, listing in items.items():
        listing.settled = said[item.pk]


def note_words(connection: Connection, listings: QuerySet[Listing], fields: Mapping[str, str]) -> None:
    """Remember the categories, taxes and attributes that listings name, and the values of attributes that mean something here."""
    sorts = HeardWord.Sort
    said: set[tuple[str, str]] = set()
    for category, told in listings.values_list("category", "told").iterator(2000):
        attributes: dict[str, str] = told.get("attributes", {})
        said |= {(sorts.CATEGORIES.value, category)} if category else set()
        said |= {(sorts.TAXES.value, told["tax"])} if told.get("tax") else set()
        said |= {(sorts.ATTRIBUTES.value, name) for name in attributes}
        said |= {(sorts.VALUES.value, word(name, value)) for name, value in attributes.items() if fields.get(name)}
    known = set(HeardWord.objects.filter(connection=connection).values_list("sort", "word"))
    new: dict[str, list[str]] = defaultdict(list)
    for sort, text in sorted({(sort, text[:MOST_WORD]) for sort, text in said} - known):
        new[sort].append(text)
    rows = []
    for sort, texts in new.items():
        # An account that makes up a word for each listing is not listened to for ever.
        room = MOST_WORDS - sum(one == sort for one, _ in known)
        rows += [HeardWord(connection=connection, sort=sort, word=text) for text in texts[: max(0, room)]]
    HeardWord.objects.bulk_create(rows, ignore_conflicts=True)


def _items(listings: Iterable[Listing]) -> dict[int, Item]:
    found = priced(Item.objects.filter(pk__any_of=[row.item_id for row in listings if row.item_id]))
    return {item.pk: item for item in found.select_related("product")}


def _ours(items: Iterable[Item], rules: FactRules) -> dict[int, dict[str, Any]]:
    """What is here of items, titles and descriptions in the channel's language."""
    rows = list(items)
    words = wording(rules.language, (item.product_id for item in rows))
    names = ("title", "description", "brand", "country", "shelf_life_days", "tags", "note")
    found = {}
    for item in rows:
        ours = {**{name: getattr(item.product, name) for name in names}, **{name: getattr(item, name) for name in OF_ITEM}}
        if words.name:
            ours["title"], ours["description"] = words.texts.get(item.product_id, ("", ""))
        found[item.pk] = ours
    return found


Facts = Mapping[int, dict[str, Any]]


def _said(listings: Iterable[Listing], rules: FactRules) -> Facts:
    """What the channel says of each listing."""
    return {row.pk: facts_of(row, rules)[0] for row in listings}


def differing(listings: Sequence[Listing], rules: FactRules) -> dict[int, list[Difference]]:
    """Where paired listings of one connection say otherwise than we do."""
    return _differing(listings, _said(listings, rules), rules)


def _differing(listings: Sequence[Listing], said: Facts, rules: FactRules) -> dict[int, list[Difference]]:
    ours = _ours(_items(listings).values(), rules)
    found = {}
    for row in listings:
        if row.item_id in ours and row.units == 1:
            facts = {name: value for name, value in said[row.pk].items() if name not in rules.ours}
            found[row.pk] = differences(ours[row.item_id], facts, row.settled)
    return found


def compare(actor: Actor, connection: Connection, only: Collection[int] | None = None) -> tuple[int, int]:
    """Compare all that a channel says with what is here, once its listings (or `only` these) were read: take over what the
    rule says, and mark where somebody has to choose. Returns (facts taken over, listings that say otherwise)."""
    rules = FactRules.of(connection)
    over = left = 0
    paired = connection.listings.filter(link=Listing.Link.LINKED)  # type: ignore[attr-defined]
    paired = paired if only is None else paired.filter(pk__in=only)
    pks = list(paired.order_by("pk").values_list("pk", flat=True))
    for begin_at in range(0, len(pks), CHUNK):
        # Who works offers out may have some of these listings already, and wait for the others.
        counts = in_one(partial(_compare, actor, pks[begin_at : begin_at + CHUNK], rules))
        over, left = over + counts[0], left + counts[1]
    return over, left


def _compare(actor: Actor, pks: Sequence[int], rules: FactRules) -> tuple[int, int]:
    rows = list(Listing.objects.select_for_update().filter(pk__any_of=pks).order_by("pk"))
    said = _said(rows, rules)
    return _take_by_rule(actor, rows, said, rules), _mark(rows, said, rules)


def _take_by_rule(actor: Actor, rows: Sequence[Listing], said: Facts, rules: FactRules) -> int:
    found = _differing(rows, said, rules) if rules.take != "show" else {}
    count = 0
    for row in rows:
        if not any(taken(rules.take, one) for one in found.get(row.pk, ())):
            continue
        # Another listing of the same product may have brought it a moment ago.
        wanted = [one for one in _differing([row], said, rules)[row.pk] if taken(rules.take, one)]
        # What somebody changes in this moment, or what cannot be here, is shown instead.
        with suppress(YuvrelError), transaction.atomic():
            count += _put(actor, row, wanted, rules)
    return count


def _mark(rows: Sequence[Listing], said: Facts, rules: FactRules) -> int:
    """Keep for each listing whether it says otherwise; what is the same on both sides is settled."""
    ours = _ours(_items(rows).values(), rules)
    found = _differing(rows, said, rules)
    moved = []
    for row in rows:
        if row.item_id not in ours:
            continue
        here = ours[row.item_id]
        alike = {name: value for name, value in said[row.pk].items() if same(name, here.get(name), value)}
        state = bool(found.get(row.pk)), {**row.settled, **alike}
        if state != (row.says_otherwise, row.settled):
            row.says_otherwise, row.settled = state
            moved.append(row)
    update_many(moved, ["says_otherwise", "settled"])
    return sum(row.says_otherwise for row in rows)


def _put(actor: Actor, row: Listing, found: Sequence[Difference], rules: FactRules) -> int:
    """Write what a channel says over what is here. What cannot be here is left; returns how many facts were taken over."""
    item = _items([row])[row.item_id or 0]
    product, ours = item.product, _ours([item], rules)[item.pk]
    wanted = {one.field: joined(one.field, ours[one.field], one.theirs) for one in found}
    of_item = {name: value for name, value in wanted.items() if name in OF_ITEM}
    of_product = {name: value for name, value in wanted.items() if name not in OF_ITEM}
    if rules.language and {"title", "description"} & of_product.keys():
        title = of_product.pop("title", "") or ours["title"] or row.product_title or row.title
        text = title[:MOST_TITLE], of_product.pop("description", ours["description"])
        product = keep_text(actor, product.pk, product.version, rules.language, *text)
    if of_product:
        change(actor, product.pk, product.version, of_product)
    if of_item:
        item.refresh_from_db()
        change_items(actor, {item.pk: {**of_item, "version": item.version}})
    row.settled = {**row.settled, **{one.field: one.theirs for one in found}}
    row.save(update_fields=["settled"])
    return len(wanted)


def told(found: Sequence[Difference]) -> list[dict[str, Any]]:
    """Differences as they travel."""
    return [
        {
            "field": one.field,
            "label": LABELS[one.field],
            "ours": spoken(one.field, one.ours),
            "theirs": spoken(one.field, one.theirs),
            "verdict": one.verdict,
        }
        for one in found
    ]


def look_again(listing: Listing) -> None:
    """Mark whether a listing that was just paired says otherwise than its item does; nothing was settled of the two."""
    listing.settled = {}
    listing.save(update_fields=["settled"])
    rules = FactRules.of(listing.connection)
    _mark([listing], _said([listing], rules), rules)


def says_otherwise(connection_id: int | None = None) -> QuerySet[Listing]:
    """Paired listings that say otherwise than we do, as they were last read."""
    rows = Listing.objects.filter(says_otherwise=True, link=Listing.Link.LINKED).select_related("connection", "item__product")
    return rows.filter(connection=connection_id) if connection_id else rows


@transaction.atomic
def choose(
    actor: Actor, listing_id: int, version: int, fields: Collection[str], *, theirs: bool, seen: Mapping[str, str] | None = None
) -> Listing:
    """A person takes over what a channel says of some facts, or keeps ours; so for all listings of the product there.
    `seen`: what was shown of what the channel says.

    Raises NotFoundError, StaleError when something else was shown, and BadInputError for what is no difference (any more).
    """
    actor.need(Ability.EDIT_RANGE)
    row = Listing.objects.select_for_update().filter(pk=listing_id).select_related("connection").first()
    if row is None or row.item_id is None:
        raise NotFoundError("There is no such paired listing.")
    if row.version != version:
        raise StaleError
    rules = FactRules.of(row.connection)
    found = {one.field: one for one in differing([row], rules).get(row.pk, ())}
    gone = sorted(set(fields) - set(found))
    if gone or not fields:
        raise BadInputError("Both say the same by now. Look again.", field="fields")
    wanted = [found[name] for name in fields]
    if any(text != spoken(name, found[name].theirs) for name, text in (seen or {}).items() if name in found):
        raise StaleError("The channel says something else by now. Look again.")
    if theirs:
        _put(actor, row, wanted, rules)
    siblings = list(Listing.objects.select_for_update().filter(connection=row.connection, group_id=row.group_id).order_by("pk"))
    rows = siblings if row.group_id else [row]
    for one in rows:
        said = facts_of(one, rules)[0]
        alike = [d.field for d in wanted if d.field in said and said[d.field] == d.theirs]
        one.settled = {**one.settled, **{name: said[name] for name in alike if one.pk == row.pk or name not in OF_ITEM}}
    update_many(rows, ["settled"])
    paired = [one for one in rows if one.item_id]
    _mark(paired, _said(paired, rules), rules)
    said_now = {one.field: str(one.theirs)[:200] for one in wanted}
    audit(actor, "take over from listing" if theirs else "keep ours beside listing", "listing", row.pk, after=said_now)
    row.refresh_from_db()
    return row


def choose_many(actor: Actor, listing_ids: Sequence[int], *, theirs: bool) -> tuple[int, int]:
    """As `choose`, for every difference of several listings. Returns (listings done, those that could not be)."""
    actor.need(Ability.EDIT_RANGE)
    done = failed = 0
    for row in says_otherwise().filter(pk__any_of=list(listing_ids)).order_by("pk"):
        fields = [one.field for one in differing([row], FactRules.of(row.connection)).get(row.pk, ())]
        if not fields:
            Listing.objects.filter(pk=row.pk).update(says_otherwise=False)
            done += 1
            continue
        try:
            choose(actor, row.pk, row.version, fields, theirs=theirs)
            done += 1
        except YuvrelError:
            failed += 1
    return done, failed
