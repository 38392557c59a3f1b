"""Goods between our own places: from a draft to what arrives, is brought back, or is given up."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from django.db import transaction

from yuvrel.books.actions import Posting, post
from yuvrel.books.models import JournalEntry
from yuvrel.catalogue.models import Item
from yuvrel.core import postings
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.money import ZERO, spoken
from yuvrel.core.transit import Part, still_out, take
from yuvrel.documents.actions import lock, next_number, pass_on
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.platform.bulk import update_many

from . import holding
from .actions import check_quantity
from .documents import TRANSFER
from .models import Lot, Transfer, TransferLine, TransferPart
from .moving import Cause, Moving, change_incoming, lock_balances

State = Transfer.State
Kind = TransferPart.Kind
LOST = ("lost", "damaged", "expired")


@dataclass(frozen=True)
class Load:
    """So many of an item that are to go."""

    item_id: int
    quantity: Decimal


@transaction.atomic
def draft(
    actor: Actor, source_id: int, destination_id: int, loads: Sequence[Load], expected_on: date, note: str = ""
) -> Transfer:
    """A transfer that has not left yet; it holds nothing before its goods are reserved. Raises BadInputError,
    NotFoundError."""
    actor.need(Ability.TRANSFER)
    if source_id == destination_id:
        raise BadInputError("Choose two different places.", field="destination_id")
    places = set(Location.objects.filter(pk__in=[source_id, destination_id]).values_list("pk", flat=True))
    for field, place in (("source_id", source_id), ("destination_id", destination_id)):
        if place not in places:
            raise NotFoundError("There is no such location.", field=field)
    row = Transfer.objects.create(
        number=next_number(TRANSFER),
        source_id=source_id,
        destination_id=destination_id,
        expected_on=expected_on,
        note=note.strip()[:200],
    )
    for load in loads:
        _add(row, load)
    audit(actor, "draft transfer", "transfer", row.pk, after={"lines": len(loads)})
    return row


def _add(row: Transfer, load: Load) -> None:
    item = Item.objects.filter(pk=load.item_id, active=True).first()
    if item is None:
        raise NotFoundError("There is no such item in use.", field="item_id")
    if load.quantity <= 0:
        raise BadInputError("Enter how many.", field="quantity")
    check_quantity(item, load.quantity)
    if row.lines.filter(item=item).exists():  # type: ignore[attr-defined]
        raise RefusedError(f"{item.title} is on this transfer already.", field="item_id")
    TransferLine.objects.create(transfer=row, item=item, quantity=load.quantity)


def _draft(transfer_id: int, version: int) -> Transfer:
    row = lock(TRANSFER, Transfer, transfer_id, version)
    if row.state != State.DRAFT:
        raise RefusedError(f"{row.number} is {row.state}; only a draft can be changed.", field="state")
    return row


@transaction.atomic
def add_load(actor: Actor, transfer_id: int, version: int, load: Load) -> Transfer:
    """An item more on a draft. Raises StaleError, NotFoundError, RefusedError, BadInputError."""
    actor.need(Ability.TRANSFER)
    row = _draft(transfer_id, version)
    _add(row, load)
    audit(
        actor,
        "add line",
        "transfer",
        row.pk,
        after={"item": Item.objects.get(pk=load.item_id).sku, "quantity": str(load.quantity)},
    )
    return _kept(row)


@transaction.atomic
def change_draft(
    actor: Actor,
    transfer_id: int,
    version: int,
    quantities: Mapping[int, Decimal],
    expected_on: date | None = None,
    note: str | None = None,
) -> Transfer:
    """Change a draft's quantities by line, its day or its note; a quantity of zero takes the line off."""
    actor.need(Ability.TRANSFER)
    row = _draft(transfer_id, version)
    lines = {line.pk: line for line in row.lines.select_related("item")}  # type: ignore[attr-defined]
    for line_id, quantity in quantities.items():
        line = lines.get(line_id)
        if line is None:
            raise BadInputError("That line is not on this transfer.", field=f"lines.{line_id}")
        if quantity < 0:
            raise BadInputError("A quantity cannot be negative.", field=f"lines.{line_id}")
        if not quantity:
            line.delete()
            continue
        check_quantity(line.item, quantity, f"lines.{line_id}")
        line.quantity = quantity
        line.save(update_fields=["quantity"])
    free = holding.release(row.ref, {lines[line_id].item_id: quantity for line_id, quantity in quantities.items()})
    record(Event.Kind.AVAILABILITY, free, row.number)
    row.expected_on = expected_on or row.expected_on
    row.note = row.note if note is None else note.strip()[:200]
    audit(actor, "change transfer", "transfer", row.pk, after={"version": row.version + 1})
    return _kept(row)


def _kept(row: Transfer) -> Transfer:
    row.version += 1
    row.save()
    return row


@transaction.atomic
def reserve(actor: Actor, transfer_id: int, version: int) -> tuple[Transfer, list[str]]:
    """Reserve a draft's goods where they leave from: of each line what is free. Returns (the transfer, what is not free, in
    words). Raises RefusedError where nothing is."""
    actor.need(Ability.TRANSFER)
    row = _draft(transfer_id, version)
    lines = list(row.lines.select_related("item").order_by("pk"))  # type: ignore[attr-defined]
    held = holding.reserve_for(row.ref, row.number, row.source_id, {line.item_id: line.quantity for line in lines})
    if not any(held.values()):
        raise RefusedError(f"Nothing of it is free at {row.source.name}.", field="lines")
    audit(
        actor,
        "reserve the goods",
        "transfer",
        row.pk,
        after={"units": [f"{spoken(held[x.item_id])} {x.item.sku}" for x in lines]},
    )
    record(Event.Kind.AVAILABILITY, list(held), row.number)
    short = [(line.item.sku, line.quantity - held[line.item_id]) for line in lines]
    return _kept(row), [f"{spoken(units)} {sku}" for sku, units in short if units]


@transaction.atomic
def release(actor: Actor, transfer_id: int, version: int) -> Transfer:
    """What was reserved for a draft is for everybody again. Raises RefusedError where nothing was."""
    actor.need(Ability.TRANSFER)
    row = _draft(transfer_id, version)
    free = holding.release(row.ref)
    if not free:
        raise RefusedError("Nothing is reserved for it.", field="lines")
    audit(actor, "release the goods", "transfer", row.pk)
    record(Event.Kind.AVAILABILITY, free, row.number)
    return _kept(row)


@transaction.atomic
def send(actor: Actor, transfer_id: int, version: int, at: datetime) -> Transfer:
    """The goods leave: out of the source at the moving average, into Goods in transit, incoming where they go.

    Lots that expire first leave first. Raises RefusedError when the source has fewer that are not promised to an order.
    """
    actor.need(Ability.TRANSFER)
    row = lock(TRANSFER, Transfer, transfer_id, version)
    pass_on(TRANSFER, row, State.SENT)
    lines = list(row.lines.select_related("item").order_by("item_id"))  # type: ignore[attr-defined]
    if not lines:
        raise RefusedError("There is nothing on this transfer.", field="lines")
    places = (row.source_id, row.destination_id)
    balances = lock_balances((line.item_id, place) for line in lines for place in places)
    own = holding.reserved_by(row.ref)
    for line in lines:
        here = balances[line.item_id, row.source_id]
        free = here.on_hand - here.committed + own.get(line.item_id, ZERO)
        if line.quantity > free:
            raise RefusedError(
                f"{line.item.sku}: {spoken(max(free, ZERO))} are free at {row.source.name}, {spoken(line.quantity)} are to go.",
                field=f"lines.{line.pk}",
            )
    holding.release(row.ref)
    with Moving((line.item_id for line in lines), Cause("transfer", row.number, at, row.ref)) as moving:
        values = [(line.item_id, -moving.take_out(line.item_id, row.source_id, line.quantity).moved) for line in lines]
    sent: dict[int, list[Part]] = defaultdict(list)
    for move in moving.moves:
        sent[move.item_id].append(Part(move.lot_id, -move.quantity, -move.value))
    _note(Kind.SENT, [(line, sent[line.item_id]) for line in lines], at)
    change_incoming((line.item_id, row.destination_id, line.quantity) for line in lines)
    _post(row, at, postings.sent_off(values), f"to {row.destination.name}")
    row.sent_at = at
    _settled(actor, row, "send transfer", lines)
    return row


def _post(row: Transfer, at: datetime, lines: tuple[postings.Line, ...], memo: str) -> None:
    post(Posting(JournalEntry.Kind.TRANSFER, company_day(at), row.number, lines, ref=row.ref, memo=memo))


def _settled(actor: Actor, row: Transfer, what: str, lines: Iterable[TransferLine], why: str = "") -> None:
    _kept(row)
    record(Event.Kind.AVAILABILITY, [line.item_id for line in lines], row.number)
    audit(actor, what, "transfer", row.pk, after={"why": why} if why else {})


def _on_the_way(row: Transfer) -> dict[int, list[Part]]:
    """By line what is on the way, as its parts tell."""
    sent: dict[int, list[Part]] = defaultdict(list)
    settled: dict[int, list[Part]] = defaultdict(list)
    for part in TransferPart.objects.filter(line__transfer=row).order_by("pk"):
        kept = sent if part.kind == Kind.SENT else settled
        kept[part.line_id].append(Part(part.lot_id, part.quantity, part.value))
    return {line_id: still_out(parts, settled[line_id]) for line_id, parts in sent.items()}


def _note(kind: str, of_lines: Iterable[tuple[TransferLine, Iterable[Part]]], at: datetime) -> None:
    TransferPart.objects.bulk_create(
        TransferPart(line=line, kind=kind, lot_id=part.lot, quantity=part.units, value=part.value, at=at)
        for line, parts in of_lines
        for part in parts
    )


@dataclass(frozen=True)
class _Open:
    """A transfer under its lock, with the lines that goods are on the way of and what of each."""

    row: Transfer
    lines: dict[int, TransferLine]
    out: dict[int, list[Part]]

    def check(self, quantities: Mapping[int, Decimal]) -> None:
        """Raises BadInputError and RefusedError for what cannot be settled."""
        if not any(quantities.values()):
            raise BadInputError("Enter the quantity on at least one line.", field="lines")
        for line_id, quantity in quantities.items():
            line = self.lines.get(line_id)
            if line is None:
                raise BadInputError("That line is not on this transfer.", field=f"lines.{line_id}")
            if quantity < 0:
                raise BadInputError("A quantity cannot be negative.", field=f"lines.{line_id}")
            check_quantity(line.item, quantity, f"lines.{line_id}")
            if quantity > line.left:
                raise RefusedError(
                    f"{line.item.sku}: {spoken(quantity)} is more than the {spoken(line.left)} on the way.",
                    field=f"lines.{line_id}",
                )

    def settle(self, kind: str, quantities: Mapping[int, Decimal], at: datetime) -> dict[int, list[Part]]:
        """Take units by line off what is on the way; returns the parts that they are. Incoming falls with them."""
        found = {line_id: take(self.out[line_id], quantity) for line_id, quantity in quantities.items()}
        _note(kind, [(self.lines[line_id], parts) for line_id, parts in found.items()], at)
        for line_id, quantity in quantities.items():
            line = self.lines[line_id]
            setattr(line, kind, getattr(line, kind) + quantity)
        update_many([self.lines[line_id] for line_id in quantities], [kind])
        change_incoming((self.lines[line].item_id, self.row.destination_id, -units) for line, units in quantities.items())
        return found

    def put_down(self, parts: Mapping[int, list[Part]], place_id: int, at: datetime) -> tuple[postings.Line, ...]:
        """Put parts by line in at a place at the value they left at; returns what is to be posted."""
        lots = Lot.objects.in_bulk([part.lot for held in parts.values() for part in held if part.lot])
        cause = Cause("transfer", self.row.number, at, self.row.ref)
        values = []
        with Moving((self.lines[line_id].item_id for line_id in parts), cause) as moving:
            for line_id in sorted(parts, key=lambda one: self.lines[one].item_id):
                item_id = self.lines[line_id].item_id
                for part in parts[line_id]:
                    change = moving.put_in(item_id, place_id, part.units, part.value, lots.get(part.lot or 0))
                    values.append((item_id, change.moved, change.true_up))
        return postings.arrived(values)

    def close(self) -> None:
        """Say how the transfer stands after something of it was settled."""
        left = any(line.left for line in self.lines.values())
        pass_on(TRANSFER, self.row, State.PART_RECEIVED if left else State.RECEIVED)


def _open(transfer_id: int, version: int | None = None) -> _Open:
    row = lock(TRANSFER, Transfer, transfer_id, version)
    if row.state not in Transfer.OPEN:
        raise RefusedError(f"{row.number} is {row.state}; nothing of it is on the way.", field="state")
    lines = {line.pk: line for line in row.lines.select_related("item")}  # type: ignore[attr-defined]
    lock_balances((line.item_id, place) for line in lines.values() for place in (row.source_id, row.destination_id))
    return _Open(row, lines, _on_the_way(row))


@transaction.atomic
def receive(actor: Actor, transfer_id: int, quantities: Mapping[int, Decimal], at: datetime) -> Transfer:
    """Units by line arrive where they were sent, at the value they left at.

    Raises RefusedError when more arrives than is on the way, or nothing is.
    """
    actor.need(Ability.RECEIVE)
    found = _open(transfer_id)
    found.check(quantities)
    wanted = {line: quantity for line, quantity in quantities.items() if quantity}
    row = found.row
    entry = found.put_down(found.settle(Kind.RECEIVED, wanted, at), row.destination_id, at)
    _post(row, at, entry, f"arrived at {row.destination.name}")
    found.close()
    _settled(actor, row, "receive transfer", [found.lines[line] for line in wanted])
    return row


@transaction.atomic
def give_up(
    actor: Actor, transfer_id: int, version: int, quantities: Mapping[int, Decimal], reason: str, at: datetime
) -> Transfer:
    """Units by line will not arrive: their value leaves Goods in transit for the account of the reason."""
    actor.need(Ability.ADJUST)
    if reason not in LOST:
        raise BadInputError(f"Reason must be one of {', '.join(LOST)}.", field="reason")
    found = _open(transfer_id, version)
    found.check(quantities)
    wanted = {line: quantity for line, quantity in quantities.items() if quantity}
    row = found.row
    parts = found.settle(Kind.LOST, wanted, at)
    values = [(found.lines[line].item_id, part.value) for line, held in parts.items() for part in held]
    _post(row, at, postings.lost_on_the_way(reason, values), f"{reason} on the way to {row.destination.name}")
    found.close()
    _settled(actor, row, "give up transfer", [found.lines[line] for line in wanted], reason)
    return row


@transaction.atomic
def cancel(actor: Actor, transfer_id: int, version: int, at: datetime) -> Transfer:
    """Give a draft up, or have everything that is on the way brought back to where it left.

    Raises RefusedError when a part has arrived already: receive or give up the rest.
    """
    actor.need(Ability.TRANSFER)
    row = lock(TRANSFER, Transfer, transfer_id, version)
    was_draft = row.state == State.DRAFT
    if was_draft:
        pass_on(TRANSFER, row, State.CANCELLED)
        record(Event.Kind.AVAILABILITY, holding.release(row.ref), row.number)
        _settled(actor, row, "cancel transfer", [])
        return row
    found = _open(transfer_id, version)
    row = found.row
    pass_on(TRANSFER, row, State.CANCELLED)
    back = {line_id: line.left for line_id, line in found.lines.items() if line.left}
    entry = found.put_down(found.settle(Kind.RETURNED, back, at), row.source_id, at)
    _post(row, at, entry, f"back at {row.source.name}")
    _settled(actor, row, "cancel transfer", found.lines.values())
    return row
