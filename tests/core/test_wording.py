"""How goods are said in another language."""

from __future__ import annotations

from hypothesis import assume, given
from hypothesis import strategies as st

from yuvrel.core.content import EXAMPLE
from yuvrel.core.wording import Wording, folded

FACTS = {
    **EXAMPLE,
    "title": "Smoker S ash",
    "product": "Smoker",
    "options": {"Size": "S", "Wood": "ash"},
    "category": "Smokers",
    "tags": ["Metal", "gift"],
    "formatted_description": "<p>Burns cool.</p>",
}
WORDS = {"ash": "Esche", "smokers": "Öfen", "metal": "Metall"}


def test_every_fact_that_is_a_word_is_said_and_the_rest_stays() -> None:
    german = Wording("German", {7: ("Ofen", "<p>Brennt <em>kühl</em>.</p>")}, WORDS)
    said, lacks = german.say(7, FACTS)
    assert lacks == []
    assert (said["title"], said["product"], said["options"]) == ("Ofen S Esche", "Ofen", {"Size": "S", "Wood": "Esche"})
    assert (said["category"], said["tags"], said["description"]) == ("Öfen", ["Metall", "gift"], "Brennt kühl.")
    same = set(FACTS) - {"title", "product", "options", "category", "tags", "description", "formatted_description"}
    assert {name: said[name] for name in same} == {name: FACTS[name] for name in same}


def test_what_is_not_said_yet_is_named() -> None:
    german = Wording("German", {7: ("Ofen", "")}, {})
    assert german.say(7, FACTS)[1] == ["It has no description in German."]
    assert german.say(8, FACTS)[1] == ["It has no title in German.", "It has no description in German."]
    assert german.say(8, {**FACTS, "formatted_description": ""})[1] == ["It has no title in German."]
    assert Wording().say(8, FACTS) == (FACTS, [])


@given(st.text(max_size=30))
def test_a_word_is_found_however_it_is_written(word: str) -> None:
    written = f"  {word.swapcase()} "
    # Some letters have no other case, and some more than one.
    assume(folded(written) == folded(word))
    assert Wording("German", {}, {folded(word): "said"}).word(written) == "said"
    assert folded(folded(word)) == folded(word)
