"""An exchange over many pages with an account that fails now and then comes to its end all the same."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from decimal import Decimal as D

import pytest

from tests.world import make_connection, make_item
from yuvrel.channels import inbound
from yuvrel.channels.models import Connection, Feed
from yuvrel.connectors.http import AccessError, ConnectorError, RefusedThereError
from yuvrel.connectors.messages import Page, Raw, RemoteLine, RemoteOrder
from yuvrel.people.models import Location
from yuvrel.sales.models import SalesOrder

PAGES = 6
START = datetime(2026, 3, 14, 9, 30, tzinfo=UTC)


class Shop:
    """Six pages of two orders each; `failing` says what the n-th call fails with."""

    def __init__(self, failing: Callable[[int, str], ConnectorError | None]) -> None:
        self.failing, self.calls = failing, 0
        self.asked: list[tuple[str, str]] = []

    def orders(self, since: str, cursor: str) -> Page:
        self.calls += 1
        self.asked.append((since, cursor))
        error = self.failing(self.calls, cursor)
        if error:
            raise error
        number = int(cursor or 0)
        rows = [Raw(body=2 * number + k, at=self.at(2 * number + k).isoformat()) for k in range(2)]
        return Page(rows=rows, cursor=str(number + 1) if number + 1 < PAGES else "")

    @staticmethod
    def at(n: int) -> datetime:
        return START + timedelta(seconds=n)

    def read_order(self, n: int) -> RemoteOrder:
        line = RemoteLine(kind="item", sku="A-1", title="Thing", amount=D("12.30"), tax_percent=D(23))
        return RemoteOrder(
            external_id=f"o{n}", number=f"{n}", version=1, status="paid", placed_at=START, total=D("12.30"), lines=[line]
        )


@pytest.fixture
def connection(company: Location) -> Connection:
    make_item("A-1", on_hand=100)
    return make_connection(watermark=START.isoformat())


def ask(connection: Connection, shop: Shop, monkeypatch: pytest.MonkeyPatch) -> bool:
    """One exchange; whether it came to its end."""
    monkeypatch.setattr(inbound, "connector_as", lambda row, protocol: shop)
    try:
        inbound.poll(Connection.objects.get(pk=connection.pk))
    except ConnectorError:
        return False
    return True


def test_every_other_call_fails_and_still_all_orders_come_in(connection: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    shop = Shop(lambda call, _: AccessError("expired") if call % 2 == 0 else None)
    ended = [ask(connection, shop, monkeypatch) for _ in range(PAGES)]
    assert ended == [False] * (PAGES - 1) + [True], "each exchange gets one page further"
    assert SalesOrder.objects.count() == 2 * PAGES
    row = Feed.objects.get()
    assert row.resume == {}
    assert row.watermark == (START + timedelta(seconds=2 * PAGES - 1)).isoformat()
    # Gone on with, it asks what was asked for; ended, it begins at the watermark less the overlap.
    assert {since for since, _ in shop.asked} == {shop.asked[0][0]}
    assert ask(connection, Shop(lambda *_: None), monkeypatch)


def test_a_page_that_the_account_knows_no_more_is_no_dead_end(connection: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    assert not ask(connection, Shop(lambda _, cursor: AccessError("expired") if cursor == "3" else None), monkeypatch)
    assert Feed.objects.get().resume["cursor"] == "3"
    forgetful = Shop(lambda _, cursor: RefusedThereError("no such page") if cursor == "3" else None)
    assert not ask(connection, forgetful, monkeypatch)
    assert Feed.objects.get().resume == {}
    shop = Shop(lambda *_: None)
    assert ask(connection, shop, monkeypatch)
    assert shop.asked[0][1] == ""
    assert SalesOrder.objects.count() == 2 * PAGES


def test_what_failed_at_once_begins_at_the_beginning(connection: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    assert not ask(connection, Shop(lambda *_: AccessError("expired")), monkeypatch)
    assert Feed.objects.get().resume == {}
