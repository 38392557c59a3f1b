"""What pages do to stay up to date: which tables an answer was read from, and which were written to since."""

from __future__ import annotations

import pytest
from django.test import Client

from tests.world import make_company, make_item, make_user
from yuvrel.people.roles import Role
from yuvrel.server.reads import HEADER, named_in


def _changed(client: Client, before: dict[str, int]) -> set[str]:
    now = client.get("/api/v1/changes").json()
    return {name for name, count in now.items() if count != before[name]}


def test_an_answer_names_what_it_was_read_from(manager: Client) -> None:
    make_item("SMK-S", on_hand=3)
    reads = set(manager.get("/api/v1/items").headers[HEADER].split())
    assert {"catalogue_item", "catalogue_product", "stock_stockbalance"} <= reads
    assert not {name for name in reads if name.startswith(("django_session", "procrastinate", "buying_purchaseorder"))}
    told = set(manager.get("/api/v1/changes").json())
    assert reads <= told, "what is read can be seen to change"


@pytest.mark.django_db(transaction=True)
@pytest.mark.usefixtures("no_jobs_left")
def test_what_is_written_is_counted_at_once_and_nothing_else(client: Client) -> None:
    make_company()
    item = make_item("SMK-S", on_hand=3)
    client.force_login(make_user(Role.MANAGER))
    client.get("/api/v1/items")
    # Everything above is counted by the end of a request that writes.
    place = item.balances.get().location_id
    body = {"item_id": item.pk, "location_id": place, "reason": "lost", "change": "-1"}
    assert client.post("/api/v1/adjustments", body, content_type="application/json").status_code == 200
    before = client.get("/api/v1/changes").json()
    assert client.post("/api/v1/adjustments", body, content_type="application/json").status_code == 200
    changed = _changed(client, before)
    assert {"stock_stockmove", "stock_stockbalance", "books_journalentry"} <= changed
    assert not changed & {"catalogue_item", "sales_salesorder", "buying_purchaseorder"}
    before = client.get("/api/v1/changes").json()
    client.get("/api/v1/items")
    assert _changed(client, before) == set(), "reading changes nothing"


def test_statements_are_looked_through_for_tables_that_somebody_can_see() -> None:
    assert named_in('SELECT "stock_lot"."id" FROM "stock_lot" JOIN django_session ON true') == {"stock_lot"}
    assert named_in("SELECT pg_stat_force_next_flush()") == frozenset()


def test_only_who_is_signed_in_is_told(client: Client, db: None) -> None:
    assert client.get("/api/v1/changes").status_code == 401
