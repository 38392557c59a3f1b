"""Prices on their way to channels: worked out from the lists, held below their floor, pushed and read back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from decimal import Decimal
from functools import partial
from http.client import NOT_FOUND
from typing import Any

from django.db import transaction
from django.db.models import DecimalField, Q, QuerySet, Value
from django.utils import timezone

from yuvrel.catalogue.kits import holders_of
from yuvrel.connectors.capabilities import GroupPrices, Prices
from yuvrel.connectors.errors import RefusedThereError
from yuvrel.connectors.messages import GroupPricePush, PricePush, PushResult, RemotePrice, Submitted
from yuvrel.core.errors import RefusedError
from yuvrel.core.price_columns import NONE
from yuvrel.core.rules import Level
from yuvrel.platform.bulk import insert_many, update_many
from yuvrel.pricing.models import PriceList
from yuvrel.rules.models import SettingChange
from yuvrel.rules.queries import by_level
from yuvrel.rules.registry import SETTINGS

from . import submissions
from .credentials import connector_as
from .models import ChannelGroup, Connection, GroupPrice, Listing, PriceOffer, Snag, SubmittedLine
from .price_rules import SET, Worked, group_speakers, groups_of, live_connections, prices_of, work_out
from .rules import Ids, Kept, connection_value, reached_by
from .runs import RunLog, raise_snag, run_of, settle_snags
from .sql import alone

BATCH, BATCHES = 100, 50
SORT = "prices"
# Of more listings than this, all of a connection are read.
FEW = 2000
SHORTEST_PAUSE, LONGEST_PAUSE = 5, 3600
SNAG, GROUP_SNAG, GONE = "price", "group price", "group gone"
STILL_HELD = "It is still held: raise the price, or lower the floor."


def recompute_items(causes: dict[int, str]) -> set[int]:
    """Work out the prices of every listing of these items and of bundles that hold them, which may follow what they cost;
    `causes`: item to what touched it. Returns the connections that must push."""
    causes = {bundle: causes[item] for bundle, item in holders_of(causes).items()} | causes
    wanted = list(causes)
    return _renew_all(lambda rows: rows.filter(item_id__any_of=wanted), lambda item: causes[item])


def recompute_lists(causes: dict[int, str]) -> set[int]:
    """Work out every price, after something about whole lists changed."""
    cause = next(iter(causes.values()))
    return _renew_all(lambda rows: rows, lambda item: cause)


def recompute_connections(causes: dict[int, str]) -> set[int]:
    """Work out every price of these connections; `causes`: connection to what touched it."""
    woken: set[int] = set()
    for connection_id, cause in causes.items():
        woken |= _renew_all(lambda rows: rows, lambda item, cause=cause: cause, {connection_id})  # type: ignore[misc]
    return woken


def recompute_rules(changes: Iterable[SettingChange]) -> set[int]:
    """Work out the prices that changed settings reach."""
    changed: set[int] = set()
    for change in changes:
        if change.name in SET:
            cause = f"{SETTINGS[change.name].label.lower()} of {change.title}"[:120]
            reach = reached_by(Level(change.level), change.subject, change.within, change.kind)
            changed |= _renew_all(lambda rows, reach=reach: rows.filter(reach), lambda item, cause=cause: cause)  # type: ignore[misc]
    return changed


def follows_cost() -> bool:
    """Whether any list works prices out from cost, so that they move when goods do."""
    return PriceList.objects.filter(method__in=(PriceList.Method.MARGIN, PriceList.Method.MARKUP)).exists()


def _renew_all(
    chosen: Callable[[QuerySet[Listing]], QuerySet[Listing]], cause_of: Callable[[int], str], only: set[int] | None = None
) -> set[int]:
    kept = by_level(SET)
    kept_here: dict[Connection, Ids] = {}
    for connection in live_connections():
        if only is not None and connection.pk not in only:
            continue
        listings = chosen(Listing.objects.filter(connection=connection, link=Listing.Link.LINKED))
        if connection_value("price_owner", connection, kept) == "here":
            kept_here[connection] = Ids.of(listings)
            continue
        for table, snag in ((PriceOffer, SNAG), (GroupPrice, GROUP_SNAG)):
            gone = table.objects.filter(listing__in=listings)
            if gone.exists():
                gone.delete()
                settle_snags(snag, "prices are not kept here", listing__in=listings)
    if not any(len(ids.listing) for ids in kept_here.values()):
        return set()
    # Connections that show the same items and lists need them worked out once.
    items = {item for ids in kept_here.values() for item in ids.item.tolist()}
    worked = work_out(list(kept_here), items)
    return {one.pk for one, ids in kept_here.items() if renew(one, ids, cause_of, kept, worked)}


def renew(
    connection: Connection,
    ids: Ids,
    cause_of: Callable[[int], str],
    kept: Kept,
    worked: Worked | None = None,
    *,
    again: bool = False,
) -> int:
    """Work prices out, for everybody and for each group of customers; those that differ from what was offered, or
    `again` all, are to be pushed. Those below their floor are held with a Snag. Returns how many are to be pushed."""
    if not len(ids.listing):
        return 0
    worked = work_out([connection], ids.item.tolist()) if worked is None else worked
    # A group that no list speaks for, and that is shown nothing of its own, sees what everybody does.
    groups = [one for one in groups_of(connection) if group_speakers(one) or one.prices.exists()]  # type: ignore[attr-defined]
    for_whom = (None, *groups)
    return sum(_renew(connection, one, ids, cause_of, kept, worked, again=again) for one in for_whom)


def _renew(
    connection: Connection,
    group: ChannelGroup | None,
    ids: Ids,
    cause_of: Callable[[int], str],
    kept: Kept,
    worked: Worked,
    *,
    again: bool,
) -> int:
    found = prices_of(connection, ids, kept, worked, group)
    names = ("listing_id", "pk", "currency", "price", "previous", "state", "retry_at")
    standing = offers_for(connection, group)
    if len(found.listings) <= FEW:
        standing = standing.filter(listing_id__in=found.listings)
    old = {row[0]: row[1:] for row in standing.values_list(*names)}
    now = timezone.now()
    written: list[PriceOffer | GroupPrice] = []
    silent: list[int] = []
    above: list[int] = []

    def offer(listing: int, item: int, told: tuple[str, Decimal | None, Decimal | None], whose: int, *, held: bool) -> None:
        facts: dict[str, Any] = {"currency": told[0], "price": told[1], "list_id": whose or None, "cause": cause_of(item)[:120]}
        state = PriceOffer.State.HELD if held else PriceOffer.State.PENDING
        facts |= {"pk": old[listing][0] if listing in old else None, "state": state, "offered_at": now, "listing_id": listing}
        written.append(GroupPrice(group=group, **facts) if group else PriceOffer(previous=told[2], **facts))

    of_one, speaks = found.of_one, bool(group and group_speakers(group))
    columns = (ids.item.tolist(), found.price.tolist(), found.previous.tolist(), found.list.tolist(), found.held.tolist())
    for listing, item, cents, before, whose, held in zip(found.listings, *columns, strict=True):
        if cents == NONE:
            silent.append(listing)
            # A group goes back to what everybody sees, which has to be told; one that no list speaks for is not ours.
            if group and ((again and speaks) or (listing in old and old[listing][2] is not None)):
                offer(listing, item, (found.currency, None, None), 0, held=False)
            continue
        price, previous = Decimal(cents) / of_one, None if before == NONE else Decimal(before) / of_one
        known = old.get(listing)
        if known and not again and _stays(known, (found.currency, price, previous), held=held):
            continue
        if not held:
            above.append(listing)
        offer(listing, item, (found.currency, price, previous), whose, held=held)
    _write(written, [] if group else silent)
    _tell_floors(connection, group, [row for row in written if row.state == PriceOffer.State.HELD], above + silent)
    return sum(1 for row in written if row.state == PriceOffer.State.PENDING)


def _stays(known: tuple[Any, ...], told: tuple[str, Decimal, Decimal | None], *, held: bool) -> bool:
    """Whether an offer is as it was: a refused one stays refused, one that was below its floor goes out when it is no
    longer; that one has no time at which it is tried again."""
    _, *before, state, retry_at = known
    was_below = state == PriceOffer.State.HELD and retry_at is None
    return tuple(before) == told and was_below == held


def offers_for(connection: Connection, group: ChannelGroup | None) -> QuerySet[Any]:
    """The offered prices of a connection: those for everybody, or those for a group of its customers."""
    if group is None:
        return PriceOffer.objects.filter(listing__connection=connection)
    return GroupPrice.objects.filter(group=group).annotate(previous=Value(None, output_field=DecimalField()))


OFFERED = ["currency", "price", "list", "state", "cause", "offered_at", "retry_at"]


@transaction.atomic
def _write(rows: Sequence[PriceOffer | GroupPrice], silent: Sequence[int]) -> None:
    """Many in a few statements. Only one consumer writes them, so that none is there twice."""
    if silent:
        PriceOffer.objects.filter(listing_id__any_of=silent).delete()
    insert_many([row for row in rows if row.pk is None])
    known = [row for row in rows if row.pk is not None]
    update_many(known, [*OFFERED, "previous"] if known and isinstance(known[0], PriceOffer) else OFFERED)


def _for_whom(group: ChannelGroup | None) -> tuple[str, str, str]:
    """(kind of snags about what is shown to it, the field of those about the floor, for whom: in words)."""
    return (SNAG, "margin_floor", "") if group is None else (GROUP_SNAG, f"floor {group.pk}", f" for {group.title}")


def _tell_floors(
    connection: Connection, group: ChannelGroup | None, below: Sequence[PriceOffer | GroupPrice], above: Sequence[int]
) -> None:
    kind, field, whom = _for_whom(group)
    if above:
        settle_snags(kind, "the price is not below its floor", listing_id__in=above, field=field)
    titles = dict(Listing.objects.filter(pk__any_of=[row.listing_id for row in below]).values_list("pk", "title"))
    standing = Snag.objects.filter(connection=connection, kind=kind, resolved_at=None, listing_id__in=list(titles))
    standing = standing.filter(field=field) if group else standing
    standing.update(resolved_at=timezone.now(), resolved_how="the price was changed again")
    Snag.objects.bulk_create(
        [
            Snag(
                connection=connection,
                kind=kind,
                listing_id=row.listing_id,
                field=field,
                title=f"{titles[row.listing_id]} is below its margin floor{whom}"[:200],
                detail=f"{row.price:.2f} {row.currency} leaves less than the margin floor, so it is not shown. "
                "Raise the price, or lower the floor.",
            )
            for row in below
        ],
        2000,
    )


def push(connection: Connection) -> int:
    """Push every pending price of a connection and read each back; of an account that works on batches later they are
    handed in. Returns how many were pushed or handed in."""
    connector = connector_as(connection, Prices)
    pending = _waiting(connection, None).exclude(listing__in=submissions.under_way(connection, SORT))
    with run_of(connection, "prices") as run:
        pushed = _push_all(run, pending, connector.most_pushed, lambda rows: _push_batch(connection, connector, rows))
        if isinstance(connector, GroupPrices):
            pushed += sum(_push_group(run, connection, connector, group) for group in groups_of(connection))
        later = submissions.are_waiting(connection)
        run.note(f"{pushed} prices {'handed in' if later else 'pushed and read back'}")
    return pushed


def _push_all(run: RunLog, pending: QuerySet[Any], batch: int, push_some: Callable[[Sequence[Any]], int]) -> int:
    """Push what waits a batch at a time; `push_some` returns how many were refused. Returns how many were pushed."""
    pushed = 0
    # Which wait is asked for once for many batches: each would sort all of them again.
    while ids := list(pending.order_by("offered_at", "pk").values_list("pk", flat=True)[: batch * BATCHES]):
        for begin in range(0, len(ids), batch):
            rows = list(pending.filter(pk__in=ids[begin : begin + batch]).select_related("listing").order_by("pk"))
            failed = push_some(rows) if rows else 0
            pushed += len(rows)
            run.step(done=len(rows), total=len(rows), changed=len(rows) - failed, failed=failed)
    return pushed


def _push_batch(connection: Connection, connector: Prices, rows: Sequence[PriceOffer]) -> int:
    """Push some prices and read them back, or hand them in. Returns how many were refused."""
    wanted = [PricePush(external_id=row.listing.external_id, price=row.price, previous=row.previous) for row in rows]
    answer = connector.push_prices(wanted)
    if isinstance(answer, Submitted):
        submissions.remember(connection, SORT, answer, [submissions.Handed(row.listing_id, {}, row.offered_at) for row in rows])
        return 0
    return _read_back(connection, connector, rows, answer)


def _push_group(run: RunLog, connection: Connection, connector: GroupPrices, group: ChannelGroup) -> int:
    """Push what waits for a group. One that the account has no more is no fault of the account: it is shown nothing from
    then on, and a snag says so."""
    push_some = partial(_push_group_batch, connection, connector, group)
    with unless_gone(group):
        return _push_all(run, _waiting(connection, group), connector.most_pushed, push_some)
    return 0


@contextmanager
def unless_gone(group: ChannelGroup) -> Iterator[None]:
    """What is asked about a group: where the account says that there is none such, it is gone, and the rest goes on."""
    try:
        yield
    except RefusedThereError as error:
        if error.status != NOT_FOUND:
            raise
        group_is_gone(group, str(error))


@transaction.atomic
def group_is_gone(group: ChannelGroup, said: str) -> None:
    """The account does not know a group of customers any more: nothing is offered to it until it is read again."""
    ChannelGroup.objects.filter(pk=group.pk).update(gone_at=timezone.now())
    GroupPrice.objects.filter(group=group).delete()
    settle_snags(GROUP_SNAG, "the group is not there any more", field__in=(f"group {group.pk}", f"floor {group.pk}"))
    detail = f"It said: {said} Read its groups again once it is there, or leave it so."
    title = f"{group.connection.name} has no group {group.title} any more"
    Snag.objects.create(
        connection=group.connection, kind=GONE, title=title[:200], detail=detail[:1000], field=f"group {group.pk}"
    )


def _push_group_batch(connection: Connection, connector: GroupPrices, group: ChannelGroup, rows: Sequence[GroupPrice]) -> int:
    """Push what a group is to be shown and read it back. Returns how many were refused."""
    wanted = [GroupPricePush(external_id=row.listing.external_id, price=row.price) for row in rows]
    answer = connector.push_group_prices(group.key, wanted)
    refused = {r.external_id: r.error for r in answer if not r.ok}
    found = connector.read_group_prices(group.key, [one.external_id for one in wanted if one.external_id not in refused])
    _settle_group(connection, group, rows, found, refused, timezone.now())
    return len(refused)


@transaction.atomic
def _settle_group(
    connection: Connection,
    group: ChannelGroup,
    rows: Sequence[GroupPrice],
    found: dict[str, Decimal | None],
    refused: dict[str, str],
    now: datetime,
) -> None:
    """Note what a group is shown; a price that moved on meanwhile stays pending. One that is not there any more, here
    and there, is done with."""
    stamps = {row.pk: row.offered_at for row in rows}
    current = GroupPrice.objects.select_for_update(of=("self",)).filter(pk__in=stamps).select_related("listing").order_by("pk")
    agreed, changed, done = [], [], []
    for row in current:
        key = row.listing.external_id
        newest = row.state == PriceOffer.State.PENDING and row.offered_at == stamps[row.pk]
        if key in refused:
            if newest:
                _hold(connection, row, refused[key], now, group)
            continue
        row.shown = found.get(key)
        if newest:
            agrees = key in found and row.shown == row.price
            row.state = PriceOffer.State.AGREED if agrees else PriceOffer.State.DRIFTING
            row.pushed_at, row.refusals, row.retry_at = now, 0, None
            if agrees:
                row.agreed_at = now
                agreed.append(row.listing_id)
                if row.price is None:
                    done.append(row.pk)
        changed.append(row)
    update_many(changed, ["shown", "state", "pushed_at", "refusals", "retry_at", "agreed_at"])
    GroupPrice.objects.filter(pk__in=done).delete()
    settle_snags(
        GROUP_SNAG, "pushed again and agreed", listing_id__in=agreed, field__in=(f"group {group.pk}", f"floor {group.pk}")
    )


def _read_back(connection: Connection, connector: Prices, rows: Sequence[PriceOffer], answer: Sequence[PushResult]) -> int:
    """Note what the channel says and shows of some prices. Returns how many were refused."""
    refused = {r.external_id: r.error for r in answer if not r.ok}
    wanted = [row.listing for row in rows]
    found = connector.read_prices([one.external_id for one in wanted if one.external_id not in refused])
    _settle(connection, rows, found, refused, timezone.now())
    return len(refused)


def _settle_batch(connection: Connection, lines: Sequence[SubmittedLine], refused: Mapping[int, str]) -> None:
    """What came of a batch: what was taken is read back, a part at a time. A price that was worked out anew since then
    keeps its own time and stays pending."""
    connector = connector_as(connection, Prices)
    stamps = {line.listing_id: line.stamp for line in lines}
    offers = PriceOffer.objects.filter(listing__in=stamps).select_related("listing").order_by("pk")
    rows = [row for row in offers if row.offered_at == stamps[row.listing_id]]
    for begin in range(0, len(rows), BATCH):
        some = rows[begin : begin + BATCH]
        said = [(row.listing, refused.get(row.listing_id)) for row in some]
        answer = [PushResult(external_id=one.external_id, ok=why is None, error=why or "") for one, why in said]
        _read_back(connection, connector, some, answer)


submissions.SETTLERS[SORT] = _settle_batch


@transaction.atomic
def _settle(
    connection: Connection, rows: Sequence[PriceOffer], found: dict[str, RemotePrice], refused: dict[str, str], now: datetime
) -> None:
    """Note what the channel shows; a price that moved on meanwhile stays pending."""
    stamps = {row.pk: row.offered_at for row in rows}
    current = PriceOffer.objects.select_for_update(of=("self",)).filter(pk__in=stamps).select_related("listing").order_by("pk")
    agreed, changed, told = [], [], []
    for row in current:
        key = row.listing.external_id
        newest = row.state == PriceOffer.State.PENDING and row.offered_at == stamps[row.pk]
        if key in refused:
            if newest:
                _hold(connection, row, refused[key], now)
            continue
        there = found.get(key)
        row.previous_shown = there.previous if there else None
        row.listing.price = there.price if there else None
        told.append(row.listing)
        if newest:
            agrees = there is not None and shows(row, there)
            row.state = PriceOffer.State.AGREED if agrees else PriceOffer.State.DRIFTING
            row.pushed_at, row.refusals, row.retry_at = now, 0, None
            if agrees:
                row.agreed_at = now
                agreed.append(row.listing_id)
        changed.append(row)
    update_many(changed, ["previous_shown", "state", "pushed_at", "refusals", "retry_at", "agreed_at"])
    update_many(told, ["price"])
    settle_snags(SNAG, "pushed again and agreed", listing_id__in=agreed)


def shows(offer: PriceOffer, there: RemotePrice) -> bool:
    """Whether a channel shows what is offered; a kind that knows no price before shows none."""
    return there.price == offer.price and (there.previous is None or there.previous == offer.previous)


def _hold(
    connection: Connection, row: PriceOffer | GroupPrice, refusal: str, now: datetime, group: ChannelGroup | None = None
) -> None:
    pause = min(LONGEST_PAUSE, SHORTEST_PAUSE * 2**row.refusals)
    row.state, row.pushed_at, row.refusals = PriceOffer.State.HELD, now, min(20, row.refusals + 1)
    row.retry_at = now + timedelta(seconds=pause)
    row.save(update_fields=["state", "pushed_at", "refusals", "retry_at"])
    if group is None:
        title = f"The price of {row.listing.title} was refused"
        raise_snag(connection, SNAG, title, refusal, listing=row.listing, field="price")
        return
    kind, _, whom = _for_whom(group)
    facts = {"title": f"The price of {row.listing.title}{whom} was refused"[:200], "detail": refusal[:1000]}
    # Of several groups each has a snag of its own.
    about: dict[str, Any] = {"kind": kind, "listing": row.listing, "field": f"group {group.pk}", "resolved_at": None}
    Snag.objects.update_or_create(connection=connection, **about, defaults=facts)


def is_below_floor(kind: str, listing: Listing) -> bool:
    """Whether a snag says so: of what everybody is shown, or of what a group is."""
    of_floor = Q(field="margin_floor") | Q(field__startswith="floor ")
    return Snag.objects.filter(of_floor, listing=listing, kind=kind, resolved_at=None).exists()


def retry_held(now: datetime) -> None:
    """Refused prices whose pause is over go out again."""
    for table in (PriceOffer, GroupPrice):
        table.objects.filter(state=PriceOffer.State.HELD, retry_at__lte=now).update(state=PriceOffer.State.PENDING)


PENDING = Q(state=PriceOffer.State.PENDING, listing__link=Listing.Link.LINKED)


def _waiting(connection: Connection, group: ChannelGroup | None) -> QuerySet[Any]:
    return offers_for(connection, group).filter(PENDING)


def are_waiting() -> set[int]:
    """The connections that have prices to be pushed."""
    found = set(PriceOffer.objects.filter(PENDING).values_list("listing__connection", flat=True).distinct())
    return found | set(
        GroupPrice.objects.filter(PENDING, group__gone_at=None).values_list("group__connection", flat=True).distinct()
    )


def push_again(listing: Listing) -> set[int]:
    """Work the price out anew and send it, whatever the channel shows now; inside a transaction. Returns the connection
    that must push, if any: a price below its floor stays held. Raises RefusedError where prices are not kept here."""
    # The consumer that writes offers may be at it.
    alone("prices")
    rows = Listing.objects.filter(pk=listing.pk, link=Listing.Link.LINKED)
    kept = by_level(SET)
    if connection_value("price_owner", listing.connection, kept) != "here":
        raise RefusedError(f"The prices of {listing.connection.name} are not kept here, so none is sent.", field="price_owner")
    sent = renew(listing.connection, Ids.of(rows), lambda item: "sent again by hand", kept, again=True)
    return {listing.connection_id} if sent else set()


def unlinked(listing_ids: Iterable[int]) -> None:
    """Nothing is shown any more for listings that stand for no item."""
    gone = list(listing_ids)
    PriceOffer.objects.filter(listing_id__in=gone).delete()
    GroupPrice.objects.filter(listing_id__in=gone).delete()
    settle_snags(SNAG, "it is not linked any more", listing_id__in=gone)
    settle_snags(GROUP_SNAG, "it is not linked any more", listing_id__in=gone)


def said(price: Decimal, previous: Decimal | None) -> str:
    """A price as a person reads it, with the one before."""
    return f"{price:.2f}" if previous is None else f"{price:.2f} before {previous:.2f}"
