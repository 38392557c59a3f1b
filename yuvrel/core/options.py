"""Options of a product: every combination, and the SKU that a pattern gives it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from itertools import product
from math import prod

from .errors import BadInputError

MOST_OPTIONS, MOST_VALUES, MOST_ITEMS = 5, 60, 500
PLACE = re.compile(r"\{([^{}]*)\}")


def combinations(options: Sequence[tuple[str, Sequence[str]]]) -> list[dict[str, str]]:
    """Every combination of the options' values, the last option changing fastest; one empty one without options.

    Raises BadInputError for a name or value that is empty or there twice, and for more than MOST_ITEMS.
    """
    if len(options) > MOST_OPTIONS:
        raise BadInputError(f"A product has at most {MOST_OPTIONS} options.", field="options")
    _once([name for name, _ in options], "option")
    for name, values in options:
        if not values:
            raise BadInputError(f"{name} needs at least one value.", field="options")
        if len(values) > MOST_VALUES:
            raise BadInputError(f"{name} has more than {MOST_VALUES} values.", field="options")
        _once(values, f"value of {name}")
    if prod(len(values) for _, values in options) > MOST_ITEMS:
        raise BadInputError(f"These are more than {MOST_ITEMS} items.", field="options")
    names = [name.strip() for name, _ in options]
    return [dict(zip(names, (value.strip() for value in chosen), strict=True)) for chosen in product(*(v for _, v in options))]


def _once(texts: Sequence[str], what: str) -> None:
    seen: set[str] = set()
    for text in texts:
        folded = text.strip().casefold()
        if not folded:
            raise BadInputError(f"An {what} is empty." if what == "option" else f"A {what} is empty.", field="options")
        if folded in seen:
            raise BadInputError(f"The {what} {text.strip()} is there twice.", field="options")
        seen.add(folded)


def sku_of(pattern: str, options: Mapping[str, str]) -> str:
    """The SKU of a combination: each {option} in the pattern is replaced by its value, spaces by a hyphen.

    Check: SMO-{size}-{colour} with size S, colour Dark red -> SMO-S-Dark-red. Raises BadInputError for a name that is
    no option, and for a pattern that leaves an option out: its items would all have one SKU.
    """
    by_name = {name.casefold(): value for name, value in options.items()}
    used = {name.strip().casefold() for name in PLACE.findall(pattern)}
    for name in used:
        if name not in by_name:
            raise BadInputError(f"The pattern names {{{name}}}, which is no option.", field="pattern")
    for name in options:
        if name.casefold() not in used:
            raise BadInputError(f"The pattern needs {{{name.lower()}}}, or several items get one SKU.", field="pattern")
    filled = PLACE.sub(lambda found: by_name[found[1].strip().casefold()], pattern)
    return re.sub(r"\s+", "-", filled.strip())
