"""Pictures: what is sent is checked and made anew, ordered, described, kept by browsers, and shown where goods are read."""

from __future__ import annotations

import io
import json
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from PIL import Image, ImageFile

from tests.world import incoming, make_connection, make_item, make_supplier, make_user, order_line
from yuvrel.catalogue import pictures
from yuvrel.catalogue.models import Item, Picture
from yuvrel.catalogue.products import ProductDraft, make
from yuvrel.core.errors import BadInputError, ForbiddenError, NotFoundError, RefusedError
from yuvrel.people.models import AuditRow, Location
from yuvrel.people.roles import SYSTEM, Actor, Role
from yuvrel.sales.actions import take_order

pytestmark = pytest.mark.django_db


def drawn(form: str = "PNG", size: tuple[int, int] = (40, 30), colour: Any = (200, 30, 30), **more: Any) -> bytes:
    kept = io.BytesIO()
    Image.new("RGBA" if len(colour) == 4 else "RGB", size, colour).save(kept, form, **more)
    return kept.getvalue()


@pytest.fixture
def item(company: Location) -> Item:
    return make_item("SMK-1", on_hand=3)


@pytest.mark.parametrize("form", ["PNG", "JPEG", "WEBP", "GIF"])
def test_each_format_is_made_anew(item: Item, form: str) -> None:
    row = pictures.add(SYSTEM, item.product_id, drawn(form, (3200, 800)), "A smoker")
    assert (row.width, row.height) == (1600, 400)
    for size, wide in (("full", 1600), ("thumb", 160)):
        with Image.open(io.BytesIO(pictures.data_of(row.pk, size))) as found:
            assert (found.format, found.width) == ("WEBP", wide)


def test_what_a_camera_adds_is_gone_and_it_stands_upright(item: Item) -> None:
    exif = Image.Exif()
    exif[0x0112] = 6  # Exif 2.3, Orientation: the top is at the right
    exif[0x013B] = "Somebody"  # Artist
    row = pictures.add(SYSTEM, item.product_id, drawn("JPEG", (60, 20), exif=exif))
    assert (row.width, row.height) == (20, 60)
    with Image.open(io.BytesIO(pictures.data_of(row.pk, "full"))) as found:
        assert dict(found.getexif()) == {}
    clear = pictures.add(SYSTEM, item.product_id, drawn(colour=(1, 2, 3, 0)))
    with Image.open(io.BytesIO(pictures.data_of(clear.pk, "full"))) as found:
        assert found.mode == "RGBA"


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "no picture"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "no picture"),
        (drawn()[:60], "cannot be read to its end"),
        (b"GIF89a" + b"\xff" * 40, "no picture|cannot be read"),
        (b"x" * (pictures.MOST_BYTES + 1), "larger than 8 MB"),
        (drawn("BMP"), "no picture"),
    ],
    ids=["empty", "svg", "cut off", "a GIF of nothing", "too large", "BMP"],
)
def test_what_is_no_picture_is_refused(item: Item, monkeypatch: pytest.MonkeyPatch, data: bytes, said: str) -> None:
    # What makes the documents has this set for the whole process.
    monkeypatch.setattr(ImageFile, "LOAD_TRUNCATED_IMAGES", True)
    with pytest.raises(BadInputError, match=said) as refusal:
        pictures.add(SYSTEM, item.product_id, data)
    assert refusal.value.field == "file"
    assert not Picture.objects.exists()


def test_one_with_too_many_pixels_is_refused_before_it_is_unpacked(item: Item, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pictures, "MOST_PIXELS", 1000)
    with pytest.raises(BadInputError, match="40 million pixels"):
        pictures.add(SYSTEM, item.product_id, drawn(size=(50, 50)))


def test_pictures_are_ordered_described_and_taken_away(item: Item) -> None:
    rows = [pictures.add(SYSTEM, item.product_id, drawn(colour=(n, n, n)), f"Picture {n}") for n in range(3)]
    with pytest.raises(RefusedError, match="that picture already"):
        pictures.add(SYSTEM, item.product_id, drawn(colour=(1, 1, 1)))
    assert pictures.first_of([item.pk]) == {item.pk: rows[0].pk}
    pictures.order(SYSTEM, item.product_id, [rows[2].pk, rows[0].pk, rows[1].pk])
    assert pictures.first_of([item.pk]) == {item.pk: rows[2].pk}
    assert [row.pk for row in pictures.of_product(item.product_id)] == [rows[2].pk, rows[0].pk, rows[1].pk]
    with pytest.raises(BadInputError, match="each picture"):
        pictures.order(SYSTEM, item.product_id, [rows[0].pk])
    assert pictures.change(SYSTEM, rows[1].pk, {"alt": " Seen from above "}).alt == "Seen from above"
    with pytest.raises(BadInputError, match="who cannot see it"):
        pictures.change(SYSTEM, rows[1].pk, {"alt": " "})
    pictures.remove(SYSTEM, rows[2].pk)
    assert pictures.first_of([item.pk]) == {item.pk: rows[0].pk}
    for gone in (lambda: pictures.data_of(rows[2].pk, "full"), lambda: pictures.data_of(rows[0].pk, "huge")):
        with pytest.raises(NotFoundError):
            gone()
    told = list(AuditRow.objects.filter(subject="product").values_list("action", flat=True))
    assert {"add picture", "order pictures", "change picture", "take picture away"} <= set(told)
    with pytest.raises(ForbiddenError):
        pictures.add(Actor("Sunniva", Role.VIEWER), item.product_id, drawn())


def test_an_item_of_several_may_have_its_own(company: Location) -> None:
    draft = ProductDraft({"title": "Pen"}, options=[("Colour", ["red", "blue"])], pattern="PEN-{colour}")
    red, blue = make(SYSTEM, draft).items.order_by("pk")
    shared = pictures.add(SYSTEM, red.product_id, drawn())
    own = pictures.add(SYSTEM, red.product_id, drawn(colour=(0, 0, 200)), item_id=blue.pk)
    assert pictures.first_of([red.pk, blue.pk]) == {red.pk: shared.pk, blue.pk: own.pk}
    with pytest.raises(BadInputError, match="not one of this product"):
        pictures.change(SYSTEM, shared.pk, {"item_id": make_item().pk})
    pictures.change(SYSTEM, own.pk, {"item_id": None})
    assert pictures.first_of([blue.pk]) == {blue.pk: shared.pk}


def test_a_product_has_at_most_twelve(item: Item, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pictures, "MOST", 1)
    pictures.add(SYSTEM, item.product_id, drawn())
    with pytest.raises(RefusedError, match="at most 1"):
        pictures.add(SYSTEM, item.product_id, drawn(colour=(9, 9, 9)))


def test_they_go_over_the_wire_and_stand_in_the_sheets(item: Item, client: Client) -> None:
    client.force_login(make_user(Role.MANAGER))
    path = f"/api/v1/products/{item.product_id}/pictures"
    sent = client.post(path, {"file": SimpleUploadedFile("a.png", drawn()), "alt": "A smoker"})
    assert sent.status_code == 200, sent.content
    made = sent.json()["id"]
    kept = client.get(f"/api/v1/pictures/{made}/thumb")
    assert (kept["Content-Type"], kept["Cache-Control"]) == ("image/webp", "private, max-age=31536000, immutable")
    missing = client.get("/api/v1/pictures/999999/thumb")
    assert (missing.status_code, missing["Cache-Control"]) == (404, "no-store")
    refused = client.post(path, {"file": SimpleUploadedFile("a.png", b"text")})
    assert (refused.status_code, refused.json()["field"]) == (422, "file")
    ordered = client.put(path, json.dumps({"ids": [made]}), content_type="application/json").json()
    assert [one["alt"] for one in ordered["pictures"]] == ["A smoker"]
    make_supplier(item)
    order = take_order(SYSTEM, incoming(make_connection(), order_line(item, 1)), item.created_at).order
    for rows in ("items", "stock", "replenishment/rows?show=all"):
        assert [row["picture"] for row in client.get(f"/api/v1/{rows}").json()["rows"]] == [made], rows
    assert client.get(f"/api/v1/orders/{order.pk}").json()["lines"][0]["picture"] == made
    assert client.get(f"/api/v1/items/{item.pk}").json()["pictures"][0]["id"] == made
    client.logout()
    assert client.get(f"/api/v1/pictures/{made}/full").status_code == 401
