"""Bundles taken apart, also those that hold bundles."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from decimal import Decimal

from .errors import BadInputError

Parts = list[tuple[int, Decimal]]


def flatten(made: Mapping[int, Sequence[tuple[int, Decimal]]], wanted: Collection[int] | None = None) -> dict[int, Parts]:
    """The parts of each bundle that are no bundles themselves, and how many of each go into one.

    Check: a gift box of 2 starter kits and 1 jar, a starter kit of 3 jars and 1 tool: 7 jars and 2 tools. Raises
    BadInputError for a bundle that holds itself, at whatever depth.
    """
    known: dict[int, dict[int, Decimal]] = {}

    def of(bundle: int, way: tuple[int, ...]) -> dict[int, Decimal]:
        if bundle in way:
            raise BadInputError("A bundle cannot hold itself.", field="components")
        if bundle not in known:
            found: dict[int, Decimal] = {}
            for part, each in made[bundle]:
                for inner, count in of(part, (*way, bundle)).items() if part in made else ((part, Decimal(1)),):
                    found[inner] = found.get(inner, Decimal(0)) + each * count
            known[bundle] = found
        return known[bundle]

    return {bundle: list(of(bundle, ()).items()) for bundle in (made if wanted is None else wanted) if bundle in made}
