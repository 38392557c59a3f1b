"""Snags by their cause: how many there are, tried again together, each by itself, set aside with one reason."""

from __future__ import annotations

import json

import pytest
from django.test import Client

from tests.world import make_connection, make_item, make_user
from yuvrel.channels import queries, snags
from yuvrel.channels.inbound import keep
from yuvrel.channels.models import InboundMessage, Snag
from yuvrel.channels.runs import raise_snag
from yuvrel.connectors.messages import RemoteOrder
from yuvrel.core.errors import ForbiddenError, NotFoundError
from yuvrel.people.models import Location
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.models import SalesOrder

pytestmark = pytest.mark.django_db


def waiting(connection: object, number: int, sku: str) -> Snag:
    """An order that could not be taken in when it came."""
    line = {"kind": "item", "sku": sku, "title": "Thing", "amount": "12.30", "tax_percent": "23"}
    facts = {"external_id": f"o{number}", "number": f"{number}", "version": 1, "status": "paid"}
    told = {**facts, "placed_at": "2027-03-01T10:00:00Z", "total": "12.30", "lines": [line]}
    message = keep(connection, RemoteOrder.model_validate(told), "poll")  # type: ignore[arg-type]
    assert message
    InboundMessage.objects.filter(pk=message.pk).update(state="snagged")
    return raise_snag(connection, "order", f"Order {number}", "It could not be taken in.", inbound=message)  # type: ignore[arg-type]


def test_all_of_one_cause_are_tried_again_each_by_itself(company: Location, client: Client) -> None:
    make_item("A-1", on_hand=9)
    shop, other = make_connection(), make_connection()
    for number in range(3):
        waiting(shop, number, "A-1")
    waiting(shop, 9, "UNKNOWN")
    left = waiting(other, 5, "A-1")
    raise_snag(None, "event", "Something", "happened")
    groups = {(row["kind"], row["connection"]): row["count"] for row in queries.snag_groups()}
    assert groups == {("order", shop.name): 4, ("order", other.name): 1, ("event", ""): 1}
    client.force_login(make_user(Role.MANAGER))
    page = client.get(f"/api/v1/snags?kind=order&connection={shop.pk}").json()
    assert (len(page["rows"]), page["groups"][0]["label"], page["groups"][0]["count"]) == (4, "Orders not taken in", 4)
    asked = {"kind": "order", "connection_id": shop.pk}
    said = client.post("/api/v1/snags/retry", json.dumps(asked), content_type="application/json").json()["said"]
    assert said == "4 tried again, 3 resolved at once."
    assert SalesOrder.objects.filter(state="ready").count() == 3
    still = Snag.objects.filter(resolved_at=None, kind="order")
    assert {snag.detail for snag in still} == {"It could not be taken in.", "No item is linked to UNKNOWN."}
    assert left in still


def test_what_cannot_be_tried_says_so_and_is_set_aside_together(company: Location) -> None:
    for number in range(2):
        raise_snag(make_connection() if number else None, "event", f"Event {number}", "happened")
    said = snags.try_all_again(SYSTEM, "event", None)
    assert said == "1 tried again, 0 resolved at once. 1 cannot be tried: There is nothing to try again; set it aside."
    viewer = Actor("Sunniva", Role.VIEWER)
    with pytest.raises(ForbiddenError):
        snags.set_all_aside(viewer, "event", None, "seen")
    assert snags.set_all_aside(SYSTEM, "event", None, "seen") == 1
    assert Snag.objects.filter(resolved_at=None).count() == 1
    with pytest.raises(NotFoundError):
        snags.try_all_again(SYSTEM, "event", None)
    with pytest.raises(ForbiddenError):
        snags.set_all_aside(viewer, "event", None, "there is none, and still")
