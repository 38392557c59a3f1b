"""Which account of an outside ledger each of ours is."""

from __future__ import annotations

import pytest
from django.db import IntegrityError, transaction
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World
from tests.world import forget_accounts
from yuvrel.books.actions import add_clearing
from yuvrel.books.models import Account
from yuvrel.channels import actions, mapping
from yuvrel.channels.models import Connection, MappedAccount
from yuvrel.channels.queries import connection_page
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.people.models import AuditRow
from yuvrel.people.roles import SYSTEM

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(standins: Standins) -> World:
    return World(standins)


def test_a_new_ledger_begins_with_our_own_codes_and_a_change_is_traced(world: World) -> None:
    told = mapping.mapping_of(world.ledger)
    assert told == dict(Account.objects.values_list("role", "code"))
    changed = {**told, "sales": told["receivable"]}
    actions.change_settings(SYSTEM, world.ledger.pk, world.ledger.version, {"accounts": changed})
    assert mapping.mapping_of(world.ledger) == changed
    assert f"'sales': '{told['sales']}'" in AuditRow.objects.filter(action="change connection").latest("pk").before["accounts"]


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"sales": " "}, "Map an account for sales."),
        ({"moonlight": "1"}, "There is no account moonlight here."),
        ({"sales": "x" * 41}, "at most 40 characters"),
    ],
)
def test_what_cannot_be_mapped_is_refused_and_changes_nothing(world: World, change: dict[str, str], said: str) -> None:
    told = mapping.mapping_of(world.ledger)
    with pytest.raises(BadInputError, match=said) as refused:
        actions.change_settings(SYSTEM, world.ledger.pk, world.ledger.version, {"accounts": {**told, **change}})
    assert refused.value.field == "accounts"
    assert mapping.mapping_of(world.ledger) == told


def test_an_account_opened_since_counts_to_the_first_until_it_is_mapped(world: World) -> None:
    add_clearing(SYSTEM, "1190", "Drawer")
    forget_accounts()
    page = connection_page(Connection.objects.get(pk=world.ledger.pk))
    assert page["accounts"]["clearing:1190"] == ""
    told = mapping.mapping_of(world.ledger)
    actions.change_settings(SYSTEM, world.ledger.pk, world.ledger.version, {"accounts": {**told, "clearing:1190": ""}})
    assert mapping.mapping_of(world.ledger) == told


def test_one_that_the_ledger_has_not_keeps_it_from_going_live(world: World) -> None:
    told = mapping.mapping_of(world.ledger)
    actions.pause(SYSTEM, world.ledger.pk)
    world.ledger.refresh_from_db()
    actions.change_settings(SYSTEM, world.ledger.pk, world.ledger.version, {"accounts": {**told, "sales": "9999"}})
    with pytest.raises(RefusedError, match="The ledger has no account 9999"):
        actions.go_live(SYSTEM, world.ledger.pk, timezone.now())


def test_the_database_maps_no_account_twice_or_to_nothing(world: World) -> None:
    row = MappedAccount.objects.first()
    assert row is not None
    for code in ("7", ""):
        with pytest.raises(IntegrityError), transaction.atomic():
            if code:
                MappedAccount.objects.create(connection=row.connection, account=row.account, code=code)
            else:
                MappedAccount.objects.filter(pk=row.pk).update(code=code)
