"""A new kind of connection, taken from docs/connectors.md as it stands there and run against a small service."""

from __future__ import annotations

import re
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from django.test import Client
from django.utils import timezone
from flask import Flask, jsonify, request
from werkzeug.serving import make_server

from tests.channels.test_journey import settle
from tests.invariants import assert_invariants
from tests.world import give, make_company, make_user
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.catalogue.models import Item
from yuvrel.channels import actions, inbound, linking
from yuvrel.channels.models import Listing
from yuvrel.connectors.registry import KINDS
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.models import StockBalance

pytestmark = pytest.mark.django_db
PAGE = Path(__file__).resolve().parents[2] / "docs" / "connectors.md"


@pytest.fixture
def stall() -> Iterator[tuple[str, dict[str, Any]]]:
    """A service that speaks as the page's example expects: its address, and what it holds."""
    app, held = Flask("stall"), {"goods": {"J-1": {"no": "J-1", "name": "Jar", "left": 0}}, "sold": []}

    @app.before_request
    def _who() -> Any:
        return None if request.headers.get("Authorization") == "Bearer t" else (jsonify(detail="Who are you?"), 401)

    @app.get("/me")
    def _me() -> Any:
        return {"name": "The stall", "scopes": ["goods", "sales"]}

    @app.get("/goods")
    def _goods() -> Any:
        return {"goods": list(held["goods"].values())}

    @app.put("/goods/<number>")
    def _put(number: str) -> Any:
        held["goods"][number]["left"] = request.get_json()["left"]
        return {}

    @app.get("/sold")
    def _sold() -> Any:
        return {"sold": [slip for slip in held["sold"] if slip["at"] >= request.args.get("since", "")]}

    server = make_server("127.0.0.1", 0, app, threaded=True)
    thread = threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}", held
    server.shutdown()
    thread.join()


def test_the_example_of_the_page_is_a_kind_like_any_other(
    stall: tuple[str, dict[str, Any]], monkeypatch: pytest.MonkeyPatch, client: Client
) -> None:
    address, held = stall
    (code,) = re.findall(r"```python\n(.*?)```", PAGE.read_text(), re.DOTALL)
    made: dict[str, Any] = {"__name__": "stall"}
    exec(compile(code, str(PAGE), "exec"), made)  # noqa: S102  (our own page)
    monkeypatch.setitem(KINDS, "stall", made["Stall"])
    make_company()
    client.force_login(make_user(Role.MANAGER))

    # It is offered to whoever adds a connection, with what it signs in with.
    kind = next(one for one in client.get("/api/v1/kinds").json() if one["kind"] == "stall")
    assert kind["can"] == ["listings", "orders", "quantities"]
    assert [entry["name"] for entry in kind["sign_in"]] == ["token"]
    row = actions.add(SYSTEM, kind="stall", name="Stall", address=address, sign_in={"token": "wrong"})
    assert actions.test(SYSTEM, row.pk, timezone.now()).test_report["fault"] == "Who are you?"
    actions.change_settings(SYSTEM, row.pk, 1, {"sign_in": {"token": "t"}})
    assert actions.test(SYSTEM, row.pk, timezone.now()).state == "tested"

    linking.take_listings(SYSTEM, row.pk, timezone.now(), create=True)
    item = Item.objects.get(sku="J-1")
    row = actions.go_live(SYSTEM, row.pk, timezone.now())
    give(item, 9)
    settle()
    assert held["goods"]["J-1"]["left"] == 9
    assert Listing.objects.get(connection=row).offer_state == "agreed"

    at = timezone.now().isoformat()
    goods = [{"no": "J-1", "name": "Jar", "count": 2, "sum": "9.80"}]
    held["sold"].append({"slip": "S1", "at": at, "sum": "9.80", "goods": goods})
    assert inbound.poll(row) == 1
    settle()
    assert (SalesOrder.objects.get().state, StockBalance.objects.get(item=item).on_hand) == ("closed", 7)
    assert held["goods"]["J-1"]["left"] == 7
    agreement.check_connection(row)
    assert not Drift.objects.exists()
    page = client.get(f"/api/v1/connections/{row.pk}").json()
    assert (page["label"], page["counts"]["linked"]) == ("Market stall", 1)
    assert_invariants()
