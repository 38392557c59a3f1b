"""Reading connections, listings and snags."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from django.db.models import Count, Max, Q
from django.utils import timezone

from yuvrel.catalogue.models import Item
from yuvrel.connectors.base import Can
from yuvrel.core.errors import NotFoundError
from yuvrel.core.working import Step, Working
from yuvrel.kit.paging import page
from yuvrel.people.queries import CLOCK, company_time
from yuvrel.stock.queries import find_items

from .access import kind_of
from .linking import pairing_index, verdict_for
from .models import Connection, Listing, Snag
from .offers import load_shelves, offer_of, places_of

# How messages came is told of the last day.
HEARD_IN = timedelta(days=1)


def connection_sheet() -> list[dict[str, Any]]:
    """All connections with what waits in each, in three queries."""
    snags = dict(Snag.objects.filter(resolved_at=None).values_list("connection_id").annotate(n=Count("id")).order_by())
    rows = Connection.objects.annotate(
        listings_n=Count("listings"),
        linked_n=Count("listings", filter=Q(listings__link="linked")),
        unlinked_n=Count("listings", filter=Q(listings__link="unlinked")),
        pending_n=Count("listings", filter=Q(listings__offer_state="pending")),
        drifting_n=Count("listings", filter=Q(listings__offer_state="drifting")),
    ).order_by("kind", "name")
    order = {"web_shop": 0, "till": 1, "ledger": 2, "supplier": 3}
    return [
        {
            "id": row.pk,
            "kind": row.kind,
            "label": kind_of(row).label,
            "name": row.name,
            "state": row.state,
            "listings": row.listings_n,
            "linked": row.linked_n,
            "unlinked": row.unlinked_n,
            "pending": row.pending_n,
            "drifting": row.drifting_n,
            "snags": snags.get(row.pk, 0),
            "last_exchange_at": row.last_exchange_at,
            "every_seconds": row.every_seconds,
            "automatic": row.automatic,
        }
        for row in sorted(rows, key=lambda r: (order.get(r.kind, 9), r.name))
    ]


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
        "prefix",
        "basis",
        "projected_days",
        "buffer",
        "share_percent",
        "minimum",
        "maximum",
        "order_states",
        "backorders",
        "automatic",
        "every_seconds",
        "pause_until",
        "cash_customer",
        "fee_percent",
        "fee_fixed",
        "accounts",
        "last_exchange_at",
        "version",
    )
    counts = dict(row.listings.values_list("link").annotate(n=Count("id")).order_by())
    counts |= {
        f"offer {k}": n
        for k, n in row.listings.exclude(offer_state="").values_list("offer_state").annotate(n=Count("id")).order_by()
    }
    runs = row.runs.order_by("-pk")[:12]
    heard = row.inbound.filter(received_at__gte=timezone.now() - HEARD_IN)
    return {
        **{name: getattr(row, name) for name in fields},
        "label": kind.label,
        "can": sorted(kind.can),
        "known_order_states": list(kind.order_states),
        "fulfils_from": row.fulfils_from_id,
        "feeds": [place.pk for place in row.feeds.all()],
        "counts": counts,
        "removable": not row.has_history(),
        "webhooks": Can.WEBHOOKS in kind.can,
        "heard": list(heard.values("via").annotate(count=Count("id"), last_at=Max("received_at")).order_by("via")),
        "runs": [
            {
                "id": r.pk,
                "kind": r.kind,
                "state": r.state,
                "started_at": r.started_at,
                "ended_at": r.ended_at,
                "done": r.done,
                "log": r.log,
            }
            for r in runs
        ],
    }


def bench(link: str, connection: int | None, q: str, cursor: str, limit: int) -> dict[str, Any]:
    """The pairing bench: listings with ranked candidates and why."""
    rows = Listing.objects.select_related("connection", "item").filter(link=link)
    if connection:
        rows = rows.filter(connection_id=connection)
    found, following = page(find_items(rows, q), ["connection_id", "id"], cursor, limit)
    # Only what is still to be paired needs candidates, and only they need the whole range read.
    index = pairing_index() if found and link == Listing.Link.UNLINKED else None
    verdicts = {row.pk: verdict_for(row, index) for row in found} if index else {}
    items = Item.objects.in_bulk({c.item_id for verdict in verdicts.values() for c in verdict.candidates})
    counts = dict(Listing.objects.values_list("link").annotate(n=Count("id")).order_by())
    out = []
    for row in found:
        verdict = verdicts.get(row.pk)
        candidates = verdict.candidates if verdict else ()
        out.append(
            {
                "id": row.pk,
                "connection": row.connection.name,
                "sku": row.sku,
                "barcode": row.barcode,
                "title": row.title,
                "price": row.price,
                "shown": row.shown,
                "link": row.link,
                "version": row.version,
                "why": (verdict.clash or row.link_reason or verdict.reason) if verdict else row.link_reason,
                "clash": bool(verdict and verdict.clash),
                "candidates": [
                    {
                        "item_id": c.item_id,
                        "sku": items[c.item_id].sku,
                        "title": items[c.item_id].title,
                        "score": c.score,
                        "reason": c.reason,
                    }
                    for c in candidates
                ],
            }
        )
    return {"rows": out, "next": following, "counts": counts}


def get_listing(listing_id: int) -> Listing:
    """The listing. Raises NotFoundError."""
    row = Listing.objects.select_related("connection", "item").filter(pk=listing_id).first()
    if row is None:
        raise NotFoundError("There is no such listing.")
    return row


def offer_working(listing_id: int, today: date) -> Working:
    """The sum behind what a listing should show, and what it does show."""
    row = get_listing(listing_id)
    if row.item_id is None:
        raise NotFoundError("This listing is not linked to an item, so nothing is offered.")
    worked = offer_of(row, row.connection, places_of(row.connection), load_shelves([row.item_id]), today)
    if worked is None:
        raise NotFoundError("A service has no quantity to offer.")
    steps = list(worked.working.steps)
    note = f"Newest event: {row.offer_cause}." if row.offer_cause else ""
    if row.shown is not None and row.shown_at:
        # A check that found what it expected writes down only when it read the whole connection.
        checked = row.connection.read_at if row.offer_state in (Listing.Offer.AGREED, Listing.Offer.DRIFTING) else None
        read = company_time(max(row.shown_at, checked or row.shown_at), CLOCK)
        steps.append(Step(f"{row.connection.name} shows", row.shown, f"read {read}", kind="subtotal"))
        if row.offer_state == Listing.Offer.DRIFTING:
            steps.append(Step("Drift", row.shown - worked.quantity, kind="result"))
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


def snags(q: str, cursor: str, limit: int) -> dict[str, Any]:
    """Open snags, newest first, with what was sent or received."""
    rows = Snag.objects.filter(resolved_at=None).select_related("connection", "inbound", "outbound", "listing")
    for word in q.split()[:6]:
        rows = rows.filter(Q(title__icontains=word) | Q(detail__icontains=word))
    found, following = page(rows, ["-id"], cursor, limit)
    return {
        "rows": [
            {
                "id": s.pk,
                "connection": s.connection.name if s.connection else "",
                "kind": s.kind,
                "title": s.title,
                "detail": s.detail,
                "field": s.field,
                "made_at": s.made_at,
                "order_id": s.order_id,
                "listing_id": s.listing_id,
                "payload": s.inbound.body if s.inbound else None,
            }
            for s in found
        ],
        "next": following,
    }
