"""Sheets sent in: checked, corrected, taken in, and the same again changes nothing."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from decimal import Decimal as D
from typing import Any

import openpyxl
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import transaction
from django.test import Client
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from tests.world import make_bundle, make_company, make_item, make_supplier, make_user
from yuvrel.buying.models import SupplierItem
from yuvrel.catalogue.models import Item, Product
from yuvrel.catalogue.retail import priced
from yuvrel.core.errors import BadInputError
from yuvrel.intake import actions
from yuvrel.intake.models import Intake
from yuvrel.intake.registry import KINDS
from yuvrel.people.roles import SYSTEM, Role

pytestmark = pytest.mark.django_db
HEAD = "sku,product,options,category,price,barcodes,weight_grams,tags"


@pytest.fixture
def buyer(client: Client) -> Client:
    make_company()
    client.force_login(make_user(Role.BUYER))
    return client


def send(client: Client, text: str | bytes, kind: str = "items", status: int = 200) -> Any:
    """Send a file and let the job check it."""
    data = text if isinstance(text, bytes) else text.encode()
    answer = client.post(f"/api/v1/imports/{kind}", {"file": SimpleUploadedFile("range.csv", data)})
    assert answer.status_code == status, answer.content
    return work(client, answer.json()["id"]) if status == 200 else answer.json()


def work(client: Client, import_id: int) -> Any:
    """The job's work, and what the page shows then."""
    actions.work(import_id, timezone.now)
    return client.get(f"/api/v1/imports/{import_id}").json()


def confirm(client: Client, import_id: int, status: int = 200, **body: Any) -> Any:
    answer = client.post(f"/api/v1/imports/{import_id}/confirm", body, content_type="application/json")
    assert answer.status_code == status, answer.content
    return work(client, import_id) if status == 200 else answer.json()


def everything(client: Client, kind: str = "items", form: str = "csv") -> bytes:
    return b"".join(client.get(f"/api/v1/imports/{kind}/everything", {"form": form}).streaming_content)  # type: ignore[attr-defined]


def left_out(client: Client, import_id: int) -> str:
    answer = client.get(f"/api/v1/imports/{import_id}/left-out")
    return b"".join(answer.streaming_content).decode("utf-8-sig")  # type: ignore[attr-defined]


def rows(count: int) -> list[str]:
    return [f"SMK-{n},Smoker,Size={n},Smokers,{n + 10}.50,,{n},metal; gift" for n in range(count)]


def test_five_hundred_rows_of_which_twenty_are_wrong_and_corrected(buyer: Client) -> None:
    lines = rows(500)
    for n in range(20):
        lines[n * 25] = lines[n * 25].replace(".50,,", ",5,4006381333930,") if n % 2 else lines[n * 25].replace(".50", ".5x")
    found = send(buyer, "\n".join([HEAD, *lines]))
    assert (found["state"], found["counts"]) == ("checked", {"new": 480, "changed": 0, "unchanged": 0, "wrong": 20})
    assert Item.objects.count() == 0
    wrong = [row for row in found["shown"] if row["outcome"] == "wrong"]
    assert wrong[0]["faults"] == [["price", "10.5x", "is not a number"]]
    assert confirm(buyer, found["id"], 422, whole=True)["field"] == "whole"
    done = confirm(buyer, found["id"])
    assert (done["state"], done["said"]) == ("done", "480 of 480 rows taken in, 0 unchanged, 20 left out.")
    assert (Item.objects.count(), Product.objects.count()) == (480, 1)
    assert Item.objects.get(sku="SMK-7").options == {"Size": "7"}

    left = left_out(buyer, found["id"])
    again = list(csv.DictReader(io.StringIO(left, newline="")))
    assert len(again) == 20
    assert all(row["why"] for row in again)
    fixed = [
        ",".join([f"SMK-{row['sku'].split('-')[1]}", *(row[n] for n in HEAD.split(",")[1:3]), "Smokers,12.00,,5,"])
        for row in again
    ]
    assert confirm(buyer, send(buyer, "\n".join([HEAD, *fixed]))["id"])["state"] == "done"
    assert Item.objects.count() == 500
    for text in ("\n".join([HEAD, *fixed]), everything(buyer)):
        same = send(buyer, text)
        assert (same["counts"]["unchanged"], same["counts"]["changed"]) == (same["total"], 0)


def test_a_change_shows_from_what_to_what_and_is_traced(buyer: Client) -> None:
    item = make_item("JAR", barcodes=["4006381333931"])
    text = "SKU;Price;Category;Colour\njar;12,40;Jars;red\n"
    found = send(buyer, text)
    assert found["unknown"] == ["colour"]
    assert found["shown"][0]["changes"] == [["category", "Things", "Jars"], ["price", "10.00", "12.40"]]
    confirm(buyer, found["id"], whole=True)
    item.refresh_from_db()
    assert (str(item.price), item.product.category.name) == ("12.40", "Jars")  # type: ignore[union-attr]
    history = buyer.get(f"/api/v1/products/{item.product_id}").json()["history"]
    assert {"price": "12.40"} in [row["after"] for row in history]
    assert send(buyer, text)["counts"]["unchanged"] == 1


@pytest.mark.parametrize(
    ("line", "column", "reason"),
    [
        ("A,,,,,,,", "product", "is needed for a new item"),
        (",Smoker,,,,,,", "sku", "is needed"),
        ("A,Smoker,Size,,,,,", "options", "must be written Size=S; Colour=Sand"),
        ("A,Smoker,,,-1,,,", "price", "cannot be negative"),
        ("A,Smoker,,,1.005,,,", "price", "It has more than 2 decimals."),
        ("A,Smoker,,,,12345,,", "barcodes", "is not a GTIN of 8, 12, 13 or 14 digits"),
        ("A,Smoker,,,=1+1,,,", "price", "is a formula; give its value"),
        ("JAR,Jar,,,,,1.5,", "weight_grams", "It has more than 0 decimals."),
    ],
)
def test_a_wrong_cell_is_named_with_its_reason(buyer: Client, line: str, column: str, reason: str) -> None:
    make_item("JAR")
    (row,) = send(buyer, f"{HEAD}\n{line}\n")["shown"]
    assert (row["outcome"], row["faults"][0][0], row["faults"][0][2]) == ("wrong", column, reason)


def test_rows_of_one_product_and_doubled_rows_do_not_contradict(buyer: Client) -> None:
    found = send(buyer, f"{HEAD}\nA,Smoker,,Smokers,1,,,\nB,Smoker,,Tools,1,,,\na,Smoker,,Smokers,2,,,\n")
    assert [row["faults"][0][2] for row in found["shown"] if row["outcome"] == "wrong"] == [
        "is another than in another row of the same product",
        "stands in line 2 already",
    ]


def test_it_stops_after_a_batch_and_is_taken_up_again(buyer: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(actions, "BATCH", 10)
    found = send(buyer, "\n".join([HEAD, *rows(35)]))
    real = KINDS["items"].apply
    calls: list[int] = []

    def apply(actor: Any, batch: Any) -> None:
        calls.append(len(batch))
        if len(calls) == 2:
            buyer.post(f"/api/v1/imports/{found['id']}/stop")
        real(actor, batch)

    monkeypatch.setitem(KINDS, "items", KINDS["items"].__class__(**{**vars(KINDS["items"]), "apply": apply}))
    stopped = confirm(buyer, found["id"])
    assert (stopped["state"], stopped["done"], Item.objects.count()) == ("stopped", 20, 20)
    assert confirm(buyer, found["id"])["state"] == "done"
    assert (Item.objects.count(), calls) == (35, [10, 10, 10, 5])
    assert buyer.post(f"/api/v1/imports/{found['id']}/stop").status_code == 422


def test_all_or_nothing_takes_nothing_when_a_row_cannot_be_taken_in(buyer: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(actions, "BATCH", 5)
    found = send(buyer, "\n".join([HEAD, *rows(12)]))
    make_item("SMK-9", barcodes=["4006381333931"])
    Item.objects.filter(sku="SMK-9").update(active=False)
    failed = confirm(buyer, found["id"], whole=True)
    assert (failed["state"], failed["said"]) == (
        "failed",
        "A row has become wrong since it was checked; nothing was taken in.",
    )
    text = f"{HEAD}\nA-1,Smoker,,,1,,,\nA-2,Smoker,,,1,4006381333931,,\nA-3,Smoker,,,1,,,\n"
    taken = send(buyer, text)
    failed = confirm(buyer, taken["id"], whole=True)
    assert (failed["state"], failed["said"]) == ("failed", "Barcode 4006381333931 belongs to SMK-9.")
    assert not Item.objects.filter(sku__startswith="A-").exists()
    # Without that one, the others are taken in, and what stood in its way is in the file to correct.
    done = confirm(buyer, send(buyer, text)["id"])
    assert (done["state"], done["said"]) == ("done", "2 of 3 rows taken in, 0 unchanged, 1 left out.")
    assert Item.objects.filter(sku__startswith="A-").count() == 2
    left = left_out(buyer, done["id"])
    assert "A-2" in left and "belongs to SMK-9" in left and "A-1" not in left


def test_an_error_that_nobody_foresaw_leaves_one_row_out(buyer: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    real = KINDS["items"].apply

    def apply(actor: Any, batch: Any) -> None:
        if any(row.key == "smk-3" for row in batch):
            raise RuntimeError("nobody foresaw this")
        real(actor, batch)

    monkeypatch.setitem(KINDS, "items", replace(KINDS["items"], apply=apply))
    done = confirm(buyer, send(buyer, "\n".join([HEAD, *rows(6)]))["id"])
    assert (done["state"], done["done"], done["counts"]["wrong"], Item.objects.count()) == ("done", 5, 1, 5)


def test_stopped_in_the_middle_all_or_nothing_is_nothing(buyer: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(actions, "BATCH", 5)
    found = send(buyer, "\n".join([HEAD, *rows(12)]))
    real = KINDS["items"].apply

    def apply(actor: Any, batch: Any) -> None:
        real(actor, batch)
        Intake.objects.filter(pk=found["id"]).update(stop=True)

    monkeypatch.setitem(KINDS, "items", replace(KINDS["items"], apply=apply))
    with transaction.atomic():
        assert confirm(buyer, found["id"], whole=True)["state"] == "stopped"
    assert Item.objects.count() == 0


def test_what_was_cut_off_is_taken_up_again(buyer: Client) -> None:
    found = send(buyer, "\n".join([HEAD, *rows(3)]))
    Intake.objects.filter(pk=found["id"]).update(state="applying")
    ProcrastinateJob.objects.all().delete()
    actions.take_up_again()
    actions.take_up_again()
    assert work(buyer, found["id"])["state"] == "done"


@pytest.mark.parametrize(
    ("text", "outcome", "reason"),
    [
        ("sku,options\nJAR,Size=L", "wrong", "cannot be changed; it is Size=S"),
        ("sku,kind\nJAR,service", "wrong", "cannot be changed; it is stocked"),
        ("sku,kind,options\nJAR,stocked,Size=S", "unchanged", ""),
        ("sku,category\nJAR,THINGS", "unchanged", ""),
        ("sku,price\nOLD,1", "wrong", "is retired; bring it back first"),
    ],
)
def test_what_cannot_be_changed_is_not_said_to_change(buyer: Client, text: str, outcome: str, reason: str) -> None:
    make_item("JAR", options={"Size": "S"})
    Item.objects.filter(pk=make_item("OLD").pk).update(active=False)
    found = send(buyer, text)
    assert found["counts"][outcome] == 1
    assert [fault[2] for row in found["shown"] for fault in row["faults"]] == ([reason] if reason else [])


def test_a_new_item_of_a_known_product_tells_of_the_product_too(buyer: Client) -> None:
    item = make_item("JAR")
    text = f"sku,product,category\nLID,{item.product.title},Jars\n"
    confirm(buyer, send(buyer, text)["id"])
    assert Product.objects.get().category.name == "Jars"  # type: ignore[union-attr]
    assert send(buyer, text)["counts"]["unchanged"] == 1


@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_an_export_comes_in_again_whatever_is_in_it(buyer: Client, form: str) -> None:
    """A GTIN-12 that begins with 0, values with semicolons and equals signs, a text that looks like a formula, a SKU that
    looks like a number."""
    make_item("JAR", barcodes=["012345678905"], options={"Size": "10 x 12; wide", "Lid": "a=b"}, weight_grams=420)
    make_item("=LID")
    make_item("007.50")
    found = send(buyer, everything(buyer, form=form))
    assert (found["counts"]["unchanged"], found["total"]) == (3, 3), found["shown"]


def test_templates_and_what_was_wrong_come_as_workbooks_too(buyer: Client) -> None:
    answer = buyer.get("/api/v1/imports/items/template", {"form": "xlsx"})
    sheet = openpyxl.load_workbook(io.BytesIO(b"".join(answer.streaming_content))).active  # type: ignore[attr-defined]
    assert sheet is not None
    told = dict(zip(*sheet.iter_rows(values_only=True), strict=True))
    assert (told["sku"], told["price"], told["weight_grams"], told["barcodes"]) == ("SMK-S-ASH", 32, 420, "4006381333931")
    found = send(buyer, "sku,product,price\nA-1,Thing,ten\nA-2,Thing,11\n")
    answer = buyer.get(f"/api/v1/imports/{found['id']}/left-out", {"form": "xlsx"})
    assert answer["Content-Disposition"] == 'attachment; filename="left out.xlsx"'
    sheet = openpyxl.load_workbook(io.BytesIO(b"".join(answer.streaming_content))).active  # type: ignore[attr-defined]
    assert sheet is not None
    assert [list(row) for row in sheet.iter_rows(values_only=True)][1:] == [["A-1", "Thing", "ten", "price ten is not a number"]]


def test_a_workbook_is_read_as_a_csv_is(buyer: Client) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    for line in (["Sku", "Product", "Price", "Weight grams", "Barcodes"], ["X-1", "Thing", 12.5, 420, 4006381333931], [None] * 5):
        sheet.append(line)
    into = io.BytesIO()
    book.save(into)
    found = confirm(buyer, send(buyer, into.getvalue())["id"])
    assert found["state"] == "done"
    item = Item.objects.get(sku="X-1")
    assert (str(item.price), item.weight_grams, item.barcodes.get().gtin) == ("12.50", 420, "04006381333931")
    broken = send(buyer, b"PK not a workbook")
    assert (broken["state"], broken["said"]) == ("failed", "The file cannot be read as a workbook.")
    assert "no column sku" in send(buyer, "a,b\n1,2\n", status=422)["detail"]


def test_what_suppliers_ask_comes_in_by_the_same_engine(buyer: Client) -> None:
    item, other = make_item("JAR"), make_item("LID")
    make_supplier(item, price="2.00")
    name = SupplierItem.objects.get().supplier.name
    text = f"supplier,sku,price,pack,supplier_sku\n{name},JAR,2.10,6,V-1\n{name},LID,0.40,,\nNobody,JAR,1,,\n{name},HAT,1,,\n"
    found = send(buyer, text, "supplier_items")
    assert found["counts"] == {"new": 1, "changed": 1, "unchanged": 0, "wrong": 2}
    confirm(buyer, found["id"])
    kept = SupplierItem.objects.get(item=other)
    assert [str(price.price.normalize()) for price in kept.prices.all()] == ["0.4"]
    assert SupplierItem.objects.get(item=item).code == "V-1"
    assert send(buyer, everything(buyer, "supplier_items"), "supplier_items")["counts"]["unchanged"] == 2


@pytest.mark.parametrize("kind", KINDS)
def test_a_template_is_a_file_of_its_kind(buyer: Client, kind: str) -> None:
    answer = buyer.get(f"/api/v1/imports/{kind}/template")
    text = b"".join(answer.streaming_content).decode("utf-8-sig")  # type: ignore[attr-defined]
    (row,) = csv.DictReader(io.StringIO(text, newline=""))
    for column in KINDS[kind].columns:
        assert row[column.name] == column.example
        # What is for some rows only, as the parts of a bundle, has no example.
        assert not column.example or column.text(column.read(column.example)) == column.example


def test_only_who_may_sends_a_file_in(buyer: Client) -> None:
    buyer.force_login(make_user(Role.VIEWER))
    assert send(buyer, f"{HEAD}\nA,B,,,,,,\n", status=403)["status"] == 403
    assert buyer.get("/api/v1/imports/moon/template").status_code == 404
    with pytest.raises(BadInputError):
        actions.send(SYSTEM, "items", "x", b"x" * (actions.MOST_BYTES + 1), timezone.now())
    assert not Intake.objects.exists()


BUNDLES = "sku,product,kind,price,parts,off_parts\n"


def test_bundles_come_in_a_sheet_with_their_parts_and_follow_them(buyer: Client) -> None:
    """Bundles in bundles, one that costs what its parts do less 5 %: 2 × 10 + 3 × 4 = 32.00, 30.40; two of it and one more
    piece at 10: 70.80."""
    text = BUNDLES + (
        "JAR,Jar,stocked,10,,\nTOOL,Tool,stocked,4,,\nKIT,Kit,bundle,,2 x JAR; 3 × tool,5\nBIG,Big,bundle,,2 × kit;1 × Jar,0\n"
    )
    done = confirm(buyer, send(buyer, text)["id"], whole=True)
    assert done["counts"] == {"new": 4, "changed": 0, "unchanged": 0, "wrong": 0}, done
    prices = dict(priced(Item.objects.all()).values_list("sku", "price"))
    assert (prices["KIT"], prices["BIG"]) == (D("30.40"), D("70.80"))
    for again in (text, everything(buyer)):
        same = send(buyer, again)
        assert same["counts"]["unchanged"] == 4, same["shown"]
    # The parts of one, and the price of another by itself: said from what to what, and taken back.
    found = send(buyer, BUNDLES + "kit,,,,1 × JAR; 1 × TOOL,\nBIG,,,65,,(empty)\n")
    shown = {row["key"]: row["changes"] for row in found["shown"]}
    assert shown["kit"] == [["parts", "2 × JAR; 3 × TOOL", "1 × JAR; 1 × TOOL"]]
    assert shown["BIG"] == [["price", "", "65.00"], ["off_parts", "0", ""]]
    confirm(buyer, found["id"], whole=True)
    prices = dict(priced(Item.objects.all()).values_list("sku", "price"))
    assert (prices["KIT"], prices["BIG"]) == (D("13.30"), D("65.00"))
    back = buyer.post(f"/api/v1/imports/{found['id']}/undo").json()
    work(buyer, back["id"])
    confirm(buyer, back["id"])
    prices = dict(priced(Item.objects.all()).values_list("sku", "price"))
    assert (prices["KIT"], prices["BIG"]) == (D("30.40"), D("70.80"))


@pytest.mark.parametrize(
    ("row", "column", "why"),
    [
        ("JAR,,,,2 × TOOL,", "parts", "is for bundles only"),
        ("JAR,,,,,5", "off_parts", "is for bundles only"),
        ("KIT,,,,2 × LID,", "parts", "names LID, which is no item of the range and stands nowhere above"),
        ("KIT,,,,1 × WRAP,", "parts", "names WRAP, which is a service"),
        ("KIT,,,,1 × BIG,", "parts", "holds the bundle itself"),
        ("KIT,,,,1 × JAR; 2 × jar,", "parts", "names jar twice; give it a higher quantity instead"),
        ("KIT,,,,JAR,", "parts", "must be written 2 × JAR; 1 × TOOL"),
        ("KIT,,,,0 × JAR,", "parts", "needs more than 0 of JAR"),
        ("KIT,,,,,100", "off_parts", "It is out of range: it must be below 100."),
        ("NEW,New,bundle,,,5", "off_parts", "needs parts"),
        ("KIT,,,12,,5", "price", "is what its parts cost; give the bundle a price of its own first"),
    ],
)
def test_what_no_bundle_can_be_is_wrong_in_its_cell(buyer: Client, row: str, column: str, why: str) -> None:
    jar, _, wrap = make_item("JAR"), make_item("TOOL"), make_item("WRAP", kind="service")
    assert wrap.kind == "service"
    make_bundle("BIG", {make_bundle("KIT", {jar: 2}): 1})
    found = send(buyer, BUNDLES + row + "\n")
    (fault,) = found["shown"][0]["faults"]
    assert (fault[0], fault[2]) == (column, why)
