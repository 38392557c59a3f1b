"""UBL 2.1 documents (OASIS Universal Business Language, version 2.1, 2013): Order and OrderResponse."""

from __future__ import annotations

import re
from datetime import date
from decimal import Decimal

from lxml import etree
from pydantic import Field

from yuvrel.core.bounds import check_text
from yuvrel.core.money import round_money

from .base import read
from .http import NonsenseError
from .messages import Message, SupplierAnswer

CAC = "urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
CBC = "urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2"
ORDER = "urn:oasis:names:specification:ubl:schema:xsd:Order-2"
NS = {"cac": CAC, "cbc": CBC}
# UN/ECE Recommendation 20 unit codes, as UBL asks for.
UNITS = {"pc": "C62", "pack": "PK", "kg": "KGM", "m": "MTR", "l": "LTR"}


class Party(Message):
    """Who orders or delivers."""

    name: str
    street: str = ""
    city: str = ""
    postcode: str = ""
    country: str = "IE"


class OrderedLine(Message):
    """A line of the order; the price is per unit."""

    id: str
    sku: str
    supplier_code: str = ""
    gtin: str = ""
    title: str
    quantity: Decimal
    unit: str = "pc"
    price: Decimal


class OrderDocument(Message):
    """Everything a purchase order says."""

    number: str
    issued_on: date
    currency: str
    buyer: Party
    seller: Party
    deliver_to: Party
    expected_on: date
    note: str = ""
    lines: list[OrderedLine] = Field(min_length=1)

    @property
    def total(self) -> Decimal:
        """Sum of the lines, each rounded to the cent."""
        return sum((line_amount(line) for line in self.lines), Decimal(0))


def line_amount(line: OrderedLine) -> Decimal:
    """Quantity × price, rounded half up to the cent."""
    return round_money(line.quantity * line.price)


def _add(parent: etree._Element, tag: str, text: str | None = None, **attributes: str) -> etree._Element:
    prefix, name = tag.split(":")
    element = etree.SubElement(parent, f"{{{NS[prefix]}}}{name}", attributes)
    if text is not None:
        element.text = check_text(text, name, len(text))
    return element


def _party(parent: etree._Element, role: str, party: Party) -> None:
    inner = _add(_add(parent, f"cac:{role}"), "cac:Party")
    _add(_add(inner, "cac:PartyName"), "cbc:Name", party.name)
    _address(_add(inner, "cac:PostalAddress"), party)


def _address(node: etree._Element, party: Party) -> None:
    for tag, text in (("StreetName", party.street), ("CityName", party.city), ("PostalZone", party.postcode)):
        if text:
            _add(node, f"cbc:{tag}", text)
    _add(_add(node, "cac:Country"), "cbc:IdentificationCode", party.country)


def build_order(document: OrderDocument) -> bytes:
    """The Order as XML, elements in the order the schema asks for. Raises BadInputError, naming the element, for a text
    that XML cannot carry."""
    root = etree.Element(f"{{{ORDER}}}Order", nsmap={None: ORDER, **NS})  # type: ignore[dict-item]
    _add(root, "cbc:UBLVersionID", "2.1")
    _add(root, "cbc:ID", document.number)
    _add(root, "cbc:IssueDate", document.issued_on.isoformat())
    if document.note:
        _add(root, "cbc:Note", document.note)
    _add(root, "cbc:DocumentCurrencyCode", document.currency)
    _party(root, "BuyerCustomerParty", document.buyer)
    _party(root, "SellerSupplierParty", document.seller)
    delivery = _add(root, "cac:Delivery")
    _address(_add(delivery, "cac:DeliveryAddress"), document.deliver_to)
    period = _add(delivery, "cac:RequestedDeliveryPeriod")
    _add(period, "cbc:EndDate", document.expected_on.isoformat())
    totals = _add(root, "cac:AnticipatedMonetaryTotal")
    _add(totals, "cbc:LineExtensionAmount", str(document.total), currencyID=document.currency)
    _add(totals, "cbc:PayableAmount", str(document.total), currencyID=document.currency)
    for line in document.lines:
        _order_line(root, line, document.currency)
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)


def _order_line(root: etree._Element, line: OrderedLine, currency: str) -> None:
    node = _add(_add(root, "cac:OrderLine"), "cac:LineItem")
    _add(node, "cbc:ID", line.id)
    _add(node, "cbc:Quantity", format(line.quantity.normalize(), "f"), unitCode=UNITS.get(line.unit, "C62"))
    _add(node, "cbc:LineExtensionAmount", str(line_amount(line)), currencyID=currency)
    price = _add(node, "cac:Price")
    _add(price, "cbc:PriceAmount", format(line.price.normalize(), "f"), currencyID=currency)
    item = _add(node, "cac:Item")
    _add(item, "cbc:Name", line.title)
    _add(_add(item, "cac:BuyersItemIdentification"), "cbc:ID", line.sku)
    if line.supplier_code:
        _add(_add(item, "cac:SellersItemIdentification"), "cbc:ID", line.supplier_code)
    if line.gtin:
        _add(_add(item, "cac:StandardItemIdentification"), "cbc:ID", line.gtin, schemeID="0160")


# OrderResponseCode (UN/EDIFACT 4343): accepted, accepted with amendment, refused. Any other says neither.
ACCEPTED, REFUSED = ("AP", "CA"), ("RE",)
# xsd:date allows a time zone behind the day; xsd:decimal neither exponents nor commas.
XSD_DATE = re.compile(r"(\d{4}-\d\d-\d\d)(Z|[+-]\d\d:\d\d)?")
XSD_DECIMAL = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)")


def read_order_response(document: bytes) -> SupplierAnswer:
    """The answer to an order. Raises NonsenseError, naming the element, when it is not an OrderResponse or says
    what cannot be."""
    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False)
    try:
        root = etree.fromstring(document, parser)
    except etree.XMLSyntaxError as error:
        raise NonsenseError("The supplier's answer is not XML.", field="document") from error
    if etree.QName(root).localname != "OrderResponse":
        raise NonsenseError("The supplier's answer is not a UBL OrderResponse.", field="document")

    def text(path: str, node: etree._Element = root) -> str:
        return node.findtext(path, "", NS).strip()

    code = text("cbc:OrderResponseCode")
    if code not in (*ACCEPTED, *REFUSED):
        raise NonsenseError(f"OrderResponseCode {code!r} is neither AP, CA nor RE.", field="OrderResponseCode")
    lines = {}
    for node in root.iterfind("cac:OrderLine/cac:LineItem", NS):
        sku = text("cac:Item/cac:BuyersItemIdentification/cbc:ID", node)
        if sku:
            lines[sku] = _decimal(text("cbc:Quantity", node), "Quantity")
    promised = text("cac:Delivery/cac:PromisedDeliveryPeriod/cbc:EndDate")
    return read(
        SupplierAnswer,
        {
            "order_number": text("cac:OrderReference/cbc:ID"),
            "reference": text("cbc:ID"),
            "accepted": code in ACCEPTED,
            "note": text("cbc:Note"),
            "lines": lines,
            "expected_on": _date(promised, "EndDate") if promised else None,
        },
    )


def _date(text: str, element: str) -> date:
    found = XSD_DATE.fullmatch(text)
    try:
        return date.fromisoformat(found[1] if found else text)
    except ValueError as error:
        raise NonsenseError(f"{element} {text!r} is not a date as UBL writes it.", field=element) from error


def _decimal(text: str, element: str) -> Decimal:
    if not XSD_DECIMAL.fullmatch(text):
        raise NonsenseError(f"{element} {text!r} is not a decimal number.", field=element)
    return Decimal(text)
