"""Routes of products and items: made, changed, retired."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import File, Form, Router, Status
from ninja.files import UploadedFile

from yuvrel.core.errors import BadInputError
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Said

from . import categories, languages, pictures, products, queries
from .obstacles import obstacles
from .schemas import (
    CategoryIn,
    CategoryOut,
    ChangeProductIn,
    CombinationOut,
    DuplicateIn,
    ItemsIn,
    MakeProductIn,
    MergeIn,
    MoreItemsIn,
    ObstacleOut,
    PartsIn,
    PictureIn,
    PictureOrderIn,
    PictureOut,
    PreviewIn,
    ProductOut,
    ProductTextIn,
    RangeChoices,
    SaidWordOut,
    SaidWordsIn,
    SeenIn,
)

router = Router(tags=["range"])


def _options(body: PreviewIn) -> list[tuple[str, list[str]]]:
    return [(option.name, option.values) for option in body.options]


@router.get("/range/choices", response=RangeChoices, operation_id="range_choices")
def choices(request: HttpRequest) -> Any:
    """Categories and tax classes to choose from."""
    actor(request)
    return queries.choices()


@router.post("/products/preview", response=list[CombinationOut], operation_id="preview_items")
def preview(request: HttpRequest, body: PreviewIn, product: int | None = None) -> Any:
    """What options and a SKU pattern would make; nothing is made."""
    actor(request)
    return products.preview(product, _options(body), body.pattern)


@router.post("/products", response=ProductOut, operation_id="make_product")
def make(request: HttpRequest, body: MakeProductIn) -> Any:
    """A product with its items."""
    draft = products.ProductDraft(
        {"title": "", **body.facts()},
        body.kind,
        _options(body),
        body.pattern,
        body.price,
        body.expiry_tracked,
        body.decimals,
    )
    return queries.product_page(products.make(actor(request), draft).pk)


@router.get("/products/{int:product_id}", response=ProductOut, operation_id="get_product")
def get(request: HttpRequest, product_id: int) -> Any:
    """A product with its items."""
    actor(request)
    return queries.product_page(product_id)


@router.patch("/products/{int:product_id}", response=ProductOut, operation_id="change_product")
def change(request: HttpRequest, product_id: int, body: ChangeProductIn) -> Any:
    """Change what describes a product."""
    products.change(actor(request), product_id, body.version, body.facts())
    return queries.product_page(product_id)


@router.put("/products/{int:product_id}/texts/{language}", response=ProductOut, operation_id="keep_product_text")
def keep_text(request: HttpRequest, product_id: int, language: str, body: ProductTextIn) -> Any:
    """What a product is called and described by in another language."""
    languages.keep_text(actor(request), product_id, body.version, language, body.title, body.description)
    return queries.product_page(product_id)


@router.get("/range/words/{language}", response=list[SaidWordOut], operation_id="list_words")
def list_words(request: HttpRequest, language: str) -> Any:
    """Words that recur in the range, and how they are said in a language."""
    actor(request)
    return languages.words_in(language)


@router.put("/range/words/{language}", response=Said, operation_id="keep_words")
def keep_words(request: HttpRequest, language: str, body: SaidWordsIn) -> Any:
    """Say words in a language, for every product."""
    moved = languages.keep_words(actor(request), language, body.words)
    return {"said": f"{moved:,} {'translation' if moved == 1 else 'translations'} changed."}


@router.post("/products/{int:product_id}/items", response=ProductOut, operation_id="add_items")
def more(request: HttpRequest, product_id: int, body: MoreItemsIn) -> Any:
    """The combinations that are missing; those that are there stay."""
    draft = products.ProductDraft({}, options=_options(body), pattern=body.pattern, price=body.price)
    products.add_combinations(actor(request), product_id, body.version, draft)
    return queries.product_page(product_id)


@router.post("/products/{int:product_id}/duplicate", response=ProductOut, operation_id="duplicate_product")
def duplicate(request: HttpRequest, product_id: int, body: DuplicateIn) -> Any:
    """A product like this one."""
    return queries.product_page(products.duplicate(actor(request), product_id, body.title, body.pattern).pk)


@router.patch("/range/items", response=Said, operation_id="change_items")
def change_items(request: HttpRequest, body: ItemsIn) -> Any:
    """Change several items at once: all, or none."""
    changes = {
        item_id: {k: v for k, v in facts.model_dump(exclude_unset=True).items() if v is not None}
        for item_id, facts in body.items.items()
    }
    done = products.change_items(actor(request), changes)
    return {"said": f"{len(done)} item{'s' if len(done) != 1 else ''} saved."}


@router.put("/items/{int:item_id}/parts", response=Said, operation_id="set_parts")
def set_parts(request: HttpRequest, item_id: int, body: PartsIn) -> Any:
    """What a bundle is made of."""
    parts = [(part.item_id, part.quantity) for part in body.parts]
    item = products.set_parts(actor(request), item_id, body.version, parts, body.percent_off)
    said = f"{item.title} is made of {len(parts)} part{'s' if len(parts) != 1 else ''}"
    if body.percent_off is not None:
        said += f" and costs {item.price}" if item.price else " and has no price: one of them has none"
    return {"said": f"{said}.", "id": item.pk}


@router.post("/items/{int:item_id}/retire", response=Said, operation_id="retire_item")
def retire(request: HttpRequest, item_id: int, body: SeenIn) -> Any:
    """Take an item out of use."""
    item = products.retire(actor(request), item_id, body.version)
    return {"said": f"{item.title} is retired.", "id": item.pk}


@router.post("/items/{int:item_id}/bring-back", response=Said, operation_id="bring_item_back")
def bring_back(request: HttpRequest, item_id: int, body: SeenIn) -> Any:
    """Use a retired item again."""
    item = products.bring_back(actor(request), item_id, body.version)
    return {"said": f"{item.title} is in use again.", "id": item.pk}


@router.delete("/range/items/{int:item_id}", response={204: None}, operation_id="delete_item")
def delete(request: HttpRequest, item_id: int, version: int) -> Any:
    """Delete an item that was never used."""
    products.delete(actor(request), item_id, version)
    return Status(204, None)


@router.get("/items/{int:item_id}/obstacles", response=list[ObstacleOut], operation_id="item_obstacles")
def in_the_way(request: HttpRequest, item_id: int) -> Any:
    """What stands in the way of retiring an item."""
    actor(request)
    return obstacles(item_id)


@router.get("/categories", response=list[CategoryOut], operation_id="list_categories")
def list_categories(request: HttpRequest) -> Any:
    """The tree of categories."""
    actor(request)
    return categories.tree()


@router.post("/categories", response=list[CategoryOut], operation_id="add_category")
def add_category(request: HttpRequest, body: CategoryIn) -> Any:
    """A new category."""
    categories.keep(actor(request), None, {"name": "", **body.facts()})
    return categories.tree()


@router.patch("/categories/{int:category_id}", response=list[CategoryOut], operation_id="change_category")
def change_category(request: HttpRequest, category_id: int, body: CategoryIn) -> Any:
    """Another name or place of a category."""
    categories.keep(actor(request), category_id, body.facts())
    return categories.tree()


@router.post("/categories/{int:category_id}/merge", response=list[CategoryOut], operation_id="merge_category")
def merge_category(request: HttpRequest, category_id: int, body: MergeIn) -> Any:
    """Put all that is in a category into another."""
    categories.merge(actor(request), category_id, body.into_id)
    return categories.tree()


@router.delete("/categories/{int:category_id}", response=list[CategoryOut], operation_id="delete_category")
def delete_category(request: HttpRequest, category_id: int) -> Any:
    """Take an empty category away."""
    categories.delete(actor(request), category_id)
    return categories.tree()


@router.post("/products/{int:product_id}/pictures", response=PictureOut, operation_id="add_picture")
def add_picture(
    request: HttpRequest, product_id: int, file: UploadedFile = File(...), alt: str = Form(""), item_id: int | None = Form(None)
) -> Any:
    """A picture more of a product, or of one of its items."""
    if (file.size or 0) > pictures.MOST_BYTES:
        raise BadInputError("The picture is larger than 8 MB.", field="file")
    return pictures.add(actor(request), product_id, bytes(file.read()), alt, item_id)


@router.put("/products/{int:product_id}/pictures", response=ProductOut, operation_id="order_pictures")
def order_pictures(request: HttpRequest, product_id: int, body: PictureOrderIn) -> Any:
    """Put the pictures in order; the first stands for the product."""
    pictures.order(actor(request), product_id, body.ids)
    return queries.product_page(product_id)


@router.get("/pictures/{int:picture_id}/{size}", operation_id="picture", response={200: bytes})
def picture(request: HttpRequest, picture_id: int, size: str) -> HttpResponse:
    """The picture itself, full or thumb; what an id shows never changes, so a browser may keep it."""
    actor(request)
    answer = HttpResponse(pictures.data_of(picture_id, size), content_type="image/webp")
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@router.patch("/pictures/{int:picture_id}", response=PictureOut, operation_id="change_picture")
def change_picture(request: HttpRequest, picture_id: int, body: PictureIn) -> Any:
    """Say what a picture shows."""
    return pictures.change(actor(request), picture_id, body.model_dump(exclude_unset=True))


@router.delete("/pictures/{int:picture_id}", response={204: None}, operation_id="remove_picture")
def remove_picture(request: HttpRequest, picture_id: int) -> Any:
    """Take a picture away."""
    pictures.remove(actor(request), picture_id)
    return Status(204, None)
