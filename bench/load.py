"""python -m bench.load: a running house under orders by signed webhook, with people reading beside it.

At each rate, for a minute: how many orders were answered and taken in, what waits, the 95th percentile of webhooks and
of the sheets that three people read every second, and the processor time of each part.
"""

from __future__ import annotations

import argparse
import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yuvrel.server.settings")
django.setup()

import httpx  # noqa: E402
from django.db import connection, connections  # noqa: E402
from django.test.utils import setup_databases, teardown_databases  # noqa: E402
from django.utils import timezone  # noqa: E402
from standardwebhooks import Webhook  # noqa: E402

from bench.__main__ import standins  # noqa: E402
from bench.company import Size, build, standin_setup  # noqa: E402
from yuvrel.channels.credentials import seal  # noqa: E402
from yuvrel.channels.models import Connection, InboundMessage, Listing  # noqa: E402
from yuvrel.core.rules import Level, Rung  # noqa: E402
from yuvrel.people.models import User  # noqa: E402
from yuvrel.people.roles import SYSTEM  # noqa: E402
from yuvrel.planning.jobs import refresh  # noqa: E402
from yuvrel.rules.actions import change  # noqa: E402
from yuvrel.sales.models import SalesOrder  # noqa: E402

SECRET = "whsec_" + "bG9hZC1vZi1hLWRheS1pbi1hLW1pbnV0ZQ=="
PEOPLE = ("orders", "stock", "today")
PASSWORD = "larkmead"  # noqa: S105  of a company that lives for the length of this measurement
TICKS = os.sysconf("SC_CLK_TCK")


@dataclass
class Seen:
    """Seconds that calls took, and how many were not answered as they should be."""

    seconds: list[float] = field(default_factory=list)
    failed: int = 0

    def p95(self) -> float:
        """The 95th percentile in milliseconds."""
        return sorted(self.seconds)[int(len(self.seconds) * 0.95)] * 1000 if self.seconds else 0.0


def order(number: int) -> dict[str, Any]:
    """An order as the shop words it: two things of the best sellers."""
    at = datetime.now(UTC).isoformat()
    lines = [
        {"id": f"l{k}", "variant_id": str(n), "title": f"Goods {n}", "quantity": 1, "amount": "12.30", "tax_percent": "23"}
        for k, n in enumerate((number % 900, (number * 7 + 1) % 900))
    ]
    who = {"name": f"Shopper {number}", "email": f"s{number}@load.example"}
    facts = {"id": f"load{number}", "number": str(number), "version": 1, "status": "paid", "created_at": at, "updated_at": at}
    return {**facts, "currency": "EUR", "customer": who, "lines": lines, "total": "24.60"}


def tell(client: httpx.Client, key: str, number: int, seen: Seen) -> None:
    """One signed webhook."""
    body = json.dumps({"type": "order.created", "data": order(number)})
    now = datetime.now(UTC)
    signed = Webhook(SECRET).sign(f"msg_{number}", now, body)
    headers = {"webhook-id": f"msg_{number}", "webhook-timestamp": str(int(now.timestamp())), "webhook-signature": signed}
    begun = time.perf_counter()
    try:
        taken = client.post(f"/hooks/{key}", content=body, headers={**headers, "Content-Type": "application/json"}).is_success
    except httpx.HTTPError:
        taken = False
    seen.seconds.append(time.perf_counter() - begun)
    seen.failed += not taken


def read(base: str, sheet: str, stop: threading.Event, seen: Seen) -> None:
    """A person who looks at a sheet every second."""
    with httpx.Client(base_url=base, timeout=60) as client:
        client.get("/")
        headers = {"X-CSRFToken": client.cookies["csrftoken"], "Referer": base}
        body = {"username": "manager", "password": PASSWORD}
        client.post("/api/v1/session", json=body, headers=headers).raise_for_status()
        while not stop.wait(1):
            begun = time.perf_counter()
            good = client.get(f"/api/v1/{sheet}").is_success
            seen.seconds.append(time.perf_counter() - begun)
            seen.failed += not good


def cpu(pids: list[int]) -> float:
    """Seconds of processor time of processes and all that descend from them."""
    total, left = 0.0, list(pids)
    while left:
        pid = left.pop()
        try:
            stat = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
            left += [int(child) for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
        except OSError:
            continue
        total += (int(stat[11]) + int(stat[12])) / TICKS
    return total


def postmaster() -> int:
    """The server's own process, the parent of our connection's."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_backend_pid()")
        (pid,) = cursor.fetchone()
    return int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])


def throttle(pid: int, percent: int, stop: threading.Event) -> None:
    """Let a process run for so much of each tenth of a second: a core of its own, only slower, as on another machine."""
    while not stop.is_set():
        for signal_, share in ((signal.SIGCONT, percent), (signal.SIGSTOP, 100 - percent)):
            with suppress(ProcessLookupError):
                os.kill(pid, signal_)
            time.sleep(share / 1000)
    with suppress(ProcessLookupError):
        os.kill(pid, signal.SIGCONT)


def phase(base: str, key: str, rate: float, seconds: int, first: int, parts: dict[str, int]) -> str:
    """One rate for so long; a row of the table."""
    before = {name: cpu([pid]) for name, pid in parts.items()}
    taken_before = SalesOrder.objects.filter(external_id__startswith="load").count()
    hooks, sheets, stop = Seen(), {sheet: Seen() for sheet in PEOPLE}, threading.Event()
    people = [threading.Thread(target=read, args=(base, sheet, stop, seen)) for sheet, seen in sheets.items()]
    for person in people:
        person.start()
    begun = time.perf_counter()
    with httpx.Client(base_url=base, timeout=60) as client, ThreadPoolExecutor(32) as pool:
        for n in range(int(rate * seconds)):
            time.sleep(max(0.0, begun + n / rate - time.perf_counter()))
            pool.submit(tell, client, key, first + n, hooks)
    took = time.perf_counter() - begun
    stop.set()
    for person in people:
        person.join()
    taken = SalesOrder.objects.filter(external_id__startswith="load").count() - taken_before
    waiting = InboundMessage.objects.filter(state="new").count()
    offers = Listing.objects.filter(offer_state="pending").count()
    used = ", ".join(f"{name} {cpu([pid]) - before[name]:.0f}" for name, pid in parts.items())
    drained = _drain()
    slow = " ".join(f"{sheet} {seen.p95():.0f}" for sheet, seen in sheets.items())
    rest = f"{waiting} orders, {offers} offers; gone after {drained:.0f} s"
    lost = int(rate * seconds) - hooks.failed - (SalesOrder.objects.filter(external_id__startswith="load").count() - taken_before)
    failed = hooks.failed + sum(seen.failed for seen in sheets.values())
    return f"| {rate:g} | {taken / took:.1f} | {rest} | {hooks.p95():.0f} | {slow} | {failed} refused, {lost} lost | {used} |"


def _drain() -> float:
    begun = time.perf_counter()
    while InboundMessage.objects.filter(state="new").exists() and time.perf_counter() - begun < 300:
        time.sleep(0.25)
    return time.perf_counter() - begun


def main() -> None:
    """Everything, once."""
    parser = argparse.ArgumentParser(prog="script/bench load")
    parser.add_argument("--items", type=int, default=2000)
    parser.add_argument("--lines", type=int, default=100_000)
    parser.add_argument("--seconds", type=int, default=60)
    parser.add_argument("--rates", type=float, nargs="+", default=[2, 5, 10, 20])
    parser.add_argument("--workers", type=int, default=1, help="worker processes")
    parser.add_argument(
        "--machine", type=int, default=100, help="each worker a machine of its own with so many per cent of a core of this one"
    )
    parser.add_argument("--port", type=int, default=8078)
    options = parser.parse_args()
    size = Size(options.items, options.lines)
    web, far = f"http://127.0.0.1:{options.port}", f"http://127.0.0.1:{options.port + 1}"
    databases = setup_databases(verbosity=0, interactive=False)
    running: dict[str, subprocess.Popen[bytes]] = {}
    try:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            shop = build(size, far)["shop2"]
            Connection.objects.filter(pk=shop.pk).update(webhook_secret_sealed=seal(SECRET))
            change(SYSTEM, Rung(Level.CONNECTION, shop.name, shop.pk), {"orders_every": 3600}, timezone.now())
            user = User.objects.get(username="manager")
            user.set_password(PASSWORD)
            user.save()
            refresh()
            standin_setup(size, folder / "s.json", per_second=20)
            running["stand-ins"] = standins(folder, options.port + 1)
            db = connection.settings_dict
            address = f"postgres://{db['USER']}:{db['PASSWORD']}@{db['HOST']}:{db['PORT']}/{db['NAME']}"
            env = {
                **os.environ,
                "DATABASE_URL": address,
                "YUVREL_HOSTS": "127.0.0.1",
                "YUVREL_ADDRESS": web,
                "YUVREL_NO_POOL": "0",
            }
            serve = f"gunicorn yuvrel.server.wsgi --bind 127.0.0.1:{options.port} --workers 2 --threads 4 --worker-class gthread"
            commands = {"web": f"{serve} --no-control-socket"}
            commands |= {f"worker {n + 1}": f"{sys.executable} manage.py work" for n in range(options.workers)}
            for part, command in commands.items():
                running[part] = subprocess.Popen(command.split(), env=env, stderr=subprocess.DEVNULL)  # noqa: S603
            parts = {part: process.pid for part, process in running.items()} | {"PostgreSQL": postmaster()}
            while True:
                try:
                    if httpx.get(f"{web}/readyz", timeout=2).is_success:
                        break
                except httpx.HTTPError:
                    time.sleep(0.2)
            ended = threading.Event()
            slowed = [pid for part, pid in parts.items() if part.startswith("worker") and options.machine < 100]
            for pid in slowed:
                threading.Thread(target=throttle, args=(pid, options.machine, ended), daemon=True).start()
            print(
                "| orders offered a second | taken in | waiting at the end | webhook p95, ms | sheet p95, ms | dropped | CPU, s |"
            )
            print("|---|---|---|---|---|---|---|", flush=True)
            first = 1
            for rate in options.rates:
                print(phase(web, shop.hook_key, rate, options.seconds, first, parts), flush=True)
                first += int(rate * options.seconds)
            ended.set()
            time.sleep(0.2)
    finally:
        for process in reversed(running.values()):
            process.terminate()
            process.wait()
        connections.close_all()
        teardown_databases(databases, verbosity=0)


if __name__ == "__main__":
    main()
