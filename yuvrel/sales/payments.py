"""How an order is paid: what of it stands as prepaid, and what a shipment takes of what is only authorised."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal

from django.db.models import Sum

from yuvrel.books.actions import Posting, clearing_accounts, post
from yuvrel.books.models import JournalEntry, JournalLine
from yuvrel.core import postings
from yuvrel.core.money import ZERO
from yuvrel.core.payments import Part, parted, settle
from yuvrel.core.postings import Role
from yuvrel.documents.registry import Ref
from yuvrel.people.queries import company_day

from .documents import ORDER
from .foreign import stated_part
from .incoming import IncomingOrder
from .models import Capture, Payment, SalesOrder, Shipment
from .rules import order_rules

State = SalesOrder.State
Authorised, Paid = Payment.State.AUTHORISED, Payment.State.PAID


def keep_payments(order: SalesOrder, incoming: IncomingOrder, *, new: bool = False) -> None:
    """Write the payments of a version; what was taken of one already stays with it."""
    if new and not incoming.payments:
        return
    roles = {row.code: row.role for row in clearing_accounts()} if incoming.payments else {}
    kept = {row.external_id: row for row in order.payments.all()}  # type: ignore[attr-defined]
    for number, told in enumerate(incoming.payments, 1):
        row = kept.pop(told.external_id or f"{number}", None) or Payment(order=order, external_id=told.external_id or f"{number}")
        row.method, row.amount, row.state = told.method, told.amount, Authorised if told.authorised else Paid
        row.stated = told.stated
        # What was booked through an account goes on through it, whatever the rule says by now.
        row.role = row.role or roles.get(told.account, Role.CLEARING)
        row.save()
    Payment.objects.filter(pk__in=[row.pk for row in kept.values()], taken=0).delete()


def _wanted(order: SalesOrder) -> list[Part]:
    """What is to stand as prepaid, by clearing account: of an order that was cancelled only what was invoiced of it."""
    rows = list(order.payments.order_by("pk"))  # type: ignore[attr-defined]
    parts = [Part(row.role, row.amount - row.taken) for row in rows if row.state == Paid and row.amount > row.taken]
    taken = sum((row.taken for row in rows), ZERO)
    total = order.total - taken
    if order.state == State.CANCELLED:
        invoiced = order.shipments.aggregate(total=Sum("invoice__total"))["total"] or ZERO  # type: ignore[attr-defined]
        total = min(total, invoiced - taken)
    if order.paid:
        return parted(max(total, ZERO), parts)
    return parted(min(max(total, ZERO), sum((part.amount for part in parts), ZERO)), parts)


def post_prepayment(order: SalesOrder, at: datetime, *, new: bool = False, gather: str | None = None) -> None:
    """Bring what stands as prepaid to what the order says now; a held order's stays as it is. `gather`: with what the ledger
    is told of it a day at a time, where the caller knows."""
    if order.state == State.HELD:
        return
    change = {part.role: part.amount for part in _wanted(order)}
    for role, standing in ({} if new else _standing(order)).items():
        change[role] = change.get(role, ZERO) - standing
    if not any(change.values()):
        return
    more = sum(change.values(), ZERO)
    post(
        Posting(
            JournalEntry.Kind.PREPAYMENT,
            company_day(at),
            order.number,
            postings.prepayment(change),
            ref=Ref(ORDER.code, order.pk),
            memo="paid before shipment" if more > 0 else "prepayment taken back" if more else "paid another way",
            gather=order_rules(order.connection).gather(order.connection) if gather is None else gather,
        )
    )


def _standing(order: SalesOrder) -> dict[str, Decimal]:
    """What was booked as prepaid, by clearing account."""
    lines = JournalLine.objects.filter(entry__kind=JournalEntry.Kind.PREPAYMENT, entry__document=order.number)
    sums = lines.exclude(account__role=Role.PREPAYMENTS).values_list("account__role").annotate(total=Sum("amount"))
    return {role: total for role, total in sums.order_by() if total}


@dataclass
class Settlement:
    """What one invoice is settled by: amounts by account, and what is taken of each authorised payment."""

    against: Mapping[str, Decimal]
    taken: list[tuple[Payment, Decimal]] = field(default_factory=list)

    def take(self, shipment: Shipment) -> None:
        """Note what the shipment takes; the channel is told of it."""
        for payment, amount in self.taken:
            stated = stated_part(shipment.order, payment, amount)
            Capture.objects.create(payment=payment, shipment=shipment, amount=amount, stated=stated)
            payment.taken += amount
            payment.save(update_fields=["taken"])


def settlement(order: SalesOrder, total: Decimal) -> Settlement:
    """How an invoice of `total` is settled: a sale that has happened by how it was paid, an order by what was prepaid, then
    by what is authorised; the rest is owed."""
    rows = list(order.payments.order_by("pk"))  # type: ignore[attr-defined]
    if order.kind != SalesOrder.Kind.ORDER:
        parts = [Part(row.role, row.amount) for row in rows]
        return Settlement({part.role: part.amount for part in parted(total, parts)} if total > 0 else {Role.CLEARING: total})
    if order.paid:
        return Settlement({Role.PREPAYMENTS: total})
    if not rows:
        return Settlement({Role.RECEIVABLE: total})
    open_rows = [row for row in rows if row.state == Authorised]
    found = settle(total, _prepaid_left(order), [row.amount - row.taken for row in open_rows])
    against = {Role.PREPAYMENTS.value: found.prepaid, Role.RECEIVABLE.value: found.owed}
    taken = [(row, amount) for row, amount in zip(open_rows, found.taken, strict=True) if amount]
    for row, amount in taken:
        against[row.role] = against.get(row.role, ZERO) + amount
    return Settlement(against, taken)


def _prepaid_left(order: SalesOrder) -> Decimal:
    """What stands as prepaid and was not used by an invoice yet."""
    numbers = [order.number, *order.shipments.values_list("number", flat=True)]  # type: ignore[attr-defined]
    lines = JournalLine.objects.filter(account__role=Role.PREPAYMENTS, entry__document__in=numbers)
    return -(lines.aggregate(total=Sum("amount"))["total"] or ZERO)
