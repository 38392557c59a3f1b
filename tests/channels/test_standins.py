"""The stand-ins behave as real services do: what they refuse, what they do once, the documents they write."""

from __future__ import annotations

import threading
from datetime import date
from typing import Any

import httpx
import pytest
from flask import Flask
from lxml import etree
from werkzeug.serving import make_server

from standins.faults import broken_off
from tests.channels.conftest import Standins
from tests.ubl import ubl_schema
from yuvrel.connectors.sign_in import SIGNED
from yuvrel.connectors.ubl import OrderDocument, OrderedLine, Party, build_order, read_order_response

ORDER = OrderDocument(
    number="PO-7",
    issued_on="2027-03-14",
    currency="EUR",
    buyer=Party(name="Larkmead <&>"),
    seller=Party(name="Joinery"),
    deliver_to=Party(name="Tannery Yard", street="Yard"),
    expected_on="2027-04-01",
    lines=[OrderedLine(id="1", sku="SMK-S", title="Smoker & co", quantity="12", price="7.5", gtin="02100000000012")],
)  # type: ignore[arg-type]


def client(standins: Standins, path: str, token: str = "t") -> httpx.Client:
    """Somebody with a token."""
    return httpx.Client(base_url=f"{standins.base}/{path}", headers={"Authorization": f"Bearer {token}"})


def signing(standins: Standins, path: str) -> httpx.Client:
    """A client whose calls are signed."""
    address = f"{standins.base}/{path}"
    return httpx.Client(base_url=address, auth=SIGNED.signer(address, {"key": "us", "secret": "s"}))


def test_tokens_and_scopes(standins: Standins) -> None:
    with client(standins, "shop/web", "nope") as shop:
        assert shop.get("/api/whoami").status_code == 401
    with client(standins, "shop/web", "weak") as shop:
        assert shop.get("/api/products").status_code == 200
        assert shop.post("/api/quantities", json={"lines": []}).status_code == 403
    with client(standins, "shop/nowhere") as shop:
        assert shop.get("/api/whoami").status_code == 404


def test_the_shop_answers_line_by_line(standins: Standins) -> None:
    lines = [
        {"id": "v1", "quantity": 4},
        {"id": "zz", "quantity": 4},
        {"id": "v2", "quantity": -1},
        {"id": "v3", "quantity": "4"},
    ]
    with client(standins, "shop/web") as shop:
        results = shop.post("/api/quantities", json={"lines": lines}).json()["results"]
        assert [r["ok"] for r in results] == [True, False, False, False]
        shown = shop.get("/api/quantities", params={"ids": "v1,v2"}).json()["quantities"]
        assert [q["quantity"] for q in shown] == [4, 0]


def test_the_shop_pages_its_products(standins: Standins) -> None:
    seen: list[str] = []
    cursor = ""
    with client(standins, "shop/web") as shop:
        while True:
            page = shop.get("/api/products", params={"cursor": cursor, "limit": 2}).json()
            seen += [p["id"] for p in page["products"]]
            cursor = page["next"]
            if not cursor:
                break
    assert seen == ["p1", "p2", "p3"]


def test_the_shop_sells_no_more_than_it_shows(standins: Standins) -> None:
    with client(standins, "shop/web") as shop:
        shop.post("/api/quantities", json={"lines": [{"id": "v1", "quantity": 2}]})
        form = {"name": "Una", "q-v1": "3"}
        assert "Only+2" in shop.post("/buy", data=form).headers["Location"].replace("%20", "+").replace(" ", "+")
        shop.post("/buy", data={**form, "q-v1": "2"})
        assert shop.get("/api/quantities", params={"ids": "v1"}).json()["quantities"][0]["quantity"] == 0
        assert "not sold here" in shop.post("/buy", data={"name": "Una", "q-zz": "1"}).headers["Location"].replace(
            "+", " "
        ).replace("%20", " ")


def test_a_shipment_with_one_key_is_one_shipment(standins: Standins) -> None:
    with client(standins, "shop/web") as shop:
        shop.post("/api/quantities", json={"lines": [{"id": "v1", "quantity": 2}]})
        shop.post("/buy", data={"name": "Una", "q-v1": "1"})
        order = shop.get("/api/orders").json()["orders"][0]
        path = f"/api/orders/{order['id']}/shipments"
        answers = [
            shop.post(path, json={"carrier": "P", "complete": True}, headers={"Idempotency-Key": "k"}).json() for _ in range(3)
        ]
        assert len({a["id"] for a in answers}) == 1
        assert len(shop.get("/api/orders").json()["orders"][0]["shipments"]) == 1
        assert shop.post("/api/orders/none/shipments", json={}).status_code == 404


def _book(ledger: httpx.Client, **change: Any) -> httpx.Response:
    postings = [{"account": "1300", "amount": "5.00"}, {"account": "5400", "amount": "-5.00"}]
    return ledger.post("/api/documents", json={"number": "D1", "date": "2027-03-14", "postings": postings} | change)


def test_the_ledger_books_a_number_once(standins: Standins) -> None:
    other = [{"account": "1300", "amount": "6.00"}, {"account": "5400", "amount": "-6.00"}]
    with client(standins, "ledger/books") as ledger:
        assert [_book(ledger).status_code for _ in range(2)] == [200, 200]
        assert _book(ledger, postings=other).status_code == 409
        assert len(ledger.get("/api/documents").json()["documents"]) == 1
        balances = {(b["period"], b["account"]): b["amount"] for b in ledger.get("/api/balances").json()["balances"]}
        assert balances == {("2027-03", "1300"): "5.00", ("2027-03", "5400"): "-5.00"}


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"postings": [{"account": "1300", "amount": "5.00"}]}, "out of balance"),
        ({"postings": []}, "out of balance"),
        ({"postings": [{"account": "9999", "amount": "5.00"}, {"account": "1300", "amount": "-5.00"}]}, "no account 9999"),
        ({"postings": [{"account": "1300", "amount": "NaN"}]}, "not a number"),
        ({"number": ""}, "needs a number"),
        ({"date": "soon"}, "needs a number and a date"),
    ],
)
def test_the_ledger_refuses_what_is_not_a_document(standins: Standins, change: dict[str, Any], said: str) -> None:
    with client(standins, "ledger/books") as ledger:
        answer = _book(ledger, **change)
        assert answer.status_code == 422
        assert said in answer.json()["detail"]
        assert ledger.get("/api/documents").json()["documents"] == []


def test_the_till_keeps_receipts_until_they_are_uploaded(standins: Standins) -> None:
    with client(standins, "till/mill") as till:
        till.post("/sell", data={"q-1": "2", "q-3": "1"})
        assert till.get("/api/receipts").json()["receipts"] == []
        till.post("/upload")
        (receipt,) = till.get("/api/receipts").json()["receipts"]
        assert (receipt["total"], len(receipt["rows"])) == ("73.80", 2)
        assert till.put("/api/stock", json={"stock": {"1": "7", "99": "1"}}).json() == {"refused": {"99": "no such article"}}


def test_the_suppliers_answer_is_valid_against_the_oasis_schema(standins: Standins) -> None:
    """OASIS UBL 2.1 (2013), maindoc/UBL-OrderResponse-2.1.xsd."""
    with signing(standins, "supplier/joinery") as supplier:
        for _ in range(2):
            taken = supplier.post("/api/orders", content=build_order(ORDER))
            assert taken.json() == {"receipt": "in-PO-7"}
        (answer,) = supplier.get("/api/answers").json()["answers"]
        document = etree.fromstring(answer["document"].encode())
        schema = ubl_schema("OrderResponse")
        assert schema.validate(document), schema.error_log
        read = read_order_response(answer["document"].encode())
        assert (read.order_number, read.accepted, read.expected_on) == ("PO-7", True, date(2027, 4, 1))
        assert {k: str(v) for k, v in read.lines.items()} == {"SMK-S": "12"}
        assert supplier.post("/api/orders", content=b"<Order").status_code == 422
        assert supplier.post("/api/orders", content=b"<Invoice/>").status_code == 422


def test_a_supplier_may_change_or_refuse_by_hand(standins: Standins) -> None:
    with signing(standins, "supplier/joinery") as supplier:
        supplier.post("/mode", data={})
        supplier.post("/api/orders", content=build_order(ORDER))
        assert supplier.get("/api/answers").json()["answers"] == []
        supplier.post(
            "/answer", data={"number": "PO-7", "q-SMK-S": "8", "due": "2027-05-01", "note": "oak is late", "what": "accept"}
        )
        read = read_order_response(supplier.get("/api/answers").json()["answers"][0]["document"].encode())
        assert (read.accepted, read.note, read.expected_on, str(read.lines["SMK-S"])) == (
            True,
            "oak is late",
            date(2027, 5, 1),
            "8",
        )


def test_the_switchboard_draws_from_its_seed(standins: Standins) -> None:
    """Half of the calls fail, and the same half each time the same seed is set."""

    def run() -> list[int]:
        httpx.post(f"{standins.base}/switchboard/web", json={"on": {"busy": 0.5}, "seed": 7})
        with client(standins, "shop/web") as shop:
            return [shop.get("/api/whoami").status_code for _ in range(24)]

    first = run()
    assert first == run()
    assert 4 < first.count(429) < 20
    assert httpx.post(f"{standins.base}/switchboard/web", json={"on": {"gremlins": 1}}).status_code == 422
    assert httpx.post(f"{standins.base}/switchboard/none", json={"on": {}}).status_code == 404


@pytest.mark.parametrize("path", ["", "shop/web/", "shop/web/office", "till/mill/", "ledger/books/", "supplier/joinery/"])
def test_every_page_opens(standins: Standins, path: str) -> None:
    assert httpx.get(f"{standins.base}/{path}").status_code == 200


def test_an_answer_breaks_off_though_nobody_reads_what_was_sent() -> None:
    """Neither side waits for the other: the caller is told of the break, not that its patience is over."""
    app = Flask("breaks")
    app.add_url_rule("/", view_func=broken_off, methods=["POST"])
    server = make_server("127.0.0.1", 0, app, threaded=True)
    thread = threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True)
    thread.start()
    try:
        with pytest.raises(httpx.RemoteProtocolError):
            httpx.post(f"http://127.0.0.1:{server.server_port}/", content=b"x" * 200_000, timeout=10, trust_env=False)
    finally:
        server.shutdown()
        thread.join()
        server.server_close()
