"""Pictures of products: checked, made anew without what cameras add, ordered; of a product or of one of its items."""

from __future__ import annotations

import io
import threading
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from hashlib import sha256
from typing import Any

from django.db import transaction
from django.db.models import F, Max, Q, QuerySet
from PIL import Image, ImageFile, ImageOps, UnidentifiedImageError

from yuvrel.core.bounds import check_text
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.people.roles import Ability, Actor, audit

from .models import Item, Picture, Product

MOST_BYTES = 8_000_000
MOST_PIXELS = 40_000_000
MOST = 12
WIDEST, THUMB = 1600, 160
FORMATS = ("PNG", "JPEG", "WEBP", "GIF")
ALT = 200
_ONE_AT_A_TIME = threading.Lock()


def made_anew(data: bytes) -> tuple[bytes, bytes, int, int]:
    """(picture, thumbnail, width, height) as WebP, no wider or higher than 1,600 and 160 pixels, without the metadata
    that came with it. Raises BadInputError for what is no picture of a known format, or too large."""
    if len(data) > MOST_BYTES:
        raise BadInputError("The picture is larger than 8 MB.", field="file")
    try:
        with _whole_only(), Image.open(io.BytesIO(data), formats=FORMATS) as found:
            if found.width * found.height > MOST_PIXELS:
                raise BadInputError("The picture has more than 40 million pixels.", field="file")
            upright = ImageOps.exif_transpose(found)
            whole = upright.convert("RGBA" if upright.has_transparency_data else "RGB")
    except UnidentifiedImageError as error:
        raise BadInputError(f"That is no picture: {', '.join(FORMATS)} can be read.", field="file") from error
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise BadInputError("The picture cannot be read to its end; is it whole?", field="file") from error
    large = _within(whole, WIDEST)
    return _webp(large), _webp(_within(whole, THUMB)), large.width, large.height


def _within(picture: Image.Image, side: int) -> Image.Image:
    """The picture, made smaller where it is larger."""
    return ImageOps.contain(picture, (side, side)) if max(picture.size) > side else picture


@contextmanager
def _whole_only() -> Iterator[None]:
    """What is cut off is refused, whatever else in this process would take it."""
    with _ONE_AT_A_TIME:
        before, ImageFile.LOAD_TRUNCATED_IMAGES = ImageFile.LOAD_TRUNCATED_IMAGES, False
        try:
            yield
        finally:
            ImageFile.LOAD_TRUNCATED_IMAGES = before


def _webp(picture: Image.Image) -> bytes:
    kept = io.BytesIO()
    picture.save(kept, "WEBP", quality=85, method=4)
    return kept.getvalue()


@transaction.atomic
def add(actor: Actor, product_id: int, data: bytes, alt: str = "", item_id: int | None = None) -> Picture:
    """A picture more, the last in order. Raises BadInputError and RefusedError saying why it cannot be taken."""
    actor.need(Ability.EDIT_RANGE)
    # Made anew before the product is held: it takes its time.
    full, thumb, width, height = made_anew(data)
    product = Product.objects.select_for_update().filter(pk=product_id).first()
    if product is None:
        raise NotFoundError("There is no such product.")
    item = _item(product, item_id)
    if product.pictures.count() >= MOST:
        raise RefusedError(f"A product has at most {MOST} pictures. Take one away first.", field="file")
    digest = sha256(full).hexdigest()
    if product.pictures.filter(digest=digest).exists():
        raise RefusedError("This product has that picture already.", field="file")
    last = product.pictures.aggregate(at=Max("position"))["at"]
    row = Picture.objects.create(
        product=product,
        item=item,
        position=0 if last is None else last + 1,
        alt=_alt(alt) or product.title,
        full=full,
        thumb=thumb,
        width=width,
        height=height,
        digest=digest,
    )
    audit(actor, "add picture", "product", product.pk, after={"picture": row.alt})
    return row


def _alt(text: str) -> str:
    return check_text(text.strip(), "alt", most=ALT)


def _item(product: Product, item_id: int | None) -> Item | None:
    if not item_id:
        return None
    item = product.items.filter(pk=item_id).first()
    if item is None:
        raise BadInputError("That item is not one of this product.", field="item_id")
    return item


def get(picture_id: int) -> Picture:
    """A picture without its bytes. Raises NotFoundError."""
    row = Picture.objects.defer("full", "thumb").select_related("product").filter(pk=picture_id).first()
    if row is None:
        raise NotFoundError("There is no such picture.")
    return row


def data_of(picture_id: int, size: str) -> bytes:
    """The bytes of a picture, full or as a thumbnail. Raises NotFoundError."""
    kept = Picture.objects.filter(pk=picture_id).values_list("full" if size == "full" else "thumb", flat=True).first()
    if kept is None or size not in ("full", "thumb"):
        raise NotFoundError("There is no such picture.")
    return bytes(kept)


@transaction.atomic
def change(actor: Actor, picture_id: int, changes: dict[str, Any]) -> Picture:
    """Another alternative text, or the item it shows (none: the whole product). Raises BadInputError, NotFoundError."""
    actor.need(Ability.EDIT_RANGE)
    row = get(picture_id)
    before = {"picture": row.alt, "of": row.item.sku if row.item else "the product"}
    if "alt" in changes:
        row.alt = _alt(changes["alt"])
        if not row.alt:
            raise BadInputError("Say in a few words what it shows, for who cannot see it.", field="alt")
    if "item_id" in changes:
        row.item = _item(row.product, changes["item_id"])
    row.save(update_fields=["alt", "item"])
    after = {"picture": row.alt, "of": row.item.sku if row.item else "the product"}
    audit(actor, "change picture", "product", row.product_id, before, after)
    return row


@transaction.atomic
def order(actor: Actor, product_id: int, ids: Sequence[int]) -> None:
    """Put a product's pictures in order; the first stands for it everywhere. Raises BadInputError unless all are named."""
    actor.need(Ability.EDIT_RANGE)
    rows = {row.pk: row for row in Picture.objects.select_for_update().defer("full", "thumb").filter(product_id=product_id)}
    if sorted(ids) != sorted(rows):
        raise BadInputError("Name each picture of the product once.", field="ids")
    for position, pk in enumerate(ids):
        rows[pk].position = position
    Picture.objects.bulk_update(rows.values(), ["position"])
    audit(actor, "order pictures", "product", product_id, after={"pictures": ", ".join(rows[pk].alt for pk in ids)})


@transaction.atomic
def remove(actor: Actor, picture_id: int) -> None:
    """Take a picture away. Raises NotFoundError."""
    actor.need(Ability.EDIT_RANGE)
    row = get(picture_id)
    audit(actor, "take picture away", "product", row.product_id, before={"picture": row.alt})
    row.delete()


def of_product(product_id: int) -> QuerySet[Picture]:
    """A product's pictures in order, without their bytes."""
    return Picture.objects.defer("full", "thumb").filter(product_id=product_id).order_by("position", "pk")


def first_of(item_ids: Iterable[int]) -> dict[int, int]:
    """The picture that stands for each item: its own first one, else its product's; items without one are missing.

    In one query.
    """
    shown = Q(item=None) | Q(item=F("product__items"))
    rows = Picture.objects.filter(shown, product__items__in=set(item_ids)).order_by("-position", "-pk")
    found: tuple[dict[int, int], dict[int, int]] = ({}, {})
    # The first comes last and so stands; its own before its product's.
    for item, own, picture in rows.values_list("product__items", "item_id", "pk"):
        found[own is not None][item] = picture
    return found[0] | found[1]
