"""Reading connections, listings and snags."""

from __future__ import annotations

from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from django.db.models import Count, Max, Q, QuerySet
from django.db.models.functions import Lower, Trim
from django.utils import timezone

from yuvrel.catalogue.models import Barcode, Item
from yuvrel.catalogue.obstacles import Obstacle, look_for
from yuvrel.catalogue.pictures import first_of
from yuvrel.catalogue.retail import priced
from yuvrel.connectors.base import order_states, told_states
from yuvrel.connectors.capabilities import Capability, Orders
from yuvrel.connectors.registry import KINDS
from yuvrel.core.errors import BadInputError, NotFoundError
from yuvrel.core.gtin import normal_gtin
from yuvrel.core.money import floor_to
from yuvrel.core.pairing import Side, Verdict, doubts, units_of
from yuvrel.core.working import Step, Working
from yuvrel.people.queries import CLOCK, company_time
from yuvrel.platform.faults import sheet_rows
from yuvrel.platform.paging import page
from yuvrel.pricing.models import PriceList
from yuvrel.rules.queries import settled
from yuvrel.sales.rules import CHARGES
from yuvrel.stock.queries import find_items, narrows

from . import publishing, submissions
from .credentials import kind_of
from .inbound import WORDS
from .ledger_out import tax_words
from .linking import pairing_index, verdict_for
from .mapping import all_of
from .models import Connection, Feed, Listing, PriceOffer, Publication, Snag
from .offers import load_shelves, offer_of, places_of
from .order_states import words_of
from .places_there import places_of_account
from .rules import listing_rungs
from .run_queries import health, known_run, run_row
from .schemas import BenchRow, ConnectionRow, RunRow, SnagOut

# How messages came is told of the last day.
HEARD_IN = timedelta(days=1)


def connection_sheet() -> list[ConnectionRow]:
    """All connections with what waits in each, in a few queries."""
    snags = dict(Snag.objects.filter(resolved_at=None).values_list("connection_id").annotate(n=Count("id")).order_by())
    read = dict(Feed.objects.values_list("connection_id").annotate(at=Max("succeeded_at")).order_by())
    rows = Connection.objects.annotate(
        listings_n=Count("listings"),
        linked_n=Count("listings", filter=Q(listings__link="linked")),
        unlinked_n=Count("listings", filter=Q(listings__link="unlinked")),
        pending_n=Count("listings", filter=Q(listings__offer_state="pending")),
        drifting_n=Count("listings", filter=Q(listings__offer_state="drifting")),
    ).order_by("kind", "name")
    order = {kind: place for place, kind in enumerate(KINDS)}

    def shown(row: Any) -> dict[str, Any]:
        fields = ("kind", "name", "state")
        counts = ("listings", "linked", "unlinked", "pending", "drifting")
        return {
            "id": row.pk,
            "label": kind_of(row).label,
            "snags": snags.get(row.pk, 0),
            "last_exchange_at": read.get(row.pk),
            **{name: getattr(row, name) for name in fields},
            **{name: getattr(row, f"{name}_n") for name in counts},
        }

    listed = sorted(rows, key=lambda r: (order.get(r.kind, 9), r.name))
    return sheet_rows(ConnectionRow, listed, shown, lambda row: {"id": row.pk, "name": row.name, "state": row.state})


def connection_page(row: Connection) -> dict[str, Any]:
    """A connection with its settings, counts and latest runs; no secret in it."""
    kind = kind_of(row)
    fields = (
        "id",
        "kind",
        "name",
        "address",
        "state",
        "tested_at",
        "test_report",
        "account",
        "hook_proved_at",
        "live_since",
        "pause_until",
        "version",
    )
    counts = dict(row.listings.values_list("link").annotate(n=Count("id")).order_by())
    counts |= {
        f"offer {k}": n
        for k, n in row.listings.exclude(offer_state="").values_list("offer_state").annotate(n=Count("id")).order_by()
    }
    counts["say otherwise"] = row.listings.filter(says_otherwise=True).count()
    offered = PriceOffer.objects.filter(listing__connection=row)
    counts |= {f"price {k}": n for k, n in offered.values_list("state").annotate(n=Count("id")).order_by()}
    runs = row.runs.select_related("connection").annotate(calls_n=Count("calls")).order_by("-pk")[:12]
    heard = row.inbound.filter(received_at__gte=timezone.now() - HEARD_IN)
    return {
        **{name: getattr(row, name) for name in fields},
        "label": kind.label,
        "can": sorted(kind.can),
        "words": words(row),
        "told_states": list(told_states(kind)),
        "accounts": all_of(row) if Capability.DOCUMENTS in kind.can else {},
        "fulfils_from": row.fulfils_from_id,
        "feeds": [place.pk for place in row.feeds.all()],
        "their_place": row.their_place_id,
        "price_list": row.price_list_id,
        "price_lists": list(PriceList.objects.filter(base=False).order_by("name")),
        "counts": counts,
        "removable": not row.has_history(),
        "sign_in": kind.sign_in.entries,
        "webhooks": Capability.WEBHOOKS in kind.can,
        "heard": list(heard.values("via").annotate(count=Count("id"), last_at=Max("received_at")).order_by("via")),
        "survey": row.survey or None,
        "batches": submissions.newest(row),
        "health": health(row, timezone.now()),
        "runs": sheet_rows(RunRow, list(runs), run_row, known_run),
    }


def words(row: Connection) -> list[dict[str, Any]]:
    """The words that an account uses, with what its kind proposes for each: those its kind knows first, then those heard."""
    kind = kind_of(row)
    proposed = order_states(kind)
    known = {WORDS.STATES: list(proposed), WORDS.PAYMENTS: list(kind.payment_methods) if issubclass(kind, Orders) else []}
    for sort, word in row.words.order_by("pk").values_list("sort", "word"):  # type: ignore[attr-defined]
        listed = known.setdefault(WORDS(sort), [])
        if word not in listed:
            listed.append(word)
    told = [
        {"sort": sort, "word": word, "proposed": proposed.get(word, "") if sort == WORDS.STATES else ""}
        for sort, listed in known.items()
        for word in listed
    ]
    charges = [{"sort": "charges", "word": word, "proposed": ""} for word in (CHARGES if issubclass(kind, Orders) else ())]
    return [
        *told,
        *charges,
        *words_of(kind),
        *(tax_words(row) if Capability.TAX_CODES in kind.can else []),
        *places_of_account(row),
    ]


def bench(link: str, connection: int | None, q: str, cursor: str, limit: int) -> dict[str, Any]:
    """The pairing bench: listings with ranked candidates, why, and what speaks against each.

    `link`: how they stand: *unlinked*, *linked*, *ignored*; or *clashing* (of the unlinked), *drifting* and *held* (of the
    linked)."""
    rows = Listing.objects.select_related("connection", "item").filter(BENCH.get(link, Q(link=link)))
    if connection:
        rows = rows.filter(connection_id=connection)
    found, following = page(find_items(rows, q, code="barcode"), ["connection_id", "id"], cursor, limit)
    # Only what is still to be paired needs candidates, and only they need the whole range read.
    index = pairing_index() if found and link in (Listing.Link.UNLINKED, CLASHING) else None
    counts = dict(Listing.objects.values_list("link").annotate(n=Count("id")).order_by())
    shown = sheet_rows(BenchRow, found, lambda row: _bench_row(row, verdict_for(row, index) if index else None), _known_listing)
    _name_candidates(shown)
    return {"rows": shown, "next": following, "counts": counts}


CLASHING = "clashing"
BENCH: dict[str, Q] = {
    CLASHING: Q(link=Listing.Link.UNLINKED) & ~Q(link_reason=""),
    **{
        state.value: Q(link=Listing.Link.LINKED) & (Q(offer_state=state) | Q(price_offer__state=state))
        for state in (Listing.Offer.DRIFTING, Listing.Offer.HELD)
    },
}


def _bench_row(row: Listing, verdict: Verdict | None) -> dict[str, Any]:
    fields = ("id", "sku", "barcode", "title", "price", "shown", "link", "version", "units")
    return {
        **{name: getattr(row, name) for name in fields},
        "connection": row.connection.name,
        "options": {str(name): str(value) for name, value in row.options.items()},
        "item": {"id": row.item.pk, "sku": row.item.sku, "title": row.item.title} if row.item else None,
        "why": (verdict.clash or row.link_reason or verdict.reason) if verdict else row.link_reason,
        "clash": bool(verdict and verdict.clash),
        "candidates": [
            {"item_id": c.item_id, "sku": "", "title": "", "price": None, "score": c.score, "reason": c.reason}
            for c in (verdict.candidates if verdict else ())
        ],
    }


def _name_candidates(rows: list[BenchRow]) -> None:
    """What the candidates are called, read for all rows at once."""
    ids = {candidate.item_id for row in rows for candidate in row.candidates}
    items, pictures = priced(Item.objects.all()).in_bulk(ids), first_of(ids)
    codes: dict[int, list[str]] = defaultdict(list)
    for item_id, gtin in Barcode.objects.filter(item_id__in=ids).values_list("item_id", "gtin"):
        codes[item_id].append(gtin)
    for row in rows:
        there = Side(row.title, row.price, row.options, _gtins(row.barcode))
        for candidate in row.candidates:
            item = items[candidate.item_id]
            candidate.sku, candidate.title, candidate.price = item.sku, item.title, item.price
            candidate.picture = pictures.get(item.pk)
            options = {str(name): str(value) for name, value in item.options.items()}
            here = Side(item.title, item.price, options, tuple(codes[item.pk]))
            candidate.doubts, candidate.units = doubts(there, here), units_of(there, here)


def _gtins(barcode: str) -> tuple[str, ...]:
    try:
        return (normal_gtin(barcode),) if barcode.strip() else ()
    except BadInputError:
        return ()


def _known_listing(row: Listing) -> dict[str, Any]:
    return {"id": row.pk, "title": row.title, "sku": row.sku, "connection": row.connection.name, "link": row.link}


def get_listing(listing_id: int) -> Listing:
    """The listing. Raises NotFoundError."""
    row = Listing.objects.select_related("connection", "item__product__category").filter(pk=listing_id).first()
    if row is None:
        raise NotFoundError("There is no such listing.")
    return row


def offer_working(listing_id: int, today: date) -> Working:
    """The sum behind what a listing should show, and what it does show."""
    row = get_listing(listing_id)
    if row.item_id is None:
        raise NotFoundError("This listing is not linked to an item, so nothing is offered.")
    worked = offer_of(row, places_of(row.connection), load_shelves([row.item_id], row.connection), today)
    if worked is None:
        raise NotFoundError("A service has no quantity to offer.")
    steps = list(worked.working.steps)
    offered = worked.quantity
    if row.units > 1:
        offered = floor_to(offered, Decimal(row.units)) / row.units
        steps.append(Step("Units it stands for", Decimal(row.units), "whole ones of it", op="÷"))
        steps.append(Step("Shown", offered, kind="result"))
    held = settled(listing_rungs(row), ["held_quantity"])["held_quantity"].value
    offered = offered if held is None else Decimal(held)
    if held is not None:
        steps.append(Step("Held by hand", offered, "shown whatever is on the shelf", kind="result"))
    if row.terms.get("state", "live") != "live":
        steps.append(Step("Stands there as", row.terms["state"], kind="fact"))
    note = f"Newest event: {row.offer_cause}." if row.offer_cause else ""
    if row.shown is not None and row.shown_at:
        # A check that found what it expected writes down only when it read the whole connection.
        checked = row.connection.read_at if row.offer_state in (Listing.Offer.AGREED, Listing.Offer.DRIFTING) else None
        read = company_time(max(row.shown_at, checked or row.shown_at), CLOCK)
        steps.append(Step(f"{row.connection.name} shows", row.shown, f"read {read}", kind="subtotal"))
        if row.offer_state == Listing.Offer.DRIFTING:
            steps.append(Step("Drift", row.shown - offered, kind="result"))
    if row.offer_state:
        note = f"State: {row.offer_state}. {note}"
    return Working(worked.working.title, worked.working.subtitle, tuple(steps), note)


def pairing_working(listing_id: int) -> Working:
    """Why a listing is, or is not, paired."""
    row = get_listing(listing_id)
    verdict = verdict_for(row, pairing_index())
    titles = dict(Item.objects.filter(pk__in=[c.item_id for c in verdict.candidates]).values_list("pk", "sku"))
    steps = [
        Step("SKU there", row.sku or "none"),
        Step("Barcode there", row.barcode or "none"),
        *[
            Step(titles.get(c.item_id, "?"), f"{c.score:.0f}", c.reason, link=f"/range/items/{c.item_id}")
            for c in verdict.candidates
        ],
        Step("Outcome", "paired" if row.item_id else "left to a person", row.link_reason or verdict.reason, kind="result"),
    ]
    note = "Only a unique match of SKU or barcode is linked automatically; a similar title never is."
    return Working("Which item is it?", f"{row.title} · {row.connection.name}", tuple(steps), note)


def snag_groups() -> list[dict[str, Any]]:
    """Open snags by their cause, the most first."""
    rows = Snag.objects.filter(resolved_at=None).values("kind", "connection_id", "connection__name")
    return [
        {
            "kind": row["kind"],
            "label": Snag.Kind(row["kind"]).label,
            "connection_id": row["connection_id"],
            "connection": row["connection__name"] or "",
            "count": row["n"],
        }
        for row in rows.annotate(n=Count("pk")).order_by("-n", "kind")
    ]


def snags(q: str, kind: str, connection: int | None, cursor: str, limit: int) -> dict[str, Any]:
    """Open snags, newest first, with what was sent or received."""
    rows = Snag.objects.filter(resolved_at=None).select_related("connection", "inbound", "outbound", "listing")
    if kind:
        rows = rows.filter(kind=kind)
    if connection is not None:
        rows = rows.filter(connection_id=connection)
    for word in q.split()[:6]:
        rows = rows.filter(Q(title__icontains=word) | Q(detail__icontains=word))
    found, following = page(rows, ["-id"], cursor, limit)
    known = ("kind", "title", "detail", "field", "made_at")

    def shown(snag: Snag) -> dict[str, Any]:
        return {
            "id": snag.pk,
            **{name: getattr(snag, name) for name in (*known, "order_id", "listing_id")},
            "field": "" if snag.kind == Snag.Kind.ROW else snag.field,
            "connection": snag.connection.name if snag.connection else "",
            "payload": snag.inbound.body if snag.inbound else None,
        }

    rows_shown = sheet_rows(SnagOut, found, shown, lambda snag: {"id": snag.pk, "title": snag.title, "made_at": snag.made_at})
    return {"rows": rows_shown, "next": following, "groups": snag_groups()}


# How an item is listed, as its listings and publications say; *no* stands for none at all.
LISTED: dict[str, Q] = {
    "yes": Q(),
    "held": Q(offer_state=Listing.Offer.HELD) | Q(price_offer__state=PriceOffer.State.HELD),
    "drifting": Q(offer_state=Listing.Offer.DRIFTING) | Q(price_offer__state=PriceOffer.State.DRIFTING),
    "hidden": Q(terms__has_key="state"),
}
PUBLISHED: dict[str, tuple[str, ...]] = {
    "prepared": (Publication.State.PREPARED, Publication.State.WAITING),
    "refused": (Publication.State.REFUSED,),
}


# Listings that stand for no item, by the SKU that they name.
UNPAIRED: dict[str, Q] = {
    "unpaired": Q(link=Listing.Link.UNLINKED),
    "clashing": BENCH[CLASHING],
    "ignored": Q(link=Listing.Link.IGNORED),
}


@narrows
def listed_as(rows: QuerySet[Item], listed: str, connection: int | None) -> QuerySet[Item]:
    """Items under a filter of how they are listed: on any connection, or on one."""
    there = Q() if connection is None else Q(connection_id=connection)
    if listed in UNPAIRED:
        named = Listing.objects.filter(there, UNPAIRED[listed]).exclude(sku="").values(key=Lower(Trim("sku")))
        return rows.alias(key=Lower(Trim("sku"))).filter(key__in=named)
    if listed == "lacking":
        return rows.filter(pk__in=publishing.lacking(Connection.objects.filter(Q() if connection is None else Q(pk=connection))))
    if listed in PUBLISHED:
        return rows.filter(pk__in=Publication.objects.filter(there, state__in=PUBLISHED[listed]).values("item"))
    found = Listing.objects.filter(there, LISTED["yes" if listed == "no" else listed], item__isnull=False).values("item")
    return rows.exclude(pk__in=found) if listed == "no" else rows.filter(pk__in=found)


@look_for
def listing_obstacles(item_id: int) -> list[Obstacle]:
    """Where an item is for sale."""
    rows = Listing.objects.filter(item_id=item_id, link=Listing.Link.LINKED, connection__state="live").select_related(
        "connection"
    )
    return [Obstacle(f"It is listed on {row.connection.name}.", f"/range/items/{item_id}") for row in rows.order_by("pk")[:5]]
