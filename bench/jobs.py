"""The jobs that are measured, each with its floor."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
from django.db import connection, connections, transaction
from django.utils import timezone
from psycopg.types.json import Jsonb

from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.books.models import LedgerDocument
from yuvrel.channels import inbound, ledger_out, linking, offers, outbound
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.models import Connection, Listing
from yuvrel.channels.rehearsal import rehearse_rules
from yuvrel.channels.rules import Ids
from yuvrel.channels.sql import set_offers
from yuvrel.core.money import ZERO
from yuvrel.core.rules import Level, Rung
from yuvrel.ownership import in_hand, working_for
from yuvrel.people.roles import SYSTEM
from yuvrel.planning import forecasts
from yuvrel.planning.models import ForecastRun
from yuvrel.rules.actions import change
from yuvrel.sales.models import SalesOrder
from yuvrel.server.management.commands.work import JOBS_AT_ONCE

Timed = Callable[[Callable[[], Any]], tuple[float, Any]]
ORDERS = int(os.environ.get("BENCH_ORDERS", "400"))


def recompute(table: Any, timed: Timed) -> None:
    """Every offer after a change of rules, beside writing the same rows without working anything out."""
    rules = {row.pk: "rules" for row in offers.live_connections()}
    company = Rung(Level.COMPANY, "the bench")
    change(SYSTEM, company, {"buffer": 3}, timezone.now())
    seconds, _ = timed(lambda: offers.recompute_connections(rules))
    rows = list(Listing.objects.exclude(offered=None).values_list("pk", "offered"))
    ids, quantities = [pk for pk, _ in rows], [quantity or ZERO for _, quantity in rows]
    floor, _ = timed(lambda: set_offers(ids, quantities, [{}] * len(ids), ["floor"] * len(ids), timezone.now()))
    name = f"work out and queue {len(rows)} offers"
    table.add(name, seconds, f"{len(rows) / seconds:,.0f} offers/s", f"{seconds / floor:.1f} × writing the rows alone")
    Listing.objects.update(offer_state="agreed")
    change(SYSTEM, company, {"share_percent": 100}, timezone.now())
    same, _ = timed(lambda: offers.recompute_connections(rules))
    table.add("the same when nothing comes out differently", same, f"{len(rows) / same:,.0f} offers/s", f"{same / floor:.1f} ×")


def forecast_all() -> ForecastRun:
    """A forecast run over everything that was ever in stock, with the sheet that stands on it."""
    run = forecasts.begin_run(SYSTEM, timezone.now())
    forecasts.carry_out(run.pk, timezone.now)
    run.refresh_from_db()
    return run


def deliver(table: Any, timed: Timed, shop: Connection) -> None:
    """5,000 changed offers to an account that allows 20 calls a second; each batch is read back."""
    changed = list(Listing.objects.filter(connection=shop).order_by("pk").values_list("pk", flat=True)[:5000])
    Listing.objects.update(offer_state="agreed")
    Listing.objects.filter(pk__in=changed).update(offer_state="pending")
    seconds, pushed = timed(lambda: offers.push(Connection.objects.get(pk=shop.pk)))
    calls = 2 * -(-pushed // offers.BATCH)
    agreed = Listing.objects.filter(pk__in=changed, offer_state="agreed").count()
    rate = calls / seconds
    table.add(
        f"deliver {pushed} offers, {agreed} read back as agreed", seconds, f"{rate:.1f} calls/s", f"{rate / 20:.0%} of 20 calls/s"
    )


def relist(table: Any, timed: Timed, shop: Connection) -> None:
    """Every listing of a shop read again and paired, at 20 calls a second."""
    seconds, run = timed(lambda: linking.take_listings(SYSTEM, shop.pk, timezone.now(), create=False))
    table.add(f"read {run.done} listings again", seconds, f"{run.done / seconds:,.0f} listings/s", "account allows 20 calls/s")


def rehearse(table: Any, timed: Timed, shop: Connection) -> None:
    """A change of rules tried out on every listing of a shop, beside working its offers out once."""
    linked = Listing.objects.filter(connection=shop, link="linked")
    floor, _ = timed(lambda: offers.offers_of(shop, Ids.of(linked)))
    seconds, said = timed(lambda: rehearse_rules(SYSTEM, Rung(Level.CONNECTION, shop.name, shop.pk), {"buffer": 5}))
    changed = said["rising"] + said["falling"]
    name = f"rehearse a rule on {said['listings']} listings ({changed} change)"
    table.add(name, seconds, f"{said['listings'] / seconds:,.0f} listings/s", f"{seconds / floor:.1f} × working them out once")


def _shop_orders(base: str, shop: str) -> None:
    with httpx.Client(base_url=base, timeout=60) as client:
        for n in range(ORDERS):
            form = {"name": f"Shopper {n}", "email": f"s{n}@bench.example", f"q-{n % 900}": "1", f"q-{(n * 7 + 1) % 900}": "2"}
            client.post(f"/shop/{shop}/buy", data=form, headers={"Accept": "application/json"}).raise_for_status()


def intake(table: Any, timed: Timed, shop: Connection, base: str) -> None:
    """Orders over HTTP: kept, reserved, posted, committed one by one, beside inserting the rows that came of it."""
    Listing.objects.filter(connection=shop).update(offer_state="pending")
    offers.push(Connection.objects.get(pk=shop.pk))
    _shop_orders(base, shop.name)
    seconds, taken = timed(lambda: inbound.poll(Connection.objects.get(pk=shop.pk)))
    made = SalesOrder.objects.filter(connection=shop, history=False).count()
    floor, rows = timed(lambda: _bare_inserts(shop))
    name = f"take in {taken} orders ({made} reserved, {rows} rows)"
    table.add(name, seconds, f"{taken / seconds:.0f} orders/s", f"{seconds / floor:.1f} × the bare insert of the rows")


# What one order leaves behind, by table and how its rows are found.
TRACES = (
    ("channels_inboundmessage", "key LIKE 'order:' || %(external)s || ':%%'"),
    ("sales_salesorder", "id = %(id)s"),
    ("sales_orderline", "order_id = %(id)s"),
    ("sales_reservation", "line_id IN (SELECT id FROM sales_orderline WHERE order_id = %(id)s)"),
    ("sales_customer", "id = %(customer)s"),
    ("books_journalentry", "document = %(number)s"),
    ("books_journalline", "entry_id IN (SELECT id FROM books_journalentry WHERE document = %(number)s)"),
    ("books_ledgerdocument", "entry_id IN (SELECT id FROM books_journalentry WHERE document = %(number)s)"),
    ("outbox_event", "cause = 'order ' || %(number)s OR cause = %(number)s"),
    ("people_auditrow", "subject = 'order' AND subject_id = %(id)s"),
)


def _bare_inserts(shop: Connection) -> int:
    """The same rows into empty tables of the same shape, with their indexes, one commit an order."""
    with connection.cursor() as cursor:
        orders = list(SalesOrder.objects.filter(connection=shop, history=False))
        rows: list[list[tuple[str, list[Any]]]] = []
        for order in orders:
            key: dict[str, Any] = {
                "id": order.pk,
                "external": order.external_id,
                "number": order.number,
                "customer": order.customer_id,
            }
            mine = []
            for table, where in TRACES:
                cursor.execute(f"SELECT * FROM {table} t WHERE {where}", key)  # noqa: S608
                mine.append((table, [[_plain(value) for value in row] for row in cursor.fetchall()]))
            rows.append(mine)
        for table, _ in TRACES:
            cursor.execute(f"CREATE TABLE bare_{table} (LIKE {table} INCLUDING ALL)")
        _insert_all(cursor, rows)
    return sum(len(values) for mine in rows for _, values in mine)


def _insert_all(cursor: Any, rows: list[list[tuple[str, list[Any]]]]) -> None:
    for mine in rows:
        with transaction.atomic():
            for table, values in mine:
                if values:
                    row = "(" + ", ".join(["%s"] * len(values[0])) + ")"
                    statement = f"INSERT INTO bare_{table} VALUES " + ", ".join([row] * len(values))  # noqa: S608
                    cursor.execute(statement, [value for line in values for value in line])


def _plain(value: Any) -> Any:
    return Jsonb(value) if isinstance(value, (dict, list)) else value


def settle_all(timed: Timed) -> None:
    """Push what the orders changed and tell the ledger, so that there is agreement to be checked."""
    while relay_now():
        continue
    Listing.objects.update(offer_state="pending")
    ledger = Connection.objects.get(kind="ledger")
    ledger_out.queue_ledger(LedgerDocument.objects.values_list("pk", flat=True))
    while outbound.deliver(ledger):
        continue

    company = in_hand()

    def push(pk: int) -> None:
        with working_for(company):
            offers.push(Connection.objects.get(pk=pk))
        connections.close_all()

    with ThreadPoolExecutor(5) as pool:
        list(pool.map(push, [row.pk for row in offers.live_connections()]))


def check(table: Any, timed: Timed) -> None:
    """A1 to A6 over everything, beside reading what the channels show and nothing else."""

    company = in_hand()

    def one(pk: int) -> None:
        with working_for(company):
            agreement.check_connection(Connection.objects.get(pk=pk))
        connections.close_all()

    def everything() -> None:
        # As the worker does it: one job a connection, and our own books meanwhile.
        with ThreadPoolExecutor(JOBS_AT_ONCE) as pool:
            far = [pool.submit(one, pk) for pk in agreement.live_connections().values_list("pk", flat=True)]
            agreement.check_own()
            for job in far:
                job.result()

    seconds, _ = timed(everything)
    shelf, _ = timed(agreement.check_shelf)
    named = Drift.objects.filter(healed_at=None).count()
    table.add(f"check agreement over everything ({named} drifts)", seconds, "", f"of which the shelf {shelf:.1f} s")
