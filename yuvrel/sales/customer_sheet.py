"""Customers as a sheet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import iso3166

from yuvrel.core.intake import Column, Judge, Read, Wrong, said_yes, whole, words, yes_or_no
from yuvrel.intake.registry import Kind, declare
from yuvrel.people.roles import Ability, Actor
from yuvrel.pricing.models import PriceList

from .customers import ADDRESS, keep
from .models import Customer, CustomerGroup

COLUMNS = (
    Column("number", "ours; empty for a new one, or where mail or name tells who it is", "1042", whole, tells=True),
    Column("name", "of a person, a club, a firm", "Fenwick Beekeepers", words(160), needed=True),
    Column("email", "mail address", "orders@fenwick.example", words(160), folded=True, empty=""),
    Column("group", "its name, as the customers sheet has it", "Clubs", words(80), folded=True, empty=""),
    Column(
        "price_list", "a list of this customer's own; it speaks before the group's", "Trade", words(80), folded=True, empty=""
    ),
    Column("on_account", "yes: pays later, by invoice", "yes", yes_or_no, said_yes),
    Column("payment_days", "days until an invoice is due; empty for the connection's", "14", whole, empty=""),
    Column("street", "", "3 Weir Row", words(160), empty=""),
    Column("city", "", "Larkmead", words(160), empty=""),
    Column("postcode", "", "T12 X9", words(20), empty=""),
    Column("country", "two letters, as IE", "IE", words(2), empty=""),
    Column("note", "", "asks for pallets", words(500), empty=""),
)
OWN = ("name", "email", "on_account", "note", "payment_days")
NAMED = {column.name: column for column in COLUMNS}


def key_of(values: Mapping[str, Any]) -> str:
    """A customer by number, else by mail, else by name."""
    if values.get("number"):
        return f"#{values['number']}"
    return str(values.get("email") or values["name"]).casefold()


def _rows() -> Iterator[tuple[str, list[str], Customer]]:
    """Each customer: the key, and what else tells who it is; what two share tells nothing."""
    rows = list(Customer.objects.select_related("group", "price_list").order_by("name", "pk"))
    said = Counter(text.casefold() for row in rows for text in {row.name, row.email} if text)
    for row in rows:
        telling = [text.casefold() for text in (row.email, row.name) if text and said[text.casefold()] == 1]
        yield f"#{row.pk}", telling, row


def standing() -> Iterator[tuple[str, dict[str, str]]]:
    """Every customer, by number."""
    for key, _, row in _rows():
        values: dict[str, Any] = {
            "number": row.pk,
            "name": row.name,
            "email": row.email,
            "group": row.group.name if row.group else "",
            "price_list": row.price_list.name if row.price_list else "",
            "on_account": row.on_account,
            "payment_days": "" if row.payment_days is None else row.payment_days,
            **{name: row.address.get(name, "") for name in ADDRESS},
            "note": row.note,
        }
        yield key, {name: NAMED[name].text(value) for name, value in values.items()}


def known_as() -> Callable[[str], str]:
    """A customer by mail or name, where nobody else has it."""
    told = {text: key for key, telling, _ in _rows() for text in telling}
    return lambda key: told.get(key, key)


def judge() -> Judge:
    """The group and the list are there, and a number is one of ours."""
    groups = {name.casefold() for name in CustomerGroup.objects.values_list("name", flat=True)}
    lists = {name.casefold() for name in PriceList.objects.filter(base=False).values_list("name", flat=True)}
    # What channels wrote goes out as it is, and comes in again.
    there = Customer.objects.values_list("address__country", flat=True).distinct()
    countries = {*iso3166.countries_by_alpha2, *(str(code).upper() for code in there)}

    def wrong(values: Mapping[str, Any], is_new: bool) -> Wrong:
        if is_new and values.get("number"):
            return "no customer has it; leave it empty for a new one"
        if values.get("group") and values["group"].casefold() not in groups:
            return "group", "is no group of customers"
        if values.get("price_list") and values["price_list"].casefold() not in lists:
            return "price_list", "is no price list"
        if values.get("email") and "@" not in values["email"]:
            return "email", "is no mail address"
        if values.get("country") and values["country"].upper() not in countries:
            return "country", "is no country of ISO 3166: two letters, as IE"
        return ""

    return wrong


def apply(actor: Actor, rows: Sequence[Read]) -> None:
    """Take rows in; what a row does not say stays as it is."""
    groups = {row.name.casefold(): row.pk for row in CustomerGroup.objects.all()}
    lists = {row.name.casefold(): row.pk for row in PriceList.objects.all()}
    known = [int(row.key[1:]) for row in rows if row.outcome == "changed"]
    there = {f"#{row.pk}": row for row in Customer.objects.filter(pk__in=known)}
    for row in rows:
        values, old = row.values, there.get(row.key)
        facts: dict[str, Any] = {name: values[name] for name in OWN if name in values}
        if facts.get("payment_days") == "":
            facts["payment_days"] = None
        facts |= {name: values[name] for name in ADDRESS if name in values}
        if "group" in values:
            facts["group_id"] = groups.get(values["group"].casefold())
        if "price_list" in values:
            facts["price_list_id"] = lists.get(values["price_list"].casefold())
        keep(actor, old.pk if old else None, old.version if old else 0, facts)


declare(
    Kind(
        "customers",
        "Customers",
        "Who buys, in which group, at which list, and how they pay",
        COLUMNS,
        Ability.CUSTOMERS,
        standing,
        apply,
        key_of,
        judge,
        known_as,
    )
)
