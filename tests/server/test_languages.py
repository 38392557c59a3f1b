"""Texts and words in other languages: kept, refused, taken away by a translator and brought back."""

from __future__ import annotations

from typing import Any

import pytest
from django.test import Client

from tests.server.test_intake import confirm, everything, send, work
from tests.world import make_company, make_item, make_user
from yuvrel.catalogue.models import Category, Item, Product, ProductText, Word
from yuvrel.people.models import AuditRow
from yuvrel.people.roles import Role

pytestmark = pytest.mark.django_db


@pytest.fixture
def buyer(client: Client) -> Client:
    make_company()
    client.force_login(make_user(Role.BUYER))
    return client


@pytest.fixture
def smoker() -> Product:
    item = make_item("SMK-S")
    Item.objects.filter(pk=item.pk).update(options={"Wood": "Ash", "Size": "S"})
    Product.objects.filter(pk=item.product_id).update(
        title="Smoker", tags=["gift"], category=Category.objects.create(name="Fire")
    )
    return Product.objects.get(pk=item.product_id)


def put(client: Client, path: str, body: Any, status: int = 200) -> Any:
    answer = client.put(f"/api/v1/{path}", body, content_type="application/json")
    assert answer.status_code == status, answer.content
    return answer.json()


def test_a_text_is_kept_traced_and_taken_away(buyer: Client, smoker: Product) -> None:
    at = f"products/{smoker.pk}/texts/de"
    text = {"title": " Ofen ", "description": "Brennt <b>kühl</b>.<script>x()</script>"}
    page = put(buyer, at, {"version": smoker.version, **text})
    assert page["texts"] == [{"language": "de", "title": "Ofen", "description": "Brennt <strong>kühl</strong>."}]
    assert page["history"][0]["after"] == {
        "title in German": "Ofen",
        "description in German": "Brennt <strong>kühl</strong>.",
    }
    # Seen before it was changed: nothing is written over; the same again is no change.
    assert put(buyer, at, {"version": smoker.version, "title": "Herd"}, 409)["title"]
    traces = AuditRow.objects.count()
    again = {"version": page["version"], "title": "Ofen", "description": page["texts"][0]["description"]}
    assert put(buyer, at, again)["version"] == page["version"]
    assert AuditRow.objects.count() == traces
    assert put(buyer, at, {"version": page["version"]})["texts"] == []
    for field, language, body in (("title", "de", {"description": "Ohne Titel."}), ("language", "xx", {"title": "?"})):
        refused = put(buyer, f"products/{smoker.pk}/texts/{language}", {"version": page["version"] + 1, **body}, 422)
        assert refused["field"] == field


def test_words_that_recur_are_said_once(buyer: Client, smoker: Product) -> None:
    words = {row["word"]: (row["sort"], row["items"], row["said"]) for row in buyer.get("/api/v1/range/words/de").json()}
    assert words == {"Ash": ("Wood", 1, ""), "S": ("Size", 1, ""), "Fire": ("Category", 1, ""), "gift": ("Tag", 1, "")}
    assert put(buyer, "range/words/de", {"words": {"ash": "Esche", "gift": "Geschenk"}})["said"].startswith("2 translations")
    assert put(buyer, "range/words/de", {"words": {"ASH": "Esche", "gift": ""}})["said"].startswith("1 translation ")
    assert list(Word.objects.values_list("key", "said")) == [("ash", "Esche")]
    assert put(buyer, "range/words/de", {"words": {"ash": "Esche", "Ash": "Buche"}}, 422)["field"].endswith("words")
    for odd in ("", " ", "ß" * 31):
        assert put(buyer, "range/words/de", {"words": {odd: "x"}}, 422)["field"] == "words"
    # A word that nothing has any more stays, and is said to be out of use.
    Item.objects.update(options={})
    words = {row["word"]: row["sort"] for row in buyer.get("/api/v1/range/words/de").json()}
    assert words["ash"] == "not in use"


def test_a_translator_takes_them_away_and_brings_them_back(buyer: Client, smoker: Product) -> None:
    other = make_item("SMK-L")
    Item.objects.filter(pk=other.pk).update(product=smoker)
    found = send(buyer, "sku,language,title,description\nsmk-l,German,Ofen,Heiß.\n", "texts")
    assert found["counts"]["new"] == 1
    confirm(buyer, found["id"])
    text = everything(buyer, "texts")
    # It stands there by the first SKU of its product, and comes in again by any of them.
    assert b"SMK-S,de,Ofen" in text
    for again in (text, "sku,language,title\nSMK-L,de,Ofen\n"):
        assert send(buyer, again, "texts")["counts"]["unchanged"] == 1
    wrong = send(
        buyer,
        "sku,language,title,description\nX,de,Ofen,\nSMK-S,klingon,a,\nSMK-S,fr,,Chaud.\nSMK-L,de,Herd,\nSMK-S,de,Ofen,\n",
        "texts",
    )
    said = {fault[0]: fault[2] for row in wrong["shown"] for fault in row["faults"]}
    assert wrong["counts"]["wrong"] == 4
    assert said["title"] == "is needed where there is a description"
    assert said["language"].startswith("klingon is no language")
    back = buyer.post(f"/api/v1/imports/{found['id']}/undo").json()
    work(buyer, back["id"])
    confirm(buyer, back["id"])
    assert not ProductText.objects.exists()

    ProductText.objects.create(product=smoker, language="de", title="Ofen")
    text = everything(buyer, "words")
    assert b"de,Ash," in text, "what lacks a word stands there to be filled in"
    found = send(buyer, text.replace(b"de,Ash,", b"de,Ash,Esche"), "words")
    assert found["counts"] == {"new": 0, "changed": 1, "unchanged": 3, "wrong": 0}
    confirm(buyer, found["id"])
    assert Word.objects.get().said == "Esche"
    assert send(buyer, everything(buyer, "words"), "words")["counts"]["unchanged"] == 4


def test_who_only_looks_says_nothing(buyer: Client, smoker: Product) -> None:
    buyer.force_login(make_user(Role.VIEWER))
    put(buyer, f"products/{smoker.pk}/texts/de", {"version": 1, "title": "Ofen"}, 403)
    put(buyer, "range/words/de", {"words": {"ash": "Esche"}}, 403)
