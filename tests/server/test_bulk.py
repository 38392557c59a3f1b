"""One thing about many items changed at once: rehearsed, taken in, undone as one step; and any file undone likewise."""

from __future__ import annotations

from typing import Any

import pytest
from django.test import Client

from tests.server.test_intake import confirm, send, work
from tests.world import make_company, make_item, make_user
from yuvrel.catalogue.models import Item, Product, TaxClass
from yuvrel.catalogue.sheet import COLUMNS
from yuvrel.core.rules import Level
from yuvrel.intake import actions
from yuvrel.intake.models import Intake
from yuvrel.people.models import AuditRow
from yuvrel.people.roles import Role
from yuvrel.rules.models import SettingValue

pytestmark = pytest.mark.django_db


@pytest.fixture
def buyer(client: Client) -> Client:
    make_company()
    client.force_login(make_user(Role.BUYER))
    for sku in ("SMK-1", "SMK-2", "JAR-1"):
        make_item(sku)
    return client


def ask(client: Client, column: str, text: str, status: int = 200, **which: Any) -> Any:
    """Ask for a change of many, and let the job check it."""
    body = {"column": column, "text": text, **which}
    answer = client.post("/api/v1/range/items/many", body, content_type="application/json")
    assert answer.status_code == status, answer.content
    return work(client, answer.json()["id"]) if status == 200 else answer.json()


def undo(client: Client, import_id: int, status: int = 200) -> Any:
    """Ask for a file to be undone, and let the job check it."""
    answer = client.post(f"/api/v1/imports/{import_id}/undo")
    assert answer.status_code == status, answer.content
    return work(client, answer.json()["id"]) if status == 200 else answer.json()


def brands() -> dict[str, str]:
    return dict(Item.objects.order_by("sku").values_list("sku", "product__brand"))


def test_those_that_are_chosen_are_changed_and_changed_back(buyer: Client) -> None:
    Product.objects.filter(items__sku="SMK-1").update(brand="Old")
    ids = list(Item.objects.filter(sku__startswith="SMK").values_list("pk", flat=True))
    found = ask(buyer, "brand", "Varga", ids=ids)
    assert found["name"] == "Brand of 2 items: Varga"
    assert [row["changes"] for row in found["shown"]] == [[["brand", "Old", "Varga"]], [["brand", "", "Varga"]]]
    assert brands() == {"JAR-1": "", "SMK-1": "Old", "SMK-2": ""}, "seen before anything is changed"
    done = confirm(buyer, found["id"])
    assert (done["undo_rows"], done["undone"]) == (2, False)
    assert brands() == {"JAR-1": "", "SMK-1": "Varga", "SMK-2": "Varga"}
    assert AuditRow.objects.filter(action="change product").count() == 2

    back = undo(buyer, found["id"])
    assert back["counts"]["changed"] == 2
    assert buyer.get(f"/api/v1/imports/{found['id']}").json()["undone"] is True
    confirm(buyer, back["id"])
    assert brands() == {"JAR-1": "", "SMK-1": "Old", "SMK-2": ""}, "what was empty is empty again"
    assert undo(buyer, found["id"], 422)["detail"] == "This was undone already, or is about to be."
    # Undone, and undone again: as it was after the first.
    confirm(buyer, undo(buyer, back["id"])["id"])
    assert brands()["SMK-2"] == "Varga"


def test_all_that_a_filter_finds_are_changed(buyer: Client) -> None:
    reduced = TaxClass.objects.create(name="Reduced", percent="9")
    found = ask(buyer, "tax_class", "reduced", found={"q": "SMK"})
    assert found["counts"]["changed"] == 2
    confirm(buyer, found["id"])
    assert set(Product.objects.filter(tax_class=reduced).values_list("items__sku", flat=True)) == {"SMK-1", "SMK-2"}
    everything = ask(buyer, "weight_grams", "420", found={})
    assert everything["counts"]["changed"] == 3


def test_empty_clears_what_can_be_empty(buyer: Client) -> None:
    Product.objects.update(tags=["metal"], note="fragile")
    for column in ("tags", "note", "category"):
        confirm(buyer, ask(buyer, column, " ")["id"])
    assert set(Product.objects.values_list("note", "category")) == {("", None)}
    assert all(tags == [] for tags in Product.objects.values_list("tags", flat=True))
    assert ask(buyer, "price", "", 422)["field"] == "text"


@pytest.mark.parametrize(
    ("column", "text", "field"),
    [
        ("sku", "x", "column"),
        ("barcodes", "4006381333931", "column"),
        ("nothing", "x", "column"),
        ("price", "1,2,3", "text"),
        ("price", "-1", "text"),
        ("internal", "perhaps", "text"),
        ("length_mm", "100001", "text"),
    ],
)
def test_what_no_item_could_have_is_refused_at_once(buyer: Client, column: str, text: str, field: str) -> None:
    assert ask(buyer, column, text, 422)["field"] == field
    assert not Intake.objects.exists()


def test_what_a_formula_would_look_like_stays_what_was_typed(buyer: Client) -> None:
    confirm(buyer, ask(buyer, "note", "=1+1")["id"])
    assert set(Product.objects.values_list("note", flat=True)) == {"=1+1"}


def test_no_item_and_too_many_are_refused(buyer: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    assert ask(buyer, "brand", "x", 422, found={"q": "nothing like it"})["field"] == "ids"
    monkeypatch.setattr("yuvrel.stock.api.MOST_MANY", 2)
    assert ask(buyer, "brand", "x", 422)["field"] == "found"


def test_a_file_is_undone_row_by_row_and_what_was_new_stays(buyer: Client) -> None:
    found = send(buyer, "sku,product,price,barcodes\nSMK-1,,12.50,4006381333931\nNEW-1,New thing,5.00,\nSMK-2,,10.00,\n")
    assert found["counts"] == {"new": 1, "changed": 1, "unchanged": 1, "wrong": 0}
    done = confirm(buyer, found["id"])
    assert done["undo_rows"] == 1
    back = undo(buyer, found["id"])
    assert [row["changes"] for row in back["shown"]] == [[["price", "12.50", "10.00"], ["barcodes", "4006381333931", ""]]]
    confirm(buyer, back["id"])
    item = Item.objects.get(sku="SMK-1")
    assert (item.price, item.barcodes.count()) == (10, 0)
    assert Item.objects.filter(sku="NEW-1").exists()


def test_what_was_stopped_is_undone_as_far_as_it_came(buyer: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(actions, "BATCH", 1)
    found = ask(buyer, "brand", "Varga", found={})
    real = actions._is_stopped
    taken = iter([False, False, True])
    monkeypatch.setattr(actions, "_is_stopped", lambda row: next(taken))
    stopped = confirm(buyer, found["id"])
    assert (stopped["state"], stopped["undo_rows"]) == ("stopped", 2)
    monkeypatch.setattr(actions, "_is_stopped", real)
    confirm(buyer, undo(buyer, found["id"])["id"])
    assert set(brands().values()) == {""}


def test_nothing_to_undo_is_refused(buyer: Client) -> None:
    found = send(buyer, "sku,product,price\nNEW-1,New thing,5.00\n")
    assert undo(buyer, found["id"], 422)["detail"] == "Nothing was changed by this file."
    confirm(buyer, found["id"])
    assert undo(buyer, found["id"], 422)["detail"] == "Nothing was changed by this file."


def test_who_may_not_change_the_range_may_not_change_many(client: Client) -> None:
    make_company()
    make_item("A")
    client.force_login(make_user(Role.VIEWER))
    assert ask(client, "brand", "x", 403)["detail"].startswith("As viewer you may not")


def test_what_can_be_changed_for_many_is_declared_with_the_columns(buyer: Client) -> None:
    (kind,) = [one for one in buyer.get("/api/v1/imports/kinds").json() if one["name"] == "items"]
    many = [column.name for column in COLUMNS if column.many]
    assert [column["name"] for column in kind["columns"] if column["many"]] == many
    assert {"sku", "barcodes", "product"}.isdisjoint(many)


def values(name: str) -> dict[tuple[str, str], Any]:
    """What is set of a setting, by SKU and level."""
    skus = dict(Item.objects.values_list("pk", "sku"))
    rows = SettingValue.objects.filter(name=name, level__in=(Level.ITEM, Level.ITEM_AT_PLACE))
    return {(skus[row.subject], row.level): row.value for row in rows}


def test_a_rule_of_many_items_is_set_and_inherited_again_as_one_step(buyer: Client) -> None:
    ids = list(Item.objects.filter(sku__startswith="SMK").values_list("pk", flat=True))
    first = ask(buyer, "lead_days", "30", ids=ids, kind="replenishment")
    assert [row["changes"] for row in first["shown"]] == [[["lead_days", "", "30"]]] * 2
    assert first["name"] == "Lead days of 2 items: 30"
    assert values("lead_days") == {}, "seen before anything is changed"
    confirm(buyer, first["id"])
    assert values("lead_days") == {("SMK-1", "item"): 30, ("SMK-2", "item"): 30}
    second = ask(buyer, "lead_days", "45", ids=[Item.objects.get(sku="SMK-1").pk], kind="replenishment")
    confirm(buyer, second["id"])
    assert values("lead_days")["SMK-1", "item"] == 45
    there = ask(buyer, "reorder_point", "12,5", ids=ids[:1], kind="replenishment", beside="mill lane")
    confirm(buyer, there["id"])
    assert values("reorder_point") == {("SMK-1", "item at a place"): "12.5"}

    back = undo(buyer, second["id"])
    confirm(buyer, back["id"])
    assert values("lead_days") == {("SMK-1", "item"): 30, ("SMK-2", "item"): 30}
    back = undo(buyer, first["id"])
    confirm(buyer, back["id"])
    assert values("lead_days") == {}, "what was inherited before is inherited again"
    assert ask(buyer, "lead_days", "30", 422, ids=ids, kind="pairs")["field"] == "kind"
    assert ask(buyer, "lead_days", "1001", 422, ids=ids, kind="replenishment")["field"] == "text"
    assert ask(buyer, "brand", "x", 422, ids=ids, beside="Mill Lane")["field"] == "beside"
    wrong = ask(buyer, "lead_days", "3", ids=ids, kind="replenishment", beside="Nowhere")
    assert wrong["counts"]["wrong"] == 2
    assert ask(buyer, "buffer", "3", 403, ids=ids, kind="channels")["detail"].startswith("As buyer you may not")
