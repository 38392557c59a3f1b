"""Orders, pairing, sheets, agreement: rules without numbers from outside, so properties and cases."""

from __future__ import annotations

from decimal import Decimal as D

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.agreement import compare, compare_text
from yuvrel.core.errors import BadInputError
from yuvrel.core.orders import BookedLine, ChannelLine, check_line, invoice_parts, profit, total_difference
from yuvrel.core.pairing import ItemFacts, ListingFacts, PairingIndex
from yuvrel.core.sheets import date_of, decimal_of, harmless, read_table, write_table
from yuvrel.core.terms import price_breaks
from yuvrel.core.working import Step, Working, plain

ITEMS = [
    ItemFacts(1, "SMK-BRS-S", ("02100000000012",), "Smoker, small"),
    ItemFacts(2, "SMK-BRS-L", ("02100000000029",), "Smoker, large"),
    ItemFacts(3, "GLV-GOA-9", ("02100000000036",), "Goatskin gloves 9"),
]


@pytest.mark.parametrize(
    ("listing", "linked", "reason"),
    [
        (ListingFacts(" smk-brs-s ", "", "anything"), 1, "same SKU"),
        (ListingFacts("", "2100000000029", "anything"), 2, "same barcode"),
        (ListingFacts("SMK-BRS-S", "2100000000012", ""), 1, "same SKU and barcode"),
        (ListingFacts("SMK-BRS-S", "2100000000029", "Smoker"), None, "The SKU names one item and the barcode another."),
        (ListingFacts("", "", "smoker small"), None, "no exact match"),
        (ListingFacts("NEW", "2100000000013", "zzz"), None, "Barcode '2100000000013' has check digit 3; it should be 2."),
    ],
)
def test_only_a_unique_exact_match_links(listing: ListingFacts, linked: int | None, reason: str) -> None:
    verdict = PairingIndex(ITEMS).verdict(listing)
    assert (verdict.linked, verdict.reason) == (linked, reason)


def test_similar_titles_are_ranked_and_never_link() -> None:
    verdict = PairingIndex(ITEMS).verdict(ListingFacts("", "", "Small smoker"))
    assert verdict.linked is None
    assert verdict.candidates[0].item_id == 1
    assert verdict.candidates[0].score > verdict.candidates[1].score


def test_two_items_with_one_sku_never_link() -> None:
    twice = [*ITEMS, ItemFacts(4, "smk-brs-s", (), "Another")]
    assert PairingIndex(twice).verdict(ListingFacts("SMK-BRS-S", "", "")).linked is None


def test_a_total_that_is_off_by_cents_is_seen() -> None:
    lines = [
        ChannelLine("item", "Hive", D("119.00")),
        ChannelLine("discount", "Coupon", D("-11.90")),
        ChannelLine("shipping", "Postage", D("6.90")),
    ]
    assert total_difference(lines, D("114.00")) == 0
    assert total_difference(lines, D("114.40")) == D("-0.40")


@pytest.mark.parametrize(
    ("line", "field"),
    [
        (ChannelLine("item", "x", D(1), D(0)), "quantity"),
        (ChannelLine("item", "x", D(1), D(-1)), "quantity"),
        (ChannelLine("item", "x", D(1), D("0.5")), "quantity"),
        (ChannelLine("discount", "x", D(1)), "amount"),
        (ChannelLine("item", "x", D(-1)), "amount"),
        (ChannelLine("item", "x", D("0.001")), "amount"),
        (ChannelLine("magic", "x", D(1)), "kind"),  # type: ignore[arg-type]
    ],
)
def test_lines_that_cannot_be_name_their_field(line: ChannelLine, field: str) -> None:
    with pytest.raises(BadInputError) as refusal:
        check_line(line)
    assert refusal.value.field == field


@given(st.integers(1, 20), st.integers(0, 99999), st.integers(0, 9999), st.data())
def test_part_invoices_add_up_to_the_order(units: int, net: int, tax: int, data: st.DataObject) -> None:
    line = BookedLine(7, "item", D(units), D(net) / 100, D(tax) / 100)
    left, sums = units, [D(0), D(0)]
    while left:
        part = data.draw(st.integers(1, left))
        parts, revenue = invoice_parts([line], {7: D(part)})
        assert revenue.sales == parts[0].net
        sums = [sums[0] + parts[0].net, sums[1] + parts[0].tax]
        left -= part
        line = BookedLine(7, "item", D(units), line.net, line.tax, line.invoiced + part, sums[0], sums[1])
    assert sums == [D(net) / 100, D(tax) / 100]


def test_shipping_and_discount_go_on_the_first_invoice() -> None:
    lines = [
        BookedLine(1, "item", D(2), D("20.00"), D("4.60")),
        BookedLine(2, "shipping", D(1), D("5.61"), D("1.29")),
        BookedLine(3, "discount", D(1), D("-2.00"), D("-0.46")),
    ]
    _, first = invoice_parts(lines, {1: D(1)})
    assert (first.sales, first.shipping, first.discount, first.tax) == (D("10.00"), D("5.61"), D("2.00"), D("3.13"))
    with pytest.raises(BadInputError):
        invoice_parts(lines, {1: D(3)})


def test_profit_is_named_with_its_basis() -> None:
    found = profit(
        goods=D("100"),
        discount=D("10"),
        charged=D("5"),
        cost=D("40"),
        basis="moving average cost",
        fee_rate=D("2"),
        fee_fixed=D("0.25"),
        gross=D("116.85"),
        carrier=D("4"),
    )
    # 90 net + 5 - 40 - (2.34 + 0.25) - 4 = 48.41; 48.41 / 95 = 51.0 %
    assert (found.contribution, found.margin_percent) == (D("48.41"), D("51.0"))
    assert any(step.note == "moving average cost" for step in found.working.steps)


def test_the_margin_is_a_share_of_all_that_was_charged() -> None:
    # The check value of docs/domain.md, Order profit: 72.49 - 37.68 - 1.85 = 32.96; 32.96 / 72.49 = 45.5 %
    found = profit(
        goods=D("71.14"),
        discount=D("7.11"),
        charged=D("8.46"),
        cost=D("37.68"),
        basis="moving average cost",
        fee_rate=D(0),
        fee_fixed=D("1.85"),
        gross=D("89.15"),
    )
    assert (found.net_revenue, found.contribution, found.margin_percent) == (D("64.03"), D("32.96"), D("45.5"))
    sums = {step.label: step.value for step in found.working.steps}
    assert sums["Charged without tax"] == D("72.49")


def test_a_small_order_with_dear_postage_earns_no_more_than_it_charged() -> None:
    found = profit(
        goods=D("1.00"), discount=D(0), charged=D("9.00"), cost=D("0.40"), basis="x", fee_rate=D(0), fee_fixed=D(0), gross=D(12)
    )
    assert found.margin_percent == D("96.0")


@given(
    st.dictionaries(st.integers(0, 9), st.integers(-5, 5).map(D)),
    st.dictionaries(st.integers(0, 9), st.integers(-5, 5).map(D)),
)
def test_comparison_agrees_exactly_when_every_key_does(ours: dict[int, D], theirs: dict[int, D]) -> None:
    outcome = compare(ours, theirs)
    off = {k for k in {*ours, *theirs} if ours.get(k, 0) != theirs.get(k, 0)}
    assert {d.key for d in outcome.differences} == off
    assert outcome.agrees == (not off)
    assert sum(d.amount for d in outcome.differences) == outcome.right - outcome.left


def test_totals_that_agree_by_chance_do_not_hide_a_difference() -> None:
    assert not compare({1: D(3), 2: D(4)}, {1: D(4), 2: D(3)}).agrees
    assert compare_text({1: "a"}, {1: "a", 2: "b"}) == [(2, "missing", "b")]


# RFC 4180 is the common form; the rest is what spreadsheets write (common practice, no source).
@pytest.mark.parametrize(
    "data",
    [
        b"sku,quantity\r\nA,1\r\n",
        b"\xef\xbb\xbfsku,quantity\nA,1\n",
        b"SKU;Quantity\nA;1",
        b"quantity\tsku\n1\tA\n",
        b'sku,quantity\r\n"A","1"\r\n\r\n',
    ],
)
def test_tables_in_the_dialects_people_save(data: bytes) -> None:
    table = read_table(data, ("sku", "quantity"))
    assert [row["sku"] for row in table.rows] == ["A"]
    assert table.rows[0]["quantity"] == "1"


def test_quoted_line_breaks_keep_the_line_numbers_of_the_file() -> None:
    table = read_table(b'sku,note\r\nA,"two\r\nlines"\r\nB,"say ""hi"""\r\n', ("sku",))
    assert table.lines == (2, 4)
    assert table.rows[1]["note"] == 'say "hi"'


@pytest.mark.parametrize("data", [b"", b"  \n", b"sku\nA\n", b"sku,quantity\n", b"PK\x03\x04\x00\x00"])
def test_files_that_are_no_such_table_are_refused(data: bytes) -> None:
    with pytest.raises(BadInputError) as refusal:
        read_table(data, ("sku", "quantity"))
    assert refusal.value.field == "file"


def test_latin_1_is_read() -> None:
    assert read_table("sku,place\nA,Bäckerstraße\n".encode("latin-1"), ("sku",)).rows[0]["place"] == "Bäckerstraße"


TEXT = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=12) | st.sampled_from(
    ['a,"b"', "two\r\nlines", ";"]
)


@given(st.lists(st.tuples(TEXT, TEXT), min_size=1, max_size=4))
def test_a_written_table_reads_back_as_it_was(cells: list[tuple[str, str]]) -> None:
    """RFC 4180: what holds commas, quotes or line breaks is quoted, and comes back whole."""
    rows = [{"sku": f"A{n}", "one": one.strip(), "two": two.strip()} for n, (one, two) in enumerate(cells)]
    table = read_table(write_table(("sku", "one", "two"), rows).encode(), ("sku",))
    assert [dict(row) for row in table.rows] == [{name: harmless(cell) for name, cell in row.items()} for row in rows]


@pytest.mark.parametrize("cell", ["=1+1", "+SUM(A1)", "-A1", "@now", "\t=1", "-1-1"])
def test_no_cell_leaves_as_a_formula(cell: str) -> None:
    assert harmless(cell) == "'" + cell


@pytest.mark.parametrize("cell", ["-1", "+3,50", "-0.25", "A=1", ""])
def test_numbers_and_plain_text_leave_as_they_are(cell: str) -> None:
    assert harmless(cell) == cell


def test_numbers_and_dates_as_typed() -> None:
    assert decimal_of("1,50", "q") == decimal_of(" 1.50 ", "q") == D("1.50")
    assert date_of("2027-03-14", "d").year == 2027
    for text in ("=1+1", "1.000,50", "abc", "", "NaN"):
        with pytest.raises(BadInputError):
            decimal_of(text, "q")
    with pytest.raises(BadInputError):
        date_of("14/3/2027", "d")


def test_a_working_is_plain_data_with_decimal_strings() -> None:
    working = Working("t", steps=(Step("a", D("1E+2")), Step("b", D("0.500"), kind="result")))
    data = working.as_dict()
    assert [step["value"] for step in data["steps"]] == ["100", "0.50"]
    assert working.result == D("0.500")
    assert [plain(D(x)) for x in ("12.000", "1.10", "-0", "0.123")] == ["12", "1.10", "0", "0.123"]


@pytest.mark.parametrize(
    ("wrong", "why"),
    [
        ([], "Give 1 to 12"),
        ([(1, 2)], "must start at 0"),
        ([(0, 2), (5, 1), (5, 3)], "same quantity"),
        ([(0, 2), (5, -1)], "cannot be negative"),
        ([(n, 1) for n in range(13)], "Give 1 to 12"),
    ],
)
def test_price_breaks_that_cannot_be(wrong: list[tuple[int, int]], why: str) -> None:
    with pytest.raises(BadInputError, match=why):
        price_breaks((D(start), D(price)) for start, price in wrong)


def test_price_breaks_stand_in_order_of_quantity() -> None:
    assert price_breaks([(D(24), D("1.8")), (D(0), D(2))]) == [(D(0), D(2)), (D(24), D("1.8"))]
