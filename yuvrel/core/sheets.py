"""Tables people make and take: CSV (RFC 4180) in the dialects spreadsheets write, workbooks, row faults by name."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import IO, Any

from openpyxl import Workbook, load_workbook
from openpyxl.cell import Cell as BookCell
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter

from .bounds import NOT_A_CHARACTER
from .errors import BadInputError
from .money import parse_decimal

MOST_ROWS = 100_000
WIDEST = 60
Cell = str | int | float | Decimal | date | datetime | bool | None


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


def read_table(data: bytes, needed: Sequence[str]) -> Table:
    """The table in a CSV file: UTF-8 (with or without byte-order mark) or Latin-1; comma, semicolon
    or tab between values. Raises BadInputError when it is empty, too long or lacks a column."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    if not text.strip():
        raise BadInputError("The file is empty.", field="file")
    if "\0" in text:
        raise BadInputError("This is not a CSV file.", field="file")
    first = text.lstrip().splitlines()[0]
    delimiter = max(",;\t", key=first.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        header = tuple(cell.strip().lower().replace(" ", "_") for cell in next(reader))
        missing = [name for name in needed if name not in header]
        if missing:
            raise BadInputError(f"The file has no column {', '.join(missing)}.", field="file")
        rows, lines = [], []
        start = reader.line_num + 1
        for cells in reader:
            if any(cell.strip() for cell in cells):
                rows.append({name: _plain_cell(cell) for name, cell in zip(header, cells, strict=False)})
                lines.append(start)
            start = reader.line_num + 1
            if len(rows) > MOST_ROWS:
                raise BadInputError(f"The file has more than {MOST_ROWS} rows.", field="file")
    except csv.Error as error:
        raise BadInputError(f"The file cannot be read as CSV: {error}.", field="file") from error
    if not rows:
        raise BadInputError("The file has a header and no rows.", field="file")
    return Table(header, tuple(rows), tuple(lines))


def read_any(data: bytes, needed: Sequence[str]) -> Table:
    """The table in a CSV file or in the first sheet of a workbook. Raises BadInputError as `read_table`."""
    return read_workbook(data, needed) if data[:2] == b"PK" else read_table(data, needed)


def read_workbook(data: bytes, needed: Sequence[str]) -> Table:
    """The table in the first sheet of a workbook, read row by row; values as the texts a CSV would have.

    Raises BadInputError when it cannot be read, is empty, too long or lacks a column.
    """
    try:
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        found = sheet.iter_rows(values_only=True)
        header = tuple(_plain_cell(cell).lower().replace(" ", "_") for cell in next(found, ()))
        missing = [name for name in needed if name not in header]
        if missing:
            raise BadInputError(f"The file has no column {', '.join(missing)}.", field="file")
        rows, lines = [], []
        for line, cells in enumerate(found, 2):
            texts = [_plain_cell(cell) for cell in cells]
            if any(texts):
                rows.append(dict(zip(header, texts, strict=False)))
                lines.append(line)
            if len(rows) > MOST_ROWS:
                raise BadInputError(f"The file has more than {MOST_ROWS} rows.", field="file")
    except (zipfile.BadZipFile, KeyError, ValueError, OSError, IndexError, TypeError) as error:
        raise BadInputError("The file cannot be read as a workbook.", field="file") from error
    if not rows:
        raise BadInputError("The file has a header and no rows.", field="file")
    return Table(header, tuple(rows), tuple(lines))


def _plain_cell(cell: Any) -> str:
    """A whole number that a workbook keeps with a point is written without it."""
    if isinstance(cell, float) and cell.is_integer():
        cell = int(cell)
    text = (cell if isinstance(cell, str) else _text(cell)).strip()
    # The apostrophe that keeps a text from being taken for a formula is no part of it.
    return text[1:] if text.startswith("'") and harmless(text[1:]) == text else text


def write_table(columns: Sequence[str], rows: Iterable[Mapping[str, str]]) -> str:
    """A CSV as `table_lines` writes it, in one piece."""
    return "".join(table_lines(columns, ([row.get(name, "") for name in columns] for row in rows)))


# Characters at once: enough that handing them on costs little beside making them.
PIECE = 32_768


def table_lines(heads: Sequence[str], rows: Iterable[Sequence[Cell]]) -> Iterator[str]:
    """A CSV (RFC 4180: commas, CRLF, quotes where they are needed) in pieces of PIECE, with a byte-order mark, as
    spreadsheets take one without it for another encoding. Numbers have a decimal point and no grouping, days are
    written 2027-03-14 and moments 2027-03-14 09:05:00. A text that a spreadsheet would take for a formula gets an
    apostrophe in front; a plain number does not."""
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\r\n")
    out.write("\ufeff")
    writer.writerow([harmless(head) for head in heads])
    for row in rows:
        writer.writerow([harmless(cell) if isinstance(cell, str) else _text(cell) for cell in row])
        if out.tell() >= PIECE:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()


def _text(cell: Cell) -> str:
    if cell is None:
        return ""
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    if isinstance(cell, datetime):
        return cell.strftime("%Y-%m-%d %H:%M:%S")
    return format(cell, "f") if isinstance(cell, Decimal) else str(cell)


def write_workbook(title: str, heads: Sequence[str], rows: Iterable[Sequence[Cell]], into: IO[bytes]) -> None:
    """A workbook (ECMA-376) with one sheet: a bold first row that stays in sight, numbers and dates as such, texts
    never as formulas. Moments lose their zone: they are written as the clock given shows them.

    Raises BadInputError where there are more than MOST_ROWS rows.
    """
    book = Workbook(write_only=True)
    # The characters that the standard forbids in a sheet's name, and its length.
    sheet = book.create_sheet(re.sub(r"[\[\]:*?/\\]", " ", title)[:31])
    sheet.freeze_panes = "A2"
    taken = []
    widths = [len(head) for head in heads]
    for number, row in enumerate(rows):
        if number >= MOST_ROWS:
            raise BadInputError(f"These are more than {MOST_ROWS:,} rows. Narrow the filter, or take the CSV.", field="form")
        taken.append(row)
        if number < 200:
            widths = [max(width, len(_text(cell))) for width, cell in zip(widths, row, strict=True)]
    # A sheet that is written as a stream must know its columns before its first row.
    for column, width in enumerate(widths, 1):
        sheet.column_dimensions[get_column_letter(column)].width = min(width, WIDEST) + 2
    bold = Font(bold=True)
    for row, font in ((heads, bold), *((row, None) for row in taken)):
        sheet.append([_cell(sheet, value, font) for value in row])
    book.save(into)


def _cell(sheet: Any, value: Cell, font: Font | None) -> BookCell | None:
    if value is None:
        return None
    if isinstance(value, bool):
        value = _text(value)
    if isinstance(value, str):
        value = NOT_A_CHARACTER.sub("\ufffd", value)
    if isinstance(value, datetime):
        value = value.replace(tzinfo=None)
    # Row and column are counted by the sheet as it is written.
    cell = BookCell(sheet, row=1, column=1, value=value)
    if isinstance(value, str):
        cell.data_type = "s"
    elif isinstance(value, Decimal):
        places = max(0, -int(value.as_tuple().exponent))
        cell.number_format = "#,##0" + ("." + "0" * places if places else "")
    elif isinstance(value, datetime):
        cell.number_format = "yyyy-mm-dd hh:mm"
    elif isinstance(value, date):
        cell.number_format = "yyyy-mm-dd"
    if font is not None:
        cell.font = font
    return cell


def harmless(cell: str) -> str:
    """The cell, unless a spreadsheet would work it out as a formula."""
    if not cell.startswith(("=", "+", "-", "@", "\t", "\r")):
        return cell
    return cell if re.fullmatch(r"[+-]?\d+([.,]\d+)?", cell) else f"'{cell}"


def decimal_of(text: str, column: str) -> Decimal:
    """A number with decimal point or comma; thousands separators are refused where they are unclear."""
    plain = text.replace("\u00a0", "").replace(" ", "")
    if plain.startswith("="):
        raise BadInputError("is a formula; give its value", field=column)
    if "," in plain and "." in plain:
        raise BadInputError("has both a comma and a point; write it without thousands separators", field=column)
    try:
        return parse_decimal(plain.replace(",", "."), column)
    except BadInputError as error:
        raise BadInputError("is not a number", field=column) from error


def date_of(text: str, column: str) -> date:
    """A date as YYYY-MM-DD."""
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise BadInputError("is not a date like 2027-03-14", field=column) from error
