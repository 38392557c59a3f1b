"""What a channel says of its goods, read and compared; whose word counts."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.listing_facts import (
    Told,
    country_code,
    differences,
    facts,
    is_chosen,
    joined,
    measure,
    same,
    sku_for,
    spoken,
    taken,
)


@pytest.mark.parametrize(
    ("name", "text", "value"),
    [
        ("weight_grams", "250", 250),
        ("weight_grams", "0.25 kg", 250),
        ("weight_grams", "1,5kg", 1500),
        ("weight_grams", "12.5 g", 13),
        ("length_mm", "12 cm", 120),
        ("height_mm", "1.2 m", 1200),
        ("shelf_life_days", "18 months", 540),
        ("shelf_life_days", "2 weeks", 14),
    ],
)
def test_measures_are_read_in_their_units(name: str, text: str, value: int) -> None:
    """SI: a kilogram is 1000 g, a metre 1000 mm; a month counts as 30 days (our own convention)."""
    assert measure(name, text) == value


@pytest.mark.parametrize(
    ("name", "text"),
    [("weight_grams", "heavy"), ("weight_grams", "2 cm"), ("length_mm", "-3"), ("length_mm", "9999999999"), ("width_mm", "")],
)
def test_what_is_no_measure_is_refused(name: str, text: str) -> None:
    with pytest.raises(ValueError, match=r"measure|too large"):
        measure(name, text)


def test_countries_by_code_or_name() -> None:
    """ISO 3166-1, by the package iso3166."""
    assert [country_code(text) for text in ("ie", "IRL", "Ireland", " Poland ")] == ["IE", "IE", "IE", "PL"]
    with pytest.raises(ValueError, match="no country"):
        country_code("Larkmead")


def test_attributes_become_what_a_person_said_they_are() -> None:
    told = Told(
        title="Drum",
        brand="by the shop",
        weight_grams=100,
        tags=("pallet", "pallet"),
        attributes={
            "Made in": "Éire",
            "Gross": "301 kg",
            "Colour": "grn",
            "Timber": "cedar",
            "Care": "dry",
            "Deep": "?",
            "Odd": "x",
        },
    )
    fields = {
        "Made in": "country",
        "Gross": "weight_grams",
        "Colour": "tag",
        "Timber": "named_tag",
        "Care": "note",
        "Deep": "height_mm",
    }
    values = {"Made in: Éire": "Ireland", "Colour: grn": "green"}
    found, odd = facts(told, fields, values)
    assert found == {
        "title": "Drum",
        "brand": "by the shop",
        "weight_grams": 301_000,
        "country": "IE",
        "tags": ["pallet", "green", "Timber: cedar"],
        "note": "Care: dry",
    }
    assert odd == ["Deep: ? is no measure of height."]


# ours, theirs, settled: what is said of the two, and what each rule takes over.
TABLE: list[tuple[dict[str, Any], dict[str, Any], dict[str, Any], str, set[str]]] = [
    ({"brand": "A"}, {"brand": "A"}, {}, "", set()),
    ({"brand": ""}, {"brand": "A"}, {}, "empty here", {"fill", "follow"}),
    ({"brand": "B"}, {"brand": "A"}, {}, "differs", set()),
    ({"brand": "B"}, {"brand": "A"}, {"brand": "A"}, "", set()),
    ({"brand": "B"}, {"brand": "A"}, {"brand": "B"}, "changed there", {"follow"}),
    ({"brand": "C"}, {"brand": "A"}, {"brand": "B"}, "changed here and there", set()),
    ({"title": "C"}, {"title": "A"}, {}, "", set()),
    ({"title": "B"}, {"title": "A"}, {"title": "B"}, "changed there", {"follow"}),
    ({"tags": ["a", "b"]}, {"tags": ["B"]}, {}, "", set()),
    ({"tags": ["a"]}, {"tags": ["b"]}, {"tags": ["a"]}, "changed there", {"follow"}),
    ({"description": "<p>One <em>two</em></p>"}, {"description": "One two"}, {}, "", set()),
    ({"note": "own\nCare: dry"}, {"note": "Care: dry"}, {}, "", set()),
    ({"weight_grams": 0}, {"weight_grams": 250}, {}, "empty here", {"fill", "follow"}),
]


@pytest.mark.parametrize(("ours", "theirs", "settled", "verdict", "takers"), TABLE)
def test_whose_word_counts(
    ours: dict[str, Any], theirs: dict[str, Any], settled: dict[str, Any], verdict: str, takers: set[str]
) -> None:
    found = differences(ours, theirs, settled)
    assert [one.verdict for one in found] == ([verdict] if verdict else [])
    assert {rule for rule in ("show", "fill", "follow") for one in found if taken(rule, one)} == takers


def test_tags_and_notes_join_what_is_here() -> None:
    assert joined("tags", ["a", "B"], ["b", "c"]) == ["a", "B", "c"]
    assert joined("note", "own", "Care: dry\nown") == "own\nCare: dry"
    assert joined("brand", "A", "B") == "B"


@given(
    st.sampled_from(["brand", "tags", "note", "weight_grams", "description"]),
    st.data(),
)
def test_what_was_taken_over_is_the_same_and_never_asked_again(name: str, data: st.DataObject) -> None:
    words = st.text("abc ", max_size=6).map(str.strip)
    of: dict[str, st.SearchStrategy[Any]] = {
        "tags": st.lists(words.filter(bool), max_size=3),
        "weight_grams": st.integers(0, 5),
        "note": st.lists(words.filter(bool), max_size=3).map("\n".join),
    }
    kind = of.get(name, words)
    ours, theirs, settled = data.draw(kind), data.draw(kind), data.draw(kind)
    for one in differences({name: ours}, {name: theirs}, {name: settled}):
        after = joined(name, one.ours, one.theirs)
        assert same(name, after, one.theirs)
        assert differences({name: after}, {name: theirs}, {name: one.theirs}) == []
        # Kept apart by hand, it is not told again until the channel says something else.
        assert differences({name: ours}, {name: theirs}, {name: one.theirs}) == []


def test_a_pattern_gives_a_sku() -> None:
    assert sku_for("WEB-{id}", {"id": "tv 31"}) == "WEB-tv-31"
    assert sku_for("{Title}-{gone}", {"title": "Small smoker"}) == "Small-smoker-"
    assert len(sku_for("{title}", {"title": "x" * 90})) == 60


def test_facts_are_spoken() -> None:
    assert [spoken(*one) for one in (("tags", ["a", "b"]), ("weight_grams", 250), ("length_mm", 30), ("brand", ""))] == [
        "a, b",
        "250 g",
        "30 mm",
        "",
    ]


@pytest.mark.parametrize(
    "only, codes, chosen",
    [
        ("", ("A",), True),
        ("smk-*, GLV-9", ("SMK-S", ""), True),
        ("smk-*, GLV-9", ("glv-9 ", "77"), True),
        ("smk-*; 77", ("", "77"), True),
        ("smk-*", ("X-SMK-1", "8"), False),
        ("a[1]", ("A[1]",), True),
        ("a[1]", ("a1",), False),
        ("*", ("", ""), False),
    ],
)
def test_listings_are_chosen_by_their_codes(only: str, codes: tuple[str, ...], chosen: bool) -> None:
    assert is_chosen(only, codes) == chosen
