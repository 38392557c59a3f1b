"""Lines put on a draft by hand: an item that exists, or one made without leaving the order."""

from __future__ import annotations

from decimal import Decimal

from django.db import transaction

from yuvrel.catalogue.actions import ItemDraft, add_product
from yuvrel.catalogue.models import Item
from yuvrel.core.errors import BadInputError, NotFoundError, RefusedError
from yuvrel.core.money import ZERO
from yuvrel.people.roles import Ability, Actor, audit
from yuvrel.stock.actions import check_quantity

from .actions import lock_draft, price_at
from .models import PurchaseLine, PurchaseOrder, SupplierItem
from .suppliers import Terms, keep_terms


@transaction.atomic
def add_line(
    actor: Actor, order_id: int, version: int, item_id: int, quantity: Decimal, price: Decimal | None = None, code: str = ""
) -> PurchaseOrder:
    """An item more on a draft. Without a price it is the supplier's for that quantity; what the supplier has not sold
    yet joins what he sells, at the price given.

    Raises StaleError, NotFoundError, RefusedError for an order that was sent or has the item already, BadInputError
    naming what cannot be.
    """
    actor.need(Ability.BUY)
    order = lock_draft(order_id, version)
    item = Item.objects.filter(pk=item_id, active=True).first()
    if item is None:
        raise NotFoundError("There is no such item in use.", field="item_id")
    if quantity <= 0:
        raise BadInputError("Enter how many.", field="quantity")
    check_quantity(item, quantity, "quantity")
    if order.lines.filter(item=item).exists():
        raise RefusedError(f"{item.title} is on this order already.", field="item_id")
    terms = SupplierItem.objects.filter(supplier=order.supplier, item=item).prefetch_related("prices").first()
    if terms is None:
        terms = _sold_from_now_on(actor, order, item, price, code)
    asked = price if price is not None else price_at(list(terms.prices.all()), quantity)
    PurchaseLine.objects.create(order=order, item=item, supplier_code=terms.code, quantity=quantity, price=asked)
    order.version += 1
    order.save(update_fields=["version"])
    audit(actor, "add line", "purchase order", order.pk, after={"item": item.sku, "quantity": str(quantity), "price": str(asked)})
    return order


def _sold_from_now_on(actor: Actor, order: PurchaseOrder, item: Item, price: Decimal | None, code: str) -> SupplierItem:
    if price is None:
        raise BadInputError(f"{order.supplier.name} has not sold it yet: enter its price.", field="price")
    terms = Terms(code, pack=Decimal(1), minimum=ZERO, preferred=False, prices=[(ZERO, price)])
    return keep_terms(actor, order.supplier_id, item.pk, 0, terms)


@transaction.atomic
def add_new_item(
    actor: Actor,
    order_id: int,
    version: int,
    draft: ItemDraft,
    title: str,
    quantity: Decimal,
    price: Decimal | None,
    code: str = "",
) -> PurchaseOrder:
    """An item that does not exist yet: made with its product, put on the order and on the supplier's list, or nothing
    of it. Raises as `add_line` and `add_product` do."""
    (item,) = add_product(actor, title=title, category="", drafts=[draft])
    return add_line(actor, order_id, version, item.pk, quantity, price, code)
