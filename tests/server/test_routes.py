"""Every route as every role, with ids that exist: who may, no secret told, a clear answer to whatever is sent."""

from __future__ import annotations

import json
from functools import cache
from typing import Any

import jsonschema_rs
import pytest
import schemathesis
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import transaction
from django.test import Client
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from ninja import Schema

from tests.depth import drawn
from tests.routes import Route, real_ids, routes, working_keys
from yuvrel.catalogue.models import Product
from yuvrel.channels.credentials import seal, secrets_of
from yuvrel.channels.models import Connection
from yuvrel.people.models import User
from yuvrel.people.roles import Role
from yuvrel.server.api import api
from yuvrel.server.workings import WORKINGS

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("larkmead")]

ROLES = [Role.MANAGER, Role.BUYER, Role.STOCKKEEPER, Role.BOOKKEEPER, Role.VIEWER]
OF_THE_RANGE = (
    "make_price_list",
    "change_price_list",
    "delete_price_list",
    "rehearse_price_list",
    "type_prices",
    "rehearse_prices",
    "change_prices",
    "undo_price_change",
    "add_customer_group",
    "change_customer_group",
    "add_category",
    "change_category",
    "merge_category",
    "delete_category",
    "add_picture",
    "order_pictures",
    "change_picture",
    "remove_picture",
)
# Who may call each route that changes something. A route that is not listed here fails the test below.
MAY: dict[str, set[Role]] = {
    "adjust_stock": {Role.MANAGER, Role.STOCKKEEPER},
    "check_opening": {Role.MANAGER, Role.BOOKKEEPER},
    "opening_left_out": {Role.MANAGER, Role.BOOKKEEPER},
    "take_opening": {Role.MANAGER, Role.BOOKKEEPER},
    "ship_order": {Role.MANAGER, Role.STOCKKEEPER},
    "hold_order": {Role.MANAGER, Role.STOCKKEEPER},
    "cancel_order": {Role.MANAGER, Role.STOCKKEEPER},
    "put_back_order": {Role.MANAGER, Role.STOCKKEEPER},
    "release_order": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "expect_return": {Role.MANAGER, Role.STOCKKEEPER},
    "inspect_return": {Role.MANAGER, Role.STOCKKEEPER},
    "close_return": {Role.MANAGER, Role.STOCKKEEPER},
    "rehearse_credit": set(ROLES),
    "credit_order": {Role.MANAGER, Role.BOOKKEEPER},
    "draft_purchase_orders": {Role.MANAGER, Role.BUYER},
    "change_purchase_order": {Role.MANAGER, Role.BUYER},
    "send_purchase_order": {Role.MANAGER, Role.BUYER},
    "add_purchase_line": {Role.MANAGER, Role.BUYER},
    "cancel_purchase_order": {Role.MANAGER, Role.BUYER},
    "receive_purchase_order": {Role.MANAGER, Role.STOCKKEEPER},
    "draft_transfer": {Role.MANAGER, Role.BUYER, Role.STOCKKEEPER},
    "change_transfer": {Role.MANAGER, Role.BUYER, Role.STOCKKEEPER},
    "add_transfer_line": {Role.MANAGER, Role.BUYER, Role.STOCKKEEPER},
    "reserve_transfer": {Role.MANAGER, Role.BUYER, Role.STOCKKEEPER},
    "release_transfer": {Role.MANAGER, Role.BUYER, Role.STOCKKEEPER},
    "send_transfer": {Role.MANAGER, Role.BUYER, Role.STOCKKEEPER},
    "receive_transfer": {Role.MANAGER, Role.STOCKKEEPER},
    "give_up_transfer": {Role.MANAGER, Role.STOCKKEEPER},
    "cancel_transfer": {Role.MANAGER, Role.BUYER, Role.STOCKKEEPER},
    "run_forecasts": {Role.MANAGER, Role.BUYER},
    "stop_forecasts": {Role.MANAGER, Role.BUYER},
    "set_one_off_aside": {Role.MANAGER, Role.BUYER},
    "rehearse_replenishment": {Role.MANAGER, Role.BUYER},
    "add_supplier": {Role.MANAGER, Role.BUYER},
    "change_supplier": {Role.MANAGER, Role.BUYER},
    "keep_terms": {Role.MANAGER, Role.BUYER},
    "drop_terms": {Role.MANAGER, Role.BUYER},
    "set_rate": {Role.MANAGER, Role.BUYER, Role.BOOKKEEPER},
    "set_period": {Role.MANAGER, Role.BOOKKEEPER},
    "add_clearing_account": {Role.MANAGER, Role.BOOKKEEPER},
    "add_connection": {Role.MANAGER},
    "change_connection": {Role.MANAGER},
    "rehearse_settings": {Role.MANAGER},
    "change_settings": {Role.MANAGER},
    "remove_connection": {Role.MANAGER},
    "test_connection": {Role.MANAGER},
    "go_live": {Role.MANAGER},
    "pause_connection": {Role.MANAGER},
    "disconnect": {Role.MANAGER},
    "exchange_now": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "retry_snags": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "set_snags_aside": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "stop_run": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "take_listings": {Role.MANAGER, Role.BUYER},
    "read_channel_groups": {Role.MANAGER},
    "keep_channel_group": {Role.MANAGER, Role.BUYER},
    "rehearse_channel_group": {Role.MANAGER, Role.BUYER},
    "survey_connection": {Role.MANAGER},
    "first_intake": {Role.MANAGER},
    "prepare_listings": {Role.MANAGER, Role.BUYER},
    "fill_publication": {Role.MANAGER, Role.BUYER},
    "publish_listings": {Role.MANAGER, Role.BUYER},
    "forget_publications": {Role.MANAGER, Role.BUYER},
    "link_listing": {Role.MANAGER, Role.BUYER},
    "make_item": {Role.MANAGER, Role.BUYER},
    "ignore_listing": {Role.MANAGER, Role.BUYER},
    "unlink_listing": {Role.MANAGER, Role.BUYER},
    "stand_listing": {Role.MANAGER, Role.BUYER},
    "send_listing_again": {Role.MANAGER, Role.BUYER},
    "refresh_listing": {Role.MANAGER, Role.BUYER},
    "choose_for_listing": {Role.MANAGER, Role.BUYER},
    "choose_for_listings": {Role.MANAGER, Role.BUYER},
    "retry_snag": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "preview_items": set(ROLES),
    "send_import": {Role.MANAGER, Role.BUYER},
    "confirm_import": {Role.MANAGER, Role.BUYER},
    "stop_import": {Role.MANAGER, Role.BUYER},
    "undo_import": {Role.MANAGER, Role.BUYER},
    "change_many_items": {Role.MANAGER, Role.BUYER},
    "make_product": {Role.MANAGER, Role.BUYER},
    "change_product": {Role.MANAGER, Role.BUYER},
    "keep_product_text": {Role.MANAGER, Role.BUYER},
    "keep_words": {Role.MANAGER, Role.BUYER},
    "add_items": {Role.MANAGER, Role.BUYER},
    "duplicate_product": {Role.MANAGER, Role.BUYER},
    "change_items": {Role.MANAGER, Role.BUYER},
    "set_parts": {Role.MANAGER, Role.BUYER},
    "retire_item": {Role.MANAGER, Role.BUYER},
    "bring_item_back": {Role.MANAGER, Role.BUYER},
    "delete_item": {Role.MANAGER, Role.BUYER},
    "set_snag_aside": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "check_agreement": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    "remember_sheet": set(ROLES),
    "open_sheet_with": set(ROLES),
    "keep_view": set(ROLES),
    "change_view": set(ROLES),
    "take_view_away": set(ROLES),
    "sheet_file": set(ROLES),
    **{name: {Role.MANAGER, Role.BUYER} for name in OF_THE_RANGE},
    "add_customer": {Role.MANAGER, Role.BUYER, Role.BOOKKEEPER},
    "change_customer": {Role.MANAGER, Role.BUYER, Role.BOOKKEEPER},
    "take_drift": {Role.MANAGER},
    "push_drift": {Role.MANAGER, Role.STOCKKEEPER, Role.BOOKKEEPER},
    **{name: set(ROLES) for name in ("change_password", "end_session", "give_out_token", "revoke_token")},
    **{name: {Role.MANAGER} for name in ("ask_other_ends", "take_found", "leave_found", "take_all_found", "send_again")},
    "sign_in": set(ROLES),
    "sign_out": set(ROLES),
}
BODIES: dict[str, Any] = {
    "change_password": {"old": "x", "new": "y"},
    "leave_found": {"why": "x"},
    "take_all_found": {"kind": "shipment"},
    "send_again": {},
    "give_out_token": {"name": "x"},
    "adjust_stock": {"item_id": 1, "location_id": 1, "reason": "lost", "change": "-1"},
    "hold_order": {"why": "x"},
    "cancel_order": {"why": "x"},
    "exchange_now": {},
    "retry_snags": {"kind": "order"},
    "set_snags_aside": {"kind": "order", "why": "x"},
    "order_pictures": {"ids": []},
    "ship_order": {},
    "expect_return": {"lines": []},
    "inspect_return": {"version": 1, "lines": []},
    "close_return": {"version": 1},
    "rehearse_credit": {"lines": []},
    "credit_order": {"lines": []},
    "draft_purchase_orders": {"lines": []},
    "set_period": {"month": "2027-01-01", "closed": True},
    "add_clearing_account": {"code": "1190", "name": "Cash drawer"},
    "change_purchase_order": {"version": 1},
    "send_purchase_order": {"version": 1},
    "add_purchase_line": {"version": 1, "item_id": 1, "quantity": "1"},
    "cancel_purchase_order": {"version": 1},
    "receive_purchase_order": {"lines": []},
    "draft_transfer": {"source_id": 1, "destination_id": 2, "expected_on": "2027-05-01"},
    "change_transfer": {"version": 0},
    "add_transfer_line": {"version": 0, "item_id": 1, "quantity": "1"},
    "reserve_transfer": {"version": 0},
    "release_transfer": {"version": 0},
    "send_transfer": {"version": 0},
    "receive_transfer": {"lines": []},
    "give_up_transfer": {"version": 0, "reason": "lost", "lines": []},
    "cancel_transfer": {"version": 0},
    "add_connection": {"kind": "x", "name": "x", "address": "x", "sign_in": {"token": "x"}},
    "change_connection": {"version": 1},
    "change_settings": {"level": "listing", "values": {"buffer": "1"}},
    "take_listings": {},
    "keep_channel_group": {"version": 9},
    "rehearse_channel_group": {"version": 9},
    "stand_listing": {"state": "hidden"},
    "choose_for_listing": {"version": 1, "fields": ["brand"], "theirs": True},
    "choose_for_listings": {"ids": [1], "theirs": True},
    "survey_connection": {"since": "2026-01-01"},
    "first_intake": {"listings": "match"},
    "prepare_listings": {"items": [1]},
    "fill_publication": {"version": 1},
    "publish_listings": {},
    "forget_publications": {"ids": [1]},
    "link_listing": {"item_id": 1},
    "set_snag_aside": {"why": "x"},
    "preview_items": {},
    "confirm_import": {},
    "change_many_items": {"ids": [1], "column": "brand", "text": "x"},
    "make_product": {"title": "x"},
    "change_product": {"version": 1},
    "keep_product_text": {"version": 1, "title": "Ofen"},
    "keep_words": {"words": {"ash": "Esche"}},
    "add_items": {"version": 1},
    "duplicate_product": {"title": "x", "pattern": "x"},
    "change_items": {"items": {}},
    "set_parts": {"version": 1, "parts": []},
    "retire_item": {"version": 1},
    "bring_item_back": {"version": 1},
    "set_one_off_aside": {"aside": True},
    "rehearse_replenishment": {"level": "company"},
    "add_supplier": {"name": "x"},
    "keep_terms": {"prices": [{"from_quantity": 0, "price": "1"}]},
    "make_price_list": {"name": "x"},
    "type_prices": {"prices": [{"item_id": 1, "price": "1"}]},
    "rehearse_prices": {"by": "percent", "value": "1"},
    "change_prices": {"by": "percent", "value": "1"},
    "add_category": {"name": "x"},
    "merge_category": {"into_id": 1},
    "add_customer_group": {"name": "x"},
    "change_customer_group": {"name": "x"},
    "set_rate": {"currency": "PLN", "rate": "4.25"},
    "open_sheet_with": {"view": None},
    "keep_view": {"name": "x", "settings": {}},
    "change_view": {"name": "x", "settings": {}},
    "sheet_file": {"form": "csv", "columns": [{"field": "number", "head": "Order"}], "filters": {"state": "waiting"}},
}
WITH_A_FILE = ("check_opening", "opening_left_out", "send_import", "add_picture")
OPERATIONS = {route.operation: route for route in routes()}
# Signing in and out is tried in test_api; it would end the session that everything else needs.
IN_BETWEEN = ("sign_in", "sign_out")


def person(role: Role) -> User:
    """Somebody of Larkmead with this role."""
    return User.objects.get(username=role.value)


@pytest.fixture(scope="module")
def ids(larkmead: dict[str, Any], django_db_blocker: Any) -> dict[str, Any]:
    """One of everything, in the database that all of these tests share."""
    with django_db_blocker.unblock():
        return real_ids(person(Role.MANAGER))


def call(client: Client, route: Route, path: str) -> Any:
    """Call a route with a body that fits its form."""
    if route.method == "get":
        return client.get(path)
    if route.operation in WITH_A_FILE:
        return client.post(path)
    if route.operation == "take_opening":
        return client.post(path, {"token": "x"})
    body = json.dumps(BODIES.get(route.operation, {}))
    return getattr(client, route.method)(path, body, content_type="application/json")


def test_every_route_refuses_who_is_not_signed_in(ids: dict[str, Any], client: Client) -> None:
    for route in routes():
        if route.operation not in ("sign_in", "sign_in_options"):
            assert call(client, route, route.at(ids)).status_code == 401, route


@pytest.mark.parametrize("role", ROLES)
def test_every_route_for_every_role(ids: dict[str, Any], client: Client, role: Role) -> None:
    client.force_login(person(role))
    for route in routes():
        if route.operation in IN_BETWEEN:
            continue
        with transaction.atomic():
            status = call(client, route, route.at(ids)).status_code
            transaction.set_rollback(True)
        assert status < 500, route
        if route.method == "get":
            assert status == 200, f"{route}: {status}"
        elif route.operation in WITH_A_FILE:
            assert status == 422  # without a file the form is refused before the role is asked
        else:
            assert (status != 403) == (role in MAY[route.operation]), f"{route} as {role}: {status}"


def test_every_answer_is_as_the_description_says(ids: dict[str, Any], client: Client) -> None:
    """By the JSON schema of each route's answer (OpenAPI 3.1 takes over JSON Schema 2020-12): also the words that states
    and kinds can be."""
    client.force_login(person(Role.MANAGER))
    described = json.loads(json.dumps(api.get_openapi_schema(), default=str))
    seen, wrong = 0, {}
    for route in routes():
        found = described["paths"][route.path]["get"]["responses"]["200"] if route.method == "get" else {}
        form = found.get("content", {}).get("application/json", {}).get("schema")
        if form is None:
            continue
        answer = client.get(route.at(ids))
        if answer.headers["Content-Type"].startswith("application/json"):
            validator = jsonschema_rs.validator_for({**form, "components": described["components"]})
            said = [f"{'.'.join(map(str, one.instance_path))}: {one.message}" for one in validator.iter_errors(answer.json())]
            wrong |= {route.operation: said[:3]} if said else {}
            seen += 1
    assert wrong == {}
    assert seen > 60, seen


def test_no_secret_is_in_any_answer(ids: dict[str, Any], client: Client) -> None:
    Connection.objects.filter(pk=ids["connection_id"]).update(webhook_secret_sealed=seal("whsec_hush"))
    secrets = {"whsec_hush"}
    for row in Connection.objects.all():
        secrets |= {row.secrets_sealed, *secrets_of(row).values(), row.webhook_secret_sealed, row.hook_key} - {""}
    assert len(secrets) > 20
    client.force_login(person(Role.MANAGER))
    for route in routes():
        if route.method == "get":
            answer = client.get(route.at(ids))
            assert answer.status_code == 200, route
            text = b"".join(answer) if answer.streaming else answer.content
            assert not [secret for secret in secrets if secret.encode() in text], route


@pytest.mark.parametrize("kind", WORKINGS)
def test_every_kind_of_working_opens(ids: dict[str, Any], client: Client, kind: str) -> None:
    client.force_login(person(Role.VIEWER))
    answer = client.get(f"/api/v1/workings/{kind}/{working_keys()[kind]}")
    assert answer.status_code == 200, answer.content
    told = answer.json()
    assert told["title"]
    assert "result" in [step["kind"] for step in told["steps"]]


def test_no_two_wire_types_share_a_name() -> None:
    """One would take the other's place in the description of the API without a word."""
    by_name: dict[str, set[str]] = {}
    waiting = list(Schema.__subclasses__())
    while waiting:
        kind = waiting.pop()
        waiting += kind.__subclasses__()
        if kind.__module__.startswith("yuvrel."):
            by_name.setdefault(kind.__name__, set()).add(kind.__module__)
    assert {name: found for name, found in by_name.items() if len(found) > 1} == {}


def test_a_working_nobody_knows_is_not_found(ids: dict[str, Any], client: Client) -> None:
    client.force_login(person(Role.VIEWER))
    assert client.get("/api/v1/workings/nothing/1").status_code == 404


@cache
def schema() -> Any:
    """The API as schemathesis reads it."""
    return schemathesis.openapi.from_dict(json.loads(json.dumps(api.get_openapi_schema(), default=str)))


@cache
def cases(operation: str) -> st.SearchStrategy[Any]:
    """Requests that fit an operation and requests that do not."""
    route = OPERATIONS[operation]
    found = schema()[route.path][route.method.upper()]
    return st.one_of(found.as_strategy(), found.as_strategy(generation_mode=schemathesis.GenerationMode.NEGATIVE))


def send(client: Client, route: Route, case: Any, known: dict[str, Any]) -> Any:
    """A generated case through Django's own client. Names without a known id keep what was generated."""
    generated = {name: value for name, value in (case.path_parameters or {}).items() if name not in known}
    path = route.at(known | generated, asked=False)
    query = {k: v if isinstance(v, (str, list)) else json.dumps(v) for k, v in (case.query or {}).items() if v is not None}
    headers = {k: str(v) for k, v in (case.headers or {}).items() if str(v).isascii() and str(v).isprintable()}
    if case.method == "GET":
        return client.get(path, query, headers=headers)
    if case.media_type and "form" in case.media_type:
        body = case.body if isinstance(case.body, dict) else {}
        form = {k: v if isinstance(v, (str, bytes)) else str(v) for k, v in body.items()}
        return client.post(path, form, query_params=query, headers=headers)
    empty = type(case.body).__name__ == "NotSet"
    body = b"" if empty else case.body if isinstance(case.body, bytes) else json.dumps(case.body, default=str).encode()
    call = getattr(client, case.method.lower())
    return call(path, body, content_type="application/json", query_params=query, headers=headers)


@pytest.fixture(scope="module")
def clients(ids: dict[str, Any], django_db_blocker: Any) -> dict[Role, Client]:
    """Somebody of each role, signed in."""
    found = {role: Client() for role in ROLES}
    with django_db_blocker.unblock():
        for role, client in found.items():
            client.force_login(person(role))
    return found


@pytest.mark.parametrize("operation", [name for name in OPERATIONS if name not in IN_BETWEEN])
def test_no_input_makes_the_api_answer_500(operation: str, ids: dict[str, Any], clients: dict[Role, Client]) -> None:
    """As every role; in most cases with ids that exist, so that what lies behind them is reached."""
    route = OPERATIONS[operation]
    names = [key for key in ids if "/" in key or f"{{{key}}}" in route.path]

    @settings(
        max_examples=drawn(14, 5),
        database=None,
        derandomize=True,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(
        case=cases(operation),
        role=st.one_of(st.just(Role.MANAGER), st.sampled_from(ROLES)),
        known=st.sampled_from([ids, ids, ids, {}]),
    )
    def attempt(case: Any, role: Role, known: dict[str, Any]) -> None:
        with transaction.atomic():
            answer = send(clients[role], route, case, {name: known[name] for name in names if name in known})
            transaction.set_rollback(True)
        where = f"{case.method} {case.path} as {role}: {getattr(answer, 'content', b'')[:300]!r}"
        assert answer.status_code < 500, where
        if answer.status_code >= 400:
            assert answer["Content-Type"] == "application/problem+json", where
            assert answer.json()["detail"], where

    attempt()


@pytest.mark.parametrize("text", ["\0", "a\0b"])
def test_the_character_no_text_can_hold_is_refused_everywhere(clients: dict[Role, Client], text: str) -> None:
    client = clients[Role.MANAGER]
    body = json.dumps({"kind": "till", "name": text, "address": "http://127.0.0.1", "sign_in": {"token": "t"}})
    for answer in (
        client.post("/api/v1/connections", body, content_type="application/json"),
        client.get("/api/v1/stock", {"q": text}),
        client.get(f"/api/v1/workings/cost/{text.replace(chr(0), '%00')}"),
    ):
        assert answer.status_code == 400
        assert "U+0000" in answer.json()["detail"]


@pytest.mark.parametrize("sort", ["application/json", "text/plain", "application/octet-stream", ""])
def test_what_a_body_calls_itself_opens_no_other_door(clients: dict[Role, Client], sort: str) -> None:
    client, path = clients[Role.MANAGER], "/api/v1/products"
    before = Product.objects.count()
    for body, why in (
        (b'{"title": "a\\u0001b"}', "U+0001"),
        (b'{"title": "a\x01b"}', "U+0001"),
        (b'{"title": ' + b"[" * 100_000 + b"]" * 100_000 + b"}", "nested deeper than 32 levels"),
        (b"[" * 100_000, "nested deeper"),
        (b'{"title": "\xff"}', "not built as it should be"),
    ):
        answer = client.post(path, body, content_type=sort)
        assert (answer.status_code, why in answer.json()["detail"]) == (400, True), answer.content
    assert Product.objects.count() == before


@pytest.mark.parametrize("operation", WITH_A_FILE)
def test_a_file_with_a_key_is_taken_in_once(ids: dict[str, Any], clients: dict[Role, Client], operation: str) -> None:
    route, client = OPERATIONS[operation], clients[Role.MANAGER]
    path = route.at({**ids, "kind": "items"})

    def send_file(key: str, text: bytes) -> Any:
        file = SimpleUploadedFile("a.csv", text)
        return client.post(path, {"file": file, "alt": "x"}, headers={"Idempotency-Key": key})

    with transaction.atomic():
        first, again, other = (
            send_file("key-1", text) for text in (b"sku,product\nA,B\n", b"sku,product\nA,B\n", b"sku,product\nC,D\n")
        )
        transaction.set_rollback(True)
    assert first.status_code < 500, first.content
    if not first.has_header("Content-Disposition"):
        assert (again.status_code, again.content) == (first.status_code, first.content)
        assert (other.status_code, "was used for a different request" in other.json()["detail"]) == (422, True)


SHARP = (
    "12345678",
    "4006381333931",
    "99999999999999999",
    "\u0661" * 9,
    "%",
    "_",
    "\\",
    "(",
    "'",
    "-1",
    "1e999",
    "x" * 5000,
    "a b c d e f g h",
)


def test_whatever_is_searched_for_is_answered(ids: dict[str, Any], clients: dict[Role, Client]) -> None:
    """Each text that a sheet can be asked for, with codes, signs and lengths that people paste."""
    described, asked = api.get_openapi_schema()["paths"], 0
    for route in routes():
        given = described[route.path][route.method].get("parameters", [])
        for name in [one["name"] for one in given if one["in"] == "query" and one["schema"].get("type") == "string"]:
            for text in SHARP if route.method == "get" else ():
                answer = clients[Role.MANAGER].get(route.at(ids), {name: text})
                assert answer.status_code < 500, f"{route} {name}={text[:30]}"
                asked += 1
    assert asked > 500
