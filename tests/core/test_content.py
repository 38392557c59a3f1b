"""Texts from templates: what they can say, and what they cannot do."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yuvrel.core.content import EXAMPLE, check_template, check_value_template, cut, fill, listed, plain, render
from yuvrel.core.errors import BadInputError

FACTS = {**EXAMPLE, "title": "Smoker  small", "brand": "Larkmead", "description": "Tin.\n\nWith   bellows."}


@pytest.mark.parametrize(
    ("template", "said"),
    [
        ("{{ title }}", "Smoker small"),
        ("{{ brand }} {{ title | cut(8) }}", "Larkmead Smoker"),
        ("{{ options.Size | upper }}, {{ price | money }} EUR", "SMALL, 24.60 EUR"),
        ("{{ tags | listed }} / {{ options | listed('or') }}", "one and two / small"),
        ("{{ length_mm | measured }} × {{ width_mm | measured('mm') }}", "12 cm × 80 mm"),
        ("{% if weight_grams > 200 %}heavy{% else %}light{% endif %}", "heavy"),
        ("{{ price * 2 }}", "49.20"),
        ("{{ description }}", "Tin.\n\nWith bellows."),
    ],
)
def test_what_a_template_says(template: str, said: str) -> None:
    assert render(template, FACTS, "t") == said


@pytest.mark.parametrize(
    ("template", "fault"),
    [
        ("{{ title", "Line 1: unexpected end of template"),
        ("one\n{{ titel }}", "Line 2: 'titel' is undefined"),
        ("one\ntwo\n{% if %}", "Line 3:"),
        ("{{ options.Colour }}", "Line 1:"),
        ("{{ title | shout }}", "Line 1: No filter named 'shout'"),
        ("{{ title.__class__ }}", "Line 1:"),
        ("{{ ().__class__.__mro__ }}", "Line 1:"),
        ("{{ title.format(title) }}{{ '{0.__class__}'.format(title) }}", "Line 1:"),
        ("{{ 'a' * 1000000000 }}", "Line 1: only numbers can be multiplied"),
        ("{{ 9 ** 9 ** 9 }}", "Line 1: only numbers can be multiplied"),
        ("{{ '%999999999s' % title }}", "Line 1: only numbers can be multiplied or divided"),
        ("{{ title.ljust(999999999) }}", "Line 1: nothing can be called"),
        ("{{ title | center(999999999) }}", "Line 1: No filter named 'center'"),
        ("{{ title | replace('e', 'eeeeeeee') }}", "Line 1: No filter named 'replace'"),
        ("{% set x = title ~ title %}{% set x = x ~ x %}{{ x }}", "Line 1: a template keeps nothing"),
        ("{% set x %}a{% endset %}", "Line 1: a template keeps nothing"),
        ("{{ range(10) }}", "Line 1: nothing can be called"),
        ("{{ tags.append('x') }}", "Line 1:"),
        ("{% for a in title %}\n{% for b in title %}x{% endfor %}{% endfor %}", "Line 2: one loop inside another"),
        ("{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}", "Line 1: a template defines nothing of its own"),
        ("{{ price / 0 }}", "Line 1:"),
        ("{% include 'other' %}", "Line 1: a template stands by itself"),
        ("{{ length_mm | measured('inch') }}", "Line 1: a length is given in mm, cm or m"),
        ("x" * 5000, "A template has at most 4,000 characters"),
        ("{{ '1e300000000' | money }}", "Line 1: '1e300000000' is larger, or smaller, than what can be written"),
        ("{{ '1e300000000' | measured }}", "Line 1: '1e300000000' is larger"),
        ("{{ '1e300000000' | int }}", "Line 1: '1e300000000' is larger"),
        ("{{ '1e-999999' | measured }}", "Line 1: '1e-999999' is larger, or smaller, than"),
        ("{{ 1e300 }}", "Line 1: '1e+300' is larger"),
        ("{{ title | batch(2) }}", "Line 1: No filter named 'batch'"),
        ("{{ {'a': title} }}", "Line 1: a template can read, choose, count and format"),
        ("{{ " + "(" * 600 + "1" + ")" * 600 + " }}", "Line 1: more than 30 brackets within one another"),
        ("{{ " + "not " * 900 + "1 }}", "It is nested too deeply"),
        ("{% if 1 %}" * 190 + "{% endif %}" * 190, "It is nested too deeply"),
    ],
)
def test_what_a_template_cannot_do(template: str, fault: str) -> None:
    with pytest.raises(BadInputError) as refusal:
        check_template(template, "title_template")
    assert refusal.value.detail.startswith(fault), refusal.value.detail
    assert refusal.value.field == "title_template"


def test_an_endless_text_is_refused() -> None:
    loops = "{% for a in description %}{{ description }}{% endfor %}"
    with pytest.raises(BadInputError, match="more than 20,000 characters"):
        render(loops, {**EXAMPLE, "description": "x" * 5000}, "t")


def test_no_filter_makes_work_without_end() -> None:
    facts = {**EXAMPLE, "description": "x" * 5000, "tags": ["y" * 5000] * 3}
    assert render("{{ 1 | round(20000000, 'ceil') }} {{ 2.345 | round(2) }} {{ '7.9' | int }}", facts, "t") == "1.000000 2.35 7"
    assert render("{{ tags | sort | join(', ') | cut(4) }}", {**EXAMPLE, "tags": ["b", "a"]}, "t") == "a, b"
    for template, why in [
        ("{{ tags | join(description) | join(description) }}", "comes to more than 20,000 characters"),
        ("{% for a in description %}{% if description | plain %}{% endif %}{% endfor %}", "more work than a text may take"),
    ]:
        with pytest.raises(BadInputError, match=why):
            render(template, facts, "t")


@given(st.text(max_size=200), st.integers(0, 60))
def test_a_cut_text_fits_and_begins_as_the_whole(text: str, most: int) -> None:
    found = cut(text, most)
    assert len(found) <= most
    assert " ".join(text.split()).startswith(found)


@given(st.text(max_size=60))
def test_any_text_is_a_template_or_a_named_fault(text: str) -> None:
    try:
        check_template(text, "t")
    except BadInputError as error:
        assert error.field == "t"


def test_a_list_as_one_reads_it() -> None:
    assert [listed(one) for one in ([], ["a"], ["a", "b"], ["a", "b", "c"])] == ["", "a", "a and b", "a, b and c"]


@pytest.mark.parametrize(
    ("kept", "read"),
    [
        ("<p>One.</p><p>Two,<br>three &amp; four.</p>", "One.\n\nTwo,\nthree & four."),
        (
            "<h3>Burns</h3><ol><li>Light.</li><li>Add <strong>pellets</strong>.</li></ol><p>Done.</p>",
            "Burns\n\n– Light.\n– Add pellets.\n\nDone.",
        ),
        ("<ul><li><p>One</p></li><li><p>Two</p></li></ul>", "– One\n– Two"),
        ("<p>a   b\n c</p>", "a b c"),
        ("<p>5 &lt; 6</p><script>alert(1)</script><style>p{}</style>", "5 < 6"),
        ("never formatted", "never formatted"),
        ("", ""),
    ],
)
def test_a_formatted_text_as_plain_text(kept: str, read: str) -> None:
    assert plain(kept) == read
    assert render("{{ formatted_description | plain }}", {**EXAMPLE, "formatted_description": kept}, "t") == read


def test_what_a_category_asks_is_filled_by_template_in_the_channels_own_words() -> None:
    facts = {**EXAMPLE, "brand": "Aldermoor", "options": {"Wood": "Ash"}, "weight_grams": 250}
    asked = [("wood", ["Natural wood", "Pine"]), ("brand", []), ("colour", ["red"]), ("weight", []), ("finish", ["matt"])]
    templates = {
        "wood": "{{ options.Wood }}",
        "brand": "{{ brand | upper }}",
        "colour": "{{ options.Colour }}",
        "weight": "{{ weight_grams }} g",
        "finish": "MATT",
        "asked by none": "x",
    }
    found = fill(asked, templates, {"wood: Ash": "Natural wood"}, facts)
    # An option that the item does not have fills nothing in; another spelling is told as the channel spells it.
    assert found.values == {"wood": "Natural wood", "brand": "ALDERMOOR", "weight": "250 g", "finish": "matt"}
    assert (found.wrong, found.unknown) == ([], [])
    other = fill(asked, {**templates, "brand": "{{ 1 / 0 }}"}, {}, facts)
    assert other.unknown == ["wood: Ash"]
    assert other.values["wood"] == "Ash"
    assert other.wrong[0].startswith("brand: Line 1:")


def test_the_template_of_an_attribute_is_checked_but_for_its_options() -> None:
    assert check_value_template("{{ options.Anything }}", "x") == "{{ options.Anything }}"
    with pytest.raises(BadInputError, match="Line 1: 'colour' is undefined"):
        check_value_template("{{ colour }}", "x")
