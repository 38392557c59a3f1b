"""python -m bench [--items N] [--lines N]: build the large company and print what each job costs."""

from __future__ import annotations

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yuvrel.server.settings")
django.setup()

import httpx  # noqa: E402
from django.db import connection, connections, reset_queries  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import CaptureQueriesContext, setup_databases, teardown_databases  # noqa: E402

from bench import jobs  # noqa: E402
from bench.company import Size, build, standin_setup  # noqa: E402
from yuvrel.catalogue.models import Item  # noqa: E402
from yuvrel.core.sheets import MOST_ROWS  # noqa: E402
from yuvrel.people.models import User  # noqa: E402
from yuvrel.planning.jobs import refresh  # noqa: E402
from yuvrel.platform.memory import look_seldom  # noqa: E402
from yuvrel.sales.models import SalesOrder  # noqa: E402
from yuvrel.stock.models import StockBalance  # noqa: E402

SHEETS = (
    "today",
    "bar",
    "stock",
    "stock?sort=-value",
    "stock?sort=-available",
    "moves",
    "moves?sort=-recorded",
    "items",
    "items?sort=-cost",
    "orders",
    "orders?sort=-total",
    "orders?sort=number",
    "orders?state=waiting",
    "orders?state=waiting&sort=-total",
    "suppliers",
    "listings?link=linked",
    "purchase-orders",
    "journal",
    "accounts",
    "agreement",
    "agreement/items",
    "connections",
    "snags",
    "replenishment",
    "replenishment/rows",
    "replenishment/rows?show=all",
    "forecasts",
    "forecasts/head",
)


class Table:
    """Rows of what was measured: each with its floor and the process's peak memory so far."""

    def __init__(self) -> None:
        self.rows: list[tuple[str, str, str, str, str]] = []

    def add(self, name: str, seconds: float, rate: str, ratio: str) -> None:
        """One job."""
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        self.rows.append((name, f"{seconds:.2f} s", rate, ratio, f"{peak} MB"))
        print(f"{name:<52} {seconds:9.2f} s  {rate:<26} {ratio:<30} {peak} MB", flush=True)

    def markdown(self) -> str:
        """As a table for the docs."""
        head = "| job | time | rate | beside its floor | peak memory |\n|---|---|---|---|---|"
        return "\n".join([head, *("| " + " | ".join(row) + " |" for row in self.rows)])


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    """Seconds of wall time, and the result."""
    start = time.perf_counter()
    found = work()
    return time.perf_counter() - start, found


def standins(folder: Path, port: int) -> subprocess.Popen[bytes]:
    """The stand-ins as a process of their own."""
    process = subprocess.Popen(  # noqa: S603
        [
            sys.executable,
            "-m",
            "standins",
            "--port",
            str(port),
            "--store",
            str(folder / "s.sqlite"),
            "--setup",
            str(folder / "s.json"),
        ],
        stdout=subprocess.DEVNULL,
    )
    for _ in range(600):
        try:
            httpx.get(f"http://127.0.0.1:{port}/", timeout=1)
            return process
        except httpx.HTTPError:
            time.sleep(0.2)
    raise SystemExit("the stand-ins do not answer")


def sheets(table: Table) -> None:
    """First pages of every sheet through the API, the second of two calls, and how many queries each takes."""
    client = Client()
    client.force_login(User.objects.get(username="manager"))
    floor = min(timed(lambda: client.get("/api/v1/session"))[0] for _ in range(5))
    for path in SHEETS:
        client.get(f"/api/v1/{path}")
        with CaptureQueriesContext(connection) as queries:
            seconds, answer = timed(lambda path=path: client.get(f"/api/v1/{path}"))  # type: ignore[misc]
        state = "" if answer.status_code == 200 else f" answered {answer.status_code}"
        table.add(f"sheet {path}{state}", seconds, f"{len(queries)} queries", f"{seconds / floor:.0f} × the bare session route")
        reset_queries()


# Sheets as files: the columns taken, and the same rows read bare in the sheet's order.
FILES: dict[str, tuple[tuple[str, ...], Callable[[], Any]]] = {
    "stock": (
        ("title", "sku", "location", "on_hand", "committed", "available", "value"),
        lambda: StockBalance.objects.order_by("item__title", "location__position", "id").values_list(
            "item__title", "item__sku", "location__name", "on_hand", "committed"
        ),
    ),
    "items": (
        ("sku", "title", "category", "kind", "barcode", "price", "average_cost", "on_hand", "listings", "supplier"),
        lambda: (
            Item.objects.filter(active=True)
            .order_by("title", "id")
            .values_list("sku", "title", "product__category__name", "kind", "own_prices__amount", "costs__last_average")
        ),
    ),
    "orders": (
        ("number", "channel", "customer", "location", "placed_at", "state", "units", "backordered", "total", "margin_percent"),
        lambda: SalesOrder.objects.order_by("-placed_at", "-id").values_list(
            "number", "connection__name", "customer__name", "location__name", "placed_at", "state", "total"
        ),
    ),
    "prices": (
        ("sku", "title", "category", "price", "how", "cost", "margin"),
        lambda: (
            Item.objects.filter(active=True)
            .order_by("title", "id")
            .values_list("sku", "title", "product__category__name", "own_prices__amount", "costs__last_average")
        ),
    ),
}


def files(table: Table) -> None:
    """Whole sheets as files, beside reading their bare rows in the same order."""
    client = Client()
    client.force_login(User.objects.get(username="manager"))
    for sheet, (names, bare) in FILES.items():
        # The best of several, one after the other: a moment in which the machine is slow strikes one of them alone.
        found = list(bare())
        floor = min(timed(lambda bare=bare: list(bare()))[0] for _ in range(5))  # type: ignore[misc]
        for form in ("csv", "xlsx"):
            if form == "xlsx" and len(found) > MOST_ROWS:
                # The application refuses it, and so it has no time.
                table.add(f"file of the sheet of {sheet}, {len(found):,} rows, xlsx", 0, "refused", f"above {MOST_ROWS:,} rows")
                continue
            body = {"form": form, "columns": [{"field": name, "head": name} for name in names]}

            def ask(sheet: str = sheet, body: Any = body) -> bytes:
                answer = client.post(f"/api/v1/sheets/{sheet}/file", body, content_type="application/json")
                return b"".join(answer.streaming_content)  # type: ignore[attr-defined]

            data = ask()
            seconds = min(timed(ask)[0] for _ in range(4))
            name, size = f"file of the sheet of {sheet}, {len(found):,} rows, {form}", f"{len(data) / 1e6:.1f} MB"
            table.add(name, seconds, size, f"{seconds / floor:.1f} × the bare read")


def main() -> None:
    """Everything, once."""
    parser = argparse.ArgumentParser(prog="script/bench")
    parser.add_argument("--items", type=int, default=20_000)
    parser.add_argument("--lines", type=int, default=1_000_000)
    parser.add_argument("--port", type=int, default=8079)
    parser.add_argument("--sheets", action="store_true", help="only the sheets and their files")
    parser.add_argument("--out", type=Path)
    options = parser.parse_args()
    size = Size(options.items, options.lines)
    table = Table()
    look_seldom()  # as the processes of the application do
    databases = setup_databases(verbosity=0, interactive=False)
    base = f"http://127.0.0.1:{options.port}"
    process = None
    try:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            seconds, made = timed(lambda: build(size, base))
            rows = size.order_lines * 2.5 + size.items * 13
            table.add(f"build: {size.items} items, {size.order_lines} order lines", seconds, f"{rows / seconds:,.0f} rows/s", "")
            if options.sheets:
                refresh()
                sheets(table)
                files(table)
                return
            standin_setup(size, folder / "s.json", per_second=20)
            process = standins(folder, options.port)
            jobs.recompute(table, timed)
            seconds, _ = timed(refresh)
            table.add(
                "work the whole replenishment sheet out", seconds, f"{size.items * 3 / seconds:,.0f} rows/s", "in the background"
            )
            seconds, run = timed(jobs.forecast_all)
            table.add(f"forecast everything ({run.said})", seconds, f"{run.total / seconds:,.0f} series/s", "in the background")
            sheets(table)
            files(table)
            jobs.deliver(table, timed, made["shop1"])
            jobs.relist(table, timed, made["shop1"])
            jobs.rehearse(table, timed, made["shop1"])
            jobs.intake(table, timed, made["shop2"], base)
            jobs.settle_all(timed)
            jobs.check(table, timed)
    finally:
        if process:
            process.terminate()
            process.wait()
        connections.close_all()
        teardown_databases(databases, verbosity=0)
    if options.out:
        options.out.write_text(table.markdown() + "\n")


if __name__ == "__main__":
    main()
