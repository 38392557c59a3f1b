"""Orders that the ledger knows as quotes or sales orders before they book anything, and its tax codes."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import httpx
import pytest
from django.db import IntegrityError, transaction
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.world import incoming, make_item, order_line, set_rules
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.catalogue.models import Item, TaxClass
from yuvrel.catalogue.products import change_items
from yuvrel.channels import actions, inbound, ledger_known, ledger_out, outbound, queries, snags
from yuvrel.channels.jobs import relay_now
from yuvrel.channels.models import Connection, OutboundMessage, Snag
from yuvrel.core.errors import BadInputError
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.actions import hold, release, ship, take_order
from yuvrel.sales.customers import keep
from yuvrel.sales.documents import INVOICE
from yuvrel.sales.models import Customer, Invoice, SalesOrder
from yuvrel.sales.order_page import order_page

pytestmark = pytest.mark.django_db


@pytest.fixture
def world(db: None, standins: Standins) -> World:
    return World(standins)


def told(world: World, number: str) -> dict[str, Any] | None:
    """What the ledger itself holds."""
    return world.standins.store.get("books", "order", number)


def order_of(world: World, wanted: dict[str, int] | None = None) -> SalesOrder:
    """An order of the shop, taken in and told."""
    world.buy(wanted or {"v1": 3})
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    settle()
    return SalesOrder.objects.latest("pk")


def office(world: World, path: str, **form: Any) -> None:
    """Somebody at the shop's back office."""
    answer = httpx.post(f"{world.standins.base}/shop/web/office/{path}", data=form, trust_env=False)
    assert answer.status_code == 302


def level(world: World) -> list[tuple[str, str, str]]:
    agreement.check_connection(Connection.objects.get(pk=world.ledger.pk))
    open_ones = Drift.objects.filter(healed_at=None, code="A6").order_by("pk")
    return [(drift.title, drift.expected, drift.found) for drift in open_ones]


def test_nothing_is_told_of_orders_unless_somebody_says_so(world: World) -> None:
    order = order_of(world)
    assert told(world, order.number) is None
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    assert told(world, order.number) is None
    assert not OutboundMessage.objects.filter(kind="ledger_order").exists()


@pytest.mark.parametrize(("rule", "kind"), [("order", "order"), ("quote", "quote")])
def test_an_order_is_known_to_the_ledger_from_its_first_day_to_its_last(world: World, rule: str, kind: str) -> None:
    set_rules(world.shop, ledger_order=rule, cash_customer="Shop sales")
    order = order_of(world)
    found = told(world, order.number)
    assert found is not None
    assert (found["kind"], found["state"], found["contact"]) == (kind, "open", "Shop sales")
    assert D(found["total"]) == order.total
    assert [(line["sku"], line["quantity"]) for line in found["details"] if line["sku"]] == [("SMK-S", "3.000")]
    assert not [d for d in world.standins.store.all("books", "document") if d["kind"] == "invoice"], "it books nothing"
    assert level(world) == []
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    found = told(world, order.number)
    assert found is not None
    assert found["state"] == "closed"
    (invoice,) = [d for d in world.standins.store.all("books", "document") if d["kind"] == "invoice"]
    assert invoice["order"] == order.number
    assert level(world) == []
    assert OutboundMessage.objects.filter(kind="ledger_order").count() == 1
    said = [(moment["what"], moment["more"]) for moment in order_page(order.pk)["history"]]
    assert ("Books knows of it", "closed") in said


def test_what_the_shopper_changes_and_cancels_is_told(world: World) -> None:
    set_rules(world.shop, ledger_order="order")
    order = order_of(world)
    office(world, "edit", id=order.external_id, count=5)
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    settle()
    found = told(world, order.number)
    assert found is not None
    assert found["details"][0]["quantity"] == "5.000"
    assert level(world) == []
    office(world, "cancel", id=order.external_id)
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    settle()
    found = told(world, order.number)
    assert found is not None
    assert found["state"] == "cancelled"
    assert level(world) == []


def test_a_held_order_is_told_when_it_goes_on(world: World) -> None:
    set_rules(world.shop, ledger_order="order", backorders="held")
    order = order_of(world, {"v2": 4})
    assert told(world, order.number) is not None
    OutboundMessage.objects.filter(kind="ledger_order").delete()
    hold(SYSTEM, order.pk, "asks for a later date")
    relay_now()
    ledger_out.queue_orders([order.pk])
    assert not OutboundMessage.objects.filter(kind="ledger_order").exists(), "held before the ledger knew of it"
    release(SYSTEM, order.pk, timezone.now())
    settle()
    assert OutboundMessage.objects.get(kind="ledger_order").state == "sent"


def test_what_differs_there_is_a_drift(world: World) -> None:
    set_rules(world.shop, ledger_order="order")
    order = order_of(world)
    with world.standins.store.transaction():
        found = told(world, order.number) or {}
        world.standins.store.put("books", "order", order.number, {**found, "state": "closed"})
        world.standins.store.put("books", "order", "Q-9", {**found, "number": "Q-9", "total": "12.00"})
    assert level(world) == [
        (f"Order {order.number} in the ledger", f"open, {order.total}", f"closed, {order.total}"),
        ("Order Q-9 in the ledger", "not ours", "open, 12.00"),
    ]


def test_an_order_that_changes_while_it_is_told_is_told_again(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    set_rules(world.shop, ledger_order="order")
    world.buy({"v1": 3})
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    relay_now()
    real = outbound.SENDERS["ledger_order"]

    def slow(connector: Any, row: OutboundMessage) -> str:
        answer = real(connector, row)
        ledger_out.queue_orders([row.subject_id])
        return answer

    monkeypatch.setitem(outbound.SENDERS, "ledger_order", slow)
    outbound.deliver(Connection.objects.get(pk=world.ledger.pk))
    assert OutboundMessage.objects.get(kind="ledger_order").state == "waiting"
    monkeypatch.setitem(outbound.SENDERS, "ledger_order", real)
    settle()
    assert OutboundMessage.objects.get(kind="ledger_order").state == "sent"


def test_what_the_ledger_refuses_is_a_snag_until_it_takes_it(world: World) -> None:
    set_rules(world.shop, ledger_order="order")
    # A code that the ledger does not have.
    set_rules(world.ledger, tax_codes='{"23": "GONE"}')
    order = order_of(world)
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    snag = Snag.objects.get(kind="delivery", resolved_at=None)
    assert (snag.title, "There is no tax code GONE" in snag.detail) == ("The ledger did not take a document", True)
    set_rules(world.ledger, tax_codes="{}")
    snags.try_again(SYSTEM, snag.pk)
    settle()
    assert not Snag.objects.filter(resolved_at=None).exists()
    assert level(world) == []


CODES = [
    {"code": "S23", "title": "Standard", "percent": "23"},
    {"code": "R13", "title": "Reduced", "percent": "13.50"},
    {"code": "Z", "title": "Zero", "percent": "0"},
    {"code": "EX", "title": "Exempt", "percent": "0"},
]


def test_lines_carry_the_ledgers_own_tax_codes(world: World) -> None:
    with world.standins.store.transaction():
        account = world.standins.store.get("books", "account", "books") or {}
        world.standins.store.put("books", "account", "books", {**account, "tax_codes": CODES})
    row = actions.test(SYSTEM, world.ledger.pk, timezone.now())
    assert row.test_report["tax_codes"] == [
        ("S23", "23", "Standard"),
        ("R13", "13.50", "Reduced"),
        ("Z", "0", "Zero"),
        ("EX", "0", "Exempt"),
    ]
    row = Connection.objects.get(pk=world.ledger.pk)
    TaxClass.objects.create(name="Zero", percent=D(0))
    words = {one["word"]: one["proposed"] for one in queries.words(row) if one["sort"] == "tax_rates"}
    assert words == {"0": "", "23": "S23"}, "of two codes of one rate neither is taken for granted"
    set_rules(world.shop, ledger_order="order")
    order = order_of(world)
    found = told(world, order.number)
    assert found is not None
    assert {line["tax_code"] for line in found["details"]} == {"S23"}
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    (invoice,) = [d for d in world.standins.store.all("books", "document") if d["kind"] == "invoice"]
    assert {(line["tax_percent"], line["tax_code"]) for line in invoice["details"]} == {("23.00", "S23")}
    assert level(world) == []
    with pytest.raises(BadInputError):
        set_rules(world.ledger, tax_codes='{"23": "' + "X" * 40 + '"}')


@pytest.mark.parametrize("body", [{"kind": "bill", "state": "open"}, {"kind": "quote", "state": "lost"}, {}])
def test_the_ledger_says_no_to_what_is_no_order(world: World, body: dict[str, str]) -> None:
    headers = {"Authorization": "Bearer t"}
    there = f"{world.standins.base}/ledger/books/api/orders/X"
    answer = httpx.put(there, json={**body, "total": "1"}, headers=headers, trust_env=False)
    assert (answer.status_code, "is a quote or an order" in answer.text) == (422, True)


def test_an_invoice_on_account_says_when_it_is_due(world: World) -> None:
    set_rules(world.shop, payment_days=14)
    world.buy({"v1": 1})
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    paid = SalesOrder.objects.get()
    ship(SYSTEM, paid.pk, at=timezone.now())
    assert Invoice.objects.get().due_on is None, "it is paid"
    due = []
    for own in (None, 7):
        take_order(
            SYSTEM,
            incoming(world.shop, order_line(world.small), paid=False, customer={"name": "Fenwick Club", "on_account": True}),
            timezone.now(),
        )
        order = SalesOrder.objects.latest("pk")
        Customer.objects.filter(pk=order.customer_id).update(payment_days=own)
        ship(SYSTEM, order.pk, at=timezone.now())
        invoice = Invoice.objects.latest("pk")
        assert invoice.due_on is not None
        due.append((invoice.due_on - invoice.issued_on).days)
        assert f"Payable by {invoice.due_on:%-d %B %Y}." in printed_text(invoice)
    assert due == [14, 7], "a customer's own terms go before the connection's"
    settle()
    told_due = [d["due"] for d in world.standins.store.all("books", "document") if d["kind"] == "invoice"]
    assert told_due == [
        "",
        *(row.due_on.isoformat() for row in Invoice.objects.exclude(due_on=None).order_by("pk") if row.due_on),
    ]
    assert level(world) == []


def printed_text(invoice: Invoice) -> str:
    """What the printed invoice says."""
    return str(INVOICE.forms["invoice"].facts(invoice.pk)["settled"])


def kept(world: World, sort: str) -> list[dict[str, Any]]:
    """Contacts or items that the ledger keeps."""
    return world.standins.store.all("books", sort)


def invoice_of(world: World, order: SalesOrder) -> dict[str, Any]:
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    found = [d for d in world.standins.store.all("books", "document") if d["kind"] == "invoice"]
    return found[-1]


def test_a_customer_is_a_name_unless_the_rule_says_contact(world: World) -> None:
    booked = invoice_of(world, order_of(world))
    assert (booked["contact"], booked["contact_key"], kept(world, "contact")) == ("Web cash", "", [])
    set_rules(world.shop, ledger_contact="account")
    booked = invoice_of(world, order_of(world))
    assert (booked["contact"], booked["contact_key"]) == ("Web cash", ""), "paid at once, not on account"
    set_rules(world.shop, ledger_contact="all")
    order = order_of(world)
    booked = invoice_of(world, order)
    assert order.customer is not None
    assert (booked["contact"], booked["contact_key"]) == (order.customer.name, f"C{order.customer_id}")
    (contact,) = kept(world, "contact")
    assert (contact["name"], contact["email"], contact["on_account"]) == (order.customer.name, "u@t.example", False)


def test_a_contact_follows_what_is_changed_here(world: World) -> None:
    set_rules(world.shop, ledger_contact="all", ledger_order="order")
    order = order_of(world)
    assert (told(world, order.number) or {})["contact_key"] == f"C{order.customer_id}"
    customer = Customer.objects.get(pk=order.customer_id)
    keep(SYSTEM, customer.pk, customer.version, {"payment_days": 14, "address": {"street": "3 Weir Row", "country": "IE"}})
    settle()
    (contact,) = kept(world, "contact")
    assert (contact["days"], contact["street"], contact["country"]) == (14, "3 Weir Row", "IE")
    assert [(row["key"], row["state"]) for row in ledger_known.standing(customer.pk)] == [(f"C{customer.pk}", "sent")]
    # What an order brought is told with the next thing that names the contact.
    Customer.objects.filter(pk=customer.pk).update(email="new@t.example")
    invoice_of(world, order)
    assert kept(world, "contact")[0]["email"] == "new@t.example"


def test_a_contact_that_the_ledger_does_not_take_says_so_and_is_mended(world: World) -> None:
    set_rules(world.shop, ledger_contact="all")
    order = order_of(world)
    customer = Customer.objects.get(pk=order.customer_id)
    Customer.objects.filter(pk=customer.pk).update(address={"country": "Eire"})
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    snag = Snag.objects.get(resolved_at=None)
    assert snag.title == "The ledger did not take a document"
    assert "It does not take the contact" in snag.detail
    assert "Eire is no country of two letters." in snag.detail
    Customer.objects.filter(pk=customer.pk).update(address={"country": "IE"})
    snags.try_again(SYSTEM, snag.pk)
    settle()
    assert not Snag.objects.filter(resolved_at=None).exists()
    assert invoice_count(world) == 1
    assert level(world) == []


def invoice_count(world: World) -> int:
    return sum(d["kind"] == "invoice" for d in world.standins.store.all("books", "document"))


def test_lines_name_items_that_the_ledger_keeps(world: World) -> None:
    set_rules(world.ledger, ledger_items="sold")
    booked = invoice_of(world, order_of(world))
    small = world.small
    assert [line.get("item") for line in booked["details"] if line["sku"]] == [f"I{small.pk}"]
    assert kept(world, "item") == [
        {"id": f"i-I{small.pk}", "key": f"I{small.pk}", "sku": "SMK-S", "title": small.title, "unit": "pc"}
        | {"changed_at": kept(world, "item")[0]["changed_at"]}
    ]
    # Under another code it stays the same item there; a code that another has is refused by name.
    change_items(SYSTEM, {small.pk: {"sku": "SMK-1", "version": small.version}})
    order = order_of(world, {"v1": 1})
    Connection.objects.update(pause_until=None)
    invoice_of(world, order)
    assert [row["sku"] for row in kept(world, "item")] == ["SMK-1"]


def test_open_orders_are_told_when_the_rule_is_set(world: World) -> None:
    order = order_of(world)
    assert told(world, order.number) is None
    set_rules(world.shop, ledger_order="order")
    settle()
    assert told(world, order.number) is not None


def test_what_is_kept_there_is_told_to_every_ledger_and_what_happened_to_one(world: World) -> None:
    now = timezone.now()
    for kind in ("ledger_contact", "ledger_item"):
        for row in (world.ledger, world.shop):
            OutboundMessage.objects.create(connection=row, kind=kind, subject_id=7, next_try_at=now)
    OutboundMessage.objects.create(connection=world.ledger, kind="ledger", subject_id=7777, next_try_at=now)
    with pytest.raises(IntegrityError), transaction.atomic():
        OutboundMessage.objects.create(connection=world.shop, kind="ledger", subject_id=7777, next_try_at=now)


def test_charges_stand_as_a_service_where_the_rule_says_so(world: World) -> None:
    post = make_item("POST")
    Item.objects.filter(pk=post.pk).update(kind=Item.Kind.SERVICE)
    for wrong, said in (('{"shipping": "SMK-S"}', "no service SMK-S"), ('{"gift": "POST"}', "one of shipping")):
        with pytest.raises(BadInputError, match=said) as refused:
            set_rules(world.shop, charge_items=wrong)
        assert refused.value.field == "charge_items"
    words = [one["word"] for one in queries.words(world.shop) if one["sort"] == "charges"]
    assert words == ["shipping", "discount", "surcharge"]
    set_rules(world.shop, charge_items='{"shipping": "POST", "surcharge": "POST"}')
    set_rules(world.ledger, ledger_items="sold")
    order = order_of(world, {"v1": 1})
    assert {line.kind: (line.sku, line.item_id) for line in order.lines.exclude(kind="item")} == {
        "shipping": ("POST", None), "surcharge": ("POST", None),
    }  # fmt: skip
    ship(SYSTEM, order.pk, at=timezone.now())
    settle()
    document = next(one for one in world.standins.store.all("books", "document") if one["number"] == order.number)
    assert [line.get("item") for line in document["details"] if line["sku"] == "POST"] == [f"I{post.pk}"] * 2
    # Another version of it that says the same of every line is no edit.
    there = world.standins.store.all("web", "order")[0]
    world.standins.store.put("web", "order", there["id"], {**there, "version": there["version"] + 5})
    inbound.poll(Connection.objects.get(pk=world.shop.pk))
    settle()
    order.refresh_from_db()
    assert (order.state, order.external_version) == ("shipped", there["version"] + 5)
    assert not Snag.objects.filter(resolved_at=None).exists()
