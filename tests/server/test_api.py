"""The API: who may do what, problem documents, idempotency, secrets, pages, its description."""

from __future__ import annotations

import json
from decimal import Decimal as D
from typing import Any

import pytest
from django.db import connection
from django.test import Client
from ninja import Schema

from tests.world import (
    NOW,
    incoming,
    make_company,
    make_connection,
    make_item,
    make_listing,
    make_supplier,
    make_user,
    order_line,
)
from yuvrel.buying.models import PurchaseOrder
from yuvrel.channels.credentials import seal
from yuvrel.people.models import ApiToken, Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.sales.actions import take_order
from yuvrel.stock.models import StockBalance, StockMove

pytestmark = pytest.mark.django_db


def test_the_door_names_nobody_outside_the_demo(company: Location, client: Client, settings: Any) -> None:
    assert client.get("/api/v1/sign-in-options").json() == {"password": "", "people": []}
    settings.DEMO_STANDINS = "http://127.0.0.1:8071"
    shown = client.get("/api/v1/sign-in-options").json()
    assert [person["username"] for person in shown["people"]] == [role.value for role in Role if role is not Role.SYSTEM]


def test_a_viewer_is_refused_clearly_and_nothing_changes(company: Location, client: Client) -> None:
    item = make_item(on_hand=5)
    client.force_login(make_user(Role.VIEWER))
    body = {"item_id": item.pk, "location_id": company.pk, "reason": "lost", "change": "-1"}
    answer = client.post("/api/v1/adjustments", json.dumps(body), content_type="application/json")
    assert answer.status_code == 403
    assert answer["Content-Type"] == "application/problem+json"
    assert answer.json()["detail"] == "As viewer you may not adjust stock. Ask a manager or stockkeeper."
    assert StockBalance.objects.get(item=item).on_hand == 5


def test_sign_in_needs_the_csrf_token_and_so_does_every_change(company: Location) -> None:
    make_user(Role.MANAGER)
    client = Client(enforce_csrf_checks=True)
    who = json.dumps({"username": "manager", "password": "larkmead"})
    assert client.post("/api/v1/session", who, content_type="application/json").status_code == 401
    client.get("/")
    token = client.cookies["csrftoken"].value
    before = client.session.session_key
    signed = client.post("/api/v1/session", who, content_type="application/json", headers={"X-CSRFToken": token})
    assert signed.status_code == 200
    assert signed.json()["role"] == "manager"
    assert client.session.session_key != before
    assert client.post("/api/v1/agreement/check", content_type="application/json").status_code == 403
    wrong = json.dumps({"username": "manager", "password": "wrong"})
    token = client.cookies["csrftoken"].value
    refused = client.post("/api/v1/session", wrong, content_type="application/json", headers={"X-CSRFToken": token})
    assert (refused.status_code, refused.json()["field"]) == (401, "password")


def test_problems_name_the_field_and_do_not_echo_the_input(company: Location, client: Client) -> None:
    client.force_login(make_user(Role.MANAGER))
    answer = client.post("/api/v1/adjustments", '{"item_id": "s3cr3t-input"}', content_type="application/json")
    assert answer.status_code == 422
    assert {e["field"] for e in answer.json()["errors"]} == {"item_id", "location_id", "reason"}
    assert "s3cr3t-input" not in answer.content.decode()
    assert client.get("/api/v1/stock?limit=100000").json()["field"] == "limit"
    assert client.get("/api/v1/moves?cursor=zzz").json()["field"] == "cursor"
    assert client.get("/api/v1/workings/offer/1-2-3").json()["field"] == "key"


def test_one_post_twice_with_one_key_is_done_once(company: Location, client: Client) -> None:
    item = make_item(on_hand=5)
    client.force_login(make_user(Role.MANAGER))
    body = {"item_id": item.pk, "location_id": company.pk, "reason": "lost", "change": "-1"}

    def post(change: str, key: str = "k1") -> Any:
        data = json.dumps({**body, "change": change})
        return client.post("/api/v1/adjustments", data, content_type="application/json", headers={"Idempotency-Key": key})

    first, again = post("-1"), post("-1")
    assert first.json() == again.json()
    assert again["Idempotency-Replayed"] == "true"
    assert StockMove.objects.filter(reason="lost").count() == 1
    assert post("-2").status_code == 422
    assert post("-1", "k2").status_code == 200
    assert StockBalance.objects.get(item=item).on_hand == 3


def test_tokens_are_kept_as_digests_and_carry_the_role(company: Location, client: Client) -> None:
    import hashlib

    user = make_user(Role.VIEWER)
    row = ApiToken.objects.create(user=user, name="till script", digest=hashlib.sha256(b"tok").hexdigest())
    assert client.get("/api/v1/session", headers={"Authorization": "Bearer tok"}).json()["role"] == "viewer"
    assert client.get("/api/v1/session", headers={"Authorization": "Bearer nope"}).status_code == 401
    row.revoked_at = NOW
    row.save()
    assert client.get("/api/v1/session", headers={"Authorization": "Bearer tok"}).status_code == 401


def test_amounts_on_the_wire_are_decimal_strings(company: Location, client: Client) -> None:
    item = make_item(on_hand=5, cost="2.5")
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 2, "24.60")), NOW).order
    client.force_login(make_user(Role.VIEWER))
    stock = client.get("/api/v1/stock").json()["rows"][0]
    assert (stock["on_hand"], stock["value"], stock["committed"]) == ("5", "12.50", "2")
    assert client.get(f"/api/v1/orders/{order.pk}").json()["total"] == "24.60"
    assert client.get(f"/api/v1/items/{item.pk}").json()["average_cost"] == "2.50"


def test_drafting_keeps_the_sum_that_suggested_it(company: Location, client: Client) -> None:
    item = make_item(on_hand=1)
    make_supplier(item, pack=6)
    client.force_login(make_user(Role.BUYER))
    body = {"lines": [{"item_id": item.pk, "location_id": company.pk, "quantity": "12"}]}
    made = client.post("/api/v1/purchase-orders", json.dumps(body), content_type="application/json").json()["orders"]
    line = PurchaseOrder.objects.get(pk=made[0]["id"]).lines.get()
    working = client.get(f"/api/v1/workings/purchase-line/{line.pk}").json()
    assert working["title"] == "How many should we buy?"
    assert line.price == D("2.00")


def test_pages_carry_a_policy_without_inline_script(company: Location, client: Client) -> None:
    answer = client.get("/orders/12")
    policy = answer["Content-Security-Policy"]
    script = next(part for part in policy.split(";") if part.strip().startswith("script-src"))
    assert "unsafe" not in script
    assert answer["X-Frame-Options"] == "DENY"
    assert client.get("/healthz").json() == {"ok": True}
    assert client.get("/readyz").json() == {"ok": True}


def test_two_time_zones_put_one_moment_on_two_days(db: None) -> None:
    from datetime import UTC, datetime

    from tests.companies import forget_company
    from yuvrel.people.models import Company
    from yuvrel.people.queries import company_day

    make_company("Europe/Dublin")
    late = datetime(2027, 7, 1, 23, 30, tzinfo=UTC)
    assert str(company_day(late)) == "2027-07-02"
    Company.objects.update(time_zone="America/New_York")
    forget_company()
    assert str(company_day(late)) == "2027-07-01"


def test_settings_for_production_pass_the_deployment_check(tmp_path: Any) -> None:
    """manage.py check --deploy with the settings that docs/operations.md names, warnings counted as errors."""
    import os
    import subprocess
    import sys

    env = os.environ | {
        "YUVREL_SECRET_KEY": "k7Vt0nC8qZr5Wm2Xb9Lp4Hd6Jf1Gs3Ya-UeQiToPlAkSjDhFgZmXn",
        "YUVREL_ADDRESS": "https://stock.larkmead.example",
        "YUVREL_HOSTS": "stock.larkmead.example",
        "YUVREL_REDIRECT_TO_HTTPS": "1",
    }
    env.pop("YUVREL_ALLOW_PRIVATE_ADDRESSES", None)
    command = [sys.executable, "manage.py", "check", "--deploy", "--fail-level", "WARNING"]
    done = subprocess.run(command, env=env, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "no issues" in done.stdout


def test_no_secret_is_logged_and_every_line_carries_the_request(company: Location, client: Client, caplog: Any) -> None:
    import logging

    make_connection(secrets_sealed=seal('{"token": "very-secret-token"}'), hook_key="hook-secret-key")
    client.force_login(make_user(Role.MANAGER))
    body = {"kind": "web_shop", "name": "New", "address": "http://127.0.0.1:9", "sign_in": {"token": "another-secret-token"}}
    with caplog.at_level(logging.DEBUG):
        made = client.post(
            "/api/v1/connections", json.dumps(body), content_type="application/json", headers={"X-Request-ID": "abc-1"}
        )
        tested = client.post(f"/api/v1/connections/{made.json()['id']}/test")
        client.post("/hooks/hook-secret-key", "{}", content_type="application/json")
        client.get("/api/v1/session", headers={"Authorization": "Bearer yv_personal-secret"})
    assert made["X-Request-ID"] == "abc-1"
    assert len(tested["X-Request-ID"]) == 16
    ours = [r for r in caplog.records if r.name.startswith("yuvrel")]
    assert any(r.getMessage().startswith("POST /api/v1/connections 200") for r in ours)
    text = "\n".join(f"{r.getMessage()} {r.__dict__}" for r in caplog.records if not r.name.startswith(("django.db", "asyncio")))
    for secret in ("very-secret-token", "another-secret-token", "hook-secret-key", "yv_personal-secret"):
        assert secret not in text.replace("ws://", ""), secret


def test_a_snag_and_its_payload_hold_no_secret(company: Location, client: Client) -> None:
    from yuvrel.channels.models import InboundMessage
    from yuvrel.channels.runs import raise_snag

    row = make_connection(secrets_sealed=seal('{"token": "very-secret-token"}'))
    message = InboundMessage.objects.create(connection=row, key="k", kind="order", via="poll", body={"id": "1", "note": "x"})
    raise_snag(row, "order", "A snag", "to look at", inbound=message)
    client.force_login(make_user(Role.VIEWER))
    answer = client.get("/api/v1/snags")
    assert answer.json()["rows"][0]["payload"] == {"id": "1", "note": "x"}
    assert "very-secret-token" not in answer.content.decode()
    assert row.secrets_sealed not in answer.content.decode()


def test_the_session_is_another_after_signing_in_and_dead_after_signing_out(company: Location) -> None:
    make_user(Role.MANAGER)
    client = Client()
    client.get("/")
    session = client.session
    session["planted"] = "yes"
    session.save()
    client.cookies["sessionid"] = session.session_key or ""
    planted = session.session_key
    body = json.dumps({"username": "manager", "password": "larkmead"})
    assert client.post("/api/v1/session", body, content_type="application/json").status_code == 200
    mine = client.session.session_key
    assert mine != planted
    assert client.delete("/api/v1/session").status_code == 204
    stolen = Client()
    stolen.cookies["sessionid"] = mine or ""
    assert stolen.get("/api/v1/session").status_code == 401


def test_figures_for_prometheus_need_their_token_and_say_what_waits(company: Location, client: Client, settings: Any) -> None:
    from django.utils import timezone

    from yuvrel.channels.runs import raise_snag
    from yuvrel.events.models import Event

    assert client.get("/metrics").status_code == 404
    settings.METRICS_TOKEN = "scrape"
    assert client.get("/metrics", headers={"Authorization": "Bearer wrong"}).status_code == 404
    shop = make_connection(name="Shop", faults=3)
    listing = make_listing(shop, make_item(on_hand=3), offer_state="pending", offered=3, offered_at=timezone.now())
    raise_snag(shop, "offer", "A snag", "x", listing=listing)
    Event.objects.create(consumer="offers", kind="availability", subject_id=1)
    with connection.cursor() as cursor:
        cursor.execute("INSERT INTO procrastinate_jobs (queue_name, task_name, status) VALUES ('default', 'x', 'failed')")
    answer = client.get("/metrics", headers={"Authorization": "Bearer scrape"})
    assert answer.status_code == 200
    figures = dict(line.rsplit(" ", 1) for line in answer.content.decode().splitlines() if not line.startswith("#"))
    assert float(figures['yuvrel_connection_lag_seconds{company="Larkmead",connection="Shop"}']) > 0
    assert figures['yuvrel_connection_faults{company="Larkmead",connection="Shop"}'] == "3.0"
    assert figures['yuvrel_open_snags{kind="offer"}'] == "1.0"
    assert figures['yuvrel_jobs{status="failed"}'] == "1.0"
    assert float(figures["yuvrel_oldest_event_seconds"]) > 0


def test_a_file_of_50_000_rows_is_checked_and_taken_in(company: Location, client: Client) -> None:
    """In the dialect of a spreadsheet: byte-order mark, semicolons, decimal commas, a line break in quotes."""
    from django.core.files.uploadedfile import SimpleUploadedFile

    from yuvrel.agreement.actions import check_shelf, check_value
    from yuvrel.agreement.models import Drift
    from yuvrel.catalogue.models import Item, Product

    product = Product.objects.create(title="Bulk")
    Item.objects.bulk_create([Item(product=product, sku=f"B-{n}", title=f"Bulk {n}") for n in range(16_700)], 5000)
    places = ("tannery-yard", "mill-lane", "wagon")
    rows = [f'"B-{n}";{place};3;"1,25"' for n in range(16_700) for place in places][:50_000]
    rows[1] = '"B-0";"mill-lane\n";3;1,25'
    text = "\ufeffsku;location;quantity;unit_cost\r\n" + "\r\n".join(rows)
    client.force_login(make_user(Role.MANAGER))
    checked = client.post("/api/v1/opening/check", {"file": SimpleUploadedFile("big.csv", text.encode())})
    assert checked.status_code == 200, checked.content[:300]
    found = checked.json()
    assert (found["good"], found["faults"], found["value"]) == (50_000, [], "187500.00")
    taken = client.post("/api/v1/opening", {"token": found["token"]})
    assert taken.status_code == 200, taken.content[:300]
    assert "50,000 rows" in taken.json()["said"]
    assert StockMove.objects.count() == 50_000
    check_shelf()
    check_value()
    assert not Drift.objects.exists()
    # The keys are checked when the test ends, by plans this connection may have made when the tables were empty.
    with connection.cursor() as cursor:
        cursor.execute("DISCARD PLANS")


def test_what_is_left_out_of_a_file_comes_back_as_a_file(company: Location, client: Client) -> None:
    from django.core.files.uploadedfile import SimpleUploadedFile

    make_item("A")
    data = b"sku,location,quantity,unit_cost\nA,wagon,1,2\nNOPE,wagon,=1,2\n"
    client.force_login(make_user(Role.BOOKKEEPER))
    answer = client.post("/api/v1/opening/left-out", {"file": SimpleUploadedFile("o.csv", data)})
    assert answer["Content-Type"] == "text/csv; charset=utf-8"
    assert answer.content.decode("utf-8-sig").splitlines() == [
        "sku,location,quantity,unit_cost,why",
        "NOPE,wagon,'=1,2,sku NOPE is not a SKU of the range; quantity =1 is a formula; give its value",
    ]


def test_no_account_is_called_inside_a_transaction_for_the_sake_of_a_key(company: Location, rf: Any) -> None:
    """A POST with a key runs in one transaction with its key; those that call out run in none."""
    from django.db import connection
    from django.http import HttpResponse

    from yuvrel.server.idempotency import IdempotencyMiddleware

    depths: list[int] = []

    def route(request: Any) -> HttpResponse:
        depths.append(len(connection.savepoint_ids))
        return HttpResponse("{}")

    outside = len(connection.savepoint_ids)
    user = make_user(Role.MANAGER)
    for path in ("connections/1/test", "connections/1/live", "connections/1/listings", "adjustments"):
        request = rf.post(f"/api/v1/{path}", "{}", content_type="application/json", headers={"Idempotency-Key": "k"})
        request.user = user
        request._dont_enforce_csrf_checks = True
        IdempotencyMiddleware(route)(request)
    assert depths == [outside] * 3 + [outside + 1]


def test_asking_now_ends_the_pause_after_a_fault(company: Location, client: Client) -> None:
    from datetime import timedelta

    from django.utils import timezone

    row = make_connection(faults=6, pause_until=timezone.now() + timedelta(seconds=60))
    client.force_login(make_user(Role.MANAGER))
    asked = client.post(f"/api/v1/connections/{row.pk}/exchange", "{}", content_type="application/json")
    assert asked.status_code == 200
    row.refresh_from_db()
    assert row.pause_until is None


def test_try_again_wakes_what_the_fault_stopped(
    company: Location, client: Client, django_capture_on_commit_callbacks: Any
) -> None:
    from procrastinate.contrib.django.models import ProcrastinateJob

    from yuvrel.channels.runs import raise_snag

    row = make_connection()
    client.force_login(make_user(Role.MANAGER))
    for kind, task in (("push", "push_offers"), ("deliver", "deliver"), ("exchange", "exchange")):
        snag = raise_snag(row, kind, "It does not answer", "x")
        with django_capture_on_commit_callbacks(execute=True):
            assert client.post(f"/api/v1/snags/{snag.pk}/retry").status_code == 200
        assert ProcrastinateJob.objects.filter(status="todo", task_name=f"channels.{task}").exists(), kind
    unread = raise_snag(row, "listings", "1 listing cannot be read", "x")
    answer = client.post(f"/api/v1/snags/{unread.pk}/retry")
    assert (answer.status_code, "import the listings again" in answer.json()["detail"]) == (422, True)


def test_logs_as_json_carry_the_request(settings: Any) -> None:
    import logging
    from logging.config import DictConfigurator

    from yuvrel.server.logs import TraceFilter, _trace

    formatter = DictConfigurator(settings.LOGGING).configure_formatter(dict(settings.LOGGING["formatters"]["json"]))
    record = logging.LogRecord("yuvrel.requests", logging.INFO, "x.py", 1, "GET %s", ("/stock",), None)
    mark = _trace.set("abc-1")
    TraceFilter().filter(record)
    _trace.reset(mark)
    line = json.loads(formatter.format(record))
    assert (line["message"], line["level"], line["logger"], line["trace"]) == ("GET /stock", "INFO", "yuvrel.requests", "abc-1")
    assert line["at"]


def test_every_wire_type_has_a_name_of_its_own() -> None:
    """The OpenAPI document takes one of two types with the same name, without a word."""

    def below(kind: type) -> set[type]:
        return {kind}.union(*(below(sub) for sub in kind.__subclasses__()))

    ours = [kind.__name__ for kind in below(Schema) if kind.__module__.startswith("yuvrel.")]
    assert len(ours) > 60
    assert sorted(ours) == sorted(set(ours))
