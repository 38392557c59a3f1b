"""The front door: what was seen to come through it once, each held by a test of its own."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime, timedelta
from decimal import Decimal as D
from io import BytesIO
from typing import Any

import httpx
import openpyxl
import pytest
from django.apps import apps
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import models
from django.test import Client
from django.utils import timezone

from tests.invariants import assert_invariants
from tests.world import NOW, incoming, make_company, make_connection, make_item, make_supplier, make_user, order_line
from yuvrel.books.models import JournalEntry
from yuvrel.channels import actions
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.models import Snag
from yuvrel.connectors.addresses import is_public, split
from yuvrel.connectors.errors import AddressError
from yuvrel.core import bounds
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.people.models import ApiToken, AuditRow, Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning import queries as planning
from yuvrel.platform.faults import record_faults
from yuvrel.sales import earnings as sales
from yuvrel.sales.actions import release, ship, take_order, take_till_sale
from yuvrel.sales.models import Reservation, SalesOrder
from yuvrel.stock.actions import adjust
from yuvrel.stock.models import StockBalance, StockMove

pytestmark = pytest.mark.django_db


def post(client: Client, path: str, body: Any, **headers: str) -> Any:
    return client.post(f"/api/v1/{path}", json.dumps(body), content_type="application/json", headers=headers)


# Signing in, keys


def test_a_key_does_not_take_wrong_passwords_back(company: Location) -> None:
    make_user(Role.MANAGER)
    wrong = {"username": "manager", "password": "wrong"}
    said = [post(Client(), "session", wrong, **{"Idempotency-Key": f"k{n}"}).json()["detail"] for n in range(10)]
    assert said[0] == "Name or password is wrong."
    assert said[-1].startswith("Too many tries.")


def test_a_revoked_token_is_not_given_its_own_answer_again(company: Location) -> None:
    item = make_item(on_hand=5)
    row = ApiToken.objects.create(user=make_user(Role.MANAGER), name="x", digest=hashlib.sha256(b"tok").hexdigest())
    body = {"item_id": item.pk, "location_id": company.pk, "reason": "lost", "change": "-1"}
    headers = {"Idempotency-Key": "k", "Authorization": "Bearer tok"}
    assert [post(Client(), "adjustments", body, **headers).status_code for _ in range(2)] == [200, 200]
    ApiToken.objects.filter(pk=row.pk).update(revoked_at=timezone.now())
    assert post(Client(), "adjustments", body, **headers).status_code == 401
    assert StockMove.objects.filter(reason="lost").count() == 1


def test_a_sessions_replay_needs_the_csrf_token_too(company: Location) -> None:
    item = make_item(on_hand=5)
    user = make_user(Role.MANAGER)
    body = {"item_id": item.pk, "location_id": company.pk, "reason": "lost", "change": "-1"}
    plain = Client()
    plain.force_login(user)
    assert post(plain, "adjustments", body, **{"Idempotency-Key": "k"}).status_code == 200
    forged = Client(enforce_csrf_checks=True)
    forged.force_login(user)
    assert post(forged, "adjustments", body, **{"Idempotency-Key": "k"}).status_code == 403


# What is told to whom


def test_the_description_of_the_api_is_for_who_is_signed_in(company: Location, client: Client) -> None:
    for path in ("/api/v1/docs", "/api/v1/openapi.json"):
        assert client.get(path).status_code == 401
    client.force_login(make_user(Role.VIEWER))
    docs = client.get("/api/v1/docs")
    assert docs.status_code == 200
    assert "script-src" in docs["Content-Security-Policy"]
    assert client.get("/api/v1/openapi.json").json()["info"]["title"] == "Yuvrel"
    assert client.get("/.stamp")["Content-Type"].startswith("text/html"), "a page like any other, not the file"


def test_nothing_of_the_api_is_kept_on_the_way(manager: Client) -> None:
    for path in ("stock", "orders/999999", "nowhere"):
        assert manager.get(f"/api/v1/{path}")["Cache-Control"] == "no-store"


def test_a_webhooks_key_is_in_no_log(company: Location, client: Client, caplog: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    from yuvrel.channels.credentials import seal

    make_connection(hook_key="secret-of-the-hook", webhook_secret_sealed=seal("whsec_" + "aGVsbG8gd29ybGQ="))
    assert client.get("/hooks/secret-of-the-hook").status_code == 405
    monkeypatch.setattr("yuvrel.channels.api.unseal", lambda sealed: 1 / 0)
    assert client.post("/hooks/secret-of-the-hook", "{}", content_type="application/json").status_code == 500
    assert "ZeroDivisionError" in caplog.text
    assert "secret-of-the-hook" not in caplog.text


def test_a_viewer_asks_for_no_check(company: Location, client: Client) -> None:
    client.force_login(make_user(Role.VIEWER))
    answer = post(client, "agreement/check", {})
    assert (answer.status_code, "manager" in answer.json()["detail"]) == (403, True)


# Addresses


@pytest.mark.parametrize(
    "address",
    [
        "https://8.8.8.8:99999", "https://8.8.8.8:abc", "https://[::1", f"https://{'a' * 70}.example", "https://a..b",
        "https://a.example/\r\nX: y", "https://☃.example:1:2", "https://", "//a.example", "https://user:pw@a.example", "https://:pw@a.example",
        "https://a b.example", "https://a.example:0", "javascript:alert(1)", "https://\\a.example", "https://a.example/#@8.8.8.8",
        "https://a.example/shop/../admin", "https://a.example/%2e%2e/admin", "https://a.example/shop?x=1", "https://a.example%40b.example",
        "https://a.example/./x",
    ],
)  # fmt: skip
def test_an_address_that_is_none_is_refused_by_its_field(manager: Client, address: str) -> None:
    answer = post(manager, "connections", {"kind": "till", "name": "T", "address": address, "sign_in": {"token": "t"}})
    assert (answer.status_code, answer.json()["field"]) == (422, "address"), answer.content
    with pytest.raises(AddressError):
        split(address)


def test_a_name_of_other_letters_is_an_address() -> None:
    assert split("https://bücher.example/shop")[1] == "xn--bcher-kva.example"


@pytest.mark.parametrize(
    ("text", "public"),
    [
        ("8.8.8.8", True), ("2606:4700:4700::1111", True), ("10.1.2.3", False), ("127.0.0.1", False), ("::1", False), ("169.254.1.1", False),
        ("100.64.0.1", False), ("64:ff9b::a00:1", False), ("64:ff9b:1::1", False), ("2002:7f00:1::", False), ("192.0.0.192", False),
        ("192.88.99.1", False), ("224.0.0.1", False), ("ff02::1", False), ("::ffff:10.0.0.1", False), ("fe80::1", False), ("240.0.0.1", False),
        ("fec0::1", False), ("3fff::1", False), ("192.31.196.1", False), ("192.175.48.9", False), ("192.52.193.1", False), ("5f00::1", False),
        ("2620:4f:8000::1", False), ("4000::1", False), ("::8.8.8.8", False), ("2a00:1450:4001::1", True), ("192.31.195.1", True),
    ],
)  # fmt: skip
def test_only_addresses_of_the_open_internet_are_public(text: str, public: bool) -> None:
    """Ranges from the IANA registries of special-purpose addresses (RFC 6890 and those that followed)."""
    import ipaddress

    assert is_public(ipaddress.ip_address(text)) is public


def test_a_far_end_that_trickles_is_broken_off_by_a_deadline_of_the_whole() -> None:
    """It sends a byte every now and then, in its head or in its body, so that no pause is ever long."""
    import socket
    import threading
    import time

    from yuvrel.connectors.deadline import within
    from yuvrel.connectors.http import Caller, UnreachableError

    door = socket.create_server(("127.0.0.1", 0))
    over = threading.Event()

    def trickle(begin: bytes) -> None:
        line, _ = door.accept()
        with line:
            line.recv(65536)
            line.sendall(begin)
            while not over.wait(0.05):
                try:
                    line.sendall(b"x")
                except OSError:
                    return

    for begin in (b"HTTP/1.1 200 OK\r\nX: ", b"HTTP/1.1 200 OK\r\nContent-Length: 9000000\r\n\r\n"):
        over.clear()
        far = threading.Thread(target=trickle, args=(begin,), daemon=True)
        far.start()
        begun = time.monotonic()
        with within(0.5), pytest.raises(UnreachableError):
            Caller(f"http://127.0.0.1:{door.getsockname()[1]}", httpx.Auth(), allow_private=True).call("GET", "/x")
        assert time.monotonic() - begun < 5
        over.set()
        far.join(5)
    door.close()


def test_a_name_that_points_elsewhere_a_moment_later_is_not_followed(monkeypatch: pytest.MonkeyPatch) -> None:
    """The address that was checked is the one that is connected to: the name is asked once a call."""
    from yuvrel.connectors import addresses
    from yuvrel.connectors.http import Caller

    answers = iter(["93.184.215.14", "127.0.0.1"])
    monkeypatch.setattr(addresses, "look_up", lambda host, port: [addresses.ipaddress.ip_address(next(answers))])
    with pytest.raises(AddressError, match="private address"):
        Caller("https://rebind.example", httpx.Auth(), allow_private=False, attempts=1).call("GET", "/x")


# Texts, cursors, forms


@pytest.mark.parametrize("character", ["\x07", "\x1b", "\uffff", "\ufffe", "\x7f"])
def test_what_no_document_can_carry_is_refused_at_the_door(manager: Client, character: str) -> None:
    item = make_item()
    supplier = make_supplier(item)
    body = {"code": f"a{character}b", "prices": [{"from_quantity": 0, "price": "1"}]}
    for text in (json.dumps(body), json.dumps(body, ensure_ascii=False)):
        path = f"/api/v1/suppliers/{supplier.pk}/items/{item.pk}"
        answer = manager.put(path, text.encode(), content_type="application/json")
        assert (answer.status_code, f"U+{ord(character):04X}" in answer.json()["detail"]) == (400, True), answer.content
    assert post(manager, "connections", {"kind": "x", "name": "two\nlines\tand a tab"}).json()["field"] == "address"


def test_a_forged_cursor_is_refused_by_every_sheet(manager: Client) -> None:
    import base64

    forged = base64.urlsafe_b64encode(json.dumps(["x", "x"]).encode()).decode()
    for sheet in (
        "stock",
        "moves",
        "items",
        "orders",
        "suppliers",
        "purchase-orders",
        "forecasts",
        "journal",
        "listings",
        "snags",
        "replenishment/rows",
        "agreement/items",
    ):
        answer = manager.get(f"/api/v1/{sheet}", {"cursor": forged})
        assert (answer.status_code, answer.json()["field"]) == (422, "cursor"), sheet


def test_a_cursor_is_good_for_the_order_it_was_made_in(manager: Client) -> None:
    for _ in range(3):
        make_item(on_hand=1)
    following = manager.get("/api/v1/stock", {"limit": 1}).json()["next"]
    assert manager.get("/api/v1/stock", {"limit": 1, "cursor": following}).status_code == 200
    assert manager.get("/api/v1/stock", {"limit": 1, "cursor": following, "sort": "value"}).json()["field"] == "cursor"


def test_a_form_without_its_boundary_is_a_bad_request(manager: Client) -> None:
    answer = manager.generic("POST", "/api/v1/opening/check", b"x", content_type="multipart/form-data")
    assert (answer.status_code, answer["Content-Type"]) == (400, "application/problem+json")


def test_a_row_of_a_file_is_bounded_as_everything_else(manager: Client) -> None:
    make_item("A")
    make_item("L", expiry_tracked=True)
    rows = ["A,wagon,99999999999,1", "A,wagon,1,1e9", "L,wagon,1,1", "A,wagon,0.0004,1"]
    data = "sku,location,quantity,unit_cost,lot,expires_on\n" + "".join(f"{row},L\x07,0001-01-01\n" for row in rows)
    found = manager.post("/api/v1/opening/check", {"file": SimpleUploadedFile("o.csv", data.encode())}).json()
    assert found["good"] == 0
    assert {fault["column"] for fault in found["faults"]} == {"quantity", "unit_cost", "lot"}


# Pairs that were never in stock together


def test_an_item_that_was_never_at_a_place_can_be_bought_for_it(manager: Client) -> None:
    item = make_item(on_hand=4)
    make_supplier(item)
    wagon = Location.objects.get(code="wagon")
    assert not StockBalance.objects.filter(item=item, location=wagon).exists()
    body = {"lines": [{"item_id": item.pk, "location_id": wagon.pk, "quantity": "3"}]}
    assert post(manager, "purchase-orders", body).status_code == 200
    pair = f"{item.pk}/{wagon.pk}"
    assert manager.get(f"/api/v1/forecasts/{pair}").status_code == 200
    change = {"level": "item", "values": {"cover_days": 10}}
    assert post(manager, f"replenishment/rehearsal/stocked/{item.pk}-{wagon.pk}", change).status_code == 200
    for kind in ("on-hand", "available", "value", "committed", "incoming", "suggestion", "velocity", "demand"):
        assert manager.get(f"/api/v1/workings/{kind}/{pair.replace('/', '-')}").status_code == 200, kind


# Orders and till sales that cannot be


def test_an_order_in_another_currency_is_never_posted_as_ours(company: Location) -> None:
    item, shop = make_item(on_hand=9), make_connection()
    order = take_order(SYSTEM, incoming(shop, order_line(item), currency="USD"), NOW).order
    assert (order.state, "USD" in order.held_because) == ("held", True)
    with pytest.raises(RefusedError, match="No exchange rate for USD") as refusal:
        release(SYSTEM, order.pk, NOW)
    assert refusal.value.field == "currency"
    SalesOrder.objects.filter(pk=order.pk).update(state="ready")  # however it came to be
    with pytest.raises(RefusedError, match="without a rate"):
        ship(SYSTEM, order.pk, at=NOW)
    sale = take_till_sale(SYSTEM, incoming(make_connection("till"), order_line(item), currency="USD")).order
    assert sale.state == "held"
    assert not JournalEntry.objects.exclude(kind="opening").exists()


def test_an_order_with_a_negative_total_is_held(company: Location) -> None:
    line = order_line(make_item(on_hand=9))
    taken = take_order(SYSTEM, incoming(make_connection(), line, total=D("-5.00")), NOW)
    assert (taken.order.state, taken.field) == ("held", "total")
    with pytest.raises(RefusedError, match="negative"):
        release(SYSTEM, taken.order.pk, NOW)


def test_an_order_of_half_a_thing_says_what_it_needs(company: Location) -> None:
    taken = take_order(SYSTEM, incoming(make_connection(), order_line(make_item(on_hand=9), "0.5")), NOW)
    assert taken.order.state == "held"
    with pytest.raises(RefusedError, match="cannot be shipped"):
        release(SYSTEM, taken.order.pk, NOW)


def test_a_till_sale_of_something_unknown_earns_and_moves_nothing(company: Location) -> None:
    till = make_connection("till")
    taken = take_till_sale(SYSTEM, incoming(till, order_line(None, 1, "12.30", "item"), order_line(None, "0.5", "6.15", "item")))
    assert (taken.order.state, taken.field) == ("closed", "item")
    assert JournalEntry.objects.get().kind == "invoice"
    assert not StockMove.objects.exists()
    assert_invariants()


def test_a_till_sale_of_half_a_thing_waits_for_a_decision(company: Location) -> None:
    item = make_item(on_hand=9)
    taken = take_till_sale(SYSTEM, incoming(make_connection("till"), order_line(item, "0.5"), order_line(item, 2)))
    assert (taken.order.state, taken.field) == ("held", "quantity")
    assert SalesOrder.objects.get().lines.count() == 2, "it is kept"
    assert not StockMove.objects.filter(reason="till sale").exists()
    assert release(SYSTEM, taken.order.pk, NOW).state == "closed"
    assert [move.quantity for move in StockMove.objects.filter(reason="till sale")] == [-2]
    assert_invariants()


def test_what_was_found_below_zero_is_taken_in(company: Location) -> None:
    item = make_item(on_hand=1)
    take_till_sale(SYSTEM, incoming(make_connection("till"), order_line(item, 51)))
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="found", at=NOW, change=D(1))
    assert StockBalance.objects.get(item=item).on_hand == -49
    assert_invariants()


def test_what_a_till_sold_away_is_no_longer_ready(company: Location) -> None:
    """The newest reservations become backorders by themselves, with a trace; the oldest order keeps what is left."""
    item, shop, till = make_item(on_hand=10), make_connection(), make_connection("till")
    orders = [take_order(SYSTEM, incoming(shop, order_line(item, 3)), NOW).order for _ in range(3)]
    take_till_sale(SYSTEM, incoming(till, order_line(item, 5)))
    with pytest.raises(RefusedError, match="fewer are on hand"):
        for order in orders:
            ship(SYSTEM, order.pk, at=NOW)
    while relay_now():
        continue
    states = [SalesOrder.objects.get(pk=order.pk).state for order in orders]
    assert states == ["shipped", "received", "received"]
    held = {(r.line.order_id, r.state): r.quantity for r in Reservation.objects.filter(state__in=("open", "backorder"))}
    assert held == {(orders[1].pk, "open"): 2, (orders[1].pk, "backorder"): 1, (orders[2].pk, "backorder"): 3}
    assert AuditRow.objects.filter(action="reservation became backorder").count() == 2
    assert_invariants()
    adjust(SYSTEM, item_id=item.pk, location_id=company.pk, reason="found", at=NOW, change=D(2))
    while relay_now():
        continue
    assert [SalesOrder.objects.get(pk=order.pk).state for order in orders] == ["shipped", "ready", "received"]


def test_the_token_of_one_address_is_not_sent_to_another(company: Location) -> None:
    row = make_connection(state="paused", secrets_sealed="x", address="http://127.0.0.1:9")
    with pytest.raises(BadInputError, match="token of the new address") as refusal:
        actions.change_settings(SYSTEM, row.pk, row.version, {"address": "http://127.0.0.1:10"})
    assert refusal.value.field == "sign_in.token"


# Bounds and columns


@pytest.mark.parametrize(
    ("at", "right"),
    [
        ("1989-12-31T23:59:59+00:00", False),
        ("1990-01-01T00:00:00+00:00", True),
        ("2027-03-15T09:30:00+00:00", True),
        ("2027-03-15T09:30:01+00:00", False),
    ],
)
def test_things_happened_between_1990_and_a_day_from_now(at: str, right: bool) -> None:
    moment = datetime.fromisoformat(at)
    if right:
        assert bounds.check_happened(moment, "at", NOW) == moment
    else:
        with pytest.raises(BadInputError):
            bounds.check_happened(moment, "at", NOW)


def test_what_passes_the_door_fits_every_column_behind_it() -> None:
    """Read from the columns themselves: a million times the largest quantity, a hundred times the largest document."""
    room = {3: bounds.MOST_UNITS * 1000, 6: bounds.MOST_PRICE, 2: bounds.MOST_TOTAL}
    percent = {
        "share_percent",
        "fee_percent",
        "tax_percent",
        "percent",
        "safety_figure",
        "lead_deviation_days",
        "runs_out",
        "percent_off_parts",
    }
    tried = 0
    for model in apps.get_models():
        if not model.__module__.startswith("yuvrel."):
            continue
        for field in model._meta.get_fields():
            if isinstance(field, models.DecimalField) and field.name not in percent:
                assert field.max_digits and field.decimal_places is not None
                most = D(10) ** (field.max_digits - field.decimal_places)
                assert most > room.get(field.decimal_places, D(10) ** 9), f"{model.__name__}.{field.name} holds less than {most}"
                tried += 1
            if isinstance(field, models.CharField) and field.name in ("title", "sku", "external_id", "external_number"):
                least = {"title": bounds.TITLE, "sku": bounds.CODE, "external_id": 80, "external_number": bounds.CODE}[field.name]
                assert field.max_length and field.max_length >= least, f"{model.__name__}.{field.name}"
    assert tried > 40


# A screen outlives its rows


def test_a_row_that_cannot_be_worked_out_says_so_in_its_place(manager: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    sound, broken = make_item("SOUND", on_hand=4), make_item("BROKEN", on_hand=4)
    for item in (sound, broken):
        make_supplier(item)
    for n, item in enumerate((sound, broken)):
        take_order(SYSTEM, incoming(make_connection(), order_line(item, 1), placed_at=timezone.now() - timedelta(days=n)), NOW)
    real = planning.suggest

    def suggest(*args: Any, **options: Any) -> Any:
        if "BROKEN" in options["subject"] and args[1].on_hand:
            raise OverflowError("too much")
        return real(*args, **options)

    monkeypatch.setattr(planning, "suggest", suggest)
    rows = {row["sku"]: row for row in manager.get("/api/v1/replenishment/rows", {"show": "all"}).json()["rows"]}
    assert rows["SOUND"]["fault"] == ""
    assert rows["BROKEN"]["fault"].endswith("cannot be worked out (OverflowError).")
    body = {
        "form": "xlsx",
        "columns": [{"field": "sku", "head": "SKU"}, {"field": "fault", "head": "Fault"}],
        "filters": {"show": "all"},
    }
    answer = post(manager, "sheets/replenishment/file", body)
    sheet = openpyxl.load_workbook(BytesIO(b"".join(answer))).active
    assert sheet.max_row == 3
    assert manager.get("/api/v1/today").status_code == 200
    record_faults()
    relay_now()
    snag = Snag.objects.get(resolved_at=None)
    assert "BROKEN" in snag.detail

    of_one = sales.Profit
    number = SalesOrder.objects.get(lines__sku="BROKEN").number

    def earned(**facts: Any) -> Any:
        if number in facts["subject"]:
            raise OverflowError("too much")
        return of_one(**facts)

    monkeypatch.setattr(sales, "Profit", earned)
    faults = [row["fault"] for row in manager.get("/api/v1/orders").json()["rows"]]
    assert [bool(fault) for fault in faults] == [False, True]


def test_two_zones_share_one_bound() -> None:
    make_company()
    assert datetime(1990, 1, 1, tzinfo=UTC) == bounds.EARLIEST
