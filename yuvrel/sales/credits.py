"""Credit notes: what is given back of a sale, by hand or because the channel has paid it back already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any

from django.db import transaction
from django.db.models import Sum

from yuvrel.books.actions import Posting, clearing_accounts, open_day, post
from yuvrel.books.models import JournalEntry, JournalLine, LedgerDocument
from yuvrel.catalogue.models import Item
from yuvrel.core import credits, postings
from yuvrel.core.credits import Credit, Part, Sold, Wanted
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError, YuvrelError
from yuvrel.core.money import ZERO, round_money
from yuvrel.core.payments import give_back
from yuvrel.core.postings import Role
from yuvrel.documents.actions import lock, next_number
from yuvrel.documents.registry import Ref
from yuvrel.events.actions import record
from yuvrel.events.models import Event
from yuvrel.people.queries import company, company_day
from yuvrel.people.roles import Ability, Actor, audit

from .documents import CREDIT_NOTE, ORDER
from .models import CreditLine, CreditNote, OrderLine, Return, SalesOrder
from .returns import Coming, Found, announce, inspect
from .rules import order_rules
from .till_counts import refunded_late

# Cents that a channel may round otherwise than we do: they are no reason to refuse what has been paid back.
SLACK = Decimal("0.03")
STOCK, NOTHING = "stock", "nothing"


@dataclass(frozen=True)
class Refund:
    """How a credit reaches the customer: `tell_channel`: the channel is asked to pay it back; `external_id`: it has done so
    already, and `stated` is what it says it paid; `method`: how; `role`: of the clearing account it went through, where that
    is known."""

    tell_channel: bool = False
    external_id: str = ""
    stated: Decimal | None = None
    method: str = ""
    role: str = ""


BY_HAND = Refund()


def sold_lines(order: SalesOrder) -> list[Sold]:
    """An order's lines as the core credits them."""
    found = []
    for line in order.lines.order_by("pk"):
        goods = line.kind in credits.GOODS
        found.append(
            Sold(
                line.pk,
                line.kind,
                line.title,
                line.quantity,
                line.shipped if goods else line.invoiced,
                line.net,
                line.tax,
                line.tax_percent,
                line.credited,
                line.credited_net,
                line.credited_tax,
            )
        )
    return found


@transaction.atomic
def credit(
    actor: Actor,
    order_id: int,
    wanted: Mapping[int, Wanted],
    at: datetime,
    *,
    fee: Decimal = ZERO,
    note: str = "",
    back_id: int | None = None,
    refund: Refund = BY_HAND,
) -> CreditNote:
    """Give back what of an order is named, and post it. `wanted`: by order line; `fee`: kept, with tax.

    Raises NotFoundError, BadInputError naming the field, RefusedError for a closed period.
    """
    actor.need(Ability.KEEP_BOOKS)
    order = lock(ORDER, SalesOrder, order_id)
    back = order.returns.filter(pk=back_id).first() if back_id else None  # type: ignore[attr-defined]
    if back_id and back is None:
        raise NotFoundError("There is no such return of this order.", field="back_id")
    if refund.tell_channel and not can_pay_back(order):
        raise BadInputError(f"{order.connection.name} cannot be asked to pay this back.", field="tell_channel")
    return _write(actor, order, wanted, at, company_day(at), fee=fee, note=note, back=back, refund=refund)


def _write(
    actor: Actor,
    order: SalesOrder,
    wanted: Mapping[int, Wanted],
    at: datetime,
    day: Any,
    *,
    fee: Decimal = ZERO,
    note: str = "",
    back: Return | None = None,
    refund: Refund = BY_HAND,
) -> CreditNote:
    if order.currency != company().base_currency:
        raise RefusedError(f"It is in {order.currency}; nothing is posted without a rate.", field="currency")
    parts, worth = credits.credit_parts(sold_lines(order), wanted, fee, order.currency)
    if not refund.external_id and not any(part.gross for part in parts):
        raise BadInputError("Nothing of that is left to be given back.", field="lines")
    against = _against(order, worth.total, refund.role)
    refunded = worth.total - against.get(Role.RECEIVABLE, ZERO)
    back = back or _return_for(order, parts)
    row = CreditNote.objects.create(
        number=next_number(CREDIT_NOTE),
        order=order,
        back=back,
        external_id=refund.external_id,
        issued_on=day,
        issued_at=at,
        net=worth.net,
        tax=worth.tax,
        fee=fee,
        total=worth.total,
        refunded=refunded,
        stated=_stated(order, refunded) if refund.stated is None else refund.stated,
        method=refund.method[:60],
        note=note.strip()[:300],
        tell_channel=refund.tell_channel and refunded > 0,
    )
    lines = {line.pk: line for line in order.lines.all()}
    for part in parts:
        _note_line(row, lines[part.line_id], part)
    _post(order, row, worth, against, [(lines[part.line_id], part) for part in parts])
    if row.tell_channel:
        record(Event.Kind.REFUND, [row.pk], row.number)
    audit(actor, "credit order", "order", order.pk, after={"credit": row.number, "total": str(row.total)})
    return row


def _return_for(order: SalesOrder, parts: Sequence[Part]) -> Return | None:
    """The first return of these goods that nothing was given back for yet."""
    lines = [part.line_id for part in parts if part.quantity]
    rows = order.returns.filter(credits=None, lines__order_line__in=lines).exclude(state=Return.State.CANCELLED)  # type: ignore[attr-defined]
    found: Return | None = rows.order_by("pk").first()
    return found


def can_pay_back(order: SalesOrder) -> bool:
    """Whether the order's channel can be asked to pay it back; what was sold over the counter is paid back there."""
    return order.connection.pays_back and order.kind == SalesOrder.Kind.ORDER


def _stated(order: SalesOrder, refunded: Decimal) -> Decimal | None:
    return round_money(refunded * order.rate, order.stated_currency) if order.stated_currency else None


@dataclass(frozen=True)
class Rehearsed:
    """What a credit note would say: its lines, what it comes to, and how much of it would be set off against what is owed."""

    parts: Sequence[Part]
    worth: Credit
    owed: Decimal


def rehearse(order: SalesOrder, wanted: Mapping[int, Wanted], fee: Decimal) -> Rehearsed:
    """What a credit note would say. Raises BadInputError naming the field."""
    parts, worth = credits.credit_parts(sold_lines(order), wanted, fee, order.currency)
    return Rehearsed(parts, worth, _against(order, worth.total, "").get(Role.RECEIVABLE, ZERO))


def _note_line(row: CreditNote, line: OrderLine, part: Part) -> None:
    CreditLine.objects.create(note=row, order_line=line, quantity=part.quantity, net=part.net, tax=part.tax)
    line.credited += part.quantity
    line.credited_net += part.net
    line.credited_tax += part.tax
    line.save(update_fields=["credited", "credited_net", "credited_tax"])


def _booked(order: SalesOrder) -> dict[str, dict[str, Decimal]]:
    """What the order's invoices and its credits left on each account that settles them, by kind of entry."""
    numbers = [*order.shipments.values_list("number", flat=True), *order.credits.values_list("number", flat=True)]  # type: ignore[attr-defined]
    kinds = (JournalEntry.Kind.INVOICE, JournalEntry.Kind.CREDIT)
    lines = JournalLine.objects.filter(entry__document__in=numbers, entry__kind__in=kinds)
    found: dict[str, dict[str, Decimal]] = {kind.value: {} for kind in kinds}
    for kind, role, total in lines.values_list("entry__kind", "account__role").annotate(total=Sum("amount")).order_by():
        found[kind][role] = total
    return found


def owed_for(order: SalesOrder) -> Decimal:
    """What the customer still owes for the order's invoices, after its credits."""
    sums = _booked(order).values()
    return max(sum((of.get(Role.RECEIVABLE, ZERO) for of in sums), ZERO), ZERO)


def _against(order: SalesOrder, total: Decimal, role: str) -> dict[str, Decimal]:
    """What a credit is settled by: what is owed, and the accounts it was paid through; `role`: the one that the channel says
    it was paid back through."""
    if role:
        return {role: total} if total else {}
    booked = _booked(order)
    paid: dict[str, Decimal] = {}
    for one in order.payments.order_by("pk"):  # type: ignore[attr-defined]
        paid[one.role] = paid.get(one.role, ZERO) + one.amount
    given = {name: -amount for name, amount in booked[JournalEntry.Kind.CREDIT].items()}
    owed = sum((of.get(Role.RECEIVABLE, ZERO) for of in booked.values()), ZERO)
    return give_back(total, owed, paid, given)


def _post(
    order: SalesOrder, row: CreditNote, worth: Credit, against: Mapping[str, Decimal], parts: Sequence[tuple[OrderLine, Part]]
) -> None:
    rules = order_rules(order.connection)
    details: list[dict[str, Any]] = [line.told(part.quantity, part.net, part.tax) for line, part in parts]
    if row.fee:
        tax = row.tax - sum((part.tax for _, part in parts), ZERO)
        details.append({"title": "Kept for taking it back", "sku": "", "quantity": "1", "net": str(-worth.fee), "tax": str(tax)})
    owed = Role.RECEIVABLE in against
    post(
        Posting(
            JournalEntry.Kind.CREDIT,
            row.issued_on,
            row.number,
            postings.credit_note(worth, against),
            ref=Ref(CREDIT_NOTE.code, row.pk),
            memo=f"{order.connection.name} order {order.external_number}",
            ledger_kind=LedgerDocument.Kind.CREDIT,
            number=row.number,
            contact=rules.contact(order.customer, owed=owed),
            details=details,
            gather="" if owed else rules.gather(order.connection),
        )
    )


@dataclass(frozen=True)
class RefundLine:
    """What of a line a channel has paid back, in its currency with tax; `key`: the line's id there; `quantity`: in what the
    channel counts, none where the price alone was lowered."""

    key: str
    quantity: Decimal
    amount: Decimal


@dataclass(frozen=True)
class TakenRefund:
    """A refund that a channel has made: `amount` in its currency, with tax; what its lines come to beyond that was kept for
    taking the goods back. `ours`: the number of our credit note that asked for it; `goods`: what it says of
    the goods, *expected*, *stock* or *nothing*, empty where it says nothing."""

    external_id: str
    at: datetime
    amount: Decimal
    lines: Sequence[RefundLine]
    ours: str = ""
    goods: str = ""
    method: str = ""
    note: str = ""


def take_refunds(actor: Actor, order_id: int, refunds: Sequence[TakenRefund]) -> str:
    """Follow what a channel has paid back, each once. Returns why one cannot be followed, as a sentence; empty when all
    are. One that cannot be does not keep back the others."""
    said = ""
    for one in refunds:
        try:
            take_refund(actor, order_id, one)
        except YuvrelError as error:
            said = said or f"A refund could not be followed: {error.detail}"
    return said


@transaction.atomic
def take_refund(actor: Actor, order_id: int, told: TakenRefund) -> CreditNote:
    """Follow one refund: our own is told to be done, any other becomes a credit note, and what it says of the goods is
    done with them. Raises YuvrelError saying why it cannot be followed."""
    order = lock(ORDER, SalesOrder, order_id)
    known: CreditNote | None = order.credits.filter(external_id=told.external_id).first()  # type: ignore[attr-defined]
    if known is None and told.ours:
        known = order.credits.filter(number=told.ours, external_id="").first()  # type: ignore[attr-defined]
    if known is not None:
        if not known.external_id:
            known.external_id = told.external_id
            known.told_channel_at = known.told_channel_at or told.at
            known.save(update_fields=["external_id", "told_channel_at"])
        return known
    wanted = _wanted_of(order, told)
    rules = order_rules(order.connection)
    roles = {account.code: account.role for account in clearing_accounts()}
    role = roles.get(rules.accounts.get(told.method, ""), "") if told.method else ""
    day = open_day(company_day(told.at))
    refund = Refund(external_id=told.external_id, stated=told.amount, method=told.method, role=role)
    row = _write(actor, order, wanted, told.at, day, fee=_kept(order, told), note=told.note, refund=refund)
    refunded_late(order, told.at)
    _follow_goods(actor, order, row, told, told.goods or rules.refund_goods(order.kind == SalesOrder.Kind.TILL))
    return row


def _kept(order: SalesOrder, told: TakenRefund) -> Decimal:
    """What a channel kept of what its lines come to, in our currency. Raises RefusedError where it paid more than that."""
    kept = sum((line.amount for line in told.lines), ZERO) - told.amount
    if kept < 0:
        raise RefusedError(f"Its lines come to {-kept} less than the {told.amount} that was paid back.", field="refunds")
    return round_money(kept / order.rate, order.currency) if order.stated_currency else kept


def _wanted_of(order: SalesOrder, told: TakenRefund) -> dict[int, Wanted]:
    """What of our lines a channel has paid back, in our currency."""
    keys = {line.external_id: line for line in order.lines.all() if line.external_id}
    wanted = {}
    for one in told.lines:
        line = keys.get(one.key)
        if line is None or line.pk in wanted:
            raise BadInputError("It names a line that this order does not have, or one twice.", field="refunds")
        units = one.quantity * line.units if line.kind in credits.GOODS else ZERO
        if units > line.shipped - line.credited:
            raise RefusedError(
                f"{line.title}: more was paid back than has left and was not credited before. Ship it, or have what has "
                "not left cancelled there, then try again.",
                field="refunds",
            )
        gross = round_money(one.amount / order.rate, order.currency) if order.stated_currency else one.amount
        wanted[line.pk] = Wanted(units, gross, SLACK)
    return wanted


def _follow_goods(actor: Actor, order: SalesOrder, row: CreditNote, told: TakenRefund, goods: str) -> None:
    """Expect back, or take back at once, what was credited by the unit and is on no return yet."""
    if goods == NOTHING:
        return
    lines = order.lines.filter(kind=OrderLine.Kind.ITEM, item__kind__in=(Item.Kind.STOCKED, Item.Kind.BUNDLE))
    named = set(row.lines.values_list("order_line_id", flat=True))  # type: ignore[attr-defined]
    coming = [Coming(line.pk, line.credited - line.returned) for line in lines if line.pk in named]
    coming = [one for one in coming if one.quantity > 0]
    if not coming:
        return
    back = announce(actor, order.pk, coming, told.at, note=f"refund at {order.connection.name}"[:300])
    if goods == STOCK:
        rows = back.lines.all()  # type: ignore[attr-defined]
        inspect(actor, back.pk, {line.pk: Found(restock=line.quantity) for line in rows}, told.at)
