"""What may come in at all: the bounds of times, amounts, counts and texts, said once.

Whatever passes here fits the column it is kept in, the sums it becomes part of and the documents it is written on.
What does not pass is refused with its field, or set aside; it is never changed to fit.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

from .errors import BadInputError

# Something that happened: a sale, an order, a move. Clocks may be a little fast, no more.
EARLIEST = datetime(1990, 1, 1, tzinfo=UTC)
AHEAD = timedelta(days=1)
# Something that is to come: a promise, an expiry, a price.
LAST_DAY = date(2100, 12, 31)

# Units on one line, and units of anything at one place. Stock adds up to more, its columns hold a million times as many.
MOST_UNITS = Decimal(10) ** 7
# Money on one line or one price, and of a document as a whole.
MOST_MONEY = Decimal(10) ** 9
# What one of something costs: with MOST_UNITS of it, what they come to still fits everywhere.
MOST_PRICE = Decimal(10) ** 7
MOST_TOTAL = Decimal(10) ** 12
QUANTITY_PLACES = 3
MONEY_PLACES = 2
UNIT_COST_PLACES = 6

LINES = 5000
DEPTH = 32
# The texts of an order, an item, a listing, by what they are.
CODE, NAME, TITLE, NOTE = 60, 160, 200, 2000

# XML 1.0, 2.2: what is no character of a document. A workbook is XML as well, and a database's text has no U+0000.
NOT_A_CHARACTER = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff\ufffe\uffff]")


def check_text(text: str, field: str, most: int) -> str:
    """`text` itself. Raises BadInputError when it is longer than `most` or holds what is no character of a text."""
    if len(text) > most:
        raise BadInputError(f"It has {len(text)} characters; at most {most} can be kept.", field=field)
    found = NOT_A_CHARACTER.search(text)
    if found:
        raise BadInputError(f"A text holds the character U+{ord(found[0]):04X}, which cannot be kept. Take it out.", field=field)
    return text


def check_number(value: Decimal, field: str, *, places: int, below: Decimal) -> Decimal:
    """`value` itself. Raises BadInputError unless it is finite, smaller than `below` either side of zero and has no
    more than `places` decimals."""
    if not value.is_finite():
        raise BadInputError("It is not a finite number.", field=field)
    if abs(value) >= below:
        raise BadInputError(f"It is out of range: it must be below {below:,f}.", field=field)
    exponent = value.as_tuple().exponent
    if isinstance(exponent, int) and exponent < -places and value != round(value, places):
        raise BadInputError(f"It has more than {places} decimals.", field=field)
    return value


def check_quantity(value: Decimal, field: str = "quantity") -> Decimal:
    """Units of anything. Raises BadInputError."""
    return check_number(value, field, places=QUANTITY_PLACES, below=MOST_UNITS)


def check_money(value: Decimal, field: str = "amount") -> Decimal:
    """Money of a line or a price. Raises BadInputError."""
    return check_number(value, field, places=MONEY_PLACES, below=MOST_MONEY)


def check_total(value: Decimal, field: str = "total") -> Decimal:
    """Money of a document. Raises BadInputError."""
    return check_number(value, field, places=MONEY_PLACES, below=MOST_TOTAL)


def check_happened(at: datetime, field: str, now: datetime | None = None) -> datetime:
    """A time at which something happened: from 1990 to a day after `now`, or to the end of 2100 where no `now` is given.

    Raises BadInputError.
    """
    last = now + AHEAD if now else datetime(LAST_DAY.year, 12, 31, tzinfo=UTC)
    if not EARLIEST <= at <= last:
        raise BadInputError(f"{at.isoformat()} is not a possible time: it must lie between 1990 and tomorrow.", field=field)
    return at


def check_day(day: date, field: str) -> date:
    """A day that is to come or has been: from 1990 to 2100. Raises BadInputError."""
    if not EARLIEST.date() <= day <= LAST_DAY:
        raise BadInputError(f"{day.isoformat()} is out of range: a day lies between 1990 and 2100.", field=field)
    return day


def texts(value: Any) -> Iterator[str]:
    """Every text in data as JSON gives it, names of fields too; without recursion, however deep it is."""
    left = [value]
    while left:
        one = left.pop()
        if isinstance(one, str):
            yield one
        elif isinstance(one, dict):
            left.extend(one.keys())
            left.extend(one.values())
        elif isinstance(one, list):
            left.extend(one)


# What brackets in JSON are told from: those within a text are none.
JSON_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[\[\]{}]', re.DOTALL)


def is_deep(text: str, most: int = DEPTH) -> bool:
    """Whether JSON is nested deeper than `most`; looked at without reading it, which would run out of stack."""
    # Cheaply known to be shallow: most is.
    if text.count("[") + text.count("{") <= most:
        return False
    at = 0
    for token in JSON_TOKEN.finditer(text):
        at += {"[": 1, "{": 1, "]": -1, "}": -1}.get(token[0], 0)
        if at > most:
            return True
    return False


def depth(value: Any) -> int:
    """How deep data as JSON gives it is nested; 0 for a single value."""
    deepest, left = 0, [(value, 0)]
    while left:
        one, at = left.pop()
        deepest = max(deepest, at)
        if isinstance(one, dict):
            left.extend((inner, at + 1) for inner in one.values())
        elif isinstance(one, list):
            left.extend((inner, at + 1) for inner in one)
    return deepest
