"""python -m bench.market: 10,000 offers read in, 2 % of them dirty; 5,000 publications, 3 % refused; 10,000 quantities as
batches; each accounted for, beside the bare statements that write the same rows."""

from __future__ import annotations

import argparse
import json
import os
import tempfile
from pathlib import Path
from typing import Any

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yuvrel.server.settings")
django.setup()

from django.db import connections  # noqa: E402
from django.test.utils import setup_databases, teardown_databases  # noqa: E402
from django.utils import timezone  # noqa: E402

from bench.__main__ import Table, standins, timed  # noqa: E402
from bench.company import Size, build  # noqa: E402
from yuvrel.catalogue.models import Item  # noqa: E402
from yuvrel.channels import actions, linking, offers, publishing, submissions  # noqa: E402
from yuvrel.channels.models import Connection, Listing, Publication  # noqa: E402
from yuvrel.people.roles import SYSTEM  # noqa: E402

OFFERS, NEW = 10_000, 5_000
DIRT: list[dict[str, Any]] = [{"title": ""}, {"price": "free"}, {"quantity": "NaN"}, {"barcode": ["x"]}, {"variation": 3}]


def setup(path: Path, skus: list[str]) -> int:
    """The marketplace's own store: offers of the first items, each fiftieth dirty. Returns how many are."""
    rows = []
    for n, sku in enumerate(skus[:OFFERS]):
        key = f"m{n:05d}"
        offer = {"id": key, "offer": key, "seller_code": sku, "title": f"Thing {n}", "price": "12.30", "quantity": 0}
        rows.append({**offer, **(DIRT[n // 50 % len(DIRT)] if n % 50 == 7 else {})})
    client = {"us": {"secret": "s", "scopes": ["offers", "orders"]}}
    account = {"id": "hedge", "sort": "market", "name": "Hedge", "regions": ["ie"], "batch_seconds": 0, "clients": client}
    categories = [{"id": "things", "title": "Things", "attributes": []}]
    path.write_text(json.dumps({"hedge": {"account": account, "offer-ie": rows, "category-ie": categories}}))
    return sum(1 for n in range(len(rows)) if n % 50 == 7)


def measure(table: Table, address: str, dirty: int) -> None:
    """What each job costs, and that everything is accounted for."""
    given = {"client": "us", "secret": "s", "region": "ie"}
    row = actions.add(SYSTEM, kind="market", name="Hedge", address=f"{address}/market/hedge", sign_in=given)
    actions.test(SYSTEM, row.pk, timezone.now())
    seconds, run = timed(lambda: linking.take_listings(SYSTEM, row.pk, timezone.now(), create=False))
    if (run.taken, run.failed) != (OFFERS - dirty, dirty):
        raise SystemExit(f"{run.taken} taken and {run.failed} set aside of {OFFERS}, {dirty} of them dirty")
    copies = [Listing(connection=row, external_id=f"b{n}", title="x", sku=f"b{n}") for n in range(run.taken)]
    bare, _ = timed(lambda: Listing.objects.bulk_create(copies, 2000))
    Listing.objects.filter(external_id__startswith="b").delete()
    name = f"read {OFFERS:,} offers in, {dirty} dirty ones named"
    table.add(name, seconds, f"{OFFERS / seconds:,.0f} offers/s", f"{seconds / bare:.1f} × the bare insert")

    row = actions.go_live(SYSTEM, row.pk, timezone.now())
    offers.recompute_connections({row.pk: "bench"})
    seconds, handed = timed(lambda: offers.push(Connection.objects.get(pk=row.pk)))
    table.add(f"hand in {handed:,} quantities", seconds, f"{handed / seconds:,.0f} lines/s", "")
    seconds, _ = timed(lambda: submissions.collect(Connection.objects.get(pk=row.pk)))
    agreed = row.listings.filter(offer_state="agreed").count()  # type: ignore[attr-defined]
    table.add(f"their results read, {agreed:,} read back as agreed", seconds, f"{handed / seconds:,.0f} lines/s", "")

    # The items of dirty offers are not listed here, but there they are.
    beyond = Item.objects.order_by("pk").values_list("pk", flat=True)[OFFERS]
    fresh = list(publishing.candidates(row).filter(pk__gte=beyond).values_list("pk", flat=True)[:NEW])
    forbidden = fresh[:: NEW // (NEW * 3 // 100)]
    for item in Item.objects.filter(pk__in=forbidden):
        Item.objects.filter(pk=item.pk).update(title=f"Forbidden {item.title}"[:200])
    publishing.prepare(SYSTEM, row.pk, fresh)
    Publication.objects.update(category="things")
    begun = publishing.ask_publish(SYSTEM, row.pk, None)
    ids = list(Publication.objects.order_by("pk").values_list("pk", flat=True))
    seconds, _ = timed(lambda: publishing.publish(begun, ids))
    table.add(f"hand in {len(ids):,} new listings", seconds, f"{len(ids) / seconds:,.0f} lines/s", "")
    seconds, _ = timed(lambda: submissions.collect(Connection.objects.get(pk=row.pk)))
    listed = Publication.objects.filter(state="listed").count()
    refused = Publication.objects.filter(state="refused").exclude(said="").count()
    if listed + refused != len(ids) or refused != len(forbidden):
        raise SystemExit(f"{listed} listed and {refused} refused of {len(ids)}")
    name = f"their results: {listed:,} listed, {refused} refused, each with its reason"
    table.add(name, seconds, f"{len(ids) / seconds:,.0f} lines/s", "")


def main() -> None:
    """Everything, once."""
    parser = argparse.ArgumentParser(prog="script/bench market")
    parser.add_argument("--items", type=int, default=20_000)
    parser.add_argument("--port", type=int, default=8079)
    parser.add_argument("--out", type=Path)
    options = parser.parse_args()
    table = Table()
    databases = setup_databases(verbosity=0, interactive=False)
    process = None
    address = f"http://127.0.0.1:{options.port}"
    try:
        with tempfile.TemporaryDirectory() as name:
            build(Size(options.items, options.items), address)
            dirty = setup(Path(name) / "s.json", list(Item.objects.order_by("pk").values_list("sku", flat=True)))
            process = standins(Path(name), options.port)
            measure(table, address, dirty)
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
