"""How goods are said in another language: a product has texts of its own in it, and words that recur (sizes, colours,
categories, tags) are said once for all."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from .content import plain


def folded(word: str) -> str:
    """What makes two words the same: neither capitals nor space around them tell them apart."""
    return " ".join(word.split()).casefold()


@dataclass(frozen=True)
class Wording:
    """A language: its name, (title, description) by product, and words by `folded` word of ours.

    With no name it is our own: everything is said as it is kept.
    """

    name: str = ""
    texts: Mapping[int, tuple[str, str]] = field(default_factory=dict)
    words: Mapping[str, str] = field(default_factory=dict)

    def word(self, ours: str) -> str:
        """A word in this language, ours where nobody said it."""
        return self.words.get(folded(ours), ours) if self.name else ours

    def say(self, product: int, facts: Mapping[str, Any]) -> tuple[dict[str, Any], list[str]]:
        """Facts of an item, as a template may name them, in this language, and what is not said in it yet.

        What lacks a title is said in ours, so that it can be looked at; words that nobody said stay: many are the same.
        """
        if not self.name:
            return dict(facts), []
        title, description = self.texts.get(product, ("", ""))
        options = {name: self.word(value) for name, value in facts["options"].items()}
        lacks = [] if title else [f"It has no title in {self.name}."]
        if facts["formatted_description"] and not description:
            lacks.append(f"It has no description in {self.name}.")
        said = {
            **facts,
            "product": title or facts["product"],
            "title": titled(title or facts["product"], options.values()),
            "options": options,
            "category": self.word(facts["category"]),
            "tags": [self.word(tag) for tag in facts["tags"]],
        }
        if description:
            said |= {"description": plain(description), "formatted_description": description}
        return said, lacks


def titled(product: str, options: Iterable[str]) -> str:
    """What an item is called: its product, and what sets it apart. At most 200 characters."""
    return " ".join([product, *options])[:200]
