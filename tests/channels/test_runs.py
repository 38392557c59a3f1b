"""Runs: what was sent and answered is kept without secrets, progress is shown, they stop and go on, schedules count."""

from __future__ import annotations

import json
from datetime import timedelta
from typing import Any

import pytest
from django.test import Client
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.world import make_user, set_rules
from yuvrel.channels import actions, inbound, jobs, linking, run_queries, runs
from yuvrel.channels.models import Call, Connection, Feed, Listing, Run
from yuvrel.channels.schedules import PARTS, due_parts
from yuvrel.connectors.http import BusyError
from yuvrel.core.errors import BadInputError, ForbiddenError, RefusedError
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.models import SalesOrder

pytestmark = pytest.mark.django_db
VIEWER = Actor("Sunniva", Role.VIEWER)


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    found = World(standins)
    Run.objects.all().delete()
    return found


def test_a_run_counts_and_keeps_what_was_sent_and_answered(world: World) -> None:
    world.buy({"v1": 1})
    inbound.poll(world.shop)
    run = Run.objects.get(kind="orders")
    assert (run.state, run.taken, run.unchanged, run.failed) == ("done", 1, 0, 0)
    call = run.calls.get()
    assert (call.method, call.status) == ("GET", 200)
    assert call.path.startswith("/api/orders?updated_since=")
    assert json.loads(call.received)["orders"][0]["customer"]["name"] == "Una <b>Thorne</b>"
    inbound.poll(world.shop)
    again = Run.objects.filter(kind="orders").latest("pk")
    assert (again.taken, again.unchanged) == (0, 1)
    settle()
    pushed = Run.objects.filter(kind="push", connection=world.shop).latest("pk")
    assert pushed.changed == 1
    sent = pushed.calls.get(method="POST")
    assert json.loads(sent.sent)["lines"][0]["id"] == "v1"


def test_no_secret_is_kept(world: World) -> None:
    from yuvrel.channels.credentials import connector_for
    from yuvrel.channels.runs import run_of

    with run_of(world.shop, "deliver"):
        secret = connector_for(world.shop).register_webhook("http://127.0.0.1:9/hooks/x")
    call = Call.objects.get(run__kind="deliver")
    assert secret not in call.received
    assert '"…"' in call.received
    assert runs.as_kept('{"API_Key": "a\\"b", "name": "x"}') == '{"API_Key": "…", "name": "x"}'
    assert runs.as_kept("x" * 30_000).endswith("10000 more characters")
    assert "\x00" not in runs.as_kept("a\x00b")
    assert not any("Bearer" in text for row in Call.objects.all() for text in (row.sent, row.received, row.path))


def test_a_failed_run_says_why_and_keeps_the_call(world: World) -> None:
    world.standins.faults("web", broken=1.0)
    with pytest.raises(BusyError, match="Something broke here"):
        inbound.poll(world.shop)
    run = Run.objects.get(kind="orders")
    assert run.state == "failed"
    assert run.calls.count() == 3, "each attempt is a call"
    assert all(call.fault for call in run.calls.all())
    health = run_queries.health(world.shop, timezone.now())
    part = next(part for part in health["parts"] if part["kind"] == "orders")
    assert (part["failed_at"], part["succeeded_at"]) == (run.ended_at, None)
    assert health["hours"][-1]["failed"] == 1
    assert len(health["hours"]) == 24


def test_listings_are_read_by_a_job_with_progress(world: World, client: Client) -> None:
    client.force_login(make_user(Role.MANAGER))
    path = f"/api/v1/connections/{world.till.pk}"
    asked = client.post(f"{path}/listings", json.dumps({"create": False}), content_type="application/json")
    assert asked.status_code == 200, asked.content
    run = Run.objects.get(pk=asked.json()["id"])
    assert (run.state, run.asked_by) == ("running", "manager")
    twice = client.post(f"{path}/listings", json.dumps({"create": False}), content_type="application/json")
    assert (twice.status_code, twice.json()["detail"]) == (422, f"{world.till.name} is being asked for this already.")
    jobs.take_listings(run_id=run.pk, create=0, by="manager", role=Role.MANAGER.value, user_id=0)
    run.refresh_from_db()
    assert (run.state, run.done, run.unchanged, run.taken) == ("done", 4, 4, 0)
    told = client.get(f"/api/v1/runs/{run.pk}?q=Smoker").json()
    assert (told["label"], told["asked_by"], len(told["found"])) == ("Listings in", "manager", 1)
    assert client.get(f"/api/v1/runs/{run.pk}?q=nowhere").json()["found"] == []
    file = client.get(f"/api/v1/runs/{run.pk}/calls")
    assert json.loads(file.content)["calls"][0]["status"] == 200
    listed = client.get("/api/v1/runs?kind=listings&q=paired").json()["rows"]
    assert [row["id"] for row in listed] == [run.pk]
    # A job that is started twice does nothing the second time.
    jobs.take_listings(run_id=run.pk, create=0, by="manager", role=Role.MANAGER.value, user_id=0)
    assert Run.objects.filter(kind="listings").count() == 1


def test_a_run_is_stopped_and_what_was_done_is_kept(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    Listing.objects.filter(connection=world.shop).delete()
    run = runs.begin(world.shop, "listings", "Hester")
    with pytest.raises(ForbiddenError):
        runs.stop(VIEWER, run.pk)
    runs.stop(SYSTEM, run.pk)
    linking.take_listings(SYSTEM, world.shop.pk, timezone.now(), create=False, begun=run)
    run.refresh_from_db()
    assert (run.state, run.log[-1][1]) == ("stopped", "stopped; what was done is kept")
    assert Listing.objects.filter(connection=world.shop).count() == run.taken == 4
    with pytest.raises(RefusedError, match="is stopped"):
        runs.stop(SYSTEM, run.pk)


def test_stopped_orders_go_on_where_they_were(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    for _ in range(3):
        world.buy({"v1": 1})
    real = inbound.connector_as

    def one_a_page(row: Connection, protocol: type) -> Any:
        connector = real(row, protocol)
        call = connector.caller.call

        def small(method: str, path: str, **options: Any) -> Any:
            if path == "/api/orders":
                options["params"] = {**options["params"], "limit": 1}
            return call(method, path, **options)

        connector.caller.call = small  # type: ignore[method-assign]
        return connector

    monkeypatch.setattr(inbound, "connector_as", one_a_page)
    step = runs.RunLog.step

    def stopping(run: Any, **counts: int) -> None:
        Run.objects.filter(pk=run.pk).update(stop=True)
        step(run, **counts)

    monkeypatch.setattr(runs.RunLog, "step", stopping)
    inbound.poll(world.shop)
    assert Run.objects.get(kind="orders").state == "stopped"
    assert SalesOrder.objects.count() == 1
    assert Feed.objects.get(connection=world.shop, part="orders").resume["cursor"]
    monkeypatch.setattr(runs.RunLog, "step", step)
    inbound.poll(world.shop)
    assert SalesOrder.objects.count() == 3


def test_schedules_say_what_is_asked_for(world: World) -> None:
    now = timezone.now()

    def due(seconds: int) -> set[tuple[str, str]]:
        rows = list(Connection.objects.filter(state="live"))
        return {(row.name, part.name) for row, part in due_parts(rows, now + timedelta(seconds=seconds))}

    assert due(0) == {("Web", "orders"), ("Till", "orders"), ("Till", "closes")}
    set_rules(world.till, closes_when="hand")
    assert due(30) == set()
    set_rules(world.till, price_owner="there")
    assert due(30) == {("Till", "prices")}, "only where prices are kept there"
    set_rules(world.till, orders_every=300, prices_when="hand")
    set_rules(world.shop, listings_when="every", listings_every=600)
    assert due(61) == {("Web", "orders"), ("Web", "listings")}
    Connection.objects.filter(pk=world.till.pk).update(faults=1)
    assert due(70) == {("Till", "orders")}, "after a fault it is tried again when the pause is over"
    set_rules(world.shop, quiet_from="00:00", quiet_until="23:59")
    assert due(700) == {("Till", "orders")}


def test_run_now_for_one_part_or_from_a_moment_on(world: World) -> None:
    world.buy({"v1": 1})
    inbound.poll(world.shop)
    SalesOrder.objects.get()
    since = timezone.now() - timedelta(days=2)
    actions.ask_now(SYSTEM, world.shop.pk, "orders", since)
    assert Feed.objects.get(connection=world.shop, part="orders").watermark == since.isoformat()
    inbound.poll(world.shop)
    assert SalesOrder.objects.count() == 1, "what is here already is recognised"
    with pytest.raises(BadInputError, match="Only orders"):
        actions.ask_now(SYSTEM, world.shop.pk, "listings", since)
    with pytest.raises(BadInputError, match="nothing this connection"):
        actions.ask_now(SYSTEM, world.shop.pk, "answers")
    with pytest.raises(BadInputError, match="not a possible time"):
        actions.ask_now(SYSTEM, world.shop.pk, "orders", timezone.now() + timedelta(days=3))


def test_a_run_that_cannot_begin_says_why_and_bars_nothing(world: World) -> None:
    run = linking.ask_listings(SYSTEM, world.till.pk, create=False)
    Connection.objects.filter(pk=world.till.pk).update(state="draft")
    jobs.take_listings(run_id=run.pk, create=0, by="Yuvrel", role=Role.SYSTEM.value, user_id=0)
    run.refresh_from_db()
    assert (run.state, run.log[-1][1]) == ("failed", "Test the connection first.")
    Connection.objects.filter(pk=world.till.pk).update(state="live")
    waiting = linking.ask_listings(SYSTEM, world.till.pk, create=False)
    # A reading by the schedule comes first; the one that somebody asked for still has its turn.
    linking.take_listings(SYSTEM, world.till.pk, timezone.now(), create=False)
    jobs.take_listings(run_id=waiting.pk, create=0, by="Yuvrel", role=Role.SYSTEM.value, user_id=0)
    waiting.refresh_from_db()
    assert waiting.state == "done"


def test_payloads_are_deleted_after_their_days_and_runs_stay(world: World) -> None:
    inbound.poll(world.shop)
    inbound.poll(world.till)
    set_rules(world.till, keep_calls_days=30)
    Call.objects.update(at=timezone.now() - timedelta(days=10))
    jobs.tidy(0)
    assert set(Call.objects.values_list("run__connection__name", flat=True)) == {"Till"}
    assert Run.objects.filter(kind="orders").count() == 2


def test_every_part_that_is_asked_for_by_itself_has_a_name_on_the_page() -> None:
    assert {part.run for part in PARTS} <= set(Run.Kind)
