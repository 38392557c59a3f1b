"""Barcodes: GTIN-8, -12, -13 and -14, compared at fourteen digits (GS1 General Specifications, 7.9)."""

from __future__ import annotations

from stdnum import ean
from stdnum.exceptions import ValidationError

from .errors import BadInputError


def normal_gtin(code: str) -> str:
    """`code` as fourteen digits. Raises BadInputError naming what is wrong with it."""
    digits = ean.compact(code)
    if len(digits) not in (8, 12, 13, 14) or not digits.isdigit():
        raise BadInputError(f"Barcode {code!r} is not a GTIN of 8, 12, 13 or 14 digits.", field="barcode")
    try:
        ean.validate(digits)
    except ValidationError as error:
        expected = ean.calc_check_digit(digits[:-1])
        raise BadInputError(
            f"Barcode {code!r} has check digit {digits[-1]}; it should be {expected}.",
            field="barcode",
        ) from error
    return digits.zfill(14)


def short_gtin(gtin: str) -> str:
    """A barcode kept at fourteen digits as people write it, in the shortest form that is a GTIN.

    Check: 00012345678905 -> 012345678905, as a GTIN-12 keeps the zero that it begins with.
    """
    digits = gtin.lstrip("0")
    return digits.zfill(next(length for length in (8, 12, 13, 14) if length >= len(digits)))


def normal_sku(sku: str) -> str:
    """SKU trimmed and case-folded, the form in which two SKUs are the same."""
    return sku.strip().casefold()
