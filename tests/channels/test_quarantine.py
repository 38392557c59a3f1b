"""One odd message never stops the others: whatever comes on any feed of any kind, the healthy one behind it comes in
within the same run, and the odd one is applied, held or set aside, and counted."""

from __future__ import annotations

import copy
import json
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from decimal import Decimal as D
from typing import Any

import pytest
from django.db import transaction
from django.utils import timezone
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from tests.depth import drawn
from tests.invariants import assert_invariants
from tests.world import give_inbox, make_company, make_connection, make_item, make_listing, make_supplier
from yuvrel.buying.actions import Wanted, draft, send
from yuvrel.buying.models import PurchaseOrder
from yuvrel.catalogue.models import ItemPrice
from yuvrel.channels import close_intake, inbound, linking, outbound, price_intake, submissions
from yuvrel.channels.models import Connection, Feed, InboundMessage, Listing, OutboundMessage, Snag
from yuvrel.connectors.http import ConnectorError, read_json
from yuvrel.connectors.messages import Submitted
from yuvrel.connectors.registry import KINDS
from yuvrel.people.roles import SYSTEM
from yuvrel.sales.models import SalesOrder, TillCount
from yuvrel.server import today

pytestmark = pytest.mark.django_db

# What has stopped a queue somewhere, and what JSON allows besides.
ODD: list[Any] = [
    None, True, False, 0, -1, 1.5, [], {}, "", " ", [None], {"a": None}, "x" * 300, "x" * 100_000, "\0", "a\x07b", "\uffff", "\ud83d",
    "‮", "1,5", "NaN", "Infinity", "1e30", "1e400", "-1e400", "1e-400", "0.0004", "99999999999", "-0", "12abc", "0x10", " 1 ", "١٢",
    "0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z", "2026-02-30T00:00:00Z", "2026-03-14", "2026-12-31Z", "yesterday", "ZZZ", "XAU",
    10**40, 2**63, 2**31, -(2**63), 1e17, "=1+1", "<b>", "'; --", "../..", "order:1:2",
]  # fmt: skip


def paths(value: Any, before: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Every place in a payload, the whole of it first."""
    yield before
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, one in inner:
        yield from paths(one, (*before, key))


def nested(levels: int) -> Any:
    """A list in a list in a list."""
    found: Any = "deep"
    for _ in range(levels):
        found = [found]
    return found


def mutations(valid: Any) -> st.SearchStrategy[Any]:
    """The payload with one or two things about it changed: replaced, taken away, doubled, wrapped, nested."""
    places = list(paths(valid))
    change = st.tuples(
        st.sampled_from(places),
        st.sampled_from(["replace", "drop", "double", "wrap", "nest"]),
        st.one_of(st.sampled_from(ODD), st.text(max_size=20), st.floats(allow_nan=False, allow_infinity=False), st.integers()),
    )
    return st.lists(change, min_size=1, max_size=2).map(lambda changes: _changed(valid, changes))


def _changed(valid: Any, changes: list[tuple[tuple[Any, ...], str, Any]]) -> Any:
    found = [copy.deepcopy(valid)]
    for place, how, odd in changes:
        *way, last = (0, *place)
        holder: Any = found
        try:
            for key in way:
                holder = holder[key]
            was = holder[last]
        except (KeyError, IndexError, TypeError):
            continue  # an earlier change took the place away
        if how == "drop":
            if holder is found:
                continue
            del holder[last]
        else:
            new = {"replace": odd, "double": [was, was], "wrap": {"value": was}, "nest": nested(900)}[how]
            holder[last] = new
    return found[0]


def on_the_wire(value: Any) -> Any:
    """As it arrives: written as JSON and read by our own reader."""
    return read_json(json.dumps(value).encode("utf-8", "surrogatepass"))


@contextmanager
def undone() -> Iterator[None]:
    """Nothing of an example is left for the next."""
    with transaction.atomic():
        yield
        transaction.set_rollback(True)


def many(valid: Any, test: Callable[[Any], None], examples: int = drawn(120, 24)) -> None:
    """Run a test on so many mutations, the same each time."""

    @settings(
        max_examples=examples,
        database=None,
        derandomize=True,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(mutations(valid))
    def attempt(odd: Any) -> None:
        with undone():
            test(odd)

    attempt()


NOW = timezone.now().isoformat()
ORDER = {
    "id": "odd", "number": "1001", "version": 3, "status": "paid", "created_at": NOW, "updated_at": NOW, "currency": "EUR",
    "customer": {"name": "Una", "email": "u@t.example", "on_account": False},
    "ship_to": {"street": "1 Lane", "city": "Cork", "country": "IE"},
    "lines": [{"id": "l1", "variant_id": "v1", "sku": "A", "title": "Thing", "quantity": 2, "amount": "24.60", "tax_percent": "23"}],
    "discounts": [{"id": "d1", "title": "Coupon", "amount": "1.00", "tax_percent": "23"}],
    "surcharges": [], "shipping_lines": [{"id": "p1", "title": "Postage", "amount": "5.00", "tax_percent": "23"}], "total": "28.60",
}  # fmt: skip
RECEIPT = {
    "id": "odd", "number": "00012", "sold_at": NOW, "uploaded_at": NOW, "currency": "EUR", "tender": "cash", "total": "12.30",
    "rows": [{"pos": 1, "plu": "v1", "code": "A", "label": "Thing", "count": 1, "sum": "12.30", "vat": "23"}],
}  # fmt: skip
CLOSE = {
    "id": "odd", "number": "Z0001", "closed_at": NOW, "updated_at": NOW, "currency": "EUR", "outlet": "",
    "tenders": [{"tender": "cash", "float": "100.00", "counted": "147.20"}],
}  # fmt: skip
PRODUCT = {
    "id": "p1", "title": "Smoker", "category": "Tools", "tax_percent": "23", "text": "<p>Draws well.</p>", "maker": "Stavrin",
    "labels": ["kit"], "details": {"Steel": "304"}, "state": "live",
    "variants": [{"id": "odd", "sku": "S-1", "barcode": "2100000000012", "price": "24.60", "quantity": 3, "options": {"Size": "small"}}],
}  # fmt: skip
ARTICLE = {
    "id": "1",
    "plu": "odd",
    "code": "S-1",
    "ean": "",
    "label": "Smoker",
    "price": "24.60",
    "group": "x",
    "vat": "23",
    "stock": "1",
}
MARKET_ORDER = {
    "order": "odd", "revision": 3, "state": "to_ship", "placed_at": NOW, "updated_at": NOW, "currency": "EUR", "buyer": "Una",
    "address": {"street": "1 Lane", "city": "Cork", "country": "IE"}, "total": "29.60", "fee": "2.95",
    "positions": [{"position": "1", "offer": "v1", "seller_code": "A", "title": "Thing", "count": 2, "amount": "24.60", "tax": "23"}],
    "postage": [{"amount": "5.00", "tax": "23"}],
}  # fmt: skip
OFFER = {
    "offer": "odd", "family": "f", "seller_code": "S-1", "barcode": "2100000000012", "title": "Smoker", "category": "smokers",
    "variation": {"Size": "small"}, "price": "24.60", "quantity": 3, "kept_by": "seller",
    "description": "Draws well.", "attributes": {"finish": "matt"}, "standing": "on_sale",
}  # fmt: skip
ANSWER = """<OrderResponse xmlns="urn:oasis:names:specification:ubl:schema:xsd:OrderResponse-2"
 xmlns:cac="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
 xmlns:cbc="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2">
 <cbc:ID>OR-1</cbc:ID><cbc:OrderResponseCode>{code}</cbc:OrderResponseCode>
 <cac:OrderReference><cbc:ID>{number}</cbc:ID></cac:OrderReference>
 <cac:Delivery><cac:PromisedDeliveryPeriod><cbc:EndDate>{day}</cbc:EndDate></cac:PromisedDeliveryPeriod></cac:Delivery>
 <cac:OrderLine><cac:LineItem><cbc:ID>1</cbc:ID><cbc:Quantity>{quantity}</cbc:Quantity>
 <cac:Item><cac:BuyersItemIdentification><cbc:ID>{sku}</cbc:ID></cac:BuyersItemIdentification></cac:Item></cac:LineItem></cac:OrderLine>
</OrderResponse>"""


def page_of(monkeypatch: pytest.MonkeyPatch, path: str, answer: Callable[[], Any]) -> None:
    """The account answers one path with what the test says; nothing goes over the network."""

    def call(self: Any, method: str, asked: str, **options: Any) -> Any:
        assert asked == path, asked
        return on_the_wire(answer())

    monkeypatch.setattr("yuvrel.connectors.http.Caller.call", call)


def accounted_for(connection: Connection, before: int) -> None:
    """The odd one and the healthy one were kept; what was not applied or left aside by a rule waits as a snag."""
    rows = InboundMessage.objects.filter(connection=connection)
    assert rows.count() - before in (1, 2), "a healthy one and, unless it is the same, an odd one"
    assert not rows.filter(state="new").exists()
    for row in rows.filter(state="snagged"):
        assert Snag.objects.filter(inbound=row, resolved_at=None).exists(), row.body


@pytest.fixture
def shop(db: None) -> Connection:
    make_company()
    row = make_connection()
    make_listing(row, make_item("A", on_hand=50), external_id="v1")
    return row


@pytest.fixture
def market(db: None) -> Connection:
    make_company()
    row = make_connection("market", account={"region": "ie"})
    make_listing(row, make_item("A", on_hand=50), external_id="v1")
    return row


@pytest.fixture
def till(db: None) -> Connection:
    make_company()
    row = make_connection("till")
    make_listing(row, make_item("A", on_hand=50), external_id="v1")
    return row


def healthy(valid: dict[str, Any]) -> dict[str, Any]:
    """The one behind."""
    return {**copy.deepcopy(valid), "id": "healthy", "number": "2002"}


def test_orders_of_a_shop(shop: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    became: Counter[str] = Counter()

    def one(odd: Any) -> None:
        page_of(monkeypatch, "/api/orders", lambda: {"orders": [odd, healthy(ORDER)], "next": None})
        inbound.poll(shop)
        assert SalesOrder.objects.get(external_id="healthy").state == "ready"
        accounted_for(shop, 0)
        assert_invariants()
        look()
        became.update(InboundMessage.objects.exclude(body__contains={"external_id": "healthy"}).values_list("state", flat=True))
        became.update(
            f"order {state}" for state in SalesOrder.objects.exclude(external_id="healthy").values_list("state", flat=True)
        )

    many(ORDER, one, drawn(240, 90))
    # Odd enough to be set aside, odd enough to be held, and not too odd to be taken in.
    assert min(became[what] for what in ("snagged", "applied", "order held", "order ready")) >= 3, became


def test_sales_of_a_till(till: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    def one(odd: Any) -> None:
        page_of(monkeypatch, "/api/receipts", lambda: {"receipts": [odd, healthy(RECEIPT)], "after": None})
        inbound.poll(till)
        assert SalesOrder.objects.get(external_id="healthy").state == "closed"
        accounted_for(till, 0)
        assert_invariants()
        look()

    many(RECEIPT, one)


def test_orders_of_a_marketplace(market: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    def one(odd: Any) -> None:
        behind = {**copy.deepcopy(MARKET_ORDER), "order": "healthy"}
        page_of(monkeypatch, "/api/regions/ie/orders", lambda: {"orders": [odd, behind], "after": None})
        inbound.poll(market)
        assert SalesOrder.objects.get(external_id="healthy").state == "ready"
        accounted_for(market, 0)
        assert_invariants()
        look()

    many(MARKET_ORDER, one)


def test_results_of_a_batch(market: Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever an account says of a batch: every line has an end, and a line it says nothing sound of was not taken."""
    valid = {"status": "done", "after": None, "lines": [{"offer": "v1", "taken": True, "reason": ""}]}

    def one(odd: Any) -> None:
        listing = market.listings.get(external_id="v1")  # type: ignore[attr-defined]
        handed = submissions.Handed(listing.pk, {"quantity": "3", "terms": {}}, timezone.now())
        row = submissions.remember(market, "quantities", Submitted(key="b"), [handed])
        told = {"/api/regions/ie/batches/b": odd, "/api/regions/ie/shown": {"offers": [{"offer": "v1", "quantity": 3}]}}
        monkeypatch.setattr("yuvrel.connectors.http.Caller.call", lambda self, method, asked, **options: on_the_wire(told[asked]))
        with suppress(ConnectorError):
            submissions.collect(market)
        row.refresh_from_db()
        assert row.state == "waiting" or row.lines.get().taken is not None  # type: ignore[attr-defined]

    many(valid, one, drawn(180, 30))


def look() -> None:
    """What everybody opens first is there, whatever came in."""
    assert today.morning()["orders"] >= 0


def test_webhooks_of_a_shop(shop: Connection) -> None:
    def one(odd: Any) -> None:
        for body in (odd, healthy(ORDER)):
            kept = inbound.take_event(shop, {"type": "order.created", "data": on_the_wire(body)})
            if kept and kept.state == "new":
                inbound.apply(kept.pk)
        assert SalesOrder.objects.get(external_id="healthy").state == "ready"
        accounted_for(shop, 0)

    many(ORDER, one, drawn(180, 30))


@pytest.mark.parametrize(
    ("kind", "path", "valid"),
    [("web_shop", "/api/products", PRODUCT), ("till", "/api/articles", ARTICLE), ("market", "/api/regions//offers", OFFER)],
)
def test_listings(db: None, monkeypatch: pytest.MonkeyPatch, kind: str, path: str, valid: dict[str, Any]) -> None:
    make_company()
    row = make_connection(kind)
    behind = copy.deepcopy(valid)
    (behind["variants"][0] if kind == "web_shop" else behind)[{"web_shop": "id", "till": "plu", "market": "offer"}[kind]] = (
        "healthy"
    )

    def one(odd: Any) -> None:
        name = path.rpartition("/")[2]
        page_of(monkeypatch, path, lambda: {name: [odd, behind], "next": None, "after": None})
        run = linking.take_listings(SYSTEM, row.pk, timezone.now(), create=True)
        assert run.state == "done"
        assert Listing.objects.get(external_id="healthy").title.startswith("Smoker")
        unread = Snag.objects.filter(kind="listings", resolved_at=None).count()
        assert Listing.objects.count() + unread >= 1

    many(valid, one)


def test_closes_of_a_till(db: None, monkeypatch: pytest.MonkeyPatch) -> None:
    make_company()
    row = make_connection("till")

    def one(odd: Any) -> None:
        page_of(monkeypatch, "/api/closes", lambda: {"closes": [odd, {**CLOSE, "id": "healthy"}], "after": None})
        close_intake.take_closes(row, timezone.now())
        assert TillCount.objects.get(external_id="healthy").lines.get().counted == D("147.20")
        told = Snag.objects.filter(kind="till count", resolved_at=None).exists()
        assert TillCount.objects.count() == 2 or told or key_of(odd) == "healthy"
        assert_invariants()

    many(CLOSE, one, drawn(180, 30))


def key_of(odd: Any) -> Any:
    return odd.get("id") if isinstance(odd, dict) else None


def test_answers_of_a_supplier(db: None, monkeypatch: pytest.MonkeyPatch) -> None:
    place = make_company()
    item = make_item("A")
    supplier = make_supplier(item)
    give_inbox(supplier, make_connection("supplier", watermark="0"))
    orders = []
    for _ in range(2):
        (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(5))], timezone.now())
        orders.append(send(SYSTEM, order.pk, order.version, timezone.now()))
    facts = {"code": "AP", "day": "2027-04-01", "quantity": "5", "sku": "A"}
    good = [{"seq": n, "document": ANSWER.format(**facts, number=order.number)} for n, order in enumerate(orders, 1)]

    def one(odd: Any) -> None:
        page_of(monkeypatch, "/api/answers", lambda: {"answers": [odd, good[1]]})
        outbound.read_answers(Connection.objects.get(pk=supplier.inbox_id), timezone.now())
        assert PurchaseOrder.objects.get(pk=orders[1].pk).state == "acknowledged"
        assert Feed.objects.get(connection=supplier.inbox_id).watermark == "2"
        noted = PurchaseOrder.objects.get(pk=orders[0].pk).acknowledged_at is not None
        assert noted or Snag.objects.filter(kind="answer", resolved_at=None).exists() or odd == good[1]

    many(good[0], one, drawn(180, 30))
    for field, values in {
        "day": ["31.12.2026", "2026-02-30", "soon", "0001-01-01", "2200-01-01"],
        "quantity": ["1,5", "abc", "NaN", "1e30", "-5", "0.0004", "99999999999"],
        "code": ["ZZ", "", "ap"],
        "number": ["", "PO-\u0007"],
    }.items():
        for value in values:
            document = ANSWER.format(**{**facts, "number": orders[0].number, field: value})
            with undone():
                one({"seq": 1, "document": document})
                assert Snag.objects.filter(kind="answer", resolved_at=None).exists(), (field, value)
    for day in ("2026-12-31Z", "2026-12-31+01:00"):
        with undone():
            one({"seq": 1, "document": ANSWER.format(**{**facts, "number": orders[0].number, "day": day})})
            assert str(PurchaseOrder.objects.get(pk=orders[0].pk).expected_on) == "2026-12-31"


def test_prices_changed_at_a_till(db: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """However odd a changed price is, the one behind it is taken in within the same run."""
    make_company()
    items = [make_item(sku) for sku in ("A", "B")]
    till = make_connection("till", price_owner="there")
    for plu, item in zip("12", items, strict=True):
        make_listing(till, item, external_id=plu)
    change = {"plu": "1", "price": "12.00", "changed_at": NOW}

    def one(odd: Any) -> None:
        rows = [on_the_wire(odd), {"plu": "2", "price": "13.00", "changed_at": NOW}]
        page_of(monkeypatch, "/api/price-changes", lambda: {"changes": rows, "after": None})
        price_intake.take_changes(Connection.objects.get(pk=till.pk), timezone.now())
        first, second = ItemPrice.objects.order_by("item__sku").values_list("amount", flat=True)
        assert second == 13
        set_aside = Snag.objects.filter(kind="price there", resolved_at=None).count()
        known = isinstance(odd, dict) and str(odd.get("plu")).strip() == "1"
        assert set_aside or not known or first == D(str(odd["price"]))

    one(change)
    many(change, one)


def test_one_delivery_that_cannot_be_made_stops_no_other(db: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """A supplier's number with a character that XML cannot carry was kept before there was a door."""
    place = make_company()
    item = make_item("A")
    supplier = make_supplier(item)
    give_inbox(supplier, make_connection("supplier", watermark="0"))
    for code in ("bad \x07 code", "fine"):
        supplier.items.update(code=code)
        (order,) = draft(SYSTEM, [Wanted(item.pk, place.pk, D(5))], timezone.now())
        send(SYSTEM, order.pk, order.version, timezone.now())
    outbound.queue_purchase_orders(PurchaseOrder.objects.values_list("pk", flat=True))
    monkeypatch.setattr("yuvrel.connectors.http.Caller.call", lambda *args, **options: {"receipt": "r"})
    assert outbound.deliver(Connection.objects.get(pk=supplier.inbox_id)) == 1
    assert sorted(OutboundMessage.objects.values_list("state", flat=True)) == ["sent", "snagged"]
    snag = Snag.objects.get(resolved_at=None)
    assert "U+0007" in snag.detail


def test_an_error_nobody_foresaw_sets_one_order_aside(shop: Connection, monkeypatch: pytest.MonkeyPatch, caplog: Any) -> None:
    real = inbound.take_order

    def fail(actor: Any, incoming: Any, at: Any) -> Any:
        if incoming.external_id == "odd":
            raise ZeroDivisionError("nobody foresaw this")
        return real(actor, incoming, at)

    monkeypatch.setattr(inbound, "take_order", fail)
    page_of(monkeypatch, "/api/orders", lambda: {"orders": [ORDER, healthy(ORDER)], "next": None})
    assert inbound.poll(shop) == 2
    assert SalesOrder.objects.get().external_id == "healthy"
    snag = Snag.objects.get()
    assert "ZeroDivisionError" in snag.detail
    assert snag.inbound and snag.inbound.body["external_id"] == "odd"
    assert "nobody foresaw this" in caplog.text, "logged with its trace"
    monkeypatch.setattr(inbound, "take_order", real)
    assert inbound.try_again(snag.inbound) == "applied"


def test_every_feed_of_every_kind_is_tried_here() -> None:
    """A kind that reads something new needs its odd input tried as well."""
    feeds = {(kind, name) for kind, c in KINDS.items() for name in vars(c) if name.startswith(("read_", "order_in"))}
    # Figures read back: what is missing is a drift.
    feeds -= {(kind, name) for kind in KINDS for name in ("read_quantities", "read_shown", "read_prices", "read_group_prices")}
    assert feeds == {
        ("web_shop", "read_listing"), ("web_shop", "read_order"), ("web_shop", "order_in"),
        ("market", "read_listing"), ("market", "read_order"), ("market", "read_feed"),
        ("till", "read_listing"), ("till", "read_order"), ("till", "read_price"), ("till", "read_close"),
        ("supplier", "read_answer"),
    }  # fmt: skip
