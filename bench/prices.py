"""python -m bench.prices: 20,000 items in 40 price lists: worked out, rehearsed, offered on 80,000 listings, pushed."""

from __future__ import annotations

import argparse
import os
import tempfile
from decimal import Decimal
from pathlib import Path

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yuvrel.server.settings")
django.setup()

from django.db import connection, connections  # noqa: E402
from django.db.models import F  # noqa: E402
from django.test.utils import setup_databases, teardown_databases  # noqa: E402
from django.utils import timezone  # noqa: E402

from bench.__main__ import Table, standins, timed  # noqa: E402
from bench.company import Size, build, standin_setup  # noqa: E402
from yuvrel.catalogue.models import Item  # noqa: E402
from yuvrel.catalogue.retail import keep_prices, priced  # noqa: E402
from yuvrel.channels import offers, prices  # noqa: E402
from yuvrel.channels.jobs import relay_now  # noqa: E402
from yuvrel.channels.models import Connection, Listing, PriceOffer  # noqa: E402
from yuvrel.channels.rehearsal import rehearse_rules  # noqa: E402
from yuvrel.core.price_change import PriceRule  # noqa: E402
from yuvrel.core.rules import Level, Rung  # noqa: E402
from yuvrel.people.queries import company_day  # noqa: E402
from yuvrel.people.roles import SYSTEM  # noqa: E402
from yuvrel.platform.bulk import insert_many  # noqa: E402
from yuvrel.pricing.actions import keep_list  # noqa: E402
from yuvrel.pricing.changes import Selection, rehearse_list, rehearse_rule  # noqa: E402
from yuvrel.pricing.loading import all_lists, base_list, load_columns  # noqa: E402
from yuvrel.pricing.models import PriceEntry, PriceList  # noqa: E402
from yuvrel.rules.actions import change  # noqa: E402
from yuvrel.stock.models import ItemCost  # noqa: E402

TYPED, FROM_COST, LISTS = 10, 4, 40


def make_lists() -> PriceList:
    """The base list, ten that are typed for every item, four from cost, the others derived in chains of three."""
    keep_prices(dict.fromkeys(Item.objects.values_list("pk", flat=True), Decimal("24.60")))
    base = base_list()
    ids = list(Item.objects.order_by("pk").values_list("pk", flat=True))
    for n in range(TYPED):
        row = keep_list(SYSTEM, None, 0, {"name": f"Typed {n}"})
        insert_many([PriceEntry(list=row, item_id=pk, price=Decimal(2000 + pk % 900) / 100) for pk in ids])
    for n in range(FROM_COST):
        keep_list(
            SYSTEM, None, 0, {"name": f"Cost {n}", "method": "margin", "percent": Decimal(30 + n), "ending": Decimal("0.95")}
        )
    above = base
    for n in range(LISTS - TYPED - FROM_COST - 1):
        follows = base if n % 3 == 0 else above
        facts = {"method": "derived", "parent_id": follows.pk, "percent": Decimal(n - 8), "ending": Decimal("0.95")}
        above = keep_list(SYSTEM, None, 0, {"name": f"Derived {n}", **facts})
    with connection.cursor() as cursor:
        cursor.execute("ANALYZE")
    return PriceList.objects.get(name="Derived 1")


def bare_read() -> int:
    """The rows that prices are worked out from, and nothing else."""
    rows = len(list(priced(Item.objects.all()).values_list("pk", "price", "product__tax_class__percent")))
    rows += len(list(ItemCost.objects.values_list("item_id", "last_average", "last_cost")))
    return rows + len(list(PriceEntry.objects.values_list("list_id", "item_id", "price", "from_quantity", "starts_on", "pk")))


def measure(table: Table, shop: Connection, derived: PriceList) -> None:
    """What each job costs."""
    today = company_day(timezone.now())
    floor, rows = timed(bare_read)
    seconds, columns = timed(lambda: load_columns(None, all_lists(), today))
    table.add("read what 20,000 × 40 prices come from", seconds, f"{rows:,} rows", f"{seconds / floor:.1f} × the bare read")
    worked, found = timed(lambda: columns.prices(all_lists().values()))
    count = sum(len(column) for column in found.values())
    whole = seconds + worked
    table.add(
        f"work out {count:,} prices",
        worked,
        f"{count / worked:,.0f} prices/s",
        f"with reading {whole / floor:.1f} × the bare read",
    )
    seconds, told = timed(lambda: rehearse_list(SYSTEM, derived.pk, {"percent": Decimal(20)}, timezone.now()))
    table.add(
        f"rehearse a list ({told['rising'] + told['falling']:,} change)", seconds, "", f"{seconds / whole:.1f} × working all out"
    )
    rule = PriceRule("percent", Decimal(3), Decimal("0.95"))
    seconds, told = timed(lambda: rehearse_rule(SYSTEM, base_list().pk, Selection(), rule, None, None, timezone.now()))
    table.add(
        f"rehearse +3 % on {told['items']:,} items",
        seconds,
        f"{told['items'] / seconds:,.0f} items/s",
        f"{seconds / whole:.1f} ×",
    )
    change(SYSTEM, Rung(Level.COMPANY, "the bench"), {"price_owner": "here"}, timezone.now())
    seconds, _ = timed(lambda: prices.recompute_lists({derived.pk: "bench"}))
    offered = PriceOffer.objects.count()
    bare, _ = timed(lambda: Listing.objects.update(price=Decimal("1.00")))
    name = f"offer a price on {offered:,} listings"
    table.add(name, seconds, f"{offered / seconds:,.0f} listings/s", f"{seconds / bare:.1f} × one bare UPDATE of the listings")
    seconds, _ = timed(lambda: prices.recompute_lists({derived.pk: "bench"}))
    table.add(
        "the same when nothing comes out differently", seconds, f"{offered / seconds:,.0f} listings/s", f"{seconds / bare:.1f} ×"
    )
    floor_rung = Rung(Level.COMPANY, "the bench")
    seconds, said = timed(lambda: rehearse_rules(SYSTEM, floor_rung, {"margin_floor": "90"}))
    table.add(
        f"rehearse a floor on {said['listings']:,} listings ({said['prices_held']:,} held)",
        seconds,
        "",
        f"{seconds / bare:.1f} ×",
    )
    rule_over_all(table)
    PriceOffer.objects.update(state="agreed")
    chosen = list(PriceOffer.objects.filter(listing__connection=shop).order_by("pk").values_list("pk", flat=True)[:5000])
    PriceOffer.objects.filter(pk__in=chosen).update(state="pending")
    seconds, pushed = timed(lambda: prices.push(Connection.objects.get(pk=shop.pk)))
    agreed = PriceOffer.objects.filter(pk__in=chosen, state="agreed").count()
    calls = 2 * -(-pushed // prices.BATCH) / seconds
    table.add(
        f"push {pushed:,} prices, {agreed:,} read back as agreed",
        seconds,
        f"{calls:.1f} calls/s",
        f"{calls / 20:.0%} of 20 calls/s",
    )


def rule_over_all(table: Table) -> None:
    """A buffer for the whole company, rehearsed over every listing and then set and worked out, in one run; what is
    offered afterwards is what was rehearsed."""
    company = Rung(Level.COMPANY, "the bench")
    # What building the company left to do is done before anything is measured.
    while relay_now():
        continue
    offers.recompute_connections({row.pk: "bench" for row in offers.live_connections()})
    Listing.objects.update(offer_state="agreed")
    before = dict(Listing.objects.values_list("pk", "offered"))
    bare, count = timed(lambda: Listing.objects.update(offered=F("offered")))
    seconds, said = timed(lambda: rehearse_rules(SYSTEM, company, {"buffer": "3"}))
    changing = said["rising"] + said["falling"]
    name = f"rehearse a buffer on {said['listings']:,} listings ({changing:,} change)"
    table.add(
        name, seconds, f"{said['listings'] / seconds:,.0f} listings/s", f"{seconds / bare:.1f} × one bare UPDATE of {count:,}"
    )

    def apply() -> None:
        change(SYSTEM, company, {"buffer": "3"}, timezone.now())
        while relay_now():
            continue

    seconds, _ = timed(apply)
    moved = sum(1 for pk, offered in Listing.objects.values_list("pk", "offered") if offered != before[pk])
    if moved != changing:
        raise SystemExit(f"{changing:,} were rehearsed, {moved:,} changed")
    name = f"set it and work out {said['listings']:,} offers ({moved:,} wait to be pushed)"
    table.add(name, seconds, f"{said['listings'] / seconds:,.0f} listings/s", f"{seconds / bare:.1f} ×")


def main() -> None:
    """Everything, once."""
    parser = argparse.ArgumentParser(prog="script/bench prices")
    parser.add_argument("--items", type=int, default=20_000)
    parser.add_argument("--port", type=int, default=8079)
    parser.add_argument("--out", type=Path)
    options = parser.parse_args()
    size = Size(options.items, options.items)
    table = Table()
    databases = setup_databases(verbosity=0, interactive=False)
    process = None
    try:
        with tempfile.TemporaryDirectory() as name:
            made = build(size, f"http://127.0.0.1:{options.port}")
            standin_setup(size, Path(name) / "s.json", per_second=20)
            process = standins(Path(name), options.port)
            measure(table, made["shop1"], make_lists())
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
