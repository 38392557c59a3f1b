"""Stock, listings, customers and past sales as sheets: sent in, refused where they cannot be, and the same again changes
nothing."""

from __future__ import annotations

import csv
import io
from datetime import date, timedelta
from decimal import Decimal as D
from typing import Any

import pytest
from django.test import Client
from django.utils import timezone

from tests.invariants import assert_invariants
from tests.server.test_bulk import undo
from tests.server.test_intake import confirm, everything, send
from tests.world import (
    NOW,
    give,
    incoming,
    make_bundle,
    make_company,
    make_connection,
    make_item,
    make_listing,
    make_supplier,
    make_user,
    order_line,
)
from yuvrel.books.models import JournalEntry
from yuvrel.channels.models import Listing
from yuvrel.documents.models import NumberSeries
from yuvrel.intake.registry import KINDS
from yuvrel.people.models import Location
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Role
from yuvrel.planning.demand_history import read_past
from yuvrel.pricing.actions import keep_list
from yuvrel.pricing.loading import base_list
from yuvrel.rules.models import SettingValue
from yuvrel.sales.actions import take_order, take_till_sale
from yuvrel.sales.customers import keep, keep_group
from yuvrel.sales.models import Customer, PastSale
from yuvrel.stock.actions import OpeningRow, take_opening
from yuvrel.stock.models import ItemCost, Lot, LotBalance, StockBalance, StockCount, StockDocument

pytestmark = pytest.mark.django_db


@pytest.fixture
def manager(client: Client) -> Client:
    make_company()
    client.force_login(make_user(Role.MANAGER))
    return client


def changes_nothing(client: Client, kind: str, text: bytes | None = None) -> None:
    """What is exported, or sent before, is taken in again without a change."""
    found = send(client, everything(client, kind) if text is None else text, kind)
    assert found["counts"]["unchanged"] == found["total"] > 0, found["shown"]


def faults(found: Any) -> list[str]:
    """What is wrong, by row."""
    return [f"{column}: {reason}" for row in found["shown"] for column, _, reason in row["faults"]]


def on_hand(sku: str, place: str = "tannery-yard") -> D:
    return StockBalance.objects.get(item__sku=sku, location__code=place).on_hand


def test_stock_is_set_as_counted_with_one_document_for_each_place(manager: Client) -> None:
    make_item("A", on_hand=10, cost="2.00")
    make_item("B", on_hand=4, cost="3.00")
    make_item("C")
    sheet = b"place,sku,on_hand,cost\ntannery-yard,a,7,\nTannery Yard,B,6,4.00\nMill Lane,C,5,1.50\nThe Wagon,A,2,\n"
    found = send(manager, sheet, "stock")
    assert found["counts"] == {"new": 2, "changed": 2, "unchanged": 0, "wrong": 0}, found["shown"]
    assert confirm(manager, found["id"])["state"] == "done"
    assert (on_hand("A"), on_hand("B"), on_hand("C", "mill-lane"), on_hand("A", "wagon")) == (7, 6, 5, 2)
    assert StockDocument.objects.filter(kind="count").count() == 3, "one for each place"
    assert StockCount.objects.count() == 4
    # 3 at 2.00 leave, 2 at 4.00 and 5 at 1.50 come in, 2 at the average of 2.00.
    entries = JournalEntry.objects.filter(kind="adjustment")
    booked = [line.amount for entry in entries for line in entry.lines.filter(account__role="inventory")]
    assert sorted(booked) == [D("-6.00"), D("4.00"), D("7.50"), D("8.00")]
    cost = ItemCost.objects.get(item__sku="C")
    assert (cost.last_average, cost.last_cost) == (D("1.5"), D("1.5"))
    assert_invariants()
    changes_nothing(manager, "stock")
    changes_nothing(manager, "stock", b"place,sku,on_hand\ntannery-yard,a,7\nTannery Yard,B,6\nMill Lane,C,5\nThe Wagon,A,2\n")


def test_stock_that_cannot_be_is_refused_cell_by_cell(manager: Client) -> None:
    part = make_item("A", on_hand=10)
    make_item("C")
    make_bundle("KIT", {part: 2})
    rows = ["nowhere,A,1,", "Mill Lane,ZZZ,1,", "Mill Lane,C,3,", "tannery-yard,A,-1,", "Mill Lane,A,1.5,", "Mill Lane,KIT,1,"]
    more = ["tannery-yard,A,10,9.00", "Mill Lane,A,1e30,", "tannery-yard,C,,2.00"]
    found = send(manager, "\n".join(["place,sku,on_hand,cost", *rows, *more]), "stock")
    assert found["counts"] == {"new": 0, "changed": 0, "unchanged": 0, "wrong": 9}
    assert faults(found) == [
        "place: is no place of ours",
        "sku: is no item of the range",
        "cost: is needed: nobody has said what one costs",
        "on_hand: cannot be below zero",
        "on_hand: A is counted with 0 decimals; 1.5 has more",
        "on_hand: KIT is a bundle; it has no stock of its own",
        "cost: is of no use: no more come in",
        "on_hand: It is out of range: it must be below 10,000,000.",
        "on_hand: is needed",
    ]
    assert not NumberSeries.objects.filter(kind="count").exists()


def test_what_is_below_zero_is_exported_and_may_stay(manager: Client) -> None:
    item = make_item("A", on_hand=1)
    till = make_connection("till")
    take_till_sale(SYSTEM, incoming(till, order_line(item, 3)))
    assert on_hand("A") == -2
    changes_nothing(manager, "stock")
    found = send(manager, b"place,sku,on_hand\nTannery Yard,A,5\n", "stock")
    assert confirm(manager, found["id"])["state"] == "done"
    assert on_hand("A") == 5
    assert_invariants()


def test_only_who_may_adjust_sends_stock(client: Client) -> None:
    make_company()
    make_item("A", on_hand=1)
    client.force_login(make_user(Role.BUYER))
    assert send(client, b"place,sku,on_hand\nTannery Yard,A,5\n", "stock", status=403)["detail"].startswith(
        "As buyer you may not"
    )


def test_listings_are_paired_by_their_sku_there_or_their_number(manager: Client) -> None:
    shop = make_connection(name="Web")
    smoker, tray = make_item("SMK"), make_item("JAR")
    one = make_listing(shop, sku="S-1", external_id="v1")
    two = make_listing(shop, sku="", external_id="v2", title="Tray of jars")
    twins = [make_listing(shop, sku="twin", external_id=f"t{n}") for n in range(2)]
    make_listing(shop, smoker, external_id="v5")
    exported = everything(manager, "pairs").decode("utf-8-sig")
    assert "Web,v2,Tray of jars,," in exported
    assert "Web,t0," in exported, "what two share tells neither"
    sheet = "connection,listing,sku,units\nweb,S-1,smk,\nWeb,v2,JAR,12\nWeb,t1,JAR,\nWeb,SMK,,3\n"
    found = send(manager, sheet, "pairs")
    assert found["counts"] == {"new": 0, "changed": 4, "unchanged": 0, "wrong": 0}, found["shown"]
    assert confirm(manager, found["id"])["state"] == "done"
    one.refresh_from_db()
    two.refresh_from_db()
    assert (one.link, one.item, one.units) == ("linked", smoker, 1)
    assert (two.item, two.units) == (tray, 12)
    assert (Listing.objects.get(external_id="v5").units, Listing.objects.get(external_id="t1").item) == (3, tray)
    assert Listing.objects.get(pk=twins[0].pk).item is None
    changes_nothing(manager, "pairs")
    changes_nothing(manager, "pairs", sheet.encode())
    confirm(manager, send(manager, "connection,listing,sku\nWeb,SMK,(empty)\n", "pairs")["id"])
    assert Listing.objects.get(external_id="v5").link == "unlinked"
    wrong = (
        "connection,listing,sku,units\nNobody,x,SMK,\nWeb,unheard,SMK,\nWeb,S-1,ZZZ,\nWeb,S-1,SMK,0\nWeb,twin,SMK,\nWeb,t0,,2\n"
    )
    assert faults(send(manager, wrong, "pairs")) == [
        "connection: is no connection's name",
        "listing: is no listing there that was read",
        "sku: is no item of the range",
        "units: are 1 to 10,000",
        "listing: is no listing there that was read",
        "sku: is needed: the listing stands for no item yet",
    ]


def test_customers_are_known_by_number_mail_or_name(manager: Client) -> None:
    trade = keep_list(SYSTEM, None, 0, {"name": "Trade", "method": "typed"})
    keep_group(SYSTEM, None, 0, {"name": "Clubs", "price_list_id": trade.pk})
    known = keep(SYSTEM, None, 0, {"name": "Una Thorne", "email": "una@t.example"})
    twins = [keep(SYSTEM, None, 0, {"name": "Sam Lee"}) for _ in range(2)]
    sheet = (
        "number,name,email,group,price_list,on_account,note\n"
        ",Fenwick Beekeepers,club@f.example,clubs,,yes,pallets\n"
        ",Una Thorne,UNA@t.example,,Trade,,\n"
        f"{twins[1].pk},Sam Lee,sam@l.example,,,,\n"
    )
    found = send(manager, sheet, "customers")
    assert found["counts"] == {"new": 1, "changed": 2, "unchanged": 0, "wrong": 0}, found["shown"]
    assert confirm(manager, found["id"])["state"] == "done"
    club = Customer.objects.get(name="Fenwick Beekeepers")
    assert (club.group and club.group.name, club.on_account, club.note) == ("Clubs", True, "pallets")
    assert (Customer.objects.get(pk=known.pk).price_list, Customer.objects.get(pk=twins[1].pk).email) == (trade, "sam@l.example")
    assert Customer.objects.count() == 4
    lines = f"number,name,payment_days,street,city\n{club.pk},Fenwick Beekeepers,0,3 Weir Row,Larkmead\n"
    assert confirm(manager, send(manager, lines, "customers")["id"])["state"] == "done"
    club.refresh_from_db()
    assert (club.payment_days, club.address) == (0, {"street": "3 Weir Row", "city": "Larkmead"})
    emptied = f"number,name,payment_days,city\n{club.pk},Fenwick Beekeepers,(empty),Cork\n"
    assert confirm(manager, send(manager, emptied, "customers")["id"])["state"] == "done"
    club.refresh_from_db()
    assert (club.payment_days, club.address) == (None, {"street": "3 Weir Row", "city": "Cork"})
    changes_nothing(manager, "customers")
    changes_nothing(manager, "customers", sheet.encode())
    wrong = "number,name,email,group,price_list\n999999,X,,,\n,X,,Nobody,\n,Y,,,Nothing\n,Z,nomail,,\n"
    found = send(manager, wrong, "customers")
    assert [row["key"] for row in found["shown"]] == ["X", "X", "Y", "Z"], "a wrong row is named by what it says"
    assert faults(found) == [
        "number: no customer has it; leave it empty for a new one",
        "group: is no group of customers",
        "price_list: is no price list",
        "email: is no mail address",
    ]


def test_past_sales_count_as_demand_and_as_nothing_else(manager: Client) -> None:
    part = make_item("A")
    make_bundle("KIT", {part: 2})
    place, today = Location.objects.get(code="tannery-yard"), company_day(timezone.now())
    days = [today - timedelta(days=n) for n in range(1, 71)]
    lines = [f"{day},tannery yard,A,3" for day in days] + [f"{days[0]},Tannery Yard,KIT,4", f"{days[1]},Tannery Yard,KIT,400"]
    sheet = "\n".join(["day,place,sku,units", *lines])
    assert confirm(manager, send(manager, sheet, "past_sales")["id"])["state"] == "done"
    give(part, 50)
    assert not JournalEntry.objects.exclude(kind="opening").exists()
    assert on_hand("A") == 50
    past = read_past([(part.pk, place.pk)], today)
    assert past.history.series.values.sum() == 3 * 70 + 8 + 800, "a day's total is no one-off, however large"
    assert past.history.bulk == ()
    changes_nothing(manager, "past_sales")
    changes_nothing(manager, "past_sales", sheet.replace("tannery yard", "tannery-yard").encode())
    fewer = send(manager, f"day,place,sku,units\n{days[0]},Tannery Yard,A,0\n", "past_sales")
    assert fewer["counts"]["changed"] == 1
    confirm(manager, fewer["id"])
    assert PastSale.objects.get(item=part, day=days[0]).units == 0


def test_past_sales_do_not_count_twice(manager: Client) -> None:
    item = make_item("A", on_hand=5)
    today = company_day(timezone.now())
    shop = make_connection()
    begun = timezone.now() - timedelta(days=20)
    take_order(SYSTEM, incoming(shop, order_line(item, 1), placed_at=begun), timezone.now())
    lines = [
        f"{today},Tannery Yard,A,1",
        f"{company_day(begun)},Tannery Yard,A,1",
        f"{today - timedelta(days=30)},Tannery Yard,A,1",
    ]
    found = send(manager, "\n".join(["day,place,sku,units", *lines, "soon,Tannery Yard,A,1"]), "past_sales")
    assert found["counts"] == {"new": 1, "changed": 0, "unchanged": 0, "wrong": 3}
    said = company_day(begun).strftime("%-d %b %Y")
    assert faults(found) == [
        "day: is not past",
        f"day: would count twice: from {said} on orders of Tannery Yard are here",
        "day: must be a day, as 2027-03-14",
    ]


@pytest.mark.parametrize("kind", KINDS)
def test_every_sheet_has_a_template_that_names_what_is_needed(manager: Client, kind: str) -> None:
    answer = manager.get(f"/api/v1/imports/{kind}/template")
    text = b"".join(answer.streaming_content).decode("utf-8-sig")  # type: ignore[attr-defined]
    head = text.splitlines()[0].split(",")
    assert set(KINDS[kind].needed) <= set(head)
    assert head == [column.name for column in KINDS[kind].columns]


def undone(client: Client, kind: str, text: str) -> None:
    """Take a file in and undo it: everything is as it was, and nothing was made besides."""
    before = everything(client, kind)
    found = send(client, text, kind)
    assert found["counts"]["wrong"] == found["counts"]["new"] == 0, found["shown"]
    confirm(client, found["id"])
    assert everything(client, kind) != before
    back = undo(client, found["id"])
    assert back["counts"]["changed"] == back["total"], back["shown"]
    confirm(client, back["id"])
    assert everything(client, kind) == before


def test_every_sheet_is_undone_to_what_it_was(manager: Client) -> None:
    item = make_item("A", on_hand=10, cost="2.00")
    make_item("B", on_hand=1)
    undone(manager, "stock", "place,sku,on_hand,cost\ntannery-yard,A,12,3.00\nTannery Yard,B,0,\n")
    assert_invariants()

    shop = make_connection(name="Web")
    make_listing(shop, sku="S-1", external_id="v1")
    make_listing(shop, item, external_id="v2", units=3)
    undone(manager, "pairs", "connection,listing,sku,units\nWeb,S-1,B,4\nWeb,v2,B,1\n")

    una = keep(SYSTEM, None, 0, {"name": "Una Thorne", "email": "una@t.example"}).pk
    for _ in range(2):
        keep(SYSTEM, None, 0, {"name": "Sam Lee"})
    number = Customer.objects.filter(name="Sam Lee").latest("pk").pk
    undone(manager, "customers", f"number,name,email,note\n{una},Una Thorne,new@t.example,x\n{number},Sam Lee,sam@l.example,y\n")
    undone(manager, "customers", f"number,name,payment_days,street,city,country\n{una},Una Thorne,14,3 Weir Row,Larkmead,IE\n")
    assert Customer.objects.count() == 3

    base = base_list()
    prices = f"list,sku,from_quantity,price\n{base.name},A,,10.00\n{base.name},A,10,8.00\n"
    confirm(manager, send(manager, prices, "prices")["id"])
    undone(manager, "prices", f"list,sku,from_quantity,price\n{base.name},A,10,7.50\n")
    item.refresh_from_db()
    assert item.price == 10, "a break is put back, and the price of one is left alone"

    supplier = make_supplier(item, price="4.00")
    undone(manager, "supplier_items", f"supplier,sku,supplier_sku,price\n{supplier.name},A,V-1,5.00\n")

    day = company_day(timezone.now()) - timedelta(days=3)
    confirm(manager, send(manager, f"day,place,sku,units\n{day},Tannery Yard,A,3\n", "past_sales")["id"])
    undone(manager, "past_sales", f"day,place,sku,units\n{day},tannery-yard,A,5\n")


def test_rules_of_items_come_and_go_as_a_sheet(manager: Client) -> None:
    make_item("A")
    make_item("B")
    sheet = "sku,place,lead_days,cover_days,reorder_point,safety,alert_below\n"
    sheet += "a,,30,45,,days,\nA,mill-lane,,,12.5,,\nB,Mill Lane,,,,,never\nB,,,,,,\n"
    found = send(manager, sheet, "replenishment")
    assert found["counts"]["wrong"] == 0, faults(found)
    assert confirm(manager, found["id"])["state"] == "done"
    told = list(csv.DictReader(io.StringIO(everything(manager, "replenishment").decode("utf-8-sig"))))
    kept = {(row["sku"], row["place"]): {name: text for name, text in row.items() if text} for row in told}
    assert kept["A", ""] == {"sku": "A", "lead_days": "30", "cover_days": "45", "safety": "days"}
    assert kept["A", "Mill Lane"] == {"sku": "A", "place": "Mill Lane", "reorder_point": "12.5"}
    assert kept["B", "Mill Lane"]["alert_below"] == "never"
    changes_nothing(manager, "replenishment")
    changes_nothing(manager, "replenishment", sheet.rpartition("B,,")[0].encode())


def test_rules_that_cannot_be_are_refused_cell_by_cell(manager: Client) -> None:
    part = make_item("A")
    make_bundle("KIT", {part: 2})
    rows = ["ZZZ,,1", "A,Nowhere,1", "KIT,Mill Lane,1", "A,,-1", "A,Mill Lane,soon"]
    found = send(manager, "\n".join(["sku,place,lead_days", *rows]), "replenishment")
    assert faults(found) == [
        "sku: is no item of the range",
        "place: is no place of ours",
        "place: must be empty: the item is counted nowhere",
        "lead_days: Lead time must lie between 0 and 1000.",
        "lead_days: is not a number",
    ]
    found = send(manager, b"sku,reorder_point,order_up_to\nA,20,10\n", "replenishment")
    assert found["counts"]["wrong"] == 1
    assert faults(found)[0].startswith("order_up_to: ")


def test_what_channels_show_of_items_is_set_for_all_of_them_or_for_one(manager: Client) -> None:
    item, other = make_item("A", on_hand=50), make_item("B", on_hand=9)
    shop, till = make_connection("web_shop", name="Web"), make_connection("till", name="Till")
    make_listing(shop, item), make_listing(till, item), make_listing(shop, other), make_listing(shop, other)
    sheet = "sku,connection,buffer,maximum_shown\nA,,5,no limit\nA,web,,20\nB,Web,1,\nB,Till,1,\n"
    found = send(manager, sheet, "channels")
    assert faults(found) == [
        "connection: has several listings of it: set each on its own page",
        "connection: has no listing of it",
    ]
    assert confirm(manager, found["id"])["state"] == "done"
    rules = {row["name"]: row for row in manager.get(f"/api/v1/settings/listing/{shop.listings.first().pk}").json()["settings"]}
    assert (rules["buffer"]["value"], rules["buffer"]["level"]) == ("5", "item")
    assert (rules["maximum_shown"]["value"], rules["maximum_shown"]["level"]) == ("20", "listing")
    changes_nothing(manager, "channels")
    found = send(manager, b"sku,connection,maximum_shown\nA,Web,(empty)\n", "channels")
    assert confirm(manager, found["id"])["state"] == "done"
    assert SettingValue.objects.get(name="maximum_shown").level == "item", "the listing inherits again"


LOTS = b"place,sku,lot,on_hand,cost,expires_on\n"


def test_stock_is_set_lot_by_lot(manager: Client) -> None:
    place = Location.objects.get(code="tannery-yard")
    patty = make_item("PAT", expiry_tracked=True)
    rows = [
        OpeningRow(patty.pk, place.pk, D(n), D("2.00"), code, date(2027, month, 1))
        for n, code, month in ((6, "A", 5), (4, "B", 9))
    ]
    take_opening(SYSTEM, rows, NOW)
    make_item("PLAIN", on_hand=3)
    sheet = LOTS + b"tannery-yard,PAT,a,5,,\ntannery-yard,PAT,C,7,2.50,2027-12-31\n"
    found = send(manager, sheet, "stock")
    assert found["counts"] == {"new": 1, "changed": 1, "unchanged": 0, "wrong": 0}, found["shown"]
    assert confirm(manager, found["id"])["state"] == "done"
    assert {row.lot.code: row.on_hand for row in LotBalance.objects.all()} == {"A": 5, "B": 4, "C": 7}
    assert (on_hand("PAT"), Lot.objects.get(code="C").expires_on) == (16, date(2027, 12, 31))
    count = StockCount.objects.get()
    assert (count.expected, count.counted) == (10, 16), "one count of the item, whatever its lots"
    assert_invariants()
    changes_nothing(manager, "stock")
    assert confirm(manager, undo(manager, found["id"])["id"])["state"] == "done"
    assert LotBalance.objects.get(lot__code="A").on_hand == 6
    assert_invariants()


@pytest.mark.parametrize(
    "row, said",
    [
        (b"tannery-yard,PAT,,9,,", "lot: is needed: it lies there by lots"),
        (b"tannery-yard,PAT,D,9,2.00,", "expires_on: is needed: nobody has said until when the lot keeps"),
        (b"mill-lane,PAT,A,9,2.00,2027-06-01", "expires_on: is 2027-05-01 of this lot"),
        (b"tannery-yard,PLAIN,A,3,,2027-06-01", "lot: is of no use: the item is not kept by lots"),
        (b"tannery-yard,PAT,A,-1,,", "on_hand: cannot be below zero"),
        (b"tannery-yard,PAT,A,6,,2027-06-02", "expires_on: "),
    ],
)
def test_a_lot_that_cannot_be_is_marked_in_its_cell(manager: Client, row: bytes, said: str) -> None:
    place = Location.objects.get(code="tannery-yard")
    patty = make_item("PAT", expiry_tracked=True)
    take_opening(SYSTEM, [OpeningRow(patty.pk, place.pk, D(6), D("2.00"), "A", date(2027, 5, 1))], NOW)
    make_item("PLAIN", on_hand=3)
    (fault,) = faults(send(manager, LOTS + row + b"\n", "stock"))
    assert fault.startswith(said)
