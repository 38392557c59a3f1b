"""A company begins: its places, its tax, the accounts of its books."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from django.core.exceptions import ValidationError
from django.core.validators import validate_slug
from django.db import transaction

from yuvrel.catalogue.models import TaxClass
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.money import minor_unit
from yuvrel.ownership import working_for
from yuvrel.people.models import Company, Location
from yuvrel.people.roles import SYSTEM, audit

from .actions import open_chart

# Money columns, and what the screens show of them, have two decimals.
MINOR_UNIT = Decimal("0.01")


@transaction.atomic
def begin(
    name: str, currency: str, zone: str, places: Sequence[tuple[str, str]], tax_percent: Decimal, *, further: bool = False
) -> Company:
    """Open a company with its places (short name, name) and its chart of accounts; `further`: beside those there are.

    Companies share products and suppliers; all else is each one's own. Raises RefusedError when there is one already and
    no further one was asked for, BadInputError naming what cannot be.
    """
    if Company.objects.exists() and not further:
        raise RefusedError("This database holds a company already. To open another beside it, say --further.", field="name")
    if Company.objects.filter(name=name.strip()).exists():
        raise BadInputError(f"There is a company called {name.strip()} already.", field="name")
    if not 0 < len(name.strip()) <= 120:
        raise BadInputError("A company needs a name of at most 120 characters.", field="name")
    if minor_unit(currency) != MINOR_UNIT:
        raise BadInputError(f"Books are kept in a currency with two decimals so far; {currency} has others.", field="currency")
    try:
        ZoneInfo(zone)
    except (ZoneInfoNotFoundError, ValueError, IsADirectoryError) as error:
        raise BadInputError(f"There is no time zone {zone!r}; one is Europe/Dublin.", field="zone") from error
    if not places:
        raise BadInputError("A company needs a place that holds its stock.", field="location")
    if not 0 <= tax_percent < 100:
        raise BadInputError("The tax rate lies between 0 and 100 per cent.", field="tax")
    company = Company.objects.create(name=name.strip(), base_currency=currency, time_zone=zone)
    with working_for(company):
        for position, (code, called) in enumerate(places):
            _add_place(company, position, code, called)
        _add_tax(company, tax_percent)
        open_chart()
    audit(SYSTEM, "begin", "company", company.pk, after={"name": company.name, "places": [code for code, _ in places]})
    return company


def _add_tax(company: Company, percent: Decimal) -> None:
    """Tax classes are shared: one of that rate will do."""
    if not TaxClass.objects.filter(percent=percent).exists():
        name = "Standard" if not TaxClass.objects.filter(name="Standard").exists() else f"Standard, {company.name}"[:40]
        TaxClass.objects.create(name=name, percent=percent)


def _add_place(company: Company, position: int, code: str, name: str) -> None:
    if len(code) > 20 or len(name) > 80:
        raise BadInputError("A short name has at most 20 characters, a name 80.", field="location")
    try:
        validate_slug(code)
    except ValidationError as error:
        raise BadInputError(f"{code!r} cannot be a short name: letters, digits and hyphens only.", field="location") from error
    if Location.objects.filter(code=code).exists() or Location.objects.filter(name=name).exists():
        raise BadInputError(f"Two places are called {name}.", field="location")
    Location.objects.create(company=company, code=code, name=name, position=position)
