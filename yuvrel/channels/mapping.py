"""Which account of an outside ledger each of ours is."""

from __future__ import annotations

from collections.abc import Mapping

from yuvrel.books.models import Account
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.postings import their_account

from .models import Connection, MappedAccount

MOST_CODE = 40


def mapping_of(connection: Connection) -> dict[str, str]:
    """The ledger's code of each of our accounts, by role, of those that are mapped."""
    rows = MappedAccount.objects.filter(connection=connection).order_by("account__code")
    return dict(rows.values_list("account__role", "code"))


def all_of(connection: Connection) -> dict[str, str]:
    """The same with every account of ours; empty for one that was opened since and is not mapped yet."""
    return {**dict.fromkeys(Account.objects.order_by("code").values_list("role", flat=True), ""), **mapping_of(connection)}


def usual() -> dict[str, str]:
    """What a new ledger begins with: each account under its own code."""
    return dict(Account.objects.values_list("role", "code"))


def keep(connection: Connection, given: Mapping[str, str]) -> None:
    """Map our accounts anew; those that are not named are mapped no more. Raises BadInputError where one of ours would
    stand for nothing, or is none of ours."""
    ours = dict(Account.objects.values_list("role", "pk"))
    codes = {role: code.strip() for role, code in given.items() if code.strip()}
    unknown = sorted(set(codes) - set(ours))
    if unknown:
        raise BadInputError(f"There is no account {', '.join(unknown)} here.", field="accounts")
    if any(len(code) > MOST_CODE for code in codes.values()):
        raise BadInputError(f"A code has at most {MOST_CODE} characters.", field="accounts")
    missing = sorted(role for role in ours if not their_account(codes, role))
    if missing:
        raise BadInputError(f"Map an account for {', '.join(missing)}.", field="accounts")
    MappedAccount.objects.filter(connection=connection).delete()
    rows = [MappedAccount(connection=connection, account_id=ours[role], code=code) for role, code in codes.items()]
    MappedAccount.objects.bulk_create(rows)


def check(connection: Connection) -> None:
    """Raises RefusedError where one of ours is mapped to an account that the ledger, as it was tested, has not."""
    theirs = {code for code, _ in connection.test_report.get("accounts", [])}
    unknown = sorted(set(mapping_of(connection).values()) - theirs)
    if unknown:
        raise RefusedError(f"The ledger has no account {', '.join(unknown)}. Map ours to one it has.", field="accounts")
