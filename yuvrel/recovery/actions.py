"""A restored company finds its way back: what was given out is passed over, what left is taken in or undone, and somebody
says when sending begins again."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime
from decimal import Decimal

from django.db import transaction
from pydantic import ValidationError

from yuvrel.books.actions import Posting, found_stock, mark_sent, open_day, post
from yuvrel.books.models import JournalEntry, LedgerDocument
from yuvrel.buying.actions import take_sent
from yuvrel.buying.documents import PURCHASE_ORDER
from yuvrel.channels.ledger_out import ledger_message
from yuvrel.channels.mapping import mapping_of
from yuvrel.channels.models import InboundMessage
from yuvrel.channels.outbound import ANSWER, answer_again
from yuvrel.connectors.messages import RemoteDocument, RemoteParcel, RemotePurchase
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, YuvrelError
from yuvrel.core.money import ZERO
from yuvrel.core.postings import Line, Role
from yuvrel.documents.actions import move_on
from yuvrel.documents.models import NumberSeries
from yuvrel.documents.registry import KINDS
from yuvrel.events.actions import wake
from yuvrel.ownership import working_for
from yuvrel.people.epochs import begin_epoch
from yuvrel.people.models import Company, Epoch
from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder

from .models import FoundThere, Recovery

State, Kind = FoundThere.State, FoundThere.Kind
TASK = "recovery.ask"


@transaction.atomic
def begin(at: datetime) -> Epoch:
    """A backup was brought back: a new epoch begins, every company is held, and every series of numbers moves on."""
    epoch = begin_epoch(at)
    for one in Company.objects.order_by("pk"):
        with working_for(one):
            move_on()
            Recovery.objects.filter(ended_at=None).update(ended_at=at, ended_by="a further restore")
            Recovery.objects.create(epoch=epoch)
    return epoch


def standing() -> Recovery | None:
    """The restore that the company has not yet come back from, if there is one."""
    return Recovery.objects.select_related("epoch").filter(ended_at=None).order_by("-pk").first()


def _open(actor: Actor) -> Recovery:
    actor.need(Ability.CONNECT)
    found = Recovery.objects.select_for_update(of=("self",)).select_related("epoch").filter(ended_at=None).order_by("-pk").first()
    if found is None:
        raise RefusedError("Nothing was restored here that anybody has to agree to.")
    return found


@transaction.atomic
def ask_all(actor: Actor) -> None:
    """Have every other end asked what it holds beyond the backup."""
    found = _open(actor)
    found.asking = True
    found.save(update_fields=["asking"])
    wake(TASK, f"{TASK}:{found.pk}", recovery_id=found.pk)


def take(actor: Actor, found_id: int, at: datetime) -> FoundThere:
    """Take in something that was found: a shipment as having left then, an order as sent; a document of the ledger is
    booked here and taken back, so that both sides agree and what it stood for can be entered anew.

    What cannot be is said on it. Raises NotFoundError, RefusedError.
    """
    actor.need(Ability.CONNECT)
    with transaction.atomic():
        row = (
            FoundThere.objects.select_for_update(of=("self",))
            .select_related("connection", "recovery__epoch")
            .filter(pk=found_id)
            .first()
        )
        if row is None:
            raise NotFoundError("Nothing like that was found.")
        _open(actor)
        if row.state != State.OPEN:
            raise RefusedError(f"It is {row.state} already.", field="state")
        try:
            with transaction.atomic():
                state = WAYS[row.kind](actor, row, at)
        except (YuvrelError, KeyError, ValidationError) as error:
            row.fault = error.detail[:400] if isinstance(error, YuvrelError) else "What was found cannot be read any more."
            row.save(update_fields=["fault"])
            return row
        row.fault = ""
        _settle(actor, row, state, at)
    return row


def take_all(actor: Actor, kind: str, at: datetime) -> tuple[int, int]:
    """Take in all of a kind that is open, the oldest first. Returns how many were, and how many could not be."""
    actor.need(Ability.CONNECT)
    rows = FoundThere.objects.filter(recovery__ended_at=None, kind=kind, state=State.OPEN).order_by("body__at", "pk")
    done = [take(actor, pk, at).state != State.OPEN for pk in rows.values_list("pk", flat=True)]
    return sum(done), len(done) - sum(done)


@transaction.atomic
def leave(actor: Actor, found_id: int, why: str, at: datetime) -> FoundThere:
    """Leave something as it is, with the reason. Raises BadInputError without one."""
    actor.need(Ability.CONNECT)
    row = FoundThere.objects.select_for_update(of=("self",)).filter(pk=found_id, state=State.OPEN).first()
    if row is None:
        raise NotFoundError("Nothing like that is open.")
    _open(actor)
    if not why.strip():
        raise BadInputError("Say why it stays as it is.", field="why")
    row.why = why.strip()[:200]
    _settle(actor, row, State.LEFT, at)
    return row


def _settle(actor: Actor, row: FoundThere, state: str, at: datetime) -> None:
    row.state, row.settled_at, row.settled_by = state, at, actor.name
    row.save()
    audit(actor, f"found after a restore: {state}", "recovery", row.recovery_id, after={"what": row.title, "why": row.why})


@transaction.atomic
def send_again(actor: Actor, at: datetime, *, without: bool = False) -> None:
    """Agree: what is here goes out again. Raises RefusedError while other ends were not asked (`without`: those that do not
    answer), or something found is still open."""
    found = _open(actor)
    if found.asked_at is None or found.asking:
        raise RefusedError("Ask the other ends first what they hold.", field="asked")
    if found.silent and not without:
        raise RefusedError(f"Not asked: {', '.join(found.silent)}. Ask again, or say that it goes on without.", field="without")
    left = found.found.filter(state=State.OPEN).count()  # type: ignore[attr-defined]
    if left:
        raise RefusedError(f"{left} that were found are still open. Take them in, or say why they stay.", field="found")
    found.ended_at, found.ended_by = at, actor.name
    found.save(update_fields=["ended_at", "ended_by"])
    Company.objects.filter(pk=company().pk).update(held_at=None)
    audit(actor, "sends again after a restore", "recovery", found.pk, after={"without": found.silent})


def _take_parcel(actor: Actor, row: FoundThere, at: datetime) -> str:
    parcel = RemoteParcel.model_validate({name: row.body[name] for name in ("key", "at", "carrier", "tracking", "lines")})
    order = SalesOrder.objects.filter(connection=row.connection, external_id=row.body["order"]).first()
    if order is None:
        raise RefusedError("Its order is not here yet: ask again when it has come in.")
    lines = {line.external_id: line for line in order.lines.all()}
    unknown = [key for key, _ in parcel.lines if key not in lines]
    if unknown:
        raise RefusedError(f"The order has no line {unknown[0]} here.")
    units = {lines[key].pk: quantity * lines[key].units for key, quantity in parcel.lines}
    ship(actor, order.pk, at=parcel.at, quantities=units or None, carrier=parcel.carrier, tracking=parcel.tracking)
    return State.TAKEN


def _take_purchase(actor: Actor, row: FoundThere, at: datetime) -> str:
    there = RemotePurchase.model_validate(row.body)
    lines = [(line.sku, line.quantity, line.price) for line in there.lines]
    take_sent(actor, row.connection_id, there.number, there.currency, lines, there.expected_on, there.at)
    digits = re.search(r"\d{1,12}$", there.number)
    if digits:
        move_on({PURCHASE_ORDER.code: int(digits[0])})
    # The supplier's answer may have come before the order it answers was here again.
    for kept in InboundMessage.objects.filter(connection=row.connection, kind=ANSWER, state=InboundMessage.State.SNAGGED):
        with suppress(YuvrelError), transaction.atomic():
            answer_again(kept, at)
    return State.TAKEN


def _undo_document(actor: Actor, row: FoundThere, at: datetime) -> str:
    there = RemoteDocument.model_validate(row.body)
    here = LedgerDocument.objects.filter(number=there.number).first()
    if here is not None and (here.state == LedgerDocument.State.SENT or _same(here, there, row)):
        # What it stands for has come in meanwhile, and is booked under the same number.
        return State.TAKEN
    if here is not None:
        # It came in booked otherwise, as a payment that was promised then and is made by now: it gets a number of its own.
        here.number = f"{here.number}-e{row.recovery.epoch.number}"
        here.save(update_fields=["number"])
    open_ones = FoundThere.objects.filter(recovery=row.recovery, state=State.OPEN).exclude(kind=Kind.DOCUMENT)
    if open_ones.exists():
        raise RefusedError("Take in shipments and orders first: some documents there belong to them.")
    role_of = {code: role for role, code in reversed(mapping_of(row.connection).items())}
    strange = [code for code, _ in there.lines if code not in role_of]
    if strange:
        raise RefusedError(f"None of our accounts is mapped to {strange[0]}.", field="accounts")
    if Role.INVENTORY in role_of.values():
        # Here no item is known for it.
        role_of |= {code: found_stock() for code, role in role_of.items() if role == Role.INVENTORY}
    sums: dict[str, Decimal] = defaultdict(Decimal)
    for code, amount in there.lines:
        sums[role_of[code]] += amount
    booked = [Line(role, amount) for role, amount in sums.items() if amount]
    taken = Posting(
        JournalEntry.Kind.RESTORED, there.day, there.number, tuple(booked), memo="found after a restore", number=there.number,
        ledger_kind=there.kind, contact=there.contact,
    )  # fmt: skip
    entry = post(taken)
    if entry is None:
        raise RefusedError("It books nothing.")
    mark_sent(entry.ledger_document.pk, there.id, at)
    back = tuple(Line(line.role, ZERO - line.amount) for line in booked)
    post(Posting(JournalEntry.Kind.RESTORED, open_day(company_day(at)), there.number, back, memo="taken back after a restore"))
    return State.UNDONE


def _same(here: LedgerDocument, there: RemoteDocument, row: FoundThere) -> bool:
    return sorted(ledger_message(here, row.connection).lines) == sorted((code, amount) for code, amount in there.lines if amount)


WAYS: dict[str, Callable[[Actor, FoundThere, datetime], str]] = {
    Kind.PARCEL: _take_parcel,
    Kind.PURCHASE: _take_purchase,
    Kind.DOCUMENT: _undo_document,
}


def series() -> list[tuple[str, str]]:
    """Each kind of document with its next number."""
    last = dict(NumberSeries.objects.filter(company=company()).values_list("kind", "last"))
    numbered = [kind for kind in KINDS.values() if kind.series]
    return [
        (kind.name, f"{kind.series.prefix}-{last.get(kind.code, kind.series.first - 1) + 1}") for kind in numbered if kind.series
    ]
