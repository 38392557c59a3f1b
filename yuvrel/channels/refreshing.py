"""Titles and descriptions of listings that stand there already, told anew as the content rules say now."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from yuvrel.catalogue.kits import holders_of
from yuvrel.connectors.base import capable
from yuvrel.connectors.capabilities import Capability, Texts
from yuvrel.connectors.messages import ListingText, PushResult, Submitted
from yuvrel.core.errors import NotFoundError, RefusedError
from yuvrel.core.rules import OF_CONNECTIONS, Level, Setting
from yuvrel.events.actions import wake
from yuvrel.people.roles import SYSTEM, Ability, Actor, audit
from yuvrel.rules.models import SettingChange
from yuvrel.rules.queries import by_level
from yuvrel.rules.registry import declare

from . import submissions
from .credentials import connector_for, kind_of, kinds_that
from .language import NAME
from .models import Connection, Listing, ListingNote, Run, SubmittedLine
from .publishing import CONTENT, content_of, names_price
from .queries import get_listing
from .rules import connection_value, reached_by
from .runs import begin, raise_snag, run_of, settle_snags

SORT = "texts"
AT_ONCE = 500
BY_ITSELF = "changes"
SNAG = "texts"
TEMPLATES = ("title_there", "description_there", NAME)


declare(
    Setting(
        "texts_when",
        "Titles and descriptions",
        "Whether listings that stand there are told anew when something that is said of their product changes here.",
        "choice",
        "hand",
        choices=(("hand", "told by hand only"), (BY_ITSELF, "told when they change here")),
        levels=OF_CONNECTIONS,
        group=CONTENT["group"],
        ability=Ability.CONNECT.value,
        needs=Capability.TEXTS.value,
    )
)


@dataclass(frozen=True)
class Text:
    """What a listing is to be told, and what stands in the way."""

    title: str
    description: str
    problems: tuple[str, ...]


def ask_refresh(actor: Actor, listing_id: int) -> Run:
    """A run that tells one listing its title and description anew; a job carries it out.

    Raises RefusedError where the kind of account takes no texts, or nothing can be told now.
    """
    actor.need(Ability.PAIR)
    row = get_listing(listing_id)
    if row.item_id is None:
        raise RefusedError("It is not paired with an item, so nothing of ours stands there.", field="link")
    if Capability.TEXTS not in kind_of(row.connection).can:
        raise RefusedError(f"A {kind_of(row.connection).label.lower()} takes no texts from here.", field="kind")
    if row.connection.state != Connection.State.LIVE:
        raise RefusedError(f"A connection that is {row.connection.state} is told nothing.", field="state")
    with transaction.atomic():
        run = begin(row.connection, "refresh", actor.name)
        audit(actor, "refresh listing", "listing", row.pk)
        wake("channels.refresh", f"refresh:{row.connection_id}", run_id=run.pk, ids=f"{row.pk}")
    return run


def note_changes(item_ids: Iterable[int], changes: Iterable[SettingChange], prices: Iterable[int] | None = ()) -> set[int]:
    """Mark listings whose title or description may be another now, where they are told by themselves. `prices`: items that
    may cost something else, None for all; it counts where a template names the price. Returns the connections that have
    some to tell."""
    items, templates = set(item_ids), [change for change in changes if change.name in TEMPLATES]
    priced = set(prices or ())
    follow = (priced or prices is None) and names_price()
    items |= priced | holders_of(priced).keys() if follow else set()
    every = follow and prices is None
    if not items and not templates and not every:
        return set()
    wanted = Q() if every else Q(item_id__any_of=list(items))
    for change in () if every else templates:
        wanted |= reached_by(Level(change.level), change.subject, change.within, change.kind)
    woken = set()
    kept = by_level(["texts_when"])
    for row in Connection.objects.filter(kind__in=kinds_that(Capability.TEXTS), state=Connection.State.LIVE).order_by("pk"):
        if connection_value("texts_when", row, kept) == BY_ITSELF:
            listings = Listing.objects.filter(wanted, connection=row, link=Listing.Link.LINKED, kept_there=False)
            if listings.update(texts_due_at=timezone.now()):
                woken.add(row.pk)
    return woken


def tell_due(connection: Connection) -> int:
    """Tell every listing that is marked, so many at a time. Returns how many were told."""
    told = 0
    due = Listing.objects.filter(connection=connection, texts_due_at__isnull=False)
    # Of what stands for no item any more nothing is told.
    due.exclude(link=Listing.Link.LINKED).update(texts_due_at=None)
    while waiting := dict(due.order_by("pk").values_list("pk", "texts_due_at")[:AT_ONCE]):
        told += _tell(connection, list(waiting))
        # What changed again since is told once more.
        due.filter(pk__in=waiting, texts_due_at__lte=max(at for at in waiting.values() if at)).update(texts_due_at=None)
    return told


def texts_of(connection: Connection, rows: Sequence[Listing]) -> dict[int, Text]:
    """What listings are to be told, in a fixed number of queries."""
    kind = kind_of(connection)
    most = kind.most_title if issubclass(kind, Texts) else 0
    found = {}
    for pk, (title, description, problems) in content_of(connection, Listing.objects.filter(pk__in=[r.pk for r in rows])).items():
        if not problems and not title:
            problems = ["It has no title."]
        if len(title) > most:
            problems = [*problems, f"The title has {len(title)} characters; at most {most} are taken there."]
        found[pk] = Text(title, description, tuple(problems))
    return found


def refresh(run: Run, ids: Sequence[int]) -> int:
    """Tell listings what the rules say now, as somebody asked; one whose texts cannot be made has a snag. Returns how many
    were told."""
    return _tell(run.connection, ids, run)


def _tell(connection: Connection, ids: Sequence[int], run: Run | None = None) -> int:
    connector = capable(connector_for(connection), Texts)
    with run_of(connection, "refresh", run) as log:
        rows = list(Listing.objects.filter(connection=connection, pk__in=ids, link=Listing.Link.LINKED).order_by("pk"))
        if not rows:
            raise NotFoundError("There is nothing to tell.")
        texts = texts_of(connection, rows)
        for row in rows:
            if texts[row.pk].problems:
                _refused(connection, row, " ".join(texts[row.pk].problems))
        whole = [row for row in rows if not texts[row.pk].problems]
        log.step(done=len(rows), total=len(rows), failed=len(rows) - len(whole))
        if whole:
            told = [
                ListingText(external_id=r.external_id, title=texts[r.pk].title, description=texts[r.pk].description)
                for r in whole
            ]
            answer = connector.push_texts(told)
            if isinstance(answer, Submitted):
                now = timezone.now()
                lines = [submissions.Handed(row.pk, {"title": texts[row.pk].title}, now) for row in whole]
                submissions.remember(connection, SORT, answer, lines)
            else:
                _settle(connection, whole, {row.pk: texts[row.pk].title for row in whole}, answer)
        log.note(f"{len(whole)} of {len(rows)} told")
    return len(whole)


def _settle(connection: Connection, rows: Sequence[Listing], titles: Mapping[int, str], answer: Sequence[PushResult]) -> None:
    said = {result.external_id: result for result in answer}
    for row in rows:
        result = said.get(row.external_id)
        if result is not None and result.ok:
            _told(row, titles[row.pk])
        else:
            _refused(connection, row, (result.error if result else "") or submissions.UNSAID)


def _settle_batch(connection: Connection, lines: Sequence[SubmittedLine], refused: Mapping[int, str]) -> None:
    for line in lines:
        if line.listing is None:
            continue
        if line.listing.pk in refused:
            _refused(connection, line.listing, refused[line.listing.pk])
        else:
            _told(line.listing, line.wanted["title"])


submissions.SETTLERS[SORT] = _settle_batch


@transaction.atomic
def _told(row: Listing, title: str) -> None:
    Listing.objects.filter(pk=row.pk).update(title=title[:200])
    why = "" if title == row.title else f"{row.title} → {title}"
    ListingNote.objects.create(listing=row, at=timezone.now(), by=SYSTEM.name, what="texts told anew", why=why[:200])
    settle_snags(SNAG, "told again and taken", listing=row)


def _refused(connection: Connection, row: Listing, why: str) -> None:
    raise_snag(connection, SNAG, f"The texts of {row.title} were not taken", why, listing=row, field="title_there")
