"""What other currencies are worth, from a day on."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from django.db import transaction

from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.core.money import minor_unit
from yuvrel.people.queries import company
from yuvrel.people.roles import Ability, Actor, audit

from .models import ExchangeRate


def rate_on(currency: str, day: date, base: str) -> Decimal:
    """Units of `currency` for one of base on a day. Raises RefusedError when no rate is known."""
    if currency == base:
        return Decimal(1)
    row = ExchangeRate.objects.filter(currency=currency, day__lte=day).order_by("-day").first()
    if row is None:
        raise RefusedError(
            f"No exchange rate for {currency} is known on {day:%d %b %Y}. Enter one under Books, Accounts.", field="currency"
        )
    return row.rate


@transaction.atomic
def keep_rate(actor: Actor, currency: str, day: date, rate: Decimal) -> ExchangeRate:
    """What one of base currency is worth in another from a day on; what was posted stays at the rate of its day.

    Raises BadInputError, ForbiddenError for who neither buys nor keeps the books.
    """
    if not (actor.may(Ability.BUY) or actor.may(Ability.KEEP_BOOKS)):
        raise ForbiddenError(f"As {actor.role.value} you may not set rates. Ask a manager, buyer or bookkeeper.")
    currency = currency.strip().upper()
    minor_unit(currency)
    if currency == company().base_currency:
        raise BadInputError("The books are kept in this currency; it has no rate.", field="currency")
    if rate <= 0:
        raise BadInputError("A rate must be greater than zero.", field="rate")
    row, _ = ExchangeRate.objects.update_or_create(currency=currency, day=day, defaults={"rate": rate})
    audit(actor, "set rate", "exchange rate", row.pk, after={"currency": currency, "day": day.isoformat(), "rate": str(rate)})
    return row


def newest_rates(most: int = 60) -> list[ExchangeRate]:
    """The rates that were set last, by currency."""
    newest = ExchangeRate.objects.order_by("currency", "-day").distinct("currency").values_list("pk", flat=True)
    return list(ExchangeRate.objects.filter(pk__in=newest).order_by("currency")[:most])
