"""Tables as they are handed over: read back by the standard library's CSV reader and by the workbook library."""

from __future__ import annotations

import csv
import io
import zipfile
from datetime import UTC, date, datetime
from decimal import Decimal as D

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree
from openpyxl import Workbook, load_workbook
from python_calamine import CalamineWorkbook

from yuvrel.core import sheets
from yuvrel.core.errors import BadInputError
from yuvrel.core.intake import day
from yuvrel.core.sheet_reading import check_head, read_any, read_workbook
from yuvrel.core.sheets import Cell, Numeral, harmless, table_lines, write_workbook

HEADS = ("Text", "Money", "Units", "Day", "Moment", "Yes or no", "Nothing")
ROW: tuple[Cell, ...] = ("Smoker, 10 cm", D("1234.50"), 7, date(2027, 3, 14), datetime(2027, 3, 14, 9, 5, tzinfo=UTC), True, None)


def book(title: str, heads: tuple[str, ...], rows: list[tuple[Cell, ...]]) -> io.BytesIO:
    into = io.BytesIO()
    write_workbook(title, heads, rows, into)
    into.seek(0)
    return into


def test_a_row_of_every_kind() -> None:
    text = "".join(table_lines(HEADS, [ROW]))
    assert text == (
        '\ufeffText,Money,Units,Day,Moment,Yes or no,Nothing\r\n"Smoker, 10 cm",1234.50,7,2027-03-14,2027-03-14 09:05:00,yes,\r\n'
    )
    sheet = load_workbook(book("Sheet", HEADS, [ROW])).active
    cells = sheet[2]
    assert [cell.value for cell in cells] == [
        "Smoker, 10 cm",
        1234.5,
        7,
        datetime(2027, 3, 14),
        datetime(2027, 3, 14, 9, 5),
        "yes",
        None,
    ]
    assert [cell.number_format for cell in cells[1:5]] == ["#,##0.00", "General", "yyyy-mm-dd", "yyyy-mm-dd hh:mm"]


def test_no_rows_are_a_head_alone() -> None:
    assert "".join(table_lines(("One", "=Two"), [])) == "\ufeffOne,'=Two\r\n"
    assert [[cell.value for cell in row] for row in load_workbook(book("x", ("One", "=Two"), [])).active.iter_rows()] == [
        ["One", "=Two"]
    ]


@given(st.lists(st.text(st.characters(exclude_categories=("Cs",), exclude_characters="\0"), max_size=30), min_size=1, max_size=5))
def test_every_text_comes_back_and_none_is_worked_out(texts: list[str]) -> None:
    """RFC 4180, section 2: quotes, commas and line breaks within a cell; and no formula (common practice, no source)."""
    rows = list(
        csv.reader(
            io.StringIO("".join(table_lines([f"c{n}" for n in range(len(texts))], [texts])).removeprefix("\ufeff"), newline="")
        )
    )
    assert rows[1] == [harmless(text) for text in texts]
    assert all(not cell.startswith(("=", "@", "\t", "\r")) for cell in rows[1])
    written = book("x", tuple("h" for _ in texts), [tuple(texts)])
    for cell in load_workbook(written).active[2]:
        assert cell.data_type in ("s", "inlineStr", "n")
        assert cell.data_type != "n" or cell.value is None


def test_an_amount_is_written_digit_by_digit() -> None:
    """Decimals go into the file as they stand, not by way of a binary fraction (ECMA-376 part 1, 18.3.1.96)."""
    amount = D("12345678901234.56")
    data = book("x", ("Amount",), [(amount,), (D("0.10"),)])
    with zipfile.ZipFile(data) as parts:
        tree = etree.fromstring(parts.read("xl/worksheets/sheet1.xml"))
    values = tree.findall(".//{*}sheetData/{*}row/{*}c/{*}v")
    assert [D(value.text) for value in values][-2:] == [amount, D("0.10")]


TEXTS = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=12).filter(lambda text: "_x" not in text)
NUMBERS = st.decimals(-(10**9), 10**9, places=2)


@given(st.lists(st.tuples(TEXTS, NUMBERS, st.none() | NUMBERS, st.integers(-(10**9), 10**9)), min_size=1, max_size=8))
def test_two_readers_find_what_was_written(rows: list[tuple[str, D, D | None, int]]) -> None:
    """Read by a second library besides the one whose frame the rows are put into (calamine, in Rust)."""
    given = [
        (text, Numeral(f"{one:f}"), None if other is None else Numeral(f"{other:f}"), count) for text, one, other, count in rows
    ]
    data = book("x", ("a", "b", "c", "d"), [*given, *(("1.50", Numeral("1.50"), None, 1),) * 2])
    ours = [list(row) for row in load_workbook(data).active.iter_rows(min_row=2, values_only=True)]
    data.seek(0)
    theirs = CalamineWorkbook.from_filelike(data).get_sheet_by_index(0).to_python()[1:]
    wanted = [[text, float(one), None if other is None else float(other), count] for text, one, other, count in rows]
    assert ours == [*wanted, ["1.50", 1.5, None, 1], ["1.50", 1.5, None, 1]], "a text that looks like a number stays a text"
    assert [[cell if cell != "" else None for cell in row] for row in theirs] == ours


def test_a_number_shows_the_places_it_has() -> None:
    cells = load_workbook(book("x", ("h",), [(Numeral("-7"),), (Numeral("0.250"),), (Numeral("1." + "1" * 20),)])).active["A"]
    assert [cell.number_format for cell in cells[1:]] == ["#,##0", "#,##0.000", "#,##0." + "0" * 12]


def test_a_title_that_no_sheet_may_have_is_made_one() -> None:
    assert load_workbook(book("Orders: [all]/late? " + "x" * 40, ("h",), [])).sheetnames == ["Orders   all  late  xxxxxxxxxxx"]


@pytest.mark.parametrize("odd", ["\x07", "\x00", "\ufffe", "\uffff"])
def test_what_is_no_character_of_a_workbook_is_shown_as_one_that_is_missing(odd: str) -> None:
    assert load_workbook(book("x", ("h",), [(f"a{odd}b",)])).active["A2"].value == "a\ufffdb"


def test_too_long_a_workbook_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sheets, "MOST_ROWS", 2)
    with pytest.raises(BadInputError, match="more than 2 rows"):
        book("x", ("h",), [(1,)] * 3)
    assert load_workbook(book("x", ("h",), [(1,)] * 2)).active.max_row == 3


SHEET = '<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>{}</sheetData></worksheet>'
HEAD = '<row r="1"><c r="A1" t="inlineStr"><is><t>sku</t></is></c><c r="B1" t="inlineStr"><is><t>price</t></is></c></row>'


def packed(rows: str, shared: str = "") -> bytes:
    """A workbook whose one sheet holds these rows, as they stand."""
    frame, into = book("x", ("sku",), [("A",)]), io.BytesIO()
    with zipfile.ZipFile(frame) as given, zipfile.ZipFile(into, "w", zipfile.ZIP_DEFLATED) as out:
        for part in given.namelist():
            if part != sheets.SHEET:
                out.writestr(part, given.read(part))
        out.writestr(sheets.SHEET, SHEET.format(rows))
        if shared:
            out.writestr("xl/sharedStrings.xml", shared)
    return into.getvalue()


def text_cell(place: str, text: str) -> str:
    return f'<c r="{place}" t="inlineStr"><is><t>{text}</t></is></c>'


@pytest.mark.parametrize(
    ("rows", "why"),
    [
        (HEAD + '<row r="3000000">' + text_cell("A3000000", "x") + "</row>", "something stands in row 3,000,000"),
        (HEAD + '<row r="2">' + '<c t="inlineStr"><is><t>x</t></is></c>' * 300_000 + "</row>", "more than 200 columns"),
        (HEAD + '<row r="2">' + "<c/>" * 300_000 + "</row>", "a row of more than 16,384"),
        (HEAD + '<row r="2">' + text_cell("XFD2", "x") + "</row>", "something stands in XFD2"),
        (HEAD + '<row r="2">' + text_cell("A2", "A") + '<c r="B2"><f>1+1</f></c></row>', "B2: a formula without its value"),
        (HEAD + '<row r="2">' + text_cell("A2", "x" * 31_000_000) + "</row>", "more than 30,000,000 characters"),
        (HEAD + " " * 260_000_000, "260 MB unpacked; at most 250 MB are read"),
        ("<row><nonsense", "cannot be read as a workbook"),
        ("", "no column sku"),
    ],
    ids=["row", "cells", "empty cells", "column", "formula", "text", "bomb", "broken", "empty"],
)
def test_a_workbook_that_would_fill_the_memory_is_refused_unread(rows: str, why: str) -> None:
    with pytest.raises(BadInputError, match=why):
        read_workbook(packed(rows), ["sku"])


def test_a_formula_that_a_program_wrote_and_nobody_worked_out_is_named() -> None:
    """As a library writes it, which works nothing out: the value is there, and empty."""
    made = Workbook()
    for row in (["sku", "price"], ["A", "=6*2"]):
        made.active.append(row)  # type: ignore[union-attr]
    into = io.BytesIO()
    made.save(into)
    with pytest.raises(BadInputError, match="B2: a formula without its value"):
        read_workbook(into.getvalue(), ["sku"])


def test_the_head_of_a_long_file_is_read_though_a_letter_is_cut_in_two() -> None:
    head = "\ufeffsku,product\r\n"
    for shift in range(3):
        data = (head + "x" * shift + "€" * 100_000).encode()
        check_head(data, ["sku"])


@pytest.mark.parametrize(
    ("shared", "why"),
    [
        ("<sst>" + "<si/>" * 500_001 + "</sst>", "more than 500,000 texts"),
        ("<sst>" + "<si><t>" + "y" * 31_000_000 + "</t></si></sst>", "more than 30,000,000 characters"),
        ('<!DOCTYPE x [<!ENTITY a "aaaa">]><sst><si><t>&a;</t></si></sst>', "declares entities"),
    ],
)
def test_the_texts_that_cells_share_are_bounded_too(shared: str, why: str) -> None:
    with pytest.raises(BadInputError, match=why):
        read_workbook(packed(HEAD, shared), ["sku"])


def test_a_small_workbook_with_empty_cells_far_out_is_read() -> None:
    far = '<row r="2">' + text_cell("A2", "A-1") + '<c r="B2"><f>6*2</f><v>12</v></c><c r="ZZ2"/></row><row r="900000"/>'
    told: list[tuple[int, int]] = []
    found = read_any(packed(HEAD + far), ["sku"], lambda done, total: told.append((done, total)))
    assert (found.rows, found.lines, told) == (({"sku": "A-1", "price": "12"},), (2,), [])


def test_days_come_as_days_and_a_column_once() -> None:
    rows = [(date(2026, 12, 10), 46366, datetime(2026, 12, 10, 9, 5))]
    (row,) = read_any(book("x", ("Until", "Number", "At"), rows).getvalue(), ["until"]).rows
    assert row == {"until": "2026-12-10", "number": "46366", "at": "2026-12-10 09:05:00"}
    assert day(row["until"]) == day(row["number"]) == day("2026-12-10 00:00:00") == date(2026, 12, 10)
    with pytest.raises(BadInputError, match="must be a day"):
        day("1234")
    for data in (b"sku,price,SKU\nA,1,B\n", book("x", ("sku", "price", "Sku"), [("A", 1, "B")]).getvalue()):
        with pytest.raises(BadInputError, match="The column sku stands twice"):
            read_any(data, ["sku"])
    with pytest.raises(BadInputError, match="stands twice"):
        check_head(b"sku,price,SKU\nA,1,B\n", ["sku"])
