"""What speaks against a listing and an item being the same thing."""

from __future__ import annotations

from decimal import Decimal as D
from typing import Any

import pytest

from yuvrel.core.pairing import Side, doubts


@pytest.mark.parametrize(
    ("there", "here", "said"),
    [
        ({}, {}, []),
        ({"price": D("29.90")}, {"price": D("20.00")}, []),
        ({"price": D("30.00")}, {"price": D("20.00")}, ["price 30.00 there, 20.00 here"]),
        ({"price": D("20.00")}, {"price": D("39.00")}, ["price 20.00 there, 39.00 here"]),
        ({"price": None}, {"price": D("20.00")}, []),
        ({"title": "Jar 340 ml, tray of 24"}, {"title": "Jar 340 ml"}, ["a pack of 24 there, a single one here"]),
        ({"title": "Jars, 12 x 340 ml"}, {"title": "Jars, box of 12"}, []),
        ({"title": "Honey jar 340ml, tray of 24"}, {"title": "Jar 340 ml with lid 24"}, []),
        ({"title": "Jar, box of 6"}, {"title": "Jar", "options": {"Pack": "6"}}, []),
        ({"title": "Jar, box of 6"}, {"title": "Jar", "options": {"Pack": "12"}}, ["a pack of 6 there, a single one here"]),
        ({"title": "Gloves 9"}, {"title": "Gloves 10"}, []),
        ({"options": {"Size": "L"}}, {"options": {"size": "M"}}, ["Size L there, M here"]),
        ({"options": {"Size": "l "}}, {"options": {"size": "L"}}, []),
        ({"options": {"Colour": "red"}}, {"options": {"size": "M"}}, []),
        ({"gtins": ("1",)}, {"gtins": ("2", "3")}, ["another barcode"]),
        ({"gtins": ("2",)}, {"gtins": ("2", "3")}, []),
        ({"gtins": ()}, {"gtins": ("2",)}, []),
    ],
)
def test_what_speaks_against_a_pair(there: dict[str, Any], here: dict[str, Any], said: list[str]) -> None:
    usual: dict[str, Any] = {"title": "Jar", "price": D("20.00"), "options": {}, "gtins": ()}
    assert doubts(Side(**usual | there), Side(**usual | here)) == said
