"""Reading a table people made: CSV (RFC 4180) in the dialects spreadsheets write, row faults by name."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from .errors import BadInputError
from .money import parse_decimal

MOST_ROWS = 100_000


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
                rows.append({name: cell.strip() for name, cell in zip(header, cells, strict=False)})
                lines.append(start)
            start = reader.line_num + 1
            if len(rows) > MOST_ROWS:
                raise BadInputError(f"The file has more than {MOST_ROWS} rows.", field="file")
    except csv.Error as error:
        raise BadInputError(f"The file cannot be read as CSV: {error}.", field="file") from error
    if not rows:
        raise BadInputError("The file has a header and no rows.", field="file")
    return Table(header, tuple(rows), tuple(lines))


def write_table(columns: Sequence[str], rows: Iterable[Mapping[str, str]]) -> str:
    """A CSV (RFC 4180: commas, CRLF, quotes where they are needed) with a byte-order mark, as spreadsheets take
    one without it for another encoding. A text that a spreadsheet would take for a formula gets an apostrophe
    in front; a plain number does not."""
    out = io.StringIO(newline="")
    out.write("\ufeff")
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(columns)
    for row in rows:
        writer.writerow([harmless(row.get(name, "")) for name in columns])
    return out.getvalue()


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
