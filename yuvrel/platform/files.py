"""Sheets as answers to a request: a CSV as it is written, or a workbook."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from io import BytesIO
from typing import Literal

from django.http import FileResponse, HttpResponseBase, StreamingHttpResponse
from django.utils.http import content_disposition_header

from yuvrel.core.sheets import Cell, table_lines, write_workbook
from yuvrel.ownership import steadily

Form = Literal["csv", "xlsx"]
WORKBOOK = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def sheet_file(name: str, form: Form, heads: Sequence[str], rows: Iterable[Sequence[Cell]]) -> HttpResponseBase:
    """The rows as a file of that name. Raises BadInputError where there are more than a workbook takes."""
    if form == "xlsx":
        into = BytesIO()
        write_workbook(name, heads, rows, into)
        into.seek(0)
        return FileResponse(into, as_attachment=True, filename=f"{name}.xlsx", content_type=WORKBOOK)
    answer = StreamingHttpResponse(steadily(table_lines(heads, rows)), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = content_disposition_header(True, f"{name}.csv")
    return answer
