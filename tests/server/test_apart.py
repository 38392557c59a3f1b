"""What strangers send is worked on apart: bounds on time and memory, and what waits beside it is not held up."""

from __future__ import annotations

import io
import zipfile

import pytest

from tests.core.test_tables import HEAD, packed, text_cell
from yuvrel.apart import Apart, StoppedError, rendered
from yuvrel.core.content import EXAMPLE
from yuvrel.core.errors import BadInputError


def test_a_template_is_said_apart_as_it_is_here() -> None:
    assert rendered("{{ title | upper }} {{ price | money }}", EXAMPLE, "t") == "TEXT 24.60"
    with pytest.raises(BadInputError, match="Line 1: 'titel' is undefined") as refusal:
        rendered("{{ titel }}", EXAMPLE, "title_there")
    assert refusal.value.field == "title_there"


@pytest.mark.parametrize(
    ("seconds", "megabytes", "rows", "why"),
    [
        (0.5, 1024, text_cell("A2", "x") * 200_000, "takes longer than 0.5 seconds"),
        (60.0, 30, text_cell("A2", "x" * 25_000_000), "takes more memory than is allowed"),
    ],
)
def test_what_takes_too_long_or_too_much_is_broken_off_and_the_next_is_done(
    seconds: float, megabytes: int, rows: str, why: str
) -> None:
    bench = Apart(seconds=seconds, megabytes=megabytes, at_once=1)
    try:
        with pytest.raises(BadInputError, match=why) as refusal:
            bench.call("read_any", packed(HEAD + f'<row r="2">{rows}</row>'), ["sku"], name="file")
        assert refusal.value.field == "file"
        assert bench.call("render", "{{ title }}", EXAMPLE, "t") == "text"
    finally:
        bench.end()


def test_reading_tells_how_far_it_is_and_stops_when_it_is_told_to() -> None:
    bench, told = Apart(seconds=60.0, megabytes=512, at_once=1), []
    data = ("sku,price\r\n" + "".join(f"A-{n},1\r\n" for n in range(9_000))).encode()
    try:
        bench.call("read_any", data, ["sku"], tell=lambda done, total: bool(told.append((done, total))))
        assert [done for done, _ in told] == [2002, 4002, 6002, 8002]
        with pytest.raises(StoppedError):
            bench.call("read_any", data, ["sku"], tell=lambda done, total: done > 4000)
        assert len(bench.call("read_any", data, ["sku"]).rows) == 9_000
    finally:
        bench.end()


def test_it_is_given_no_secret() -> None:
    bench = Apart(seconds=10.0, megabytes=256, at_once=1)
    try:
        bench.call("render", "{{ title }}", EXAMPLE, "t")
        (helper,) = bench._free
        with open(f"/proc/{helper.process.pid}/environ", "rb") as said:  # noqa: PTH123 - one of the system's own
            assert b"YUVREL_" not in said.read()
    finally:
        bench.end()


def test_a_bomb_of_zeros_costs_nothing() -> None:
    into = io.BytesIO()
    with zipfile.ZipFile(into, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("xl/worksheets/sheet1.xml", b"0" * 400_000_000)
    bench = Apart(seconds=60.0, megabytes=200, at_once=1)
    try:
        with pytest.raises(BadInputError, match="400 MB unpacked"):
            bench.call("read_any", into.getvalue(), ["sku"], name="file")
    finally:
        bench.end()
