"""The stand-ins in a thread of their own, reached over real HTTP, with an empty store each time."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pytest
from werkzeug.serving import make_server

from standins import faults, hooks
from standins.app import create_app
from standins.store import Store

SHOP_SCOPES = ["products:read", "stock:write", "prices:write", "orders:read", "shipments:write", "webhooks:write"]
CHART = [
    "1000",
    "1100",
    "1150",
    "1300",
    "1310",
    "1450",
    "2000",
    "2050",
    "2100",
    "2200",
    "3000",
    "4000",
    "4100",
    "4150",
    "4300",
    "4400",
    "5000",
    "5200",
    "5250",
    "5400",
    "5410",
    "5420",
    "5430",
]


def _variant(key: str, sku: str, quantity: int = 0, barcode: str = "", **options: str) -> dict[str, Any]:
    return {
        "id": key,
        "sku": sku,
        "barcode": barcode,
        "price": "24.60",
        "quantity": quantity,
        "options": options,
        "tracked": True,
    }


def _offer(key: str, code: str, barcode: str, title: str) -> dict[str, Any]:
    more = {"family": "", "variation": {}, "category": "smokers", "price": "24.60", "quantity": 0, "kept_by": "seller"}
    return {"id": key, "offer": key, "seller_code": code, "barcode": barcode, "title": title, **more}


CATEGORIES = [
    {"id": "tools", "title": "Tools", "attributes": []},
    {
        "id": "gloves",
        "title": "Gloves",
        "attributes": [
            {"name": "material", "label": "Material", "required": True, "values": ["goatskin", "nitrile"]},
            {"name": "care", "label": "Care", "required": False, "values": []},
        ],
    },
]


PLACES = [{"key": "depot", "title": "Depot"}, {"key": "lane", "title": "Shop in the lane"}]
GROUPS = [{"key": "club", "title": "Clubs"}, {"key": "staff", "title": "Staff"}]


def setup() -> dict[str, dict[str, Any]]:
    """One shop, a second shop, a marketplace, a till, a ledger and a supplier."""
    products = [
        {
            "id": "p1",
            "title": "Smoker",
            "category": "Tools",
            "tax_percent": "23",
            "variants": [
                _variant("v1", "SMK-S", 0, "2100000000012", Size="small"),
                _variant("v2", "SMK-L", 0, "2100000000029", Size="large"),
            ],
        },
        {
            "id": "p2",
            "title": "Gloves",
            "category": "Clothing",
            "tax_percent": "23",
            "variants": [_variant("v3", "GLV-9", 0, "2100000000036")],
        },
        {"id": "p3", "title": "No code", "category": "Odd", "tax_percent": "23", "variants": [_variant("v4", "")]},
    ]
    articles = [
        {
            "id": "1",
            "plu": "1",
            "code": "smk-s ",
            "ean": "",
            "label": "Smoker s",
            "price": "24.60",
            "group": "",
            "vat": "23",
            "stock": "0",
        },
        {
            "id": "2",
            "plu": "2",
            "code": "",
            "ean": "2100000000029",
            "label": "Big smoker",
            "price": "24.60",
            "group": "",
            "vat": "23",
            "stock": "0",
        },
        {
            "id": "3",
            "plu": "3",
            "code": "",
            "ean": "",
            "label": "Gloves size 9",
            "price": "24.60",
            "group": "",
            "vat": "23",
            "stock": "0",
        },
        {
            "id": "4",
            "plu": "4",
            "code": "SMK-S",
            "ean": "2100000000029",
            "label": "Smoker?",
            "price": "24.60",
            "group": "",
            "vat": "23",
            "stock": "0",
        },
    ]
    till = ["articles:read", "articles:write", "sales:read"]
    return {
        "web": {
            "account": {
                "id": "web",
                "sort": "shop",
                "name": "Web",
                "groups": GROUPS,
                "tokens": {"t": SHOP_SCOPES, "weak": ["products:read"]},
            },
            "product": products,
        },
        "trade": {
            "account": {"id": "trade", "sort": "shop", "name": "Trade", "tokens": {"t": SHOP_SCOPES}, "places": PLACES},
            "product": products,
        },
        "mill": {"account": {"id": "mill", "sort": "till", "name": "Mill Lane", "tokens": {"t": till}}, "article": articles},
        "chain": {
            "account": {
                "id": "chain",
                "sort": "till",
                "name": "Chain",
                "tokens": {"t": till},
                "outlets": [{"key": "yard", "title": "Yard"}, {"key": "lane", "title": "Lane"}],
            },
            "article": articles,
        },
        "hedge": {
            "account": {
                "id": "hedge",
                "sort": "market",
                "name": "Hedge",
                "regions": ["ie", "fr"],
                "batch_seconds": 0,
                "clients": {"us": {"secret": "s", "scopes": ["offers", "orders"]}},
            },
            "offer-ie": [
                _offer("o1", "smk-s ", "", "Smoker small"),
                _offer("o2", "", "2100000000029", "Smoker large"),
                _offer("o3", "", "", "Smoker, some size"),
                _offer("o4", "", "2100000000012", "Smoker small, sent by Hedge") | {"kept_by": "market", "quantity": 6},
            ],
            "offer-fr": [_offer("f1", "SMK-S", "", "Enfumoir")],
            "category-ie": CATEGORIES,
            "category-fr": CATEGORIES[:1],
            "entry": [{"id": "2100000000043", "entry": "E-1"}],
        },
        "books": {
            "account": {
                "id": "books",
                "sort": "ledger",
                "name": "Books",
                "locked": [],
                "chart": [{"code": c, "name": c} for c in CHART],
                "tokens": {"t": ["accounts.read", "documents.write", "balances.read"]},
            }
        },
        "ledger-b": {
            "account": {
                "id": "ledger-b",
                "sort": "ledger",
                "name": "Books of another",
                "locked": [],
                "chart": [{"code": c, "name": c} for c in CHART],
                "tokens": {"t": ["accounts.read", "documents.write", "balances.read"]},
            }
        },
        "joinery": {
            "account": {
                "id": "joinery",
                "sort": "supplier",
                "name": "Joinery",
                "answers_by_itself": True,
                "keys": {"us": {"secret": "s", "scopes": ["orders:send", "answers:read"]}},
            }
        },
    }


@dataclass
class Standins:
    """Where they answer, and their store for looking inside."""

    base: str
    store: Store

    def kept(self) -> list[Any]:
        """Every document as it is stored."""
        return list(self.store._db.execute("SELECT * FROM doc"))

    def put_back(self, documents: list[Any]) -> None:
        """Hold these documents and no others; nothing is on its way, and no call was counted."""
        hooks._waiting.clear()
        faults._buckets.clear()
        with self.store.transaction():
            self.store._db.execute("DELETE FROM doc")
            self.store._db.executemany("INSERT INTO doc VALUES (?, ?, ?, ?, ?, ?)", documents)
        self.store._indexes.clear()

    def faults(self, account: str, **on: float) -> None:
        """Switch faults on; none switches all off."""
        with self.store.transaction():
            faults.switch(self.store, account, on)


@pytest.fixture(scope="session")
def _serving(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Standins, list[Any]]]:
    """The stand-ins' server of this process, and all that they hold when nothing has happened yet."""
    app = create_app(str(tmp_path_factory.mktemp("standins") / "standins.sqlite"), setup())
    server = make_server("127.0.0.1", 0, app, threaded=True)
    # Between two requests it looks this often whether it shall end.
    thread = threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True)
    thread.start()
    found = Standins(f"http://127.0.0.1:{server.server_port}", app.config["STORE"])
    yield found, found.kept()
    server.shutdown()
    thread.join()


@pytest.fixture
def standins(_serving: tuple[Standins, list[Any]]) -> Standins:
    """Fresh stand-ins on a free port of the loopback."""
    found, empty = _serving
    found.put_back(empty)
    return found
