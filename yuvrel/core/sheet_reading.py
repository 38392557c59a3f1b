"""Tables that people send in: CSV (RFC 4180) in the dialects spreadsheets write, and workbooks (ECMA-376).

A file is looked over before it is read: how large it is unpacked, how many rows, columns, cells and characters it has.
What is beyond these bounds is refused before memory is given to it.
"""

from __future__ import annotations

import codecs
import csv
import io
import re
import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any
from xml.parsers import expat

from openpyxl import load_workbook
from openpyxl.utils import get_column_letter

from .errors import BadInputError
from .money import parse_decimal
from .sheets import MOST_ROWS, cell_text, harmless

# A table: its columns, the cells of a workbook that hold something, and the characters of all its texts.
MOST_COLUMNS, MOST_CELLS, MOST_CHARACTERS, MOST_STRINGS = 200, 3_000_000, 30_000_000, 500_000
# Cells in one row of a workbook, empty ones too: ECMA-376 has no wider sheet.
WIDEST_ROW = 16_384
# Bytes unpacked: of a sheet, of the texts it shares, and of each part that says how it is built and looks.
MOST_SHEET, MOST_SHARED, MOST_FRAME, MOST_PARTS = 250_000_000, 80_000_000, 8_000_000, 5_000
SHARED = "xl/sharedstrings.xml"
TELL_EVERY = 2_000
# What the libraries end with on a file that is no workbook, or a broken one.
UNREADABLE = (
    *(zipfile.BadZipFile, expat.ExpatError, SyntaxError, KeyError, ValueError, OSError, IndexError, TypeError),
    *(AttributeError, NotImplementedError, RuntimeError, EOFError),
)
# How far reading has come: rows done, and of how many.
Tell = Callable[[int, int], object]


@dataclass(frozen=True)
class Fault:
    """What is wrong with one value: line as a spreadsheet counts it, the column, the value, why."""

    line: int
    column: str
    value: str
    reason: str

    def __str__(self) -> str:
        return f"{self.column} {self.value or 'empty'} {self.reason}"


@dataclass(frozen=True)
class Table:
    """Rows by lower-cased column name; `lines` says where each began in the file."""

    columns: tuple[str, ...]
    rows: tuple[dict[str, str], ...]
    lines: tuple[int, ...]


def is_workbook(data: bytes) -> bool:
    """Whether it is packed as a workbook is."""
    return data[:2] == b"PK"


def read_any(data: bytes, needed: Sequence[str], tell: Tell | None = None) -> Table:
    """The table in a CSV file or in the first sheet of a workbook. Raises BadInputError as `read_table`."""
    return read_workbook(data, needed, tell) if is_workbook(data) else read_table(data, needed, tell)


def _texts_of(data: bytes, *, whole: bool = True) -> tuple[str, Iterator[list[str]], Any]:
    """The text of a CSV file, its rows as cells, and their reader. Of a beginning of it, which is not `whole`, the last letter
    may be cut in two. Raises BadInputError."""
    try:
        text = codecs.getincrementaldecoder("utf-8-sig")().decode(data, final=whole)
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    if not text.strip():
        raise BadInputError("The file is empty.", field="file")
    if "\0" in text:
        raise BadInputError("This is not a CSV file.", field="file")
    first = text.lstrip()[:100_000].splitlines()[0]
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=max(",;\t", key=first.count))
    return text, iter(reader), reader


def check_head(data: bytes, needed: Sequence[str]) -> None:
    """Whether the first row of a CSV file names the columns that are needed, each once; a workbook is looked into by who
    reads it. Raises BadInputError."""
    if not is_workbook(data):
        # The first row alone: a file of any length is looked into as quickly.
        _, rows, _ = _texts_of(data[:200_000], whole=len(data) <= 200_000)
        try:
            _columns(next(rows, []), needed)
        except csv.Error as error:
            raise BadInputError(f"The file cannot be read as CSV: {error}.", field="file") from error


def _columns(cells: Sequence[Any], needed: Sequence[str]) -> tuple[str, ...]:
    """The names of the columns. Raises BadInputError where one is missing, stands twice, or there are too many."""
    found = tuple(_plain_cell(cell).lower().replace(" ", "_") for cell in cells)
    while found and not found[-1]:
        found = found[:-1]
    if len(found) > MOST_COLUMNS:
        raise BadInputError(f"The file has {len(found):,} columns; at most {MOST_COLUMNS} are read.", field="file")
    missing = [name for name in needed if name not in found]
    if missing:
        raise BadInputError(f"The file has no column {', '.join(missing)}.", field="file")
    twice = sorted({name for name in found if name and found.count(name) > 1})
    if twice:
        raise BadInputError(f"The column {', '.join(twice)} stands twice. Leave one of the two out.", field="file")
    return found


def read_table(data: bytes, needed: Sequence[str], tell: Tell | None = None) -> Table:
    """The table in a CSV file: UTF-8 (with or without byte-order mark) or Latin-1; comma, semicolon
    or tab between values. Raises BadInputError when it is empty, too long, lacks a column or has one twice."""
    text, found, reader = _texts_of(data)
    try:
        header = _columns(next(found), needed)
        rows, lines = [], []
        start, total = reader.line_num + 1, max(1, text.count("\n"))
        for cells in found:
            if any(cell.strip() for cell in cells):
                _check_width(cells, start)
                rows.append({name: _plain_cell(cell) for name, cell in zip(header, cells, strict=False)})
                lines.append(start)
            start = reader.line_num + 1
            if len(rows) > MOST_ROWS:
                raise BadInputError(f"The file has more than {MOST_ROWS:,} rows.", field="file")
            if tell and len(rows) % TELL_EVERY == 0:
                tell(min(start, total), total)
    except csv.Error as error:
        raise BadInputError(f"The file cannot be read as CSV: {error}.", field="file") from error
    if not rows:
        raise BadInputError("The file has a header and no rows.", field="file")
    return Table(header, tuple(rows), tuple(lines))


def _check_width(cells: Sequence[Any], line: int) -> None:
    if len(cells) > WIDEST_ROW:
        raise BadInputError(f"Line {line} has {len(cells):,} cells.", field="file")


def read_workbook(data: bytes, needed: Sequence[str], tell: Tell | None = None) -> Table:
    """The table in the first sheet of a workbook, read row by row; values as the texts a CSV would have: a day that is
    kept as one is written 2027-03-14.

    Raises BadInputError when it cannot be read, is empty, larger than any table, lacks a column or has one twice, or holds a
    formula whose value was never worked out.
    """
    try:
        _check_parts(data)
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        shape = _shape(data, str(sheet._worksheet_path))  # type: ignore[union-attr, attr-defined]
        found = sheet.iter_rows(max_row=max(1, shape.rows), max_col=max(1, shape.columns), values_only=True)
        header = _columns(next(found, ()), needed)
        rows, lines = [], []
        for line, cells in enumerate(found, 2):
            texts = [_plain_cell(cell) for cell in cells]
            if any(texts):
                rows.append(dict(zip(header, texts, strict=False)))
                lines.append(line)
            if len(rows) > MOST_ROWS:
                raise BadInputError(f"The file has more than {MOST_ROWS:,} rows.", field="file")
            if tell and line % TELL_EVERY == 0:
                tell(line, shape.rows)
    except BadInputError:
        raise
    except UNREADABLE as error:
        raise BadInputError("The file cannot be read as a workbook.", field="file") from error
    if not rows:
        raise BadInputError("The file has a header and no rows.", field="file")
    return Table(header, tuple(rows), tuple(lines))


def _check_parts(data: bytes) -> None:
    """What a workbook says its parts unpack to; no more than that is ever unpacked of them."""
    with zipfile.ZipFile(io.BytesIO(data)) as parts:
        names = parts.infolist()
        if len(names) > MOST_PARTS:
            raise BadInputError(f"The workbook has {len(names):,} parts.", field="file")
        for part in names:
            name = part.filename.lower()
            most = MOST_SHEET if name.startswith("xl/worksheets/") else MOST_SHARED if name == SHARED else MOST_FRAME
            read = name.endswith((".xml", ".rels")) and not name.startswith(("xl/drawings/", "xl/charts/", "xl/pivot"))
            if read and part.file_size > most:
                said = f"{part.file_size / 1e6:,.0f} MB unpacked; at most {most / 1e6:,.0f} MB are read"
                raise BadInputError(f"A part of the workbook has {said}. Split it, or save it as CSV.", field="file")
        shared = next((part for part in names if part.filename.lower() == SHARED), None)
        if shared is not None:
            _walk(parts, shared.filename, _Strings())


@dataclass
class _Walker:
    """Follows a part's tags, without keeping them."""

    characters: int = 0

    def start(self, tag: str, said: Mapping[str, str]) -> None:
        """A tag begins."""

    def end(self, tag: str) -> None:
        """A tag ends."""

    def text(self, text: str) -> None:
        """Text between tags: all of it together is bounded."""
        self.characters += len(text)
        if self.characters > MOST_CHARACTERS:
            raise BadInputError(f"The workbook has more than {MOST_CHARACTERS:,} characters.", field="file")


@dataclass
class _Strings(_Walker):
    """The texts that cells share."""

    count: int = 0

    def start(self, tag: str, said: Mapping[str, str]) -> None:
        """Counts the texts."""
        if tag == "si":
            self.count += 1
            if self.count > MOST_STRINGS:
                raise BadInputError(f"The workbook has more than {MOST_STRINGS:,} texts.", field="file")


@dataclass
class _Shape(_Walker):
    """How far a sheet reaches: its last row and column with something in it."""

    rows: int = 0
    columns: int = 0
    cells: int = 0
    row: int = 0
    column: int = 0
    formula: bool = False
    value: bool = False
    within: bool = False
    unworked: list[str] = field(default_factory=list)

    def start(self, tag: str, said: Mapping[str, str]) -> None:
        """A row, a cell, its formula or its value."""
        if tag == "c":
            self._cell(said.get("r"))
        elif tag in ("v", "t"):
            self.within = True
        elif tag == "f":
            self.formula = True
        elif tag == "row":
            given = said.get("r")
            self.row, self.column = int(given) if given else self.row + 1, 0

    def text(self, text: str) -> None:
        """A value is there where something stands in it: programs write an empty one beside a formula."""
        super().text(text)
        self.value = self.value or (self.within and bool(text))

    def _cell(self, given: str | None) -> None:
        self.cells += 1
        self.formula = self.value = self.within = False
        if given:
            letters = given.rstrip("0123456789")
            at = 0
            for letter in letters[:4].upper():
                at = at * 26 + ord(letter) - 64
            self.column = at
        else:
            self.column += 1
        if self.column > WIDEST_ROW or self.cells > MOST_CELLS:
            said = f"more than {MOST_CELLS:,} cells, or a row of more than {WIDEST_ROW:,}"
            raise BadInputError(f"The workbook has {said}.", field="file")

    def end(self, tag: str) -> None:
        """What a cell was found to hold."""
        if tag in ("v", "t"):
            self.within = False
        if tag != "c":
            return
        if self.formula and not self.value and len(self.unworked) < 5:
            self.unworked.append(f"{get_column_letter(max(1, self.column))}{self.row}")
        if self.value:
            if self.row > MOST_ROWS + 1:
                said = f"more than {MOST_ROWS:,} rows: something stands in row {self.row:,}"
                raise BadInputError(f"The file has {said}.", field="file")
            if self.column > MOST_COLUMNS:
                where = f"{get_column_letter(self.column)}{self.row}"
                raise BadInputError(f"The file has more than {MOST_COLUMNS} columns: something stands in {where}.", field="file")
            self.rows, self.columns = max(self.rows, self.row), max(self.columns, self.column)


def _shape(data: bytes, part: str) -> _Shape:
    """How far the sheet in that part reaches. Raises BadInputError where it is beyond what is read, or holds formulas that
    nobody has worked out."""
    found = _Shape()
    with zipfile.ZipFile(io.BytesIO(data)) as parts:
        _walk(parts, part.lstrip("/"), found)
    if found.unworked:
        said = f"{', '.join(found.unworked)}: a formula without its value"
        raise BadInputError(f"{said}. Open the file in a spreadsheet and save it, or give the values.", field="file")
    return found


def _walk(parts: zipfile.ZipFile, name: str, walker: _Walker) -> None:
    """Follow a part of a workbook from its first tag to its last. Raises BadInputError where it declares entities."""
    parser = expat.ParserCreate(namespace_separator=" ")
    parser.buffer_text = True
    plain: dict[str, str] = {}

    def bare(tag: str) -> str:
        found = plain.get(tag)
        if found is None:
            found = plain[tag] = tag.rpartition(" ")[2]
        return found

    def refuse(*_: object) -> None:
        raise BadInputError("The workbook declares entities, which no workbook needs.", field="file")

    parser.StartElementHandler = lambda tag, said: walker.start(bare(tag), said)
    parser.EndElementHandler = lambda tag: walker.end(bare(tag))
    parser.CharacterDataHandler = walker.text
    parser.EntityDeclHandler = refuse
    with parts.open(name) as stream:
        parser.ParseFile(stream)


def _plain_cell(cell: Any) -> str:
    """A whole number that a workbook keeps with a point is written without it, and a day without the hours it does not have."""
    if isinstance(cell, str):
        text = cell.strip()
        # The apostrophe that keeps a text from being taken for a formula is no part of it.
        return text[1:] if text.startswith("'") and harmless(text[1:]) == text else text
    if isinstance(cell, float) and cell.is_integer():
        cell = int(cell)
    if isinstance(cell, datetime) and cell.time() == time(0):
        cell = cell.date()
    return cell_text(cell).strip()


def decimal_of(text: str, column: str) -> Decimal:
    """A number with decimal point or comma; thousands separators are refused where they are unclear."""
    plain = text.replace("\u00a0", "").replace(" ", "")
    if plain.startswith("="):
        raise BadInputError("is a formula; give its value", field=column)
    if "," in plain and "." in plain:
        raise BadInputError("has both a comma and a point; write it without thousands separators", field=column)
    if re.fullmatch(r"\d{4}-\d\d-\d\d", plain):
        raise BadInputError("is a day, not a number: give the column the format of a number", field=column)
    try:
        return parse_decimal(plain.replace(",", "."), column)
    except BadInputError as error:
        raise BadInputError("is not a number", field=column) from error


# Days of a workbook count from here, whose 1900 is a leap year (ECMA-376 part 1, 18.17.4.1).
BEGIN = date(1899, 12, 30).toordinal()


def date_of(text: str, column: str) -> date:
    """A date as YYYY-MM-DD, with or without a midnight behind it, or as the number of days that a spreadsheet keeps a day as
    and shows where a cell has no format. Raises BadInputError."""
    plain = text.strip().removesuffix(" 00:00:00").removesuffix("T00:00:00")
    try:
        if re.fullmatch(r"\d{5}", plain):
            return date.fromordinal(BEGIN + int(plain))
        return date.fromisoformat(plain)
    except ValueError as error:
        raise BadInputError("is not a date like 2027-03-14", field=column) from error
