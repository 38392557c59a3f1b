"""One listing: what stands there and what should, and everything that became of it."""

from __future__ import annotations

from typing import Any

from yuvrel.catalogue.pictures import first_of
from yuvrel.core.listing_facts import LABELS, spoken
from yuvrel.people.models import AuditRow
from yuvrel.rules.models import SettingChange
from yuvrel.rules.queries import said_of

from . import listing_facts
from .credentials import kind_of
from .group_prices import shown_of
from .models import ChannelGroup, Listing, PriceOffer, Publication, Snag, SubmittedLine
from .queries import get_listing

MOST = 60
# What a person did to a listing, as it is said in its history.
DONE = {
    "link listing": "paired",
    "unlinked listing": "taken back to the pairing bench",
    "ignored listing": "ignored",
    "send listing again": "sent again",
    "refresh listing": "texts to be told anew",
    "take over from listing": "what it says was taken over",
    "keep ours beside listing": "what it says was not taken over",
}


def listing_page(listing_id: int) -> dict[str, Any]:
    """Everything about a listing, in a fixed number of queries. Raises NotFoundError."""
    row = get_listing(listing_id)
    price = PriceOffer.objects.filter(listing=row).first()
    made = Publication.objects.filter(listing=row).first()
    kind = kind_of(row.connection)
    names = (
        "sku",
        "barcode",
        "title",
        "category",
        "external_id",
        "price",
        "kept_there",
        "service",
        "link",
        "link_reason",
        "units",
        "version",
    )
    offer = ("shown", "shown_at", "offered", "offered_at", "offer_state", "offer_cause", "pushed_at", "agreed_at", "rests")
    item = row.item
    return {
        "id": row.pk,
        **{name: getattr(row, name) for name in (*names, *offer)},
        "options": {str(name): str(value) for name, value in row.options.items()},
        "connection_id": row.connection_id,
        "connection": row.connection.name,
        "live": row.connection.state == "live",
        "kind": kind.label,
        "can": sorted(kind.can),
        "item": {"id": item.pk, "sku": item.sku, "title": item.title} if item else None,
        "picture": first_of([item.pk]).get(item.pk) if item else None,
        "stands": row.terms.get("state", "live"),
        "stands_there": row.terms_shown.get("state", "live") if row.shown_at else "",
        "told": _told(row),
        "price_offered": price.price if price else None,
        "price_before": price.previous if price else None,
        "price_currency": price.currency if price else "",
        "price_state": price.state if price else "",
        "group_prices": shown_of(row),
        "entry": made.entry if made else "",
        **_said_there(row),
        "history": _history(row),
    }


def _said_there(row: Listing) -> dict[str, Any]:
    """What the channel says of the goods, what could not be read of it, and where it says otherwise than we do."""
    rules = listing_facts.FactRules.of(row.connection)
    facts, odd = listing_facts.facts_of(row, rules)
    attributes = row.told.get("attributes", {})
    left = {name: value for name, value in attributes.items() if not rules.fields.get(name)}
    return {
        "facts": [{"label": LABELS[name], "said": spoken(name, value)} for name, value in facts.items() if name != "title"],
        "left_there": [{"label": name, "said": value} for name, value in left.items()],
        "unreadable": odd,
        "is_draft": row.told.get("state") == "draft",
        "differences": listing_facts.told(listing_facts.differing([row], rules).get(row.pk, []) if row.item_id else []),
    }


def _limits(terms: dict[str, Any], whom: str) -> list[str]:
    words = {"least": "at least {} an order", "step": "in steps of {}", "most": "at most {} an order"}
    return [whom + said.format(terms[name]) for name, said in words.items() if terms.get(name)]


def _told(row: Listing) -> list[str]:
    """What the shopper is told beside the quantity."""
    terms: dict[str, Any] = row.terms
    said = []
    if terms.get("badge"):
        said.append(f"{terms['badge']}: {terms.get('text', '')}")
    if terms.get("low_below"):
        said.append(f"below {terms['low_below']}: {terms.get('low_text', '')}")
    if terms.get("send_days") is not None:
        said.append(f"sent within {terms['send_days']} days")
    said += _limits(terms, "")
    titles = dict(row.connection.test_report.get("places", []))
    said += [f"{titles.get(key) or key}: {units}" for key, units in sorted(terms.get("places", {}).items())]
    titles = dict(ChannelGroup.objects.filter(connection=row.connection_id).values_list("key", "title"))
    for key, limits in terms.get("groups", {}).items():
        said += _limits(limits, f"{titles.get(key, key)}: ")
    if not terms.get("show_stock", True):
        said.append("stock not shown")
    return said


def _history(row: Listing) -> list[dict[str, Any]]:
    """All that became of it, newest first, each with who and why."""
    found: list[dict[str, Any]] = []

    def add(at: Any, by: str, what: str, why: str = "", link: str = "") -> None:
        found.append({"at": at, "by": by, "what": what, "why": why, "link": link})

    for note in row.notes.order_by("-pk")[:MOST]:  # type: ignore[attr-defined]
        add(note.at, note.by, note.what, note.why)
    for change in SettingChange.objects.filter(level="listing", subject=row.pk).order_by("-pk")[:MOST]:
        label, before, after = said_of(change)
        add(change.at, change.by, f"{label}: {before} → {after}")
    for done in AuditRow.objects.filter(subject="listing", subject_id=row.pk, action__in=DONE).order_by("-pk")[:MOST]:
        add(done.at, done.actor, DONE[done.action])
    for snag in Snag.objects.filter(listing=row).order_by("-pk")[:MOST]:
        add(snag.made_at, "", snag.title, snag.detail, "" if snag.resolved_at else "/connections/snags")
        if snag.resolved_at:
            add(snag.resolved_at, "", f"put right: {snag.title}", snag.resolved_how)
    lines = SubmittedLine.objects.filter(listing=row, taken__isnull=False).select_related("submission")
    for line in lines.order_by("-pk")[:MOST]:
        sort = line.submission.sort
        add(line.submission.ended_at or line.stamp, "", f"{sort} {'taken' if line.taken else 'refused'} there", line.said)
    for made in Publication.objects.filter(listing=row):
        add(
            made.ended_at or made.prepared_at,
            made.by,
            "listed from its item",
            f"catalogue entry {made.entry}" if made.entry else "",
        )
    return sorted(found, key=lambda one: one["at"], reverse=True)[:MOST]
