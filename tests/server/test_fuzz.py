"""Whatever is sent to whatever route, as whatever role: a clear answer, never a 500."""

from __future__ import annotations

import json
from decimal import Decimal as D
from typing import Any

import pytest
import schemathesis
from django.test import Client
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from tests.world import NOW, incoming, make_connection, make_item, make_listing, make_supplier, make_user, order_line
from yuvrel.buying.actions import Wanted, draft
from yuvrel.channels.runs import raise_snag
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.sales.actions import take_order
from yuvrel.server.api import api

pytestmark = pytest.mark.django_db
ROLES = [Role.MANAGER, Role.BUYER, Role.STOCKKEEPER, Role.BOOKKEEPER, Role.VIEWER]
SCHEMA = schemathesis.openapi.from_dict(json.loads(json.dumps(api.get_openapi_schema(), default=str)))


def world(place: Location) -> dict[str, int]:
    """One of everything, so that ids can be met; the id of each, by the name of the path's parameter."""
    item = make_item(on_hand=9)
    make_supplier(item)
    shop = make_connection()
    order = take_order(SYSTEM, incoming(shop, order_line(item, 2)), NOW).order
    (purchase,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(3))], NOW)
    snag = raise_snag(shop, "order", "A snag", "to be resolved", order=order)
    return {
        "item_id": item.pk,
        "order_id": order.pk,
        "purchase_id": purchase.pk,
        "connection_id": shop.pk,
        "listing_id": make_listing(shop, item).pk,
        "snag_id": snag.pk,
    }


def send(client: Client, case: Any, ids: dict[str, int]) -> Any:
    """A generated case through Django's own client; half of the ids are met."""
    path = case.path
    for name, value in (case.path_parameters or {}).items():
        known = ids.get(name)
        path = path.replace(f"{{{name}}}", str(known if known and len(str(value)) % 2 else value))
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


@pytest.mark.parametrize("role", ROLES)
def test_no_input_makes_the_api_answer_500(company: Location, client: Client, role: Role) -> None:
    ids = world(company)
    client.force_login(make_user(role))
    tried = 0
    for result in SCHEMA.get_all_operations():
        operation = result.ok()
        if operation.definition.raw["operationId"] in ("sign_in", "sign_out"):
            continue

        @settings(max_examples=6, deadline=None, database=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
        @given(
            case=st.one_of(operation.as_strategy(), operation.as_strategy(generation_mode=schemathesis.GenerationMode.NEGATIVE))
        )
        def attempt(case: Any) -> None:
            answer = send(client, case, ids)
            where = f"{case.method} {case.path} as {role}: {getattr(answer, 'content', b'')[:300]!r}"
            assert answer.status_code < 500, where
            if answer.status_code >= 400:
                assert answer["Content-Type"].startswith(("application/problem+json", "text/html")), where
                if answer["Content-Type"].startswith("application/problem"):
                    assert answer.json()["detail"], where

        attempt()
        tried += 1
    assert tried >= 50


@pytest.mark.parametrize("text", ["\0", "a\0b"])
def test_the_character_no_text_can_hold_is_refused_everywhere(company: Location, client: Client, text: str) -> None:
    client.force_login(make_user(Role.MANAGER))
    body = json.dumps({"kind": "till", "name": text, "address": "http://127.0.0.1", "token": "t"})
    for answer in (
        client.post("/api/v1/connections", body, content_type="application/json"),
        client.get("/api/v1/stock", {"q": text}),
        client.get(f"/api/v1/workings/cost/{text.replace(chr(0), '%00')}"),
    ):
        assert answer.status_code == 422
        assert "U+0000" in answer.json()["detail"]
