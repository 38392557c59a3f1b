"""Sheets that people send in: columns read by name, each row new, changed, unchanged or wrong."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from typing import Any, Literal

from . import bounds
from .errors import BadInputError
from .gtin import normal_gtin, normal_sku, short_gtin
from .sheet_reading import Fault, Table, date_of, decimal_of
from .sheets import Cell, Numeral
from .working import plain

# What is wrong with a row, or the column that is wrong and why; empty for nothing.
Wrong = str | tuple[str, str]
Judge = Callable[[Mapping[str, Any], bool], Wrong]
Outcome = Literal["new", "changed", "unchanged", "wrong"]
MOST_LISTED = 1000
MOST_COUNTED = 10_000
EMPTY = "(empty)"
YES, NO = {"yes", "true", "1", "x"}, {"no", "false", "0", ""}


@dataclass(frozen=True)
class Column:
    """A column: `read` gives a value from a text or raises BadInputError; `text` writes it as an export does.

    An empty cell leaves what is there as it is; one that says EMPTY clears it, where `empty` is what it is then.
    `needed`: a part of what a row is known by; `tells`: another part, which may be empty. `fixed`: of a new row only;
    `folded`: the same in capitals and small letters; `told`: there for whoever reads an export, and never read in;
    `many`: what many rows may be given at once.
    """

    name: str
    words: str
    example: str
    read: Callable[[str], Any]
    text: Callable[[Any], str] = str
    needed: bool = False
    tells: bool = False
    fixed: bool = False
    folded: bool = False
    told: bool = False
    empty: Any = None
    many: bool = False

    @property
    def is_number(self) -> bool:
        """Whether its values are numbers, which a workbook holds as such."""
        return isinstance(self.read, Amount | Whole)

    def cell(self, text: str) -> Cell:
        """A text of an export as a cell; nothing where it is empty."""
        return Numeral(text) if text and self.is_number else text or None

    def differs(self, value: Any, before: str) -> bool:
        """Whether a value is another than what is there. What a row is known by never is, however it is written."""
        text = self.text(value)
        if self.needed or self.tells or text == before:
            return False
        return not (self.folded and text.casefold() == before.casefold())


def words(most: int) -> Callable[[str], str]:
    """A text of at most so many characters."""
    return lambda text: bounds.check_text(text.strip(), "", most)


@dataclass(frozen=True)
class Amount:
    """Reads a number not below zero, with decimal point or comma."""

    places: int
    below: Decimal

    def __call__(self, text: str) -> Decimal:
        """The number. Raises BadInputError."""
        value = bounds.check_number(decimal_of(text, ""), "", places=self.places, below=self.below)
        if value < 0:
            raise BadInputError("cannot be negative")
        return value


@dataclass(frozen=True)
class Whole:
    """Reads a whole number not below zero."""

    below: Decimal = bounds.MOST_UNITS

    def __call__(self, text: str) -> int:
        """The number. Raises BadInputError."""
        return int(Amount(0, self.below)(text))


whole = Whole()


def yes_or_no(text: str) -> bool:
    """yes or no."""
    folded = text.strip().casefold()
    if folded not in YES | NO:
        raise BadInputError("must be yes or no")
    return folded in YES


def one_of(*choices: str) -> Callable[[str], str]:
    """One of some words."""

    def read(text: str) -> str:
        folded = text.strip().casefold()
        if folded not in choices:
            raise BadInputError(f"must be one of {', '.join(choices)}")
        return folded

    return read


def barcodes(text: str) -> list[str]:
    """GTINs with spaces, commas or semicolons between, at fourteen digits."""
    found = set()
    for code in text.replace(",", " ").replace(";", " ").split():
        try:
            found.add(normal_gtin(code))
        except BadInputError as error:
            # The cell is shown beside the reason: it need not be said twice.
            raise BadInputError(error.detail.removeprefix(f"Barcode {code!r} ").rstrip(".")) from error
    return sorted(found)


def day(text: str) -> date:
    """A day written 2027-03-14, or as a spreadsheet keeps it."""
    try:
        found = date_of(text, "")
    except BadInputError as error:
        raise BadInputError("must be a day, as 2027-03-14") from error
    return bounds.check_day(found, "")


def said_day(value: date) -> str:
    """As it is read."""
    return value.isoformat()


def said_yes(value: bool) -> str:
    """yes or no."""
    return "yes" if value else "no"


def money(value: Decimal) -> str:
    """With two decimals."""
    return f"{value:.2f}"


def spaced(codes: Sequence[str]) -> str:
    """Barcodes as people write them."""
    return " ".join(short_gtin(code) for code in codes)


def listed(text: str) -> list[str]:
    """Words with semicolons between."""
    bounds.check_text(text, "", MOST_LISTED)
    return list(dict.fromkeys(word.strip() for word in text.split(";") if word.strip()))


def semicolons(found: Sequence[str]) -> str:
    """Words with semicolons between."""
    return "; ".join(found)


def pairs(text: str) -> dict[str, str]:
    """Options written Size=S; Colour=Sand."""
    found: dict[str, str] = {}
    # A semicolon in a value is none of those between: no name and = follows it.
    for part in re.split(r";\s*(?=[^;=]+=)", bounds.check_text(text, "", MOST_LISTED).strip().rstrip(";")):
        name, sign, value = part.partition("=")
        if not sign or not name.strip() or not value.strip():
            raise BadInputError("must be written Size=S; Colour=Sand")
        found[name.strip()] = value.strip()
    return found


def as_pairs(options: Mapping[str, str]) -> str:
    """Options as `pairs` reads them."""
    return "; ".join(f"{name}={value}" for name, value in options.items())


def counted(text: str) -> list[tuple[Decimal, str]]:
    """Quantities of things written 2 × JAR; 1 × TOOL, in the order of their names."""
    found: dict[str, tuple[Decimal, str]] = {}
    # A semicolon in a name is none of those between: no quantity and × follows it.
    for part in re.split(r";\s*(?=[\d.,]+\s*[×x*]\s)", bounds.check_text(text, "", MOST_COUNTED).strip().rstrip(";")):
        each = re.fullmatch(r"([\d.,]+)\s*[×x*]\s+(\S.*)", part.strip())
        if not each:
            raise BadInputError("must be written 2 × JAR; 1 × TOOL")
        units, name = Amount(bounds.QUANTITY_PLACES, bounds.MOST_UNITS)(each[1]), each[2].strip()
        if not units:
            raise BadInputError(f"needs more than 0 of {name}")
        if found.setdefault(name.casefold(), (units, name)) != (units, name):
            raise BadInputError(f"names {name} twice; give it a higher quantity instead")
    return [found[name] for name in sorted(found)]


def as_counted(things: Sequence[tuple[Decimal, str]]) -> str:
    """Quantities of things as `counted` reads them."""
    return "; ".join(f"{plain(units)} × {name}" for units, name in things)


def quantity(value: Decimal) -> str:
    """Without superfluous zeros."""
    return plain(value)


@dataclass(frozen=True)
class Read:
    """One row: its outcome, its values by column, and from what to what each changes."""

    line: int
    key: str
    outcome: Outcome
    values: dict[str, Any] = field(default_factory=dict)
    changes: dict[str, tuple[str, str]] = field(default_factory=dict)
    faults: tuple[Fault, ...] = ()


@dataclass(frozen=True)
class Checked:
    """A whole file checked: rows in order, and columns that are none of ours."""

    rows: tuple[Read, ...]
    unknown: tuple[str, ...]

    @property
    def counts(self) -> dict[str, int]:
        """How many rows of each outcome."""
        found = Counter(row.outcome for row in self.rows)
        return {name: found.get(name, 0) for name in ("new", "changed", "unchanged", "wrong")}


def check_rows(
    table: Table,
    columns: Sequence[Column],
    key_of: Callable[[Mapping[str, Any]], str],
    standing: Mapping[str, Mapping[str, str]],
    judge: Judge,
    known_as: Callable[[str], str] = str,
) -> Checked:
    """Each row against what stands under its key. A key may be there once.

    `standing`: by key, by column, the text an export would have. `judge` says of a row's values what is wrong with
    them as a whole, and with which column if not the first; its second argument is whether the row is new. `known_as`:
    the key of a row, from whatever else it may be known by.
    """
    known = {column.name: column for column in columns}
    unknown = tuple(name for name in table.columns if name not in known and name != "why")
    return Checked(tuple(_rows(table, known, key_of, standing, judge, known_as)), unknown)


def _rows(
    table: Table,
    known: Mapping[str, Column],
    key_of: Callable[[Mapping[str, Any]], str],
    standing: Mapping[str, Mapping[str, str]],
    judge: Judge,
    known_as: Callable[[str], str],
) -> Iterator[Read]:
    seen: dict[str, int] = {}
    for line, row in zip(table.lines, table.rows, strict=True):
        values, faults = _values(line, row, known)
        if faults:
            named = " ".join(row.get(name, "") for name, column in known.items() if column.needed)
            yield Read(line, named.strip(), "wrong", faults=tuple(faults))
            continue
        key = known_as(key_of(values))
        before = standing.get(key)
        wrong = f"stands in line {seen[key]} already" if key in seen else judge(values, before is None)
        if wrong:
            column, why = (next(iter(known)), wrong) if isinstance(wrong, str) else wrong
            yield Read(line, key, "wrong", values, faults=(Fault(line, column, row.get(column, ""), why),))
            continue
        seen[key] = line
        if before is None:
            yield Read(line, key, "new", values, {n: ("", known[n].text(v)) for n, v in values.items() if not known[n].needed})
            continue
        changes = {
            name: (before.get(name, ""), known[name].text(value))
            for name, value in values.items()
            if known[name].differs(value, before.get(name, ""))
        }
        fixed = [
            Fault(line, name, to, f"cannot be changed; it is {was or 'empty'}")
            for name, (was, to) in changes.items()
            if known[name].fixed
        ]
        if fixed:
            yield Read(line, key, "wrong", faults=tuple(fixed))
        else:
            yield Read(line, key, "changed" if changes else "unchanged", values, changes)


def _values(line: int, row: Mapping[str, str], known: Mapping[str, Column]) -> tuple[dict[str, Any], list[Fault]]:
    values: dict[str, Any] = {}
    faults = []
    for name, column in known.items():
        text = "" if column.told else row.get(name, "").strip()
        if not text:
            if column.needed:
                faults.append(Fault(line, name, "", "is needed"))
            continue
        try:
            values[name] = _cleared(column) if text.casefold() == EMPTY else column.read(text)
        except BadInputError as error:
            faults.append(Fault(line, name, text[:80], error.detail))
    return values, faults


def _cleared(column: Column) -> Any:
    if column.empty is None:
        raise BadInputError("cannot be empty")
    return column.empty


def signed(places: int, below: Decimal) -> Callable[[str], Decimal]:
    """A number that may be below zero, with decimal point or comma."""
    return lambda text: bounds.check_number(decimal_of(text, ""), "", places=places, below=below)


def sku_key(values: Mapping[str, Any]) -> str:
    """Rows that are about one item."""
    return normal_sku(values["sku"])
