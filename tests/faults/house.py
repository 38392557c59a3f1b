"""The whole system as processes of their own, which can be killed, and a burst of business through it."""

from __future__ import annotations

import hashlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable
from decimal import Decimal as D
from pathlib import Path
from typing import Any

import httpx
from django.conf import settings
from django.db import connection
from django.db.models import Sum
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from standins.store import Store
from tests.channels.conftest import CHART
from tests.invariants import assert_invariants
from tests.world import give, give_inbox, make_company, make_supplier, make_user
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Drift
from yuvrel.books.models import JournalLine, LedgerDocument
from yuvrel.catalogue.models import Item
from yuvrel.channels import actions, linking
from yuvrel.channels.jobs import RELAYS
from yuvrel.channels.models import Connection, Feed, InboundMessage, Listing, OutboundMessage, Run, Snag
from yuvrel.connectors.registry import KINDS
from yuvrel.core.rules import Level, Rung
from yuvrel.events.models import Event
from yuvrel.people.models import ApiToken
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.rules.actions import change
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.models import StockBalance

ROOT = Path(__file__).resolve().parents[2]
ITEMS = 12
TOKEN = "yv_burst"
SHOPS = ("web", "trade")
REGIONS = ("ie", "fr")
TILLS = ("mill", "wagon")
CLIENT = {"client": "us", "secret": "s", "key": "us"}


def free_port() -> int:
    """A port of the loopback that nobody uses now, below those the system hands to outgoing connections: a server
    killed here comes back on its port, which nobody may have taken meanwhile."""
    for port in random.SystemRandom().sample(range(16_000, 32_000), 50):
        with socket.socket() as probe:
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    raise RuntimeError("no free port among fifty tried")


def wait_until(true: Callable[[], bool], what: str, seconds: float = 240) -> None:
    """Look again and again; fails naming what did not come about, and how things stand."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, f"not within {seconds} s: {what}\n{standing()}"
        time.sleep(0.4)


def standing() -> str:
    """What a person would look at first when nothing moves: jobs, pauses, snags, runs, what waits."""
    asked = {
        "jobs": ProcrastinateJob.objects.exclude(status="succeeded").values_list("task_name", "lock", "status", "attempts"),
        "connections": Connection.objects.values_list("name", "faults", "pause_until"),
        "feeds": Feed.objects.values_list("connection__name", "part", "asked_at", "succeeded_at", "watermark"),
        "snags": Snag.objects.filter(resolved_at=None).values_list("kind", "title", "detail"),
        "runs": Run.objects.order_by("-pk").values_list("connection__name", "kind", "state", "started_at", "log")[:8],
        "locks": activity(),
    }
    waiting = {
        "events": Event.objects.filter(consumer__in=RELAYS, done_at=None),
        "inbound": InboundMessage.objects.filter(state="new"),
        "outbound": OutboundMessage.objects.filter(state="waiting"),
        "offers": Listing.objects.filter(link="linked").exclude(offer_state="agreed"),
    }
    lines = [f"now: {timezone.now()}"] + [f"{name}: {rows.count()} waiting" for name, rows in waiting.items()]
    return "\n".join(lines + [f"{name}: {row}" for name, rows in asked.items() for row in list(rows)[:40]])


def activity() -> list[tuple[Any, ...]]:
    """What PostgreSQL's sessions do and wait for."""
    with connection.cursor() as cursor:
        cursor.execute(
            "select pid, state, wait_event_type, wait_event, now() - xact_start, pg_blocking_pids(pid), left(query, 90)"
            " from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()"
        )
        return list(cursor.fetchall())


def setup() -> dict[str, dict[str, Any]]:
    """Two shops, a marketplace in two regions and two tills with the same twelve things, and a ledger."""
    products = [
        {
            "id": f"p{n}",
            "title": f"Thing {n}",
            "category": "Things",
            "tax_percent": "23",
            "variants": [{"id": f"v{n}", "sku": f"T-{n}", "price": "12.30", "quantity": 0, "options": {}, "tracked": True}],
        }
        for n in range(ITEMS)
    ]
    articles = [
        {
            "id": f"{n}",
            "plu": f"{n}",
            "code": f"T-{n}",
            "ean": "",
            "label": f"Thing {n}",
            "price": "12.30",
            "group": "",
            "vat": "23",
            "stock": "0",
        }
        for n in range(ITEMS)
    ]
    offers = [
        {"id": f"o{n}", "offer": f"o{n}", "seller_code": f"T-{n}", "title": f"Thing {n}", "price": "12.30", "quantity": 0}
        for n in range(ITEMS)
    ]
    tokens = {"t": KINDS["web_shop"].scopes}
    return {
        **{
            name: {"account": {"id": name, "sort": "shop", "name": name, "tokens": tokens}, "product": products} for name in SHOPS
        },
        "hedge": {
            "account": {
                "id": "hedge",
                "sort": "market",
                "name": "Hedge",
                "regions": list(REGIONS),
                "batch_seconds": 1,
                "clients": {"us": {"secret": "s", "scopes": KINDS["market"].scopes}},
            },
            **{f"offer-{region}": offers for region in REGIONS},
        },
        **{
            name: {
                "account": {"id": name, "sort": "till", "name": name, "tokens": {"t": KINDS["till"].scopes}},
                "article": articles,
            }
            for name in TILLS
        },
        "joiner": {
            "account": {
                "id": "joiner",
                "sort": "supplier",
                "name": "Joiner",
                "keys": {"us": {"secret": "s", "scopes": KINDS["supplier"].scopes}},
                "answers_by_itself": True,
            }
        },
        "books": {
            "account": {
                "id": "books",
                "sort": "ledger",
                "name": "Books",
                "locked": [],
                "chart": [{"code": c, "name": c} for c in CHART],
                "tokens": {"t": KINDS["ledger"].scopes},
            }
        },
    }


def _as_at_a_shop(order: dict[str, Any]) -> dict[str, Any]:
    """An order of the marketplace in the words in which the shops' orders are checked."""
    return {"version": order["revision"], "total": order["total"], "status": order["state"], "shipments": order["parcels"]}


class House:
    """Web server, worker and stand-ins around the test database."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.web_port, self.standin_port = free_port(), free_port()
        self.web, self.standins = f"http://127.0.0.1:{self.web_port}", f"http://127.0.0.1:{self.standin_port}"
        self.running: dict[str, subprocess.Popen[bytes]] = {}
        self.burst_number = 0
        db = connection.settings_dict
        self.env = os.environ | {
            "DATABASE_URL": f"postgres://{db['USER']}:{db['PASSWORD']}@{db['HOST']}:{db['PORT']}/{db['NAME']}",
            "YUVREL_ADDRESS": self.web,
            "YUVREL_HOSTS": "127.0.0.1",
            "YUVREL_NO_POOL": "0",
        }
        (folder / "setup.json").write_text(json.dumps(setup()))
        self.commands = {
            "web": f"gunicorn yuvrel.server.wsgi --bind 127.0.0.1:{self.web_port} --workers 2 --threads 4"
            " --worker-class gthread --no-control-socket",
            "worker": f"{sys.executable} manage.py work",
            "standins": f"{sys.executable} -m standins --port {self.standin_port} --store {folder}/standins.sqlite"
            f" --setup {folder}/setup.json",
        }

    def start(self, name: str) -> None:
        """Start one process, in a group of its own."""
        with (self.folder / f"{name}.log").open("ab") as log:
            self.running[name] = subprocess.Popen(
                self.commands[name].split(), cwd=ROOT, env=self.env, stdout=log, stderr=log, start_new_session=True
            )

    def kill(self, name: str) -> None:
        """kill -9, with everything it started."""
        process = self.running.pop(name, None)
        if process is None:
            return
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()

    def stop(self) -> None:
        """The end of the test."""
        for name in list(self.running):
            self.kill(name)

    def open(self) -> None:
        """Everything connected and in stock."""
        settings.PUBLIC_ADDRESS = self.web
        self.start("standins")
        self.start("web")
        wait_until(lambda: answers(f"{self.standins}/") and answers(f"{self.web}/readyz"), "the servers answer")
        self.store = Store(str(self.folder / "standins.sqlite"))
        make_company()
        user = make_user(Role.MANAGER)
        ApiToken.objects.create(user=user, name="burst", digest=hashlib.sha256(TOKEN.encode()).hexdigest())
        for kind, name, path in (
            ("web_shop", "web", "shop/web"),
            ("web_shop", "trade", "shop/trade"),
            *(("market", region, "market/hedge") for region in REGIONS),
            *(("till", name, f"till/{name}") for name in TILLS),
            ("supplier", "joiner", "supplier/joiner"),
            ("ledger", "books", "ledger/books"),
        ):
            row = actions.add(
                SYSTEM, kind=kind, name=name, address=f"{self.standins}/{path}", sign_in={"token": "t", **CLIENT, "region": name}
            )
            actions.test(SYSTEM, row.pk, timezone.now())
            if kind not in ("ledger", "supplier"):
                linking.take_listings(SYSTEM, row.pk, timezone.now(), create=name == "web")
            change(
                SYSTEM,
                Rung(Level.CONNECTION, name, row.pk),
                {"order_prefix": f"{name}-", "cash_customer": "cash"},
                timezone.now(),
            )
            if kind not in ("ledger", "supplier"):
                change(SYSTEM, Rung(Level.CONNECTION, name, row.pk), {"orders_every": 12}, timezone.now())
            actions.go_live(SYSTEM, row.pk, timezone.now())
        for item in Item.objects.all():
            give(item, 5000, "8.00")
        give_inbox(make_supplier(Item.objects.get(sku="T-0")), Connection.objects.get(name="joiner"))
        self.start("worker")
        wait_until(self.quiet, "the first offers are agreed")

    def faults(self, account: str, late: float = 4, seed: int = 1, **on: float) -> None:
        """Set the switchboard of one account, over its own API."""
        body = {"on": on, "seed": seed, "late": late}
        assert httpx.post(f"{self.standins}/switchboard/{account}", json=body).status_code == 200

    def orders_there(self) -> dict[str, dict[str, Any]]:
        """Every order of the shops and every receipt that was uploaded, as the accounts hold them."""
        orders = {o["id"]: o for shop in SHOPS for o in self.store.all(shop, "order")}
        rung_up = [receipt for till in TILLS for receipt in self.store.all(till, "receipt")]
        receipts = {r["id"]: {**r, "version": 1, "status": "sold"} for r in rung_up if r["uploaded_at"]}
        regional = {o["id"]: _as_at_a_shop(o) for region in REGIONS for o in self.store.all("hedge", f"order-{region}")}
        return orders | receipts | regional

    def quiet(self) -> bool:
        """Whether nothing is on its way any more. What the accounts hold is read only when nothing waits here, and
        nothing has come in while it was read."""
        return self.idle() and self.agreed() and self.idle()

    def agreed(self) -> bool:
        """Whether every order is here as it stands there."""
        there = {key: order["version"] for key, order in self.orders_there().items()}
        return there == dict(SalesOrder.objects.values_list("external_id", "external_version"))

    def idle(self) -> bool:
        """Whether nothing that is here waits for anything."""
        waiting = (
            Event.objects.filter(consumer__in=RELAYS, done_at=None),
            InboundMessage.objects.filter(state="new"),
            OutboundMessage.objects.filter(state="waiting"),
            Listing.objects.filter(link="linked").exclude(offer_state="agreed"),
            # An account that was left alone for a minute is asked again when the minute is over.
            Snag.objects.filter(resolved_at=None),
        )
        return not any(rows.exists() for rows in waiting)

    def state(self) -> Counter[str]:
        """What there is of everything, as numbers that can be subtracted."""
        found: Counter[str] = Counter()
        for row in StockBalance.objects.select_related("item"):
            found[f"on hand {row.item.sku}"] += int(row.on_hand)
            found[f"committed {row.item.sku}"] += int(row.committed)
        found.update(Counter(f"orders {s}" for s in SalesOrder.objects.values_list("state", flat=True)))
        found.update(Counter(f"documents {s}" for s in LedgerDocument.objects.values_list("kind", flat=True)))
        # Two edits of one order may be seen as one, so the number of journals differs from run to run; their sums do not.
        del found["documents journal"]
        for row in JournalLine.objects.values("account__role").annotate(total=Sum("amount")).order_by():
            found[f"booked {row['account__role']}"] += int(row["total"] * 100)
        for document in self.store.all("books", "document"):
            for posting in document["postings"]:
                found[f"ledger {posting['account']}"] += int(D(posting["amount"]) * 100)
        return found

    def verify(self) -> None:
        """Nothing lost, nothing twice, everything agreed."""
        there = self.orders_there()
        ours = {row.external_id: row for row in SalesOrder.objects.all()}
        assert set(ours) == set(there)
        for key, order in there.items():
            assert ours[key].total == D(order["total"]), key
            assert (ours[key].state == "cancelled") == (order["status"] == "cancelled"), key
            for paid in order.get("payments", []):
                charged = [c["key"] for c in paid.get("captures", [])]
                assert charged == list(dict.fromkeys(charged)), "a payment charged twice"
                here = ours[key].payments.get(external_id=paid["id"])
                # After a restore it comes in as what was paid by then.
                wanted = here.taken if here.state == "authorised" or not paid.get("captures") else here.amount
                assert sum(D(c["amount"]) for c in paid.get("captures", [])) == wanted, key
            keys = [s["key"] for s in order.get("shipments", [])]
            assert keys == list(dict.fromkeys(keys)), "a shipment told twice"
            assert len(keys) == (ours[key].shipments.count() if ours[key].kind == "order" else 0)
        booked = [d["number"] for d in self.store.all("books", "document")]
        assert sorted(booked) == sorted(LedgerDocument.objects.values_list("number", flat=True))
        assert_invariants()
        assert agreement.check_all() == 0, list(Drift.objects.filter(healed_at=None).values("code", "title", "expected", "found"))
        assert list(Snag.objects.filter(resolved_at=None).values_list("title", "detail")) == []

    def burst(self, size: int, during: Callable[[int], None] = lambda step: None) -> None:
        """`size` orders, of which 15 % are edited, 10 % cancelled and 10 % shipped; a change of quantity for every
        fourth, six till sales, and at the marketplace half as many orders as are cancelled.

        The same each time, so that two bursts of a size change everything by the same amounts. `during` is called
        before each of the 1.5 × `size` steps.
        """
        self.burst_number += 1
        self.bought: dict[int, str] = {}
        chance = random.Random(7)
        edits, ends = int(size * 0.15), int(size * 0.25)
        steps: list[Callable[[], None]] = [lambda n=n: self._buy(n, random.Random(n)) for n in range(size)]  # type: ignore[misc]
        later: list[Callable[[], None]] = [lambda n=n: self._edit(n) for n in range(edits)]  # type: ignore[misc]
        later += [lambda n=n: self._cancel(n) for n in range(edits, ends)]  # type: ignore[misc]
        later += [lambda n=n: self._adjust(n) for n in range(size // 4)]  # type: ignore[misc]
        chance.shuffle(later)
        # Edits and cancellations come among the last orders, long after what they change.
        first = size * 2 // 5
        last = first + len(later)
        steps = steps[:first] + [step for pair in zip(steps[first:last], later, strict=True) for step in pair] + steps[last:]
        at_market = range(5, len(steps), len(steps) // (size // 20))[: size // 20]
        sales = [len(steps) // 3, len(steps) * 2 // 3, len(steps) - 10]
        with httpx.Client(base_url=self.standins, timeout=30) as self.shoppers, httpx.Client(base_url=self.web) as self.staff:
            for number, step in enumerate(steps):
                during(number)
                step()
                if number in sales:
                    self._till(number)
                if number in at_market:
                    self._at_market(number)
            self._ship(range(size * 3 // 10, size * 4 // 10))

    def _email(self, n: int) -> str:
        return f"n{n}-{self.burst_number}@burst.example"

    def _buy(self, n: int, chance: random.Random) -> None:
        who = {"name": f"Shopper {n}", "email": self._email(n)}
        wanted = {f"q-v{chance.randrange(ITEMS)}": str(chance.randint(1, 3)) for _ in range(chance.randint(1, 3))}
        # Every third is charged when it leaves.
        who["pay"] = "card_later" if n % 3 == 0 else "card"
        answer = self.shoppers.post(f"/shop/{SHOPS[n % 2]}/buy", data=who | wanted, headers={"Accept": "application/json"})
        self.bought[n] = answer.json()["id"]

    def _at_market(self, n: int) -> None:
        """An order at the marketplace, tried again while its page has not been told of enough."""
        form = {"name": f"Buyer {n}", "region": REGIONS[n % 2], f"q-o{n % ITEMS}": "2"}
        accept = {"Accept": "application/json"}
        wait_until(
            lambda: self.shoppers.post("/market/hedge/buy", data=form, headers=accept).status_code == 200, "it is sold there"
        )

    def _edit(self, n: int) -> None:
        self.shoppers.post(f"/shop/{SHOPS[n % 2]}/office/edit", data={"id": self.bought[n], "count": str(n % 4 + 1)})

    def _cancel(self, n: int) -> None:
        self.shoppers.post(f"/shop/{SHOPS[n % 2]}/office/cancel", data={"id": self.bought[n]})

    def _till(self, number: int) -> None:
        for n in range(2):
            self.ring_up("mill", number + n)
        self.upload("mill")

    def ring_up(self, till: str, number: int) -> None:
        """Two of something are sold; the receipt waits in the till."""
        tender = "card" if number % 2 else "cash"
        self.shoppers.post(f"/till/{till}/sell", data={f"q-{number % ITEMS}": "2", "tender": tender})

    def ring_up_and_upload(self) -> None:
        """One more sale, noted by what was sold."""
        self.rung_up = [5]
        with httpx.Client(base_url=self.standins, timeout=30) as self.shoppers:
            self.ring_up("mill", 5)
            self.upload("mill")

    def upload(self, till: str) -> None:
        """What waits in a till is sent up."""
        self.shoppers.post(f"/till/{till}/upload")

    def _call(self, path: str, body: dict[str, Any], key: str) -> None:
        """A call of our own API as a careful program makes it: with a key, again until it is answered."""
        headers = {"Authorization": f"Bearer {TOKEN}", "Idempotency-Key": f"{key}-{self.burst_number}"}
        for _ in range(100):
            try:
                answer = self.staff.post(f"/api/v1/{path}", json=body, headers=headers)
            except httpx.HTTPError:
                time.sleep(0.3)
                continue
            if answer.status_code < 400:
                return
            assert answer.status_code in (409, 500, 502, 503), answer.text
            time.sleep(0.3)
        raise AssertionError(f"{path} was never answered")

    def _adjust(self, n: int) -> None:
        item = Item.objects.get(sku=f"T-{n % ITEMS}")
        body = {"item_id": item.pk, "location_id": item.balances.get().location_id, "reason": "found" if n % 3 else "lost"}
        self._call("adjustments", body | {"change": "4" if n % 3 else "-3"}, f"adjust-{n}")

    def _ship(self, orders: range) -> None:
        for n in orders:
            key = self.bought[n]
            wait_until(lambda k=key: SalesOrder.objects.filter(external_id=k, state="ready").exists(), "an order is ready")  # type: ignore[misc]
            self._call(f"orders/{SalesOrder.objects.get(external_id=key).pk}/ship", {"carrier": "Packhorse"}, f"ship-{n}")


def answers(address: str) -> bool:
    """Whether a server is there."""
    try:
        return httpx.get(address).status_code == 200
    except httpx.HTTPError:
        return False
