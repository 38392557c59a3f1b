"""Tables as they are handed over: CSV (RFC 4180) and workbooks (ECMA-376)."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from itertools import chain, islice
from typing import IO, Any
from xml.sax.saxutils import escape

from openpyxl import Workbook
from openpyxl.cell import Cell as BookCell
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter
from openpyxl.utils.datetime import to_excel

from .bounds import NOT_A_CHARACTER
from .errors import BadInputError

MOST_ROWS = 100_000
WIDEST = 60
Cell = str | int | float | Decimal | date | datetime | bool | None


class Numeral(str):
    """A number as it is written: digits with a decimal point, perhaps a sign in front. A cell that is a number, whose
    digits are kept as they are."""

    __slots__ = ()


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
    as_it_is = {Numeral, int, type(None)}
    writer = csv.writer(out, lineterminator="\r\n")
    out.write("\ufeff")
    writer.writerow([harmless(head) for head in heads])
    for row in rows:
        # A number, and nothing, are written as they are.
        writer.writerow(
            [cell if type(cell) in as_it_is else harmless(cell) if type(cell) is str else cell_text(cell) for cell in row]
        )
        if out.tell() >= PIECE:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()


def cell_text(cell: Cell) -> str:
    """A value as a CSV says it."""
    if cell is None:
        return ""
    if isinstance(cell, str):
        return cell
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    if isinstance(cell, datetime):
        return cell.isoformat(" ", "seconds")[:19]
    return format(cell, "f") if isinstance(cell, Decimal) else str(cell)


def write_workbook(title: str, heads: Sequence[str], rows: Iterable[Sequence[Cell]], into: IO[bytes]) -> None:
    """A workbook (ECMA-376) with one sheet: a bold first row that stays in sight, numbers and dates as such, texts
    never as formulas. Moments lose their zone: they are written as the clock given shows them.

    The rows go straight into the file, a thousand at a time. Raises BadInputError where there are more than MOST_ROWS.
    """
    found = iter(rows)
    first = list(islice(found, 200))
    book = Workbook(write_only=True)
    # The characters that the standard forbids in a sheet's name, and its length.
    sheet = book.create_sheet(re.sub(r"[\[\]:*?/\\]", " ", title)[:31])
    sheet.freeze_panes = "A2"
    # A sheet that is written as a stream must know its columns before its first row.
    for number, head in enumerate(heads):
        width = max(len(head), *(len(cell_text(row[number])) for row in first)) if first else len(head)
        sheet.column_dimensions[get_column_letter(number + 1)].width = min(width, WIDEST) + 2
    sheet.append([_head(sheet, head) for head in heads])
    tails = _Tails([_style(sheet, form) for form in FORMS])
    frame = io.BytesIO()
    book.save(frame)
    with zipfile.ZipFile(frame) as made, zipfile.ZipFile(into, "w", zipfile.ZIP_DEFLATED, compresslevel=2) as out:
        for part in made.namelist():
            if part != SHEET:
                out.writestr(part, made.read(part))
                continue
            before, end, after = made.read(part).partition(b"</sheetData>")
            with out.open(part, "w") as stream:
                stream.write(before)
                for piece in _pieces(chain(first, found), tails, len(heads)):
                    stream.write(piece.encode())
                stream.write(end + after)


SHEET = "xl/worksheets/sheet1.xml"
MOST_PLACES = 12
MOST_KEPT = 20_000
LONGEST = 32_767  # characters in a cell, as spreadsheets have it
DAY, MOMENT = "yyyy-mm-dd", "yyyy-mm-dd hh:mm"
FORMS = [*("#,##0" + ("." + "0" * places if places else "") for places in range(MOST_PLACES + 1)), DAY, MOMENT]


# Days count from here, since spreadsheets hold 1900 for a leap year; before its March they count otherwise.
BEGIN, LEAP = date(1899, 12, 30).toordinal(), date(1900, 3, 1).toordinal()


def _serial(value: date) -> str:
    """A day or a moment, as the clock shows it, as the days since a workbook's first one."""
    day = value.toordinal()
    if day < LEAP:
        return repr(to_excel(value.replace(tzinfo=None) if isinstance(value, datetime) else value))  # type: ignore[no-untyped-call]
    if not isinstance(value, datetime):
        return str(day - BEGIN)
    seconds = value.hour * 3600 + value.minute * 60 + value.second + value.microsecond / 1e6
    return repr(day - BEGIN + seconds / 86400)


def _head(sheet: Any, text: str) -> BookCell:
    cell = BookCell(sheet, row=1, column=1, value=NOT_A_CHARACTER.sub("\ufffd", text))
    cell.data_type, cell.font = "s", Font(bold=True)
    return cell


def _style(sheet: Any, form: str) -> str:
    """What stands between a cell's place and its number, where it has a number format."""
    cell = BookCell(sheet, row=1, column=1)
    cell.number_format = form
    return f'" s="{cell.style_id}"><v>'


def _pieces(rows: Iterable[Sequence[Cell]], tails: _Tails, columns: int) -> Iterator[str]:
    """The rows as the standard writes them, a thousand at a time, the first of them the second of the sheet."""
    begins = [f'<c r="{get_column_letter(number + 1)}' for number in range(columns)]
    # Most values come again, moments do not. A number and a text that look the same are not.
    told = _Kept(lambda kind: tails.of)
    told |= {Numeral: _Kept(tails.numeral).__getitem__, str: _Kept(tails.text).__getitem__, date: _Kept(tails.day).__getitem__}
    lines: list[str] = []
    for number, row in enumerate(rows, 2):
        if number > MOST_ROWS + 1:
            raise BadInputError(f"These are more than {MOST_ROWS:,} rows. Narrow the filter, or take the CSV.", field="form")
        cells = [
            f"{begin}{number}{told[type(value)](value)}" for begin, value in zip(begins, row, strict=True) if value is not None
        ]
        lines.append(f'<row r="{number}">{"".join(cells)}</row>')
        if len(lines) == 1000:
            yield "".join(lines)
            lines = []
    yield "".join(lines)


class _Kept(dict[Any, Any]):
    """What was made of values that may come again, until there are so many that keeping them brings nothing."""

    def __init__(self, make: Callable[[Any], Any]) -> None:
        self.make = make

    def __missing__(self, value: Any) -> Any:
        if len(self) >= MOST_KEPT:
            self.clear()
        made = self[value] = self.make(value)
        return made


@dataclass(frozen=True)
class _Tails:
    """What stands behind the place of a cell as the standard writes it. `styles`: of each of FORMS what stands between the
    place and the number."""

    styles: Sequence[str]

    def of(self, value: Cell) -> str:
        """For a value of any kind."""
        if isinstance(value, Numeral):
            return self.numeral(value)
        if isinstance(value, str | bool):
            return self.text(value)
        if isinstance(value, Decimal):
            return self._number(format(value, "f"), min(MOST_PLACES, max(0, -int(value.as_tuple().exponent))))
        if isinstance(value, datetime):
            return self._number(_serial(value), FORMS.index(MOMENT))
        if isinstance(value, date):
            return self.day(value)
        return f'"><v>{value}</v></c>'

    def numeral(self, value: Numeral) -> str:
        """For a number that is written as it is."""
        point = value.find(".")
        return self._number(value, 0 if point < 0 else min(MOST_PLACES, len(value) - point - 1))

    def text(self, value: Cell) -> str:
        """For a text, and for yes and no."""
        text = escape(NOT_A_CHARACTER.sub("\ufffd", cell_text(value))[:LONGEST], {"\r": "&#13;"})
        return f'" t="inlineStr"><is><t xml:space="preserve">{text}</t></is></c>'

    def day(self, value: date) -> str:
        """For a day."""
        return self._number(_serial(value), FORMS.index(DAY))

    def _number(self, digits: str, form: int) -> str:
        return f"{self.styles[form]}{digits}</v></c>"


def harmless(cell: str) -> str:
    """The cell, unless a spreadsheet would work it out as a formula."""
    if not cell.startswith(("=", "+", "-", "@", "\t", "\r")):
        return cell
    return cell if re.fullmatch(r"[+-]?\d+([.,]\d+)?", cell) else f"'{cell}"
